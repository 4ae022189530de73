package batch

import (
	"fmt"

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

// FromCells makes a batch of rows as text, nil for null; what Row gives comes
// back. The error says which cell can't be read.
func FromCells(s *schema.Schema, rows [][]*string) (*Batch, error) {
	out := &Batch{Schema: s, N: len(rows)}
	for c, col := range s.Columns {
		to := NewTextColumn(col.Type, len(rows))
		for i, row := range rows {
			if len(row) != s.Len() {
				return nil, fmt.Errorf("row %d has %d values for %d columns", i+1, len(row), s.Len())
			}
			if row[c] == nil {
				continue
			}
			if fault := to.Set(i, *row[c]); fault != nil {
				return nil, fmt.Errorf("row %d, column %q: %s", i+1, col.Name, fault.Sentence)
			}
		}
		out.Cols = append(out.Cols, to.Column())
	}
	return out, nil
}
