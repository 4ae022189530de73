package batch

import (
	"github.com/apache/arrow-go/v18/arrow/array"

	"welkin/core/schema"
)

// Row gives one row as text cells, nil for null: the form in which rows go to a
// screen, to the set-aside store and to the command line's output. Figures keep
// all their digits this way.
func (b *Batch) Row(i int) []*string {
	cells := make([]*string, len(b.Cols))
	for c, col := range b.Cols {
		if _, empty := col.(*array.Null); !empty && !col.IsNull(i) {
			text := Text(col, b.Schema.Columns[c].Type, i)
			cells[c] = &text
		}
	}
	return cells
}

// Wire is a small set of rows with their schema.
type Wire struct {
	Columns []schema.Column `json:"columns"`
	Rows    [][]*string     `json:"rows" doc:"One list of cells a row; null is an absent value."`
}

// ToWire writes at most limit rows of some batches as text.
func ToWire(s *schema.Schema, batches []*Batch, limit int) Wire {
	w := Wire{Columns: s.Columns, Rows: [][]*string{}}
	for _, b := range batches {
		for i := 0; i < b.N && len(w.Rows) < limit; i++ {
			w.Rows = append(w.Rows, b.Row(i))
		}
	}
	return w
}
