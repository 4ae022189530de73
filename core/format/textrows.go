package format

import (
	"strings"

	"github.com/apache/arrow-go/v18/arrow"

	"welkin/core/batch"
	"welkin/core/schema"
)

// TextRows collects rows from records whose values are texts.
type TextRows struct {
	schema  *schema.Schema
	place   string
	nulls   map[string]bool
	columns []batch.TextColumn
	good    []int32
	lines   []int64
	refused []Refused
	at      int
}

// NewTextRows begins to collect. place is what the origin of the rows says, nulls are
// texts that mean null.
func NewTextRows(s *schema.Schema, place string, nulls []string) *TextRows {
	r := &TextRows{schema: s, place: place, nulls: map[string]bool{}}
	for _, n := range nulls {
		r.nulls[n] = true
	}
	r.renew()
	return r
}

func (r *TextRows) renew() {
	r.columns = make([]batch.TextColumn, r.schema.Len())
	for i, c := range r.schema.Columns {
		r.columns[i] = batch.NewTextColumn(c.Type, batch.Rows)
	}
	r.good, r.lines, r.refused, r.at = nil, nil, nil, 0
}

// Seen counts the records since the last chunk; a chunk holds up to batch.Rows.
func (r *TextRows) Seen() int { return r.at }

// Add takes one record: value gives the text of each column, "" for null. It tells
// whether the record became a row.
func (r *TextRows) Add(line int64, value func(column int) (string, *batch.Fault), raw func() string) bool {
	for i := range r.columns {
		text, fault := value(i)
		if fault == nil {
			if text == "" || r.nulls[text] {
				r.columns[i].SetNull(r.at)
				continue
			}
			fault = r.columns[i].Set(r.at, text)
		}
		if fault != nil {
			r.Refuse(Refused{Fault: fault, Column: r.schema.Columns[i].Name, Value: text, Line: line, Raw: raw()})
			return false
		}
	}
	r.good, r.lines = append(r.good, int32(r.at)), append(r.lines, line)
	r.at++
	return true
}

// Refuse counts a record that is no row.
func (r *TextRows) Refuse(bad Refused) {
	bad.Raw = strings.ToValidUTF8(bad.Raw, "�")
	r.refused = append(r.refused, bad)
	r.at++
}

// Chunk gives what was collected, and begins anew.
func (r *TextRows) Chunk() Chunk {
	out := Chunk{Refused: r.refused, Seen: int64(r.at)}
	out.Batch = &batch.Batch{Schema: r.schema, N: len(r.good), Cols: make([]arrow.Array, len(r.columns)), Origin: batch.Origin{All: r.place, Row: r.lines}}
	for i, c := range r.columns {
		out.Batch.Cols[i] = batch.Take(c.Column(), r.good)
	}
	r.renew()
	return out
}
