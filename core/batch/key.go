package batch

import (
	"bytes"
	"cmp"
	"encoding/binary"
	"math"
	"strings"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/zeebo/xxh3"

	"welkin/core/schema"
)

// AppendKey appends a form of the value at row i that is the same bytes for
// equal values of one type and different for others, so that keys of several
// columns can be put one behind the other. Nulls are equal to each other.
func AppendKey(dst []byte, a arrow.Array, i int) []byte {
	if a.IsNull(i) {
		return append(dst, 0)
	}
	dst = append(dst, 1)
	switch a := a.(type) {
	case *array.Boolean:
		if a.Value(i) {
			return append(dst, 1)
		}
		return append(dst, 0)
	case *array.Int64:
		return binary.LittleEndian.AppendUint64(dst, uint64(a.Value(i)))
	case *array.Float64:
		v := a.Value(i)
		if v == 0 {
			v = 0 // minus zero equals zero
		}
		if math.IsNaN(v) {
			v = math.NaN()
		}
		return binary.LittleEndian.AppendUint64(dst, math.Float64bits(v))
	case *array.Decimal128:
		v := a.Value(i)
		return binary.LittleEndian.AppendUint64(binary.LittleEndian.AppendUint64(dst, v.LowBits()), uint64(v.HighBits()))
	case *array.String:
		v := a.Value(i)
		return append(binary.AppendUvarint(dst, uint64(len(v))), v...)
	case *array.Binary:
		v := a.Value(i)
		return append(binary.AppendUvarint(dst, uint64(len(v))), v...)
	case *array.FixedSizeBinary:
		return append(dst, a.Value(i)...)
	case *array.Date32:
		return binary.LittleEndian.AppendUint32(dst, uint32(a.Value(i)))
	case *array.Time64:
		return binary.LittleEndian.AppendUint64(dst, uint64(a.Value(i)))
	case *array.Timestamp:
		return binary.LittleEndian.AppendUint64(dst, uint64(a.Value(i)))
	case *array.List:
		start, end := a.ValueOffsets(i)
		dst = binary.AppendUvarint(dst, uint64(end-start))
		for j := start; j < end; j++ {
			dst = AppendKey(dst, a.ListValues(), int(j))
		}
		return dst
	case *array.Struct:
		for f := range a.NumField() {
			dst = AppendKey(dst, a.Field(f), i)
		}
		return dst
	case *array.MonthDayNanoInterval:
		return binary.LittleEndian.AppendUint64(dst, uint64(IntervalMicros(a.Value(i))))
	}
	panic("batch: no key for " + a.DataType().String())
}

// Compare orders two values of one type that are not null. Text is ordered by
// bytes; NaN is above every number.
func Compare(a arrow.Array, i int, b arrow.Array, j int) int {
	switch a := a.(type) {
	case *array.Boolean:
		x, y := a.Value(i), b.(*array.Boolean).Value(j)
		switch {
		case x == y:
			return 0
		case y:
			return -1
		}
		return 1
	case *array.Int64:
		return cmp.Compare(a.Value(i), b.(*array.Int64).Value(j))
	case *array.Float64:
		return CompareFloat(a.Value(i), b.(*array.Float64).Value(j))
	case *array.Decimal128:
		return a.Value(i).Cmp(b.(*array.Decimal128).Value(j))
	case *array.String:
		return strings.Compare(a.Value(i), b.(*array.String).Value(j))
	case *array.Binary:
		return bytes.Compare(a.Value(i), b.(*array.Binary).Value(j))
	case *array.FixedSizeBinary:
		return bytes.Compare(a.Value(i), b.(*array.FixedSizeBinary).Value(j))
	case *array.Date32:
		return cmp.Compare(a.Value(i), b.(*array.Date32).Value(j))
	case *array.Time64:
		return cmp.Compare(a.Value(i), b.(*array.Time64).Value(j))
	case *array.Timestamp:
		return cmp.Compare(a.Value(i), b.(*array.Timestamp).Value(j))
	case *array.MonthDayNanoInterval:
		return cmp.Compare(IntervalMicros(a.Value(i)), IntervalMicros(b.(*array.MonthDayNanoInterval).Value(j)))
	case *array.List:
		return compareLists(a, i, b.(*array.List), j)
	case *array.Struct:
		y := b.(*array.Struct)
		for f := range a.NumField() {
			if c := compareNullable(a.Field(f), i, y.Field(f), j); c != 0 {
				return c
			}
		}
		return 0
	}
	panic("batch: no order for " + a.DataType().String())
}

// CompareFloat orders floats as PostgreSQL does: NaN equals NaN and is above
// every other number.
func CompareFloat(x, y float64) int {
	switch nx, ny := math.IsNaN(x), math.IsNaN(y); {
	case nx && ny:
		return 0
	case nx:
		return 1
	case ny:
		return -1
	}
	return cmp.Compare(x, y)
}

// compareLists orders lists by their first difference, then by length.
func compareLists(a *array.List, i int, b *array.List, j int) int {
	s1, e1 := a.ValueOffsets(i)
	s2, e2 := b.ValueOffsets(j)
	for s1 < e1 && s2 < e2 {
		if c := compareNullable(a.ListValues(), int(s1), b.ListValues(), int(s2)); c != 0 {
			return c
		}
		s1, s2 = s1+1, s2+1
	}
	return cmp.Compare(e1-s1, e2-s2)
}

// compareNullable orders values of which some may be null: nulls are equal and
// above all others.
func compareNullable(a arrow.Array, i int, b arrow.Array, j int) int {
	switch x, y := a.IsNull(i), b.IsNull(j); {
	case x && y:
		return 0
	case x:
		return 1
	case y:
		return -1
	}
	return Compare(a, i, b, j)
}

// IntervalMicros gives an interval's length for comparisons, with PostgreSQL's
// months of 30 days.
func IntervalMicros(v arrow.MonthDayNanoInterval) int64 {
	return (int64(v.Months)*30+int64(v.Days))*86_400_000_000 + v.Nanoseconds/1000
}

// Orderable tells whether Compare and AppendKey take values of t.
func Orderable(t schema.Type) bool {
	switch t.Kind {
	case schema.JSON:
		return false
	case schema.List:
		return Orderable(t.Elem())
	case schema.Record:
		for _, f := range t.Fields() {
			if !Orderable(f.Type) {
				return false
			}
		}
	}
	return true
}

// Hashes gives a hash of each row's values in some columns; equal values of one
// type have equal hashes.
func Hashes(cols []arrow.Array, n int) []uint64 {
	out := make([]uint64, n)
	var key []byte
	for i := range out {
		key = key[:0]
		for _, c := range cols {
			key = AppendKey(key, c, i)
		}
		out[i] = xxh3.Hash(key)
	}
	return out
}
