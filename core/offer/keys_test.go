package offer_test

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/require"

	"welkin/core/batch"
	"welkin/core/offer"
	"welkin/core/schema"
)

// wire makes rows of columns written as "name type" from lists of cells; "" is null.
func wire(t *testing.T, columns []schema.Column, rows ...[]string) batch.Wire {
	t.Helper()
	w := batch.Wire{Columns: columns}
	for _, row := range rows {
		cells := make([]*string, len(row))
		for i := range row {
			if row[i] != "" {
				cells[i] = &row[i]
			}
		}
		w.Rows = append(w.Rows, cells)
	}
	return w
}

func column(name string, k schema.Kind) schema.Column {
	return schema.Column{Name: name, Type: schema.Of(k)}
}

func TestKeysAreFoundByValuesNamesAndTypes(t *testing.T) {
	var stays, huts [][]string
	for i := range 40 {
		stays = append(stays, []string{fmt.Sprint(i + 1), fmt.Sprintf("H%02d", i%12+1), fmt.Sprint(i%5 + 1), "2026-07-01"})
	}
	for i := range 14 {
		huts = append(huts, []string{fmt.Sprintf("H%02d", i+1), fmt.Sprintf("Hut %d", i), fmt.Sprint(i + 1), "2026-07-01"})
	}
	left := wire(t, []schema.Column{column("id", schema.Int), column("hut", schema.Text), column("nights", schema.Int), column("night", schema.Date)}, stays...)
	right := wire(t, []schema.Column{column("code", schema.Text), column("name", schema.Text), column("beds", schema.Int), column("opened", schema.Date)}, huts...)
	keys := offer.Keys(left, right)
	require.NotEmpty(t, keys)
	require.Equal(t, "hut", keys[0].Left)
	require.Equal(t, "code", keys[0].Right, "values tell more than names")
	require.Equal(t, 1.0, keys[0].Share)
	require.True(t, keys[0].Unique)
	require.Equal(t, "12 of 12 values stand on both sides; each once on the right", keys[0].Sentence)
	for _, k := range keys {
		require.NotEqual(t, "nights", k.Left, "small numbers that happen to be alike are no key")
	}
}

func TestKeysAreNotSuggestedWhereNothingFits(t *testing.T) {
	for name, c := range map[string]struct{ left, right batch.Wire }{
		"no rows":        {wire(t, []schema.Column{column("hut", schema.Text)}), wire(t, []schema.Column{column("hut", schema.Text)}, []string{"H01"})},
		"other types":    {wire(t, []schema.Column{column("hut", schema.Text)}, []string{"1"}), wire(t, []schema.Column{column("hut", schema.Int)}, []string{"1"})},
		"other values":   {wire(t, []schema.Column{column("hut", schema.Text)}, []string{"H01"}), wire(t, []schema.Column{column("hut", schema.Text)}, []string{"X77"})},
		"only nulls":     {wire(t, []schema.Column{column("hut", schema.Text)}, []string{""}), wire(t, []schema.Column{column("hut", schema.Text)}, []string{""})},
		"true and false": {wire(t, []schema.Column{column("paid", schema.Bool)}, []string{"true"}), wire(t, []schema.Column{column("paid", schema.Bool)}, []string{"true"})},
	} {
		require.Empty(t, offer.Keys(c.left, c.right), name)
	}
}

func TestKeysOfSeveralRowsOnTheRightSaySo(t *testing.T) {
	rows := [][]string{{"H01"}, {"H01"}, {"H02"}}
	keys := offer.Keys(wire(t, []schema.Column{column("hut_no", schema.Text)}, rows...), wire(t, []schema.Column{column("no", schema.Text)}, rows...))
	require.Len(t, keys, 1)
	require.False(t, keys[0].Unique)
	require.Contains(t, keys[0].Sentence, "some several times on the right")
}
