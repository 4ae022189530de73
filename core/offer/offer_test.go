package offer_test

import (
	"context"
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"welkin/core/batch"
	"welkin/core/batch/batchtest"
	"welkin/core/engine"
	"welkin/core/offer"
	"welkin/core/sheet"
	"welkin/core/step"
)

// rows makes a column of n values, of which the first few are others.
func rows(t *testing.T, column string, n int, value func(i int) string, others ...string) *batch.Batch {
	s := batchtest.Columns(t, column)
	var cells [][]*string
	for i := range n {
		v := value(i)
		if i < len(others) {
			v = others[i]
		}
		cells = append(cells, []*string{&v})
		if v == "∅" {
			cells[i][0] = nil
		}
	}
	b, err := batch.FromCells(s, cells)
	require.NoError(t, err)
	return b
}

func TestWhatFitsAColumnIsOffered(t *testing.T) {
	day := func(i int) string { return fmt.Sprintf("2026-03-%02d", i%28+1) }
	for name, c := range map[string]struct {
		column string
		value  func(i int) string
		others []string
		want   []string // sentence: action
	}{
		"a date":                  {"night:text", day, []string{"soon"}, []string{"reads as a date in 99.0 % of rows: Retype it, 1 set aside"}},
		"no date in many rows":    {"night:text", day, []string{"a", "b", "c", "d", "e", "f"}, nil},
		"a date already":          {"night:date", day, nil, nil},
		"a number":                {"beds:text", func(i int) string { return fmt.Sprint(i) }, nil, []string{"reads as a whole number in all rows: Retype it"}},
		"a decimal":               {"price:text", func(i int) string { return fmt.Sprintf("%d.50", i) }, []string{"7"}, []string{"reads as a decimal number in all rows: Retype it"}},
		"a code is no number":     {"code:text", func(i int) string { return fmt.Sprintf("%04d", i) }, nil, nil},
		"a day before the month":  {"night:text", func(i int) string { return fmt.Sprintf("%02d.03.2026", i%28+1) }, nil, []string{"reads as a date in all rows: Retype it"}},
		"day or month is unclear": {"night:text", func(i int) string { return fmt.Sprintf("%02d/%02d/2026", i%12+1, i%7+1) }, nil, nil},
		"day and month are clear": {"night:text", func(i int) string { return fmt.Sprintf("%02d/03/2026", i%28+1) }, nil, []string{"reads as a date in all rows: Retype it"}},
		"true or false":           {"open:text", func(i int) string { return fmt.Sprint(i%2 == 0) }, nil, []string{"reads as true or false in all rows: Retype it"}},
		"always empty":            {"fax:text", func(int) string { return "∅" }, nil, []string{"empty in all rows: Leave it out"}},
		"JSON":                    {"payload:text", func(i int) string { return fmt.Sprintf(`{"watts": %d}`, i) }, nil, []string{"holds JSON in all rows: Read it"}},
		"blanks":                  {"hut:text", func(i int) string { return fmt.Sprintf("hut %d", i) }, []string{" hut a", "hut b "}, []string{"blanks around the text in 2.0 % of rows: Trim it"}},
		"words for null":          {"hut:text", func(i int) string { return fmt.Sprintf("hut %d", i) }, []string{"n/a", "N/A", "-"}, []string{"-, n/a in 3.0 % of rows may mean null: Make it null", "n/a and N/A differ by case alone: Make all small"}},
		"case":                    {"hut:text", func(i int) string { return fmt.Sprintf("Hut %d", i%3) }, []string{"HUT 1", "hut 2"}, []string{"2 values differ by case alone, such as HUT 1 and Hut 1: Make all small"}},
		"an address":              {"remark:text", func(i int) string { return fmt.Sprintf("write to guest%d@example.org", i) }, nil, []string{"looks like an e-mail address in all rows: Mask it"}},
		"nothing":                 {"hut:text", func(i int) string { return fmt.Sprintf("hut %d", i) }, nil, nil},
	} {
		t.Run(name, func(t *testing.T) {
			b := rows(t, c.column, 100, c.value, c.others...)
			var got []string
			for _, o := range offer.Of(b.Schema, []*batch.Batch{b}) {
				got = append(got, o.Sentence+": "+o.Action)
				assert.Equal(t, b.Schema.Columns[0].Name, o.Column)
			}
			assert.Equal(t, c.want, got)
		})
	}
}

// TestOffersAreStepsThatDoWhatTheySay takes each offer and looks at the rows.
func TestOffersAreStepsThatDoWhatTheySay(t *testing.T) {
	for name, c := range map[string]struct {
		value   func(i int) string
		others  []string
		columns string // that come out
		first   string // value of the first row
		aside   int
	}{
		"retype":    {func(i int) string { return fmt.Sprintf("%02d.03.2026", i%28+1) }, []string{"01.03.2026", "soon"}, "x date", "2026-03-01", 1},
		"empty":     {func(int) string { return "∅" }, nil, "", "", 0},
		"JSON":      {func(i int) string { return fmt.Sprintf(`{"watts": %d}`, i) }, nil, "x json", `{"watts": 0}`, 0},
		"blanks":    {func(i int) string { return fmt.Sprintf("hut %d", i) }, []string{" hut a"}, "x text", "hut a", 0},
		"null":      {func(i int) string { return fmt.Sprintf("hut %d", i) }, []string{"N/A"}, "x text", "∅", 0},
		"case":      {func(i int) string { return fmt.Sprintf("Hut %d", i%3) }, []string{"HUT 1"}, "x text", "hut 1", 0},
		"addresses": {func(i int) string { return fmt.Sprintf("guest%d@example.org", i) }, nil, "x text", "xxxxx9@xxxxxxx.xxx", 0},
	} {
		t.Run(name, func(t *testing.T) {
			b := rows(t, "x:text", 100, c.value, c.others...)
			offers := offer.Of(b.Schema, []*batch.Batch{b})
			require.NotEmpty(t, offers)
			text := "other,x\n"
			for i := range b.N {
				v := b.Row(i)[0]
				if text += "1,"; v != nil {
					text += `"` + quotes(*v) + `"`
				}
				text += "\n"
			}
			s := &sheet.Sheet{Name: "offers", Steps: []*sheet.Step{
				{ID: "rows", Kind: "pasted rows", Settings: &step.PastedRows{Rows: text, Columns: []step.ReadColumn{{Name: "other", Type: batchtest.Columns(t, "x:int").Columns[0].Type}, {Name: "x", Type: b.Schema.Columns[0].Type}}}},
				{ID: "taken", Kind: offers[0].Kind, From: "rows", Settings: offers[0].Settings},
			}}
			plan := engine.Bind(context.Background(), s, nil, engine.Binding{})
			require.True(t, plan.Ready(), "%v", plan.Problems)
			tried, err := engine.Try(context.Background(), plan, engine.Trial{Step: "taken", Sample: 1000, Show: 10})
			require.NoError(t, err)
			got := ""
			for i, col := range tried.After.Columns {
				if col.Name != "x" {
					continue
				}
				got = col.Name + " " + col.Type.String()
				if v := tried.After.Rows[0][i]; v == nil {
					assert.Equal(t, c.first, "∅")
				} else {
					assert.Equal(t, c.first, *v)
				}
			}
			assert.Equal(t, c.columns, got)
			assert.Len(t, tried.SetAside, c.aside)
		})
	}
}

func quotes(v string) string {
	out := ""
	for _, r := range v {
		if out += string(r); r == '"' {
			out += `"`
		}
	}
	return out
}
