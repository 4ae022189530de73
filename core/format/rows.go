package format

import (
	"strings"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"

	"welkin/core/batch"
	"welkin/core/schema"
)

// Rows collects rows from records of JSON's kinds (as batch.ParseJSON gives them),
// whose fields are the columns by name. Fields that the schema has not are passed
// over, columns that a record has not are null.
type Rows struct {
	schema   *schema.Schema
	place    string
	nulls    map[string]bool
	builders []array.Builder
	good     []int32
	lines    []int64
	refused  []Refused
	at       int32
}

// NewRows begins to collect. place is what the origin of the rows says, nulls are
// texts that mean null.
func NewRows(s *schema.Schema, place string, nulls []string) *Rows {
	r := &Rows{schema: s, place: place, nulls: map[string]bool{}}
	for _, n := range nulls {
		r.nulls[n] = true
	}
	r.renew()
	return r
}

func (r *Rows) renew() {
	r.builders = make([]array.Builder, r.schema.Len())
	for i, c := range r.schema.Columns {
		r.builders[i] = batch.NewBuilder(c.Type)
	}
	r.good, r.lines, r.refused, r.at = nil, nil, nil, 0
}

// Seen counts the records since the last chunk.
func (r *Rows) Seen() int { return int(r.at) }

// Good counts the rows since the last chunk.
func (r *Rows) Good() int { return len(r.good) }

// Add takes one record; line is its number in the file, raw its original form,
// asked for only when it is refused.
func (r *Rows) Add(record any, line int64, raw func() string) {
	object, ok := record.(map[string]any)
	if !ok {
		r.Refuse(batch.Faultf("not an object", "a record is an object such as {\"hut\": 7}"), "", "", line, raw())
		return
	}
	for i, c := range r.schema.Columns {
		value := object[c.Name]
		if text, is := value.(string); is && (r.nulls[text] || text == "" && c.Type.Kind != schema.Text) {
			value = nil
		}
		if value == nil {
			r.builders[i].AppendNull()
			continue
		}
		if fault := batch.AppendJSON(r.builders[i], c.Type, value); fault != nil {
			text, _ := value.(string)
			r.Refuse(fault, c.Name, text, line, raw())
			return
		}
	}
	r.good, r.lines = append(r.good, r.at), append(r.lines, line)
	r.at++
}

// Refuse counts a record that is no row.
func (r *Rows) Refuse(fault *batch.Fault, column, value string, line int64, raw string) {
	r.refused = append(r.refused, Refused{Fault: fault, Column: column, Value: value, Line: line, Raw: strings.ToValidUTF8(raw, "�")})
	r.at++
	for _, b := range r.builders {
		if b.Len() < int(r.at) {
			b.AppendNull()
		}
	}
}

// Chunk gives what was collected, and begins anew.
func (r *Rows) Chunk() Chunk {
	out := Chunk{Refused: r.refused, Seen: int64(r.at)}
	out.Batch = &batch.Batch{Schema: r.schema, N: len(r.good), Cols: make([]arrow.Array, len(r.builders)), Origin: batch.Origin{All: r.place, Row: r.lines}}
	for i, b := range r.builders {
		out.Batch.Cols[i] = b.NewArray()
		if len(r.refused) > 0 {
			out.Batch.Cols[i] = batch.Take(out.Batch.Cols[i], r.good)
		}
	}
	r.renew()
	return out
}
