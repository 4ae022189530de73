package batch_test

import (
	"bytes"
	"cmp"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"welkin/core/batch"
	"welkin/core/batch/batchtest"
)

// sortable are values of each type that are near each other's bounds.
var sortable = map[string][]string{
	"int":           {"0", "1", "-1", "127", "128", "-128", "-129", "255", "256", "-256", "-257", "65535", "9223372036854775807", "-9223372036854775808"},
	"text":          {"", "a", "ab", "b", "\x00", "a\x00", "a\x00b", "\x01", "a\x01", "a\x02", "ÿ", "Høyt"},
	"date":          {"2026-11-23", "1969-12-31", "0001-01-01", "9999-12-31"},
	"time":          {"10:00:00", "00:00:00", "23:59:59.999999"},
	"timestamp":     {"2026-11-23 10:00:00", "1960-01-01 00:00:00.000001", "1970-01-01 00:00:00"},
	"bool":          {"true", "false"},
	"float":         {"0", "-0", "NaN", "2.5", "-2.5", "Infinity", "-Infinity", "5e-324"},
	"decimal(8,2)":  {"0", "0.01", "-0.01", "999999.99", "-999999.99", "2.55", "2.56"},
	"decimal(38,2)": {"0", "92233720368547758.07", "92233720368547758.08", "-92233720368547758.08", "-92233720368547758.09", "184467440737095516.16", "999999999999999999999999999999999999.99", "-999999999999999999999999999999999999.99"},
	"list<int>":     {"[1, 2]", "[]", "[null]", "[1]", "[1, 2, 3]", "[-300]"},
	"uuid":          {"00000000-0000-0000-0000-000000000000", "ffffffff-ffff-ffff-ffff-ffffffffffff"},
	"bytes":         {"", "\\x00", "\\x0001", "\\x01", "\\xff"},
}

// TestSortKeysAreOrderedAsValuesAre compares the keys of rows made at once with
// those made one by one, and their order with that of the values.
func TestSortKeysAreOrderedAsValuesAre(t *testing.T) {
	var types []string
	for typ := range sortable {
		types = append(types, typ)
	}
	rapid.Check(t, func(rt *rapid.T) {
		n := rapid.IntRange(0, 40).Draw(rt, "rows")
		var columns []batch.SortColumn
		for range rapid.IntRange(1, 3).Draw(rt, "columns") {
			typ := rapid.SampledFrom(types).Draw(rt, "type")
			cells := make([][]string, n)
			for i := range cells {
				cells[i] = []string{rapid.SampledFrom(append(sortable[typ], "∅")).Draw(rt, "value")}
			}
			values := batchtest.Cells(rt, batchtest.Columns(rt, "x:"+typ), cells...).Cols[0]
			if n > 4 && rapid.Bool().Draw(rt, "slice") { // a column that begins inside of its memory
				wide := batchtest.Cells(rt, batchtest.Columns(rt, "x:"+typ), append([][]string{{"∅"}, {sortable[typ][0]}}, cells...)...).Cols[0]
				values = batch.SliceColumn(wide, 2, n+2)
			}
			columns = append(columns, batch.SortColumn{Values: values, Descending: rapid.Bool().Draw(rt, "falling"), NullsFirst: rapid.Bool().Draw(rt, "nulls first")})
		}
		group := rapid.IntRange(0, len(columns)).Draw(rt, "group")
		keys := batch.NewSortKeys(n, group, columns...)
		for i := range n {
			var alone []byte
			split := 0
			for c, col := range columns {
				if c == group {
					split = len(alone)
				}
				alone = batch.AppendSortKey(alone, col.Values, i, col.Descending, col.NullsFirst)
			}
			if group == len(columns) {
				split = len(alone)
			}
			require.Equal(rt, alone, keys.At(i))
			first, rest := keys.Split(i)
			require.Equal(rt, string(alone[:split]), string(first))
			require.Equal(rt, string(alone[split:]), string(rest))
			for j := range i {
				require.Equal(rt, compareRows(columns, i, j), bytes.Compare(keys.At(i), keys.At(j)), "%d and %d", i, j)
				if !bytes.Equal(keys.At(i), keys.At(j)) {
					require.False(rt, bytes.HasPrefix(keys.At(i), keys.At(j)) || bytes.HasPrefix(keys.At(j), keys.At(i)))
				}
			}
		}
	})
}

// compareRows orders rows as the columns say, without keys.
func compareRows(columns []batch.SortColumn, i, j int) int {
	for _, c := range columns {
		x, y := c.Values.IsNull(i), c.Values.IsNull(j)
		order := 0
		switch {
		case x && y:
		case x != y:
			if order = 1; x == c.NullsFirst {
				order = -1
			}
		case c.Descending:
			order = batch.Compare(c.Values, j, c.Values, i)
		default:
			order = batch.Compare(c.Values, i, c.Values, j)
		}
		if order != 0 {
			return cmp.Compare(order, 0)
		}
	}
	return 0
}
