package batch

import (
	"fmt"
	"runtime"
	"sync"
	"sync/atomic"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/bitutil"
	"github.com/apache/arrow-go/v18/arrow/decimal128"
	"github.com/apache/arrow-go/v18/arrow/memory"
)

// Take gathers values of one column; a row of -1 gives null.
func Take(a arrow.Array, rows []int32) arrow.Array {
	switch a := a.(type) {
	case *array.Null:
		return array.NewNull(len(rows))
	case *array.Int64:
		return takeFixed[int64](a, rows)
	case *array.Float64:
		return takeFixed[float64](a, rows)
	case *array.Decimal128:
		return takeFixed[decimal128.Num](a, rows)
	case *array.Date32:
		return takeFixed[arrow.Date32](a, rows)
	case *array.Time64:
		return takeFixed[arrow.Time64](a, rows)
	case *array.Timestamp:
		return takeFixed[arrow.Timestamp](a, rows)
	case *array.MonthDayNanoInterval:
		return takeFixed[arrow.MonthDayNanoInterval](a, rows)
	case *array.Boolean:
		return takeBools(a, rows)
	case *array.String:
		return takeTexts(a, rows)
	case *array.Binary:
		return takeTexts(a, rows)
	case *array.FixedSizeBinary, *array.List, *array.Struct:
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

// takeValid gives the validity of gathered values; rows of -1 are null.
func takeValid(a arrow.Array, rows []int32) *Validity {
	var out *Validity
	bitmap, offset := a.NullBitmapBytes(), a.Data().Offset()
	if a.NullN() == 0 {
		bitmap = nil
	}
	for i, r := range rows {
		if r < 0 || bitmap != nil && !bitutil.BitIsSet(bitmap, offset+int(r)) {
			if out == nil {
				out = AllValid(len(rows))
			}
			out.SetNull(i)
		}
	}
	return out
}

func takeFixed[T any](a arrow.Array, rows []int32) arrow.Array {
	from, _ := Raw[T](a)
	out := make([]T, len(rows))
	for i, r := range rows {
		if r >= 0 {
			out[i] = from[r]
		}
	}
	return NewColumn(a.DataType(), out, takeValid(a, rows))
}

func takeBools(a *array.Boolean, rows []int32) arrow.Array {
	out := make([]bool, len(rows))
	for i, r := range rows {
		out[i] = r >= 0 && a.Value(int(r))
	}
	return NewColumn(a.DataType(), out, takeValid(a, rows))
}

// texts is what columns of texts and of bytes offer of how they are stored: value
// i is that of ValueBytes between two offsets, both less the first.
type texts interface {
	arrow.Array
	ValueOffsets() []int32
	ValueBytes() []byte
}

func storedTexts(a texts) (offsets []int32, values []byte) {
	if a.Len() == 0 { // then there may be no offsets at all
		return nil, nil
	}
	return a.ValueOffsets(), a.ValueBytes()
}

func takeTexts(a texts, rows []int32) arrow.Array {
	valid := takeValid(a, rows)
	offsets, values := storedTexts(a)
	ends := make([]int32, len(rows)+1)
	size := int32(0)
	for i, r := range rows {
		if r >= 0 && valid.At(i) {
			size += offsets[r+1] - offsets[r]
		}
		ends[i+1] = size
	}
	data := make([]byte, 0, size)
	for i, r := range rows {
		if ends[i+1] > ends[i] {
			data = append(data, values[offsets[r]-offsets[0]:offsets[r+1]-offsets[0]]...)
		}
	}
	return newTexts(a.DataType(), ends, data, valid)
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
	places, numbers, keys := false, false, false
	for _, b := range batches {
		places = places || b.Origin.Place != nil || b.Origin.All != out.All
		numbers, keys = numbers || b.Origin.Row != nil, keys || b.Origin.Key != nil
	}
	if places {
		out.All = ""
		out.Place = make([]string, len(rows))
	}
	if numbers {
		out.Row = make([]int64, len(rows))
	}
	if keys {
		out.Key = make([]string, len(rows))
	}
	for i, f := range from {
		o, row := &batches[f].Origin, int(rows[i])
		if numbers && row < len(o.Row) {
			out.Row[i] = o.Row[row]
		}
		if places {
			out.Place[i], _, _ = o.At(row)
		}
		if keys && row < len(o.Key) {
			out.Key[i] = o.Key[row]
		}
	}
	return out
}

// GatherColumn picks value rows[i] of column from[i], for each i.
func GatherColumn(columns []arrow.Array, from, rows []int32) arrow.Array {
	switch columns[0].(type) {
	case *array.Null:
		return array.NewNull(len(rows))
	case *array.Int64:
		return gatherFixed[int64](columns, from, rows)
	case *array.Float64:
		return gatherFixed[float64](columns, from, rows)
	case *array.Decimal128:
		return gatherFixed[decimal128.Num](columns, from, rows)
	case *array.Date32:
		return gatherFixed[arrow.Date32](columns, from, rows)
	case *array.Time64:
		return gatherFixed[arrow.Time64](columns, from, rows)
	case *array.Timestamp:
		return gatherFixed[arrow.Timestamp](columns, from, rows)
	case *array.Boolean:
		return gatherBools(columns, from, rows)
	case *array.String:
		return gatherTexts[*array.String](columns, from, rows)
	case *array.Binary:
		return gatherTexts[*array.Binary](columns, from, rows)
	}
	out := array.NewBuilder(memory.DefaultAllocator, columns[0].DataType())
	for i, r := range rows {
		AppendFrom(out, columns[from[i]], int(r))
	}
	return out.NewArray()
}

// gatherValid gives the validity of values gathered from several columns.
func gatherValid(columns []arrow.Array, from, rows []int32) *Validity {
	nulls := 0
	for _, c := range columns {
		nulls += c.NullN()
	}
	if nulls == 0 {
		return nil
	}
	out := AllValid(len(rows))
	for i, r := range rows {
		if columns[from[i]].IsNull(int(r)) {
			out.SetNull(i)
		}
	}
	return out
}

func gatherFixed[T any](columns []arrow.Array, from, rows []int32) arrow.Array {
	parts := make([][]T, len(columns))
	for i, c := range columns {
		parts[i], _ = Raw[T](c)
	}
	out := make([]T, len(rows))
	for i, r := range rows {
		out[i] = parts[from[i]][r]
	}
	return NewColumn(columns[0].DataType(), out, gatherValid(columns, from, rows))
}

func gatherBools(columns []arrow.Array, from, rows []int32) arrow.Array {
	parts := make([]*array.Boolean, len(columns))
	for i, c := range columns {
		parts[i] = c.(*array.Boolean)
	}
	out := make([]bool, len(rows))
	for i, r := range rows {
		out[i] = parts[from[i]].Value(int(r))
	}
	return NewColumn(columns[0].DataType(), out, gatherValid(columns, from, rows))
}

func gatherTexts[A texts](columns []arrow.Array, from, rows []int32) arrow.Array {
	offsets, values := make([][]int32, len(columns)), make([][]byte, len(columns))
	for i, c := range columns {
		offsets[i], values[i] = storedTexts(c.(A))
	}
	valid := gatherValid(columns, from, rows)
	ends := make([]int32, len(rows)+1)
	size := int32(0)
	for i, r := range rows {
		if valid.At(i) {
			o := offsets[from[i]]
			size += o[r+1] - o[r]
		}
		ends[i+1] = size
	}
	data := make([]byte, 0, size)
	for i, r := range rows {
		if ends[i+1] > ends[i] {
			o := offsets[from[i]]
			data = append(data, values[from[i]][o[r]-o[0]:o[r+1]-o[0]]...)
		}
	}
	return newTexts(columns[0].DataType(), ends, data, valid)
}
