package batch

import (
	"encoding/binary"
	"math"
	"math/bits"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/decimal128"
)

// A sort key is a form of a value whose bytes are ordered as the values are, so
// that keys of several columns can be put one behind the other and compared as
// bytes. No key is the beginning of another one of its type.
//
// A null is one byte: 0 before all others, 255 behind them. Whole numbers, dates
// and decimals are as short as they can be: the first byte tells the sign and how
// many bytes follow. Texts and bytes end with a zero byte. A falling order turns
// all bits of what is not null.
const (
	nullFirst = 0
	nullLast  = 255
	keyBegins = 1    // before values whose own first byte could be one of a null
	zeroKey   = 0x80 // of zero; numbers above it begin with how many bytes follow added to it
	escape    = 1    // before the bytes 0 and 1 of a text, which are written one higher
)

// AppendSortKey appends the sort key of the value at row i.
func AppendSortKey(dst []byte, a arrow.Array, i int, descending, nullsFirst bool) []byte {
	if a.IsNull(i) {
		return append(dst, nullKey(nullsFirst))
	}
	from := len(dst)
	dst = appendOrdered(dst, a, i)
	if descending {
		turn(dst[from:])
	}
	return dst
}

func nullKey(first bool) byte {
	if first {
		return nullFirst
	}
	return nullLast
}

func turn(key []byte) {
	for k := range key {
		key[k] = ^key[k]
	}
}

func appendOrdered(dst []byte, a arrow.Array, i int) []byte {
	switch a := a.(type) {
	case *array.Boolean:
		if a.Value(i) {
			return append(dst, 2)
		}
		return append(dst, 1)
	case *array.Int64:
		return appendWhole(dst, a.Value(i))
	case *array.Float64:
		return binary.BigEndian.AppendUint64(append(dst, keyBegins), orderedFloat(a.Value(i)))
	case *array.Decimal128:
		return appendWide(dst, a.Value(i))
	case *array.String:
		return appendEscaped(dst, a.Value(i))
	case *array.Binary:
		return appendEscaped(dst, string(a.Value(i)))
	case *array.FixedSizeBinary:
		return append(append(dst, keyBegins), a.Value(i)...)
	case *array.Date32:
		return appendWhole(dst, int64(a.Value(i)))
	case *array.Time64:
		return appendWhole(dst, int64(a.Value(i)))
	case *array.Timestamp:
		return appendWhole(dst, int64(a.Value(i)))
	case *array.MonthDayNanoInterval:
		return appendWhole(dst, IntervalMicros(a.Value(i)))
	case *array.List:
		dst = append(dst, keyBegins)
		start, end := a.ValueOffsets(i)
		for j := start; j < end; j++ {
			dst = AppendSortKey(append(dst, 1), a.ListValues(), int(j), false, false)
		}
		return append(dst, 0)
	case *array.Struct:
		dst = append(dst, keyBegins)
		for f := range a.NumField() {
			dst = AppendSortKey(dst, a.Field(f), i, false, false)
		}
		return dst
	}
	panic("batch: no order for " + a.DataType().String())
}

// appendWhole writes only the bytes of a number that tell it from its sign.
func appendWhole(dst []byte, v int64) []byte {
	n := wholeBytes(v)
	dst = append(dst, wholeHead(v, n))
	for ; n > 0; n-- {
		dst = append(dst, byte(v>>(8*n-8)))
	}
	return dst
}

// wholeBytes tells how many bytes of a number are not just its sign.
func wholeBytes(v int64) int { return (bits.Len64(uint64(v^v>>63)) + 7) >> 3 }

// wholeHead is the first byte of a number of which n bytes follow.
func wholeHead(v int64, n int) byte {
	if v < 0 {
		return byte(zeroKey - 1 - n)
	}
	return byte(zeroKey + n)
}

// appendWide is appendWhole for numbers of 16 bytes.
func appendWide(dst []byte, v decimal128.Num) []byte {
	low := int64(v.LowBits())
	if v.HighBits() == low>>63 {
		return appendWhole(dst, low)
	}
	n := wholeBytes(v.HighBits())
	dst = append(dst, wholeHead(v.HighBits(), n+8))
	for ; n > 0; n-- {
		dst = append(dst, byte(v.HighBits()>>(8*n-8)))
	}
	return binary.BigEndian.AppendUint64(dst, v.LowBits())
}

// orderedFloat gives the bits of a float so that they are ordered as floats are:
// minus zero equals zero, and what is no number comes last.
func orderedFloat(v float64) uint64 {
	if v == 0 {
		v = 0
	}
	b := math.Float64bits(v)
	switch {
	case math.IsNaN(v):
		return math.MaxUint64
	case b>>63 == 1:
		return ^b
	}
	return b | 1<<63
}

func appendEscaped(dst []byte, s string) []byte {
	dst = append(dst, keyBegins)
	for k := range len(s) {
		if c := s[k]; c <= escape {
			dst = append(dst, escape, c+1)
		} else {
			dst = append(dst, c)
		}
	}
	return append(dst, 0)
}
