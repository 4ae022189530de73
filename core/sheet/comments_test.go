package sheet_test

import (
	"encoding/json"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"welkin/core/sheet"
	"welkin/core/step"
)

const commented = `# The nights, for the council.
welkin: 1
name: Nights # asked for in May
# where the limits come from
limits:
  set_aside: 10
stretches:
  - name: clean
    first: long
    last: typed
examples:
  - name: one stay
    given:
      - step: stays
        rows: |
          hut,nights
          H01,4
    expect:
      - step: long
        rows: |
          hut
          H01
steps:
  # files of the wardens
  - step: stays
    does: read files
    connection: here
    files: stays.csv
  - step: long
    does: keep rows
    from: stays
    # fewer are guests who left
    where: nights > 3 # see the handbook
  - step: typed
    does: choose columns
    from: long
    columns:
      # the key
      - take: hut
      - take: nights
        type: int # whole ones
`

func format(t *testing.T, s *sheet.Sheet) string {
	t.Helper()
	text, err := sheet.Format(s)
	require.NoError(t, err)
	return text
}

func TestCommentsStretchesAndExamplesAreKept(t *testing.T) {
	s, problems := sheet.Parse(commented, step.Kinds{})
	require.Empty(t, problems)
	require.Equal(t, commented, format(t, s))
	require.Equal(t, "hut,nights\nH01,4\n", s.Examples[0].Given[0].Rows)

	data, err := json.Marshal(s)
	require.NoError(t, err)
	again, _, err := sheet.FromJSON(data, step.Kinds{})
	require.NoError(t, err)
	require.Equal(t, commented, format(t, again), "through the form that the front end edits")
}

func TestCommentsGoWithTheirStep(t *testing.T) {
	s, _ := sheet.Parse(commented, step.Kinds{})
	s.Steps[0], s.Steps[1] = s.Steps[1], s.Steps[0]
	text := format(t, s)
	require.Contains(t, text, "where: nights > 3 # see the handbook")
	require.Contains(t, text, "  # files of the wardens\n  - step: stays")

	s.Steps = s.Steps[1:] // the step long is gone, and what was said of it
	require.NotContains(t, format(t, s), "handbook")
}

func TestCommentsOfASettingThatIsGoneStayAtItsStep(t *testing.T) {
	s, _ := sheet.Parse(commented, step.Kinds{})
	s.Steps[2].Settings.(*step.ChooseColumns).Columns[1].Type = nil
	s.Limits = sheet.Limits{}
	text := format(t, s)
	require.Contains(t, text, "whole ones")
	require.Contains(t, text, "where the limits come from")
	again, problems := sheet.Parse(text, step.Kinds{})
	require.Empty(t, problems)
	require.Equal(t, text, format(t, again))
}

func TestStretchesAndExamplesNameStepsThatAreThere(t *testing.T) {
	for _, c := range []struct{ from, to, says string }{
		{"first: long", "first: lung", `the stretch "clean" begins with "lung", which is no step; did you mean "long"?`},
		{"last: typed", "last: nowhere", `the stretch "clean" ends with "nowhere", which is no step`},
		{"last: typed", "last: stays", `the stretch "clean" ends before it begins`},
		{"      - step: long\n        rows", "      - step: lang\n        rows", `the example "one stay" has rows of "lang", which is no step; did you mean "long"?`},
		{"    last: typed\n", "    last: typed\n  - {name: again, first: typed, last: typed}\n", `the stretch "again" begins at typed, which is in another one already`},
	} {
		text := strings.Replace(commented, c.from, c.to, 1)
		require.NotEqual(t, commented, text)
		_, problems := sheet.Parse(text, step.Kinds{})
		require.Len(t, problems, 1, c.says)
		require.Contains(t, problems[0].Sentence, c.says)
		require.True(t, problems[0].Warning, "a run needs neither")
	}
}

func TestCommentsThatCanStandNowhereElseStandAbove(t *testing.T) {
	for _, text := range []string{"name: 0\nsteps: #", "name: 0\nsteps: # none yet\n", "# a\n\n# b\nname: x # c\nsteps: # e\n  # f\n"} {
		s, problems := sheet.Parse(text, step.Kinds{})
		require.Empty(t, problems)
		out := format(t, s)
		again, problems := sheet.Parse(out, step.Kinds{})
		require.Empty(t, problems, out)
		require.Equal(t, out, format(t, again))
		for _, word := range []string{"none yet"} {
			require.Equal(t, strings.Contains(text, word), strings.Contains(out, word))
		}
	}
}
