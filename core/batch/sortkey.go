package batch

import (
	"encoding/binary"
	"math"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/zeebo/xxh3"
)

// AppendSortKey appends a form of the value at row i whose bytes are ordered as
// the values are, so that keys of several columns can be put one behind the
// other and compared as bytes.
func AppendSortKey(dst []byte, a arrow.Array, i int, descending, nullsFirst bool) []byte {
	if a.IsNull(i) {
		if nullsFirst {
			return append(dst, 0)
		}
		return append(dst, 2)
	}
	dst = append(dst, 1)
	from := len(dst)
	dst = appendOrdered(dst, a, i)
	if descending {
		for k := from; k < len(dst); k++ {
			dst[k] = ^dst[k]
		}
	}
	return dst
}

func appendOrdered(dst []byte, a arrow.Array, i int) []byte {
	be := binary.BigEndian
	signed := func(v int64) []byte { return be.AppendUint64(dst, uint64(v)^1<<63) }
	switch a := a.(type) {
	case *array.Boolean:
		if a.Value(i) {
			return append(dst, 1)
		}
		return append(dst, 0)
	case *array.Int64:
		return signed(a.Value(i))
	case *array.Float64:
		v := a.Value(i)
		if v == 0 {
			v = 0 // minus zero equals zero
		}
		bits := math.Float64bits(v)
		switch {
		case math.IsNaN(v):
			bits = math.MaxUint64
		case bits>>63 == 1:
			bits = ^bits
		default:
			bits |= 1 << 63
		}
		return be.AppendUint64(dst, bits)
	case *array.Decimal128:
		v := a.Value(i)
		if a.DataType().(*arrow.Decimal128Type).Precision <= 18 {
			return signed(int64(v.LowBits()))
		}
		return be.AppendUint64(be.AppendUint64(dst, uint64(v.HighBits())^1<<63), v.LowBits())
	case *array.String:
		return appendEscaped(dst, a.Value(i))
	case *array.Binary:
		return appendEscaped(dst, string(a.Value(i)))
	case *array.FixedSizeBinary:
		return append(dst, a.Value(i)...)
	case *array.Date32:
		return signed(int64(a.Value(i)))
	case *array.Time64:
		return signed(int64(a.Value(i)))
	case *array.Timestamp:
		return signed(int64(a.Value(i)))
	case *array.MonthDayNanoInterval:
		return signed(IntervalMicros(a.Value(i)))
	case *array.List:
		start, end := a.ValueOffsets(i)
		for j := start; j < end; j++ {
			dst = AppendSortKey(append(dst, 1), a.ListValues(), int(j), false, false)
		}
		return append(dst, 0)
	case *array.Struct:
		for f := range a.NumField() {
			dst = AppendSortKey(dst, a.Field(f), i, false, false)
		}
		return dst
	}
	panic("batch: no order for " + a.DataType().String())
}

// appendEscaped ends a text with two zero bytes and writes a zero byte inside of
// it as 0 255, so that a text comes before any that it begins.
func appendEscaped(dst []byte, s string) []byte {
	for k := range len(s) {
		if s[k] == 0 {
			dst = append(dst, 0, 255)
		} else {
			dst = append(dst, s[k])
		}
	}
	return append(dst, 0, 0)
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
