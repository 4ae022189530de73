// Package batchtest makes batches of texts for the tests of other packages; "∅"
// is null.
package batchtest

import (
	"strings"

	"github.com/stretchr/testify/require"

	"welkin/core/batch"
	"welkin/core/schema"
)

// Columns reads columns from names and types such as "hut:text nights:int".
func Columns(t require.TestingT, text string) *schema.Schema {
	s := &schema.Schema{}
	for _, c := range strings.Split(text, " ") {
		name, typ, _ := strings.Cut(c, ":")
		parsed, err := schema.ParseType(typ)
		require.NoError(t, err)
		s.Columns = append(s.Columns, schema.Column{Name: name, Type: parsed, Nullable: true})
	}
	return s
}

// Cells makes a batch of one list of cells a row.
func Cells(t require.TestingT, s *schema.Schema, rows ...[]string) *batch.Batch {
	b := &batch.Batch{Schema: s, N: len(rows)}
	for c, col := range s.Columns {
		to := batch.NewBuilder(col.Type)
		for _, row := range rows {
			if row[c] == "∅" {
				to.AppendNull()
			} else {
				require.Nil(t, batch.AppendText(to, col.Type, row[c]))
			}
		}
		b.Cols = append(b.Cols, to.NewArray())
	}
	return b
}

// Rows makes a batch of lines whose cells are parted by "|".
func Rows(t require.TestingT, columns string, lines ...string) *batch.Batch {
	rows := make([][]string, len(lines))
	for i, l := range lines {
		rows[i] = strings.Split(l, "|")
	}
	return Cells(t, Columns(t, columns), rows...)
}
