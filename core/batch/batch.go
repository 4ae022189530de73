// Package batch holds rows by column: an Arrow array for each column of a
// schema, and beside them where each row came from. batch.go has the batch,
// value.go single values and their text, key.go keys for grouping, joining
// and comparing, wire.go rows as they leave for a screen or a file.
//
// Arrays come from Go's allocator and are left to the collector: nothing here
// is retained or released by hand.
package batch

import (
	"fmt"
	"runtime"
	"sync"
	"sync/atomic"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/decimal128"
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

// reader and appender are what every Arrow array and builder of a Go type offer.
type reader[T any] interface {
	Value(int) T
	IsNull(int) bool
}
type appender[T any] interface {
	Append(T)
	AppendNull()
	Reserve(int)
	NewArray() arrow.Array
}

func gather[T any](a arrow.Array, rows []int32) arrow.Array {
	out := array.NewBuilder(memory.DefaultAllocator, a.DataType())
	to, from := out.(appender[T]), a.(reader[T])
	to.Reserve(len(rows))
	nulls := a.NullN() > 0
	for _, r := range rows {
		if r < 0 || nulls && from.IsNull(int(r)) {
			to.AppendNull()
		} else {
			to.Append(from.Value(int(r)))
		}
	}
	return to.NewArray()
}

// Take gathers values of one column; a row of -1 gives null.
func Take(a arrow.Array, rows []int32) arrow.Array {
	switch a.(type) {
	case *array.Boolean:
		return gather[bool](a, rows)
	case *array.Int64:
		return gather[int64](a, rows)
	case *array.Float64:
		return gather[float64](a, rows)
	case *array.Decimal128:
		return gather[decimal128.Num](a, rows)
	case *array.String:
		return gather[string](a, rows)
	case *array.Binary, *array.FixedSizeBinary:
		return gather[[]byte](a, rows)
	case *array.Date32:
		return gather[arrow.Date32](a, rows)
	case *array.Time64:
		return gather[arrow.Time64](a, rows)
	case *array.Timestamp:
		return gather[arrow.Timestamp](a, rows)
	case *array.MonthDayNanoInterval:
		return gather[arrow.MonthDayNanoInterval](a, rows)
	case *array.List, *array.Struct:
		out := array.NewBuilder(memory.DefaultAllocator, a.DataType())
		for _, r := range rows {
			if r < 0 {
				out.AppendNull()
			} else {
				AppendFrom(out, a, int(r))
			}
		}
		return out.NewArray()
	}
	panic(fmt.Sprintf("batch: no gather for %s", a.DataType()))
}

// ConcatArrays joins columns of one type into one.
func ConcatArrays(parts []arrow.Array) (arrow.Array, error) {
	return array.Concatenate(parts, memory.DefaultAllocator)
}

// Gather makes a batch of rows of several batches of one schema: row i is row
// rows[i] of batches[from[i]].
func Gather(batches []*Batch, from, rows []int32) *Batch {
	out := &Batch{Schema: batches[0].Schema, Cols: make([]arrow.Array, len(batches[0].Cols)), N: len(rows)}
	column := func(c int) {
		parts := make([]arrow.Array, len(batches))
		for i, b := range batches {
			parts[i] = b.Cols[c]
		}
		out.Cols[c] = GatherColumn(parts, from, rows)
	}
	if len(rows) < 2048 {
		for c := range out.Cols {
			column(c)
		}
	} else { // rows lie far apart: several cores wait for memory better than one
		var wg sync.WaitGroup
		var next atomic.Int32
		for range min(runtime.GOMAXPROCS(0), len(out.Cols)) {
			wg.Go(func() {
				for c := int(next.Add(1)) - 1; c < len(out.Cols); c = int(next.Add(1)) - 1 {
					column(c)
				}
			})
		}
		wg.Wait()
	}
	out.Origin = gatherOrigins(batches, from, rows)
	return out
}

func gatherOrigins(batches []*Batch, from, rows []int32) Origin {
	out := Origin{All: batches[0].Origin.All}
	places := false
	for _, b := range batches {
		places = places || b.Origin.Place != nil || b.Origin.All != out.All
	}
	if places {
		out.All = ""
	}
	for i, f := range from {
		o := &batches[f].Origin
		if !places && o.Row == nil && o.Key == nil {
			continue
		}
		place, row, key := o.At(int(rows[i]))
		put(&out.Place, places, len(rows), i, place)
		put(&out.Row, o.Row != nil, len(rows), i, row)
		put(&out.Key, o.Key != nil, len(rows), i, key)
	}
	return out
}

func put[T any](list *[]T, there bool, n, i int, v T) {
	if !there {
		return
	}
	if *list == nil {
		*list = make([]T, n)
	}
	(*list)[i] = v
}

// GatherColumn picks value rows[i] of column from[i], for each i.
func GatherColumn(columns []arrow.Array, from, rows []int32) arrow.Array {
	switch columns[0].(type) {
	case *array.Int64:
		return gatherMany[int64](columns, from, rows)
	case *array.Float64:
		return gatherMany[float64](columns, from, rows)
	case *array.Decimal128:
		return gatherMany[decimal128.Num](columns, from, rows)
	case *array.String:
		return gatherMany[string](columns, from, rows)
	case *array.Date32:
		return gatherMany[arrow.Date32](columns, from, rows)
	case *array.Timestamp:
		return gatherMany[arrow.Timestamp](columns, from, rows)
	case *array.Boolean:
		return gatherMany[bool](columns, from, rows)
	case *array.Binary:
		return gatherMany[[]byte](columns, from, rows)
	}
	out := array.NewBuilder(memory.DefaultAllocator, columns[0].DataType())
	for i, r := range rows {
		AppendFrom(out, columns[from[i]], int(r))
	}
	return out.NewArray()
}

func gatherMany[T any](columns []arrow.Array, from, rows []int32) arrow.Array {
	out := array.NewBuilder(memory.DefaultAllocator, columns[0].DataType())
	to := out.(appender[T])
	to.Reserve(len(rows))
	typed := make([]reader[T], len(columns))
	for i, c := range columns {
		typed[i] = c.(reader[T])
	}
	for i, r := range rows {
		if c := typed[from[i]]; c.IsNull(int(r)) {
			to.AppendNull()
		} else {
			to.Append(c.Value(int(r)))
		}
	}
	return to.NewArray()
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
