// Package batch holds rows by column: an Arrow array for each column of a
// schema, and beside them where each row came from. batch.go has the batch,
// column.go columns as plain slices for the kernels, gather.go rows picked from
// batches, value.go single values and their text, key.go keys for grouping,
// joining and comparing, wire.go rows as they leave for a screen or a file.
//
// Arrays come from Go's allocator and are left to the collector: nothing here
// is retained or released by hand.
package batch

import (
	"fmt"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/memory"

	"welkin/core/schema"
)

// Rows is the usual number of rows in a batch.
const Rows = 16_384

// Batch is N rows of a schema. A batch is not changed once made.
type Batch struct {
	Schema *schema.Schema
	Cols   []arrow.Array
	N      int
	Origin Origin
}

// Origin says where each row of a batch came from. Slices have one entry a row,
// or are nil when the rows were made inside the sheet. Rows of one file or table
// say so once, in All.
type Origin struct {
	All   string   // file or table of all rows, where Place is nil
	Place []string // file or table by row
	Row   []int64  // row number in that file or in reading order, from 1
	Key   []string // the key's text, for tables that have one
}

// Take gathers the origins of rows.
func (o Origin) Take(rows []int32) Origin {
	return Origin{o.All, take(o.Place, rows), take(o.Row, rows), take(o.Key, rows)}
}

// At gives the origin of one row; all zero when it has none.
func (o Origin) At(row int) (place string, number int64, key string) {
	if place = o.All; row < len(o.Place) {
		place = o.Place[row]
	}
	if row < len(o.Row) {
		number = o.Row[row]
	}
	if row < len(o.Key) {
		key = o.Key[row]
	}
	return place, number, key
}

// places gives the place of each of n rows.
func (o Origin) places(n int) []string {
	if o.Place != nil {
		return o.Place
	}
	out := make([]string, n)
	for i := range out {
		out[i] = o.All
	}
	return out
}

func take[T any](values []T, rows []int32) []T {
	if values == nil {
		return nil
	}
	out := make([]T, len(rows))
	for i, r := range rows {
		out[i] = values[r]
	}
	return out
}

// Take gathers rows of b, in the order given; a row may come more than once.
func (b *Batch) Take(rows []int32) *Batch {
	out := &Batch{Schema: b.Schema, Cols: make([]arrow.Array, len(b.Cols)), N: len(rows), Origin: b.Origin.Take(rows)}
	for i, c := range b.Cols {
		out.Cols[i] = Take(c, rows)
	}
	return out
}

// Slice gives rows from..to of b without copying.
func (b *Batch) Slice(from, to int) *Batch {
	out := &Batch{Schema: b.Schema, Cols: make([]arrow.Array, len(b.Cols)), N: to - from}
	for i, c := range b.Cols {
		out.Cols[i] = SliceColumn(c, from, to)
	}
	out.Origin.All = b.Origin.All
	if b.Origin.Place != nil {
		out.Origin.Place = b.Origin.Place[from:to]
	}
	if b.Origin.Row != nil {
		out.Origin.Row = b.Origin.Row[from:to]
	}
	if b.Origin.Key != nil {
		out.Origin.Key = b.Origin.Key[from:to]
	}
	return out
}

// Blank gives the batch with the columns that are not wanted left empty: Arrow's
// columns of nulls without a type. No kernel may look into them.
func (b *Batch) Blank(wanted []bool) *Batch {
	out := &Batch{Schema: b.Schema, Cols: make([]arrow.Array, len(b.Cols)), N: b.N, Origin: b.Origin}
	for i, c := range b.Cols {
		if out.Cols[i] = c; !wanted[i] {
			out.Cols[i] = Empty(b.N)
		}
	}
	return out
}

// Empty makes a column that is left empty.
func Empty(n int) arrow.Array { return array.NewNull(n) }

// SliceColumn gives values from..to of a column without copying. Arrow counts the
// nulls of a slice when first asked; they are counted here, since columns are
// read by several goroutines at once.
func SliceColumn(a arrow.Array, from, to int) arrow.Array {
	out := array.NewSlice(a, int64(from), int64(to))
	out.NullN()
	return out
}

// Record gives the batch as an Arrow record, for code that speaks Arrow.
func (b *Batch) Record() arrow.RecordBatch {
	return array.NewRecordBatch(ArrowSchema(b.Schema), b.Cols, int64(b.N))
}

// ArrowSchema gives the Arrow schema of a schema.
func ArrowSchema(s *schema.Schema) *arrow.Schema {
	fields := make([]arrow.Field, s.Len())
	for i, c := range s.Columns {
		fields[i] = arrow.Field{Name: c.Name, Type: c.Type.Arrow(), Nullable: true}
	}
	return arrow.NewSchema(fields, nil)
}

// NewBuilder makes a builder for a column of type t.
func NewBuilder(t schema.Type) array.Builder {
	return array.NewBuilder(memory.DefaultAllocator, t.Arrow())
}

// Nulls makes a column of n nulls.
func Nulls(t schema.Type, n int) arrow.Array {
	b := NewBuilder(t)
	b.AppendNulls(n)
	return b.NewArray()
}

// ConcatArrays joins columns of one type into one.
func ConcatArrays(parts []arrow.Array) (arrow.Array, error) {
	return array.Concatenate(parts, memory.DefaultAllocator)
}

func join[T any](to, from []T, n int, wanted bool) []T {
	if wanted && from == nil {
		from = make([]T, n)
	}
	return append(to, from...)
}

// Concat joins batches of one schema into one; there must be at least one.
func Concat(batches []*Batch) (*Batch, error) {
	if len(batches) == 1 {
		return batches[0], nil
	}
	out := &Batch{Schema: batches[0].Schema, Cols: make([]arrow.Array, batches[0].Schema.Len())}
	var place, row, key bool // whether any batch has them: then all get them
	out.Origin.All = batches[0].Origin.All
	for _, b := range batches {
		o := b.Origin
		place, row, key = place || o.Place != nil || o.All != out.Origin.All, row || o.Row != nil, key || o.Key != nil
	}
	if place {
		out.Origin.All = ""
	}
	for _, b := range batches {
		out.N += b.N
		if place {
			out.Origin.Place = append(out.Origin.Place, b.Origin.places(b.N)...)
		}
		out.Origin.Row = join(out.Origin.Row, b.Origin.Row, b.N, row)
		out.Origin.Key = join(out.Origin.Key, b.Origin.Key, b.N, key)
	}
	for i := range out.Cols {
		parts := make([]arrow.Array, len(batches))
		for j, b := range batches {
			parts[j] = b.Cols[i]
		}
		col, err := ConcatArrays(parts)
		if err != nil {
			return nil, fmt.Errorf("joining batches of column %q: %w", out.Schema.Columns[i].Name, err)
		}
		out.Cols[i] = col
	}
	return out, nil
}

// Bytes estimates the memory a batch holds.
func (b *Batch) Bytes() int64 {
	var n int64
	for _, c := range b.Cols {
		n += int64(c.Data().SizeInBytes())
	}
	return n + int64(b.N)*24
}
