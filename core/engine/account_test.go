package engine_test

import (
	"context"
	"testing"

	"github.com/stretchr/testify/require"

	"welkin/core/engine"
	"welkin/core/sheet"
	"welkin/core/step"
)

// TestAnAccountTellsWhyRowsWereSetAside counts set-aside rows by rule, column and
// reason; the counts add up to what the account says was set aside.
func TestAnAccountTellsWhyRowsWereSetAside(t *testing.T) {
	s, problems := sheet.Parse(`welkin: 1
name: reasons
steps:
  - {step: stays, does: pasted rows, rows: "hut,nights\nH1,3\nH1,0\n,2\nH2,99\nH3,1\nH3,70\n"}
  - step: checked
    does: check rules
    from: stays
    rules:
      - {columns: [hut], not_null: true}
      - {columns: [nights], range: {least: "1", most: "60"}}
      - {columns: [hut], unique: true, name: seen before}
  - {step: cast, does: derive columns, from: stays, columns: [{name: n, value: 10 / nights}]}
`, step.Kinds{})
	require.Empty(t, problems)
	plan := engine.Bind(context.Background(), s, nil, engine.Binding{})
	reasons := func(id string) []engine.AsideReason {
		tried, err := engine.Try(context.Background(), plan, engine.Trial{Step: id, Sample: 100, Show: 10})
		require.NoError(t, err)
		for _, a := range tried.Steps {
			if a.Step == id {
				var sum int64
				for _, r := range a.Reasons {
					sum += r.Rows
				}
				require.Equal(t, a.SetAside, sum)
				return a.Reasons
			}
		}
		return nil
	}
	require.Equal(t, []engine.AsideReason{
		{Code: "too large", Column: "nights", Part: 2, Rows: 2},
		{Code: "empty", Column: "hut", Part: 1, Rows: 1},
		{Code: "too small", Column: "nights", Part: 2, Rows: 1},
	}, reasons("checked"))
	require.Equal(t, []engine.AsideReason{{Code: "division by zero", Column: "n", Rows: 1}}, reasons("cast"))
}
