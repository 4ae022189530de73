package engine_test

import (
	"context"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"welkin/core/engine"
	"welkin/core/sheet"
	"welkin/core/step"
)

const wayOfARow = `welkin: 1
name: way
steps:
  - {step: stays, does: pasted rows, rows: "hut,nights,tags\n1,2,\"[1,2]\"\n2,0,[]\n3,x,[]\n4,5,[3]\n5,1,[]\n"}
  - {step: huts, does: pasted rows, rows: "hut,name\n1,Saltmere\n4,Larkfell\n"}
  - {step: typed, does: choose columns, from: stays, columns: [{take: hut}, {take: nights, type: int}, {take: tags}]}
  - {step: kept, does: keep rows, from: typed, where: nights > 0}
  - {step: placed, does: join, from: kept, with: huts, on: [{left: hut, right: hut}]}
  - {step: parts, does: route, from: placed, branches: [{name: long, where: nights > 3}], rest: short}
  - {step: lists, does: parse text, from: parts.short, column: tags, type: list<int>}
  - {step: spread, does: spread list, from: lists, column: tags}
  - {step: sums, does: group, from: spread, by: [name], values: [{name: nights, value: sum(nights)}]}
`

func TestARowIsFollowedToWhereItEnds(t *testing.T) {
	s, problems := sheet.Parse(wayOfARow, step.Kinds{})
	require.Empty(t, problems)
	plan := engine.Bind(context.Background(), s, nil, engine.Binding{})
	require.True(t, plan.Ready(), "%v", plan.Problems)
	tried, err := engine.Try(context.Background(), plan, engine.Trial{Step: "stays", Sample: 100, Show: 10})
	require.NoError(t, err)
	require.Len(t, tried.After.Origins, 5)
	for row, want := range [][]string{
		{"stays read", "typed changed", "kept passed", "placed changed", "parts passed", "lists changed", "spread several", "sums absorbed"},
		{"stays read", "typed changed", "kept dropped"},
		{"stays read", "typed set aside"},
		{"stays read", "typed changed", "kept passed", "placed changed", "parts passed"},
		{"stays read", "typed changed", "kept passed", "placed dropped"},
	} {
		passed, err := engine.Follow(context.Background(), plan, engine.Trial{Step: "stays", Sample: 100, Others: 100}, tried.After.Origins[row])
		require.NoError(t, err)
		var got []string
		for _, p := range passed {
			got = append(got, p.Step+" "+p.Fate)
		}
		assert.Equal(t, want, got, "row %d", row+1)
	}
	passed, err := engine.Follow(context.Background(), plan, engine.Trial{Step: "stays", Sample: 100, Others: 100}, tried.After.Origins[2])
	require.NoError(t, err)
	assert.Contains(t, passed[len(passed)-1].SetAside, "x")
	passed, err = engine.Follow(context.Background(), plan, engine.Trial{Step: "stays", Sample: 100, Others: 100}, "elsewhere·7")
	require.NoError(t, err)
	assert.Empty(t, passed)
}
