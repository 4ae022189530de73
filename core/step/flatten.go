package step

import (
	"slices"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"

	"welkin/core/batch"
	"welkin/core/schema"
)

var flattenRecords = Kind{
	Name: "flatten records", Role: Work, Ports: []string{"rows"}, New: func() Settings { return &FlattenRecords{} },
	Help: "Makes columns of the fields of records: reading.watts becomes reading_watts.", Example: "reading",
	Words: "unnest struct json object fields nested expand",
}

// FlattenRecords makes a column a_b of each field b of a record a, in its place.
// Records within records are flattened too, up to Levels.
type FlattenRecords struct {
	Columns []string `json:"columns,omitempty" jsonschema:"title=columns,description=The records; all when left out"`
	Levels  int      `json:"levels,omitempty" jsonschema:"title=levels,description=How deep; all levels when left out"`
	Between string   `json:"between,omitempty" jsonschema:"title=between,description=Put between the names; _ when left out"`
}

// Sentence implements Settings.
func (s *FlattenRecords) Sentence() string {
	if len(s.Columns) == 0 {
		return "flatten all records"
	}
	return "flatten " + list(s.Columns, 4)
}

// Bind implements Settings.
func (s *FlattenRecords) Bind(c *Context, in []*schema.Schema) *Bound {
	o := &flattenOperator{schema: &schema.Schema{}}
	chosen := placesAll(in[0])
	if len(s.Columns) > 0 {
		chosen = c.pick("columns", in[0], s.Columns)
		for _, at := range chosen {
			if t := in[0].Columns[at].Type; t.Kind != schema.Record {
				c.Problem("columns", "%s is %s, not a record; parse text or JSON into a record in a step before", in[0].Columns[at].Name, t)
			}
		}
	}
	for i, col := range in[0].Columns {
		levels := 0
		if slices.Contains(chosen, i) {
			if levels = s.Levels; levels == 0 {
				levels = 1000
			}
		}
		o.add(col, []int{i}, levels, orElse(s.Between, "_"))
	}
	c.distinctNames(o.schema, func(int) string { return "columns" })
	return &Bound{Schema: o.schema, Operator: func() Operator { return o }}
}

// add adds a column, or the columns of its fields; path leads to it.
func (o *flattenOperator) add(col schema.Column, path []int, levels int, between string) {
	if col.Type.Kind != schema.Record || levels == 0 {
		o.schema.Columns = append(o.schema.Columns, col)
		o.paths = append(o.paths, path)
		return
	}
	for f, field := range col.Type.Fields() {
		inner := schema.Column{Name: col.Name + between + field.Name, Type: field.Type, Nullable: true, From: col.From}
		o.add(inner, append(slices.Clone(path), f), levels-1, between)
	}
}

type flattenOperator struct {
	RowWise
	schema *schema.Schema
	paths  [][]int // by column out: column in, then fields
}

func (o *flattenOperator) Push(_ int, b *batch.Batch, out Emitter) error {
	next := &batch.Batch{Schema: o.schema, N: b.N, Origin: b.Origin}
	for _, path := range o.paths {
		col := b.Cols[path[0]]
		for _, f := range path[1:] {
			col = fieldOf(col.(*array.Struct), f)
		}
		next.Cols = append(next.Cols, col)
	}
	return out.Emit(next)
}

// fieldOf gives a field of a record, null where the record is null.
func fieldOf(record *array.Struct, f int) arrow.Array {
	values := record.Field(f)
	if record.NullN() == 0 {
		return values
	}
	rows := make([]int32, record.Len())
	for i := range rows {
		if rows[i] = int32(i); record.IsNull(i) {
			rows[i] = -1
		}
	}
	return batch.Take(values, rows)
}
