package engine_test

import (
	"context"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"welkin/connect"
	"welkin/core/engine"
	"welkin/core/sheet"
	"welkin/core/step"
)

const withExamples = `welkin: 1
name: nights by hut
examples:
  - name: short stays don't count
    given:
      - step: stays
        rows: |
          hut,nights,price
          H01,4,19.5
          H01,1,19.5
          H02,,24
    expect:
      - step: long
        rows: |
          price,hut
          19.50,H01
      - step: sums
        rows: |
          hut,nights
          H01,4
  - name: a branch
    given:
      - step: parts.many
        rows: |
          hut,nights
          H07,9
    expect:
      - step: many huts
        rows: |
          hut
          H07
steps:
  - {step: stays, does: read table, connection: booking, table: stays}
  - {step: typed, does: choose columns, from: stays, columns: [{take: hut}, {take: nights, type: int}, {take: price, type: "decimal(8,2)"}]}
  - {step: long, does: keep rows, from: typed, where: nights > 1}
  - {step: sums, does: sql, from: long, query: "SELECT hut, sum(nights) AS nights FROM long GROUP BY hut"}
  - {step: parts, does: route, from: long, branches: [{name: many, where: nights > 7}]}
  - {step: many huts, does: choose columns, from: parts.many, columns: [{take: hut}]}
`

// nowhere is a world without connections.
var nowhere = &connect.World{Open: func(_ context.Context, name string) (connect.Connection, error) {
	return nil, fmt.Errorf("there is no connection %q", name)
}}

// outcomes checks the examples of a sheet whose sources are not there.
func outcomes(t *testing.T, text string) []engine.Outcome {
	t.Helper()
	s, problems := sheet.Parse(text, step.Kinds{})
	require.Empty(t, problems)
	var out []engine.Outcome
	for _, e := range s.Examples {
		out = append(out, engine.CheckExample(context.Background(), s, e, engine.Binding{World: nowhere})...)
	}
	return out
}

func TestExamplesRunWithoutTheSheetsSources(t *testing.T) {
	for _, o := range outcomes(t, withExamples) {
		require.True(t, o.OK, "%+v", o)
	}
}

func TestExamplesTellWhatDiffers(t *testing.T) {
	for _, c := range []struct {
		from, to       string
		says           string
		missing, extra int
	}{
		{"nights > 1", "nights > 0", "at long, 0 rows that were expected did not come and 1 came that were not expected", 0, 1},
		{"nights > 1", "nights > 4", "1 rows that were expected did not come", 1, 0},
		{"price,hut\n          19.50", "cost,hut\n          19.50", `long has no column "cost"; there are hut, nights, price`, 0, 0},
		{"19.50,H01", "dear,H01", `row 1, column "price"`, 0, 0},
		{"hut,nights,price\n          H01,4", "hut,nights,price\n          \"H01,4", "1 were set aside on the way, the first at stays: ", 1, 0},
		{"where: nights > 1", "where: nihgts > 1", "nihgts", 0, 0},
	} {
		text := strings.Replace(withExamples, c.from, c.to, 1)
		require.NotEqual(t, withExamples, text)
		o := outcomes(t, text)[0]
		require.False(t, o.OK, c.to)
		require.Contains(t, o.Sentence, c.says)
		require.Len(t, o.Missing, c.missing)
		require.Len(t, o.Extra, c.extra)
	}
}

func TestAnExampleThatExpectsNothingIsNoTest(t *testing.T) {
	text := strings.Replace(withExamples, "    expect:\n      - step: long\n        rows: |\n          price,hut\n          19.50,H01\n      - step: sums\n        rows: |\n          hut,nights\n          H01,4\n", "", 1)
	o := outcomes(t, text)
	require.True(t, o[0].OK)
	require.Contains(t, o[0].Sentence, "expects nothing")
}
