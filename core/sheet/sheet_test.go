package sheet_test

import (
	"encoding/json"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"welkin/core/sheet"
	"welkin/core/step"
)

const nights = `welkin: 1
name: Nights
parameters:
  - name: since
    type: date
    default: "2026-01-01"
limits:
  set_aside: 10
steps:
  - step: stays
    does: read files
    connection: here
    files: stays.csv
  - step: long
    does: keep rows
    from: stays
    note: short stays are of no interest
    where: nights > 3 AND arrived >= :since
  - step: out
    does: write file
    from: long
    connection: here
    file: out.csv
`

func TestCanonicalFormReadsBackTheSame(t *testing.T) {
	s, problems := sheet.Parse(nights, step.Kinds{})
	require.Empty(t, problems)
	text, err := sheet.Format(s)
	require.NoError(t, err)
	assert.Equal(t, nights, text)
	again, problems := sheet.Parse(text, step.Kinds{})
	require.Empty(t, problems)
	twice, err := sheet.Format(again)
	require.NoError(t, err)
	assert.Equal(t, text, twice)
}

func TestTheJSONFormIsTheSameDocument(t *testing.T) {
	s, _ := sheet.Parse(nights, step.Kinds{})
	data, err := json.Marshal(s)
	require.NoError(t, err)
	again, problems, err := sheet.FromJSON(data, step.Kinds{})
	require.NoError(t, err)
	require.Empty(t, problems)
	text, err := sheet.Format(again)
	require.NoError(t, err)
	assert.Equal(t, nights, text)
}

func TestMistakesAreSaidWithLineAndColumn(t *testing.T) {
	for name, c := range map[string]struct {
		from, to string
		line     int
		column   int
		sentence string
	}{
		"unknown key":            {"limits:", "limts:", 7, 1, `there is no setting "limts" here; did you mean "limits"?`},
		"unknown setting":        {"where: nights", "wher: nights", 18, 5, `there is no setting "wher" here; did you mean "where"?`},
		"setting of elsewhere":   {"set_aside: 10", "rows: 10", 8, 3, `there is no setting "rows" here; there are set_aside, share`},
		"text for a list":        {"files: stays.csv", "files: stays.csv\n    columns: all", 14, 14, "a text stands where a list is expected"},
		"text for settings":      {"files: stays.csv", "files: stays.csv\n    dialect: comma", 14, 14, "a text stands where a group of settings (name: value) is expected"},
		"setting within a list":  {"files: stays.csv", "files: stays.csv\n    columns: [{name: hut, kind: text}]", 14, 27, `there is no setting "kind" here; there are name, type`},
		"unknown kind":           {"does: keep rows", "does: keep row", 14, 5, `there is no kind of step "keep row"; did you mean "keep rows"?`},
		"unknown input":          {"from: long", "from: lang", 21, 5, `there is no step "lang"; did you mean "long"?`},
		"no input":               {"    from: long\n", "", 19, 5, "write file needs rows"},
		"an input too many":      {"    files: stays.csv\n", "    files: stays.csv\n    from: long\n", 14, 5, "read files takes no rows by `from:`"},
		"the same name twice":    {"- step: long", "- step: stays", 14, 5, `two steps are called "stays"`},
		"a circle":               {"from: stays", "from: long", 16, 5, `the rows of "long" would come from itself`},
		"wrong type":             {"set_aside: 10", "set_aside: many", 8, 14, `a whole number is expected here, not "many"`},
		"no YAML":                {"steps:\n", "steps: [\n", 9, 8, "sequence"},
		"form of another time":   {"welkin: 1", "welkin: 9", 1, 9, "this sheet is of form 9; this program reads form 1"},
		"problems of no meaning": {"    note: short", "    problems: ignore\n    note: short", 17, 5, `problems is "set aside" or "stop"`},
	} {
		t.Run(name, func(t *testing.T) {
			text := strings.Replace(nights, c.from, c.to, 1)
			require.NotEqual(t, nights, text)
			_, problems := sheet.Parse(text, step.Kinds{})
			require.NotEmpty(t, problems)
			assert.Contains(t, problems[0].Sentence, c.sentence)
			assert.Equal(t, c.line, problems[0].Line, problems[0].String())
			if c.column > 0 {
				assert.NotZero(t, problems[0].Column)
			}
		})
	}
}

func TestValuesFitTheirParameters(t *testing.T) {
	s, _ := sheet.Parse(nights, step.Kinds{})
	v, err := s.Values(map[string]string{"since": "2026-11-01"})
	require.NoError(t, err)
	assert.Equal(t, "2026-11-01", *v["since"].Value)
	_, err = s.Values(map[string]string{"since": "yesterday"})
	assert.EqualError(t, err, `parameter since is date; "yesterday" can't be read as that`)
	_, err = s.Values(map[string]string{"sinc": "2026-11-01"})
	assert.EqualError(t, err, `the sheet has no parameter "sinc"`)
}

func TestUpToTakesWhatAStepDependsOn(t *testing.T) {
	s, _ := sheet.Parse(nights, step.Kinds{})
	part := s.UpTo("long")
	require.Len(t, part.Steps, 2)
	assert.Equal(t, "long", part.Steps[1].ID)
	assert.Len(t, s.Steps, 3)
}

func FuzzParse(f *testing.F) {
	f.Add(nights)
	f.Add("steps: [{step: a, does: join, from: a, with: a}]")
	f.Add("name: &x x\nsteps: *x")
	f.Fuzz(func(t *testing.T, text string) {
		s, problems := sheet.Parse(text, step.Kinds{})
		require.NotNil(t, s)
		if len(problems) > 0 {
			return
		}
		out, err := sheet.Format(s)
		require.NoError(t, err)
		_, problems = sheet.Parse(out, step.Kinds{})
		require.Empty(t, problems, out)
	})
}
