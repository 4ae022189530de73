package sheet_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"welkin/core/sheet"
	"welkin/core/step"
)

func TestDifferencesAreSaidInWords(t *testing.T) {
	for name, c := range map[string]struct {
		change func(text string) string
		want   []string
	}{
		"nothing": {func(s string) string { return s }, nil},
		"a condition": {func(s string) string { return strings.Replace(s, "nights > 3", "nights > 4", 1) },
			[]string{"long: where was `nights > 3 AND arrived >= :since`, is `nights > 4 AND arrived >= :since`"}},
		"a note left out": {func(s string) string { return strings.Replace(s, "    note: short stays are of no interest\n", "", 1) },
			[]string{"long: note `short stays are of no interest` is left out"}},
		"a limit": {func(s string) string { return strings.Replace(s, "set_aside: 10", "set_aside: 20", 1) },
			[]string{"limits was set_aside 10, is set_aside 20"}},
		"a parameter": {func(s string) string { return strings.Replace(s, "2026-01-01", "2026-02-01", 1) },
			[]string{"parameter since was default `2026-01-01`, name `since`, type `date`, is default `2026-02-01`, name `since`, type `date`"}},
		"a step more": {func(s string) string {
			return strings.Replace(s, "  - step: out\n", "  - step: few\n    does: limit\n    from: long\n    rows: 5\n  - step: out\n", 1)
		}, []string{"step few is new: the first 5 rows, behind long"}},
		"a step less": {func(s string) string { return s[:strings.Index(s, "  - step: out\n")] },
			[]string{"step out is gone: write `out.csv` in here"}},
		"another name": {func(s string) string {
			return strings.ReplaceAll(strings.ReplaceAll(s, "step: long", "step: longer"), "from: long", "from: longer")
		}, []string{"step long is now called longer"}},
		"another order": {func(s string) string {
			at, out := strings.Index(s, "  - step: stays\n"), strings.Index(s, "  - step: long\n")
			return s[:at] + s[out:] + s[at:out]
		}, []string{"step stays stands elsewhere, behind out"}},
	} {
		t.Run(name, func(t *testing.T) {
			before, problems := sheet.Parse(nights, step.Kinds{})
			require.Empty(t, problems)
			after, problems := sheet.Parse(c.change(nights), step.Kinds{})
			require.Empty(t, problems)
			var got []string
			for _, d := range sheet.Differences(before, after) {
				got = append(got, d.Sentence)
			}
			assert.Equal(t, c.want, got)
		})
	}
}

func TestListsAreComparedItemByItem(t *testing.T) {
	derive := func(columns string) *sheet.Sheet {
		s, problems := sheet.Parse("welkin: 1\nname: n\nsteps:\n  - {step: d, does: derive columns, columns: ["+columns+"]}\n", step.Kinds{})
		for _, p := range problems {
			require.NotContains(t, p.Sentence, "setting")
		}
		return s
	}
	a, b := "{name: a, value: '1'}", "{name: b, value: '2'}"
	for _, c := range [][3]string{
		{a, a + ", " + b, "d: columns take in `b` = `2`"},
		{a + ", " + b, b, "d: columns leave out `a` = `1`"},
		{a + ", " + b, b + ", " + a, "d: columns stand in another order"},
		{a, b, "d: columns had `a` = `1`, have `b` = `2`"},
	} {
		got := sheet.Differences(derive(c[0]), derive(c[1]))
		require.Len(t, got, 1)
		assert.Equal(t, c[2], got[0].Sentence)
	}
}
