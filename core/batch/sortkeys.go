package batch

import (
	"bytes"
	"encoding/binary"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/decimal128"
)

// SortColumn is a column by which rows are ordered.
type SortColumn struct {
	Values                 arrow.Array
	Descending, NullsFirst bool
}

// SortKeys are the sort keys of rows, one behind the other.
type SortKeys struct {
	bytes  []byte
	ends   []uint32
	groups []uint32 // where the part that tells groups apart ends; nil without one
}

// NewSortKeys makes the keys of n rows by some columns. The first columns, as many
// as group says, tell groups of rows apart. Keys are those of AppendSortKey, made
// column by column: first how long they are, then their bytes.
func NewSortKeys(n, group int, columns ...SortColumn) SortKeys {
	k := SortKeys{ends: make([]uint32, n)}
	writers := make([]keyWriter, len(columns))
	for c, column := range columns {
		writers[c] = newKeyWriter(column, n)
		writers[c].measure(k.ends)
	}
	size := uint32(0)
	at := make([]uint32, n) // where the next byte of each key goes
	for i, length := range k.ends {
		at[i] = size
		size += length
		k.ends[i] = size
	}
	k.bytes = make([]byte, size)
	for c, w := range writers {
		if c == group && group > 0 {
			k.groups = append([]uint32{}, at...)
		}
		w.write(k.bytes, at)
	}
	if group > 0 && group == len(columns) {
		k.groups = at
	}
	return k
}

// At gives the key of a row.
func (k SortKeys) At(row int) []byte { return k.bytes[k.begin(row):k.ends[row]] }

func (k SortKeys) begin(row int) uint32 {
	if row == 0 {
		return 0
	}
	return k.ends[row-1]
}

// Split gives the part of a row's key that tells groups apart, and the rest.
func (k SortKeys) Split(row int) (group, order []byte) {
	if k.groups == nil {
		return nil, k.At(row)
	}
	return k.bytes[k.begin(row):k.groups[row]], k.bytes[k.groups[row]:k.ends[row]]
}

// Bytes tells how much memory the keys take.
func (k SortKeys) Bytes() int64 {
	return int64(len(k.bytes)) + int64(len(k.ends)+len(k.groups))*4
}

// keyWriter writes one column's part of the keys.
type keyWriter interface {
	// measure adds how long each row's part is.
	measure(lengths []uint32)
	// write writes each row's part from at on, and moves at behind it.
	write(keys []byte, at []uint32)
}

func newKeyWriter(c SortColumn, n int) keyWriter {
	nulls := nullable{valid: Valid(n, c.Values), null: nullKey(c.NullsFirst)}
	if c.Descending {
		nulls.mask = 0xff
	}
	switch a := c.Values.(type) {
	case *array.Int64:
		return newWholeKeys[int64](a, nulls)
	case *array.Date32:
		return newWholeKeys[arrow.Date32](a, nulls)
	case *array.Time64:
		return newWholeKeys[arrow.Time64](a, nulls)
	case *array.Timestamp:
		return newWholeKeys[arrow.Timestamp](a, nulls)
	case *array.Decimal128:
		if values, ok := narrow(a, nulls.valid); ok {
			return wholeKeys[int64]{nulls, values}
		}
	case *array.Float64:
		values, _ := Raw[float64](a)
		return floatKeys{nulls, values}
	case *array.String:
		if plainTexts(a) {
			return newTextKeys(a, nulls)
		}
	case *array.Binary:
		if plainTexts(a) {
			return newTextKeys(a, nulls)
		}
	}
	return newOtherKeys(c, n)
}

// nullable is what the writers share: which rows are null, how a null is written,
// and what turns the bits of a falling order.
type nullable struct {
	valid *Validity
	null  byte
	mask  byte
}

// put writes a null if row i is one.
func (n nullable) put(keys []byte, at []uint32, i int) bool {
	if n.valid.At(i) {
		return false
	}
	keys[at[i]] = n.null
	at[i]++
	return true
}

// wholeKeys are numbers written with as few bytes as they need.
type wholeKeys[T ~int32 | ~int64] struct {
	nullable
	values []T
}

func newWholeKeys[T ~int32 | ~int64](a arrow.Array, nulls nullable) keyWriter {
	values, _ := Raw[T](a)
	return wholeKeys[T]{nulls, values}
}

func (w wholeKeys[T]) measure(lengths []uint32) {
	for i, v := range w.values {
		lengths[i]++
		if w.valid.At(i) {
			lengths[i] += uint32(wholeBytes(int64(v)))
		}
	}
}

func (w wholeKeys[T]) write(keys []byte, at []uint32) {
	for i, value := range w.values {
		if w.put(keys, at, i) {
			continue
		}
		v := int64(value)
		n := wholeBytes(v)
		to := keys[at[i] : at[i]+uint32(n)+1]
		to[0] = wholeHead(v, n) ^ w.mask
		v ^= int64(int8(w.mask)) // all bits or none
		for k := n; k > 0; k-- {
			to[k] = byte(v)
			v >>= 8
		}
		at[i] += uint32(len(to))
	}
}

// narrow gives decimals as numbers of eight bytes, if they all are.
func narrow(a *array.Decimal128, valid *Validity) ([]int64, bool) {
	values, _ := Raw[decimal128.Num](a)
	out := make([]int64, len(values))
	for i, v := range values {
		low := int64(v.LowBits())
		if v.HighBits() != low>>63 && valid.At(i) {
			return nil, false
		}
		out[i] = low
	}
	return out, true
}

type floatKeys struct {
	nullable
	values []float64
}

func (w floatKeys) measure(lengths []uint32) {
	for i := range w.values {
		lengths[i]++
		if w.valid.At(i) {
			lengths[i] += 8
		}
	}
}

func (w floatKeys) write(keys []byte, at []uint32) {
	turned := uint64(int64(int8(w.mask)))
	for i, v := range w.values {
		if w.put(keys, at, i) {
			continue
		}
		to := keys[at[i] : at[i]+9]
		to[0] = keyBegins ^ w.mask
		binary.BigEndian.PutUint64(to[1:], orderedFloat(v)^turned)
		at[i] += 9
	}
}

// textKeys are texts and bytes that hold nothing to escape.
type textKeys struct {
	nullable
	offsets []int32
	values  []byte
}

func newTextKeys(a texts, nulls nullable) keyWriter {
	offsets, values := storedTexts(a)
	return textKeys{nulls, offsets, values}
}

// plainTexts tells whether no text holds a byte that is escaped.
func plainTexts(a texts) bool {
	_, values := storedTexts(a)
	return bytes.IndexByte(values, 0) < 0 && bytes.IndexByte(values, 1) < 0
}

func (w textKeys) measure(lengths []uint32) {
	for i := range lengths[:max(len(w.offsets)-1, 0)] {
		lengths[i]++
		if w.valid.At(i) {
			lengths[i] += uint32(w.offsets[i+1]-w.offsets[i]) + 1
		}
	}
}

func (w textKeys) write(keys []byte, at []uint32) {
	for i := range at[:max(len(w.offsets)-1, 0)] {
		if w.put(keys, at, i) {
			continue
		}
		text := w.values[w.offsets[i]-w.offsets[0] : w.offsets[i+1]-w.offsets[0]]
		to := keys[at[i] : at[i]+uint32(len(text))+2]
		to[0] = keyBegins
		copy(to[1:], text)
		to[len(to)-1] = 0
		if w.mask != 0 {
			turn(to)
		}
		at[i] += uint32(len(to))
	}
}

// otherKeys are written by AppendSortKey.
type otherKeys struct {
	bytes []byte
	ends  []uint32
}

func newOtherKeys(c SortColumn, n int) keyWriter {
	w := otherKeys{ends: make([]uint32, n)}
	for i := range n {
		w.bytes = AppendSortKey(w.bytes, c.Values, i, c.Descending, c.NullsFirst)
		w.ends[i] = uint32(len(w.bytes))
	}
	return w
}

func (w otherKeys) measure(lengths []uint32) {
	from := uint32(0)
	for i, end := range w.ends {
		lengths[i] += end - from
		from = end
	}
}

func (w otherKeys) write(keys []byte, at []uint32) {
	from := uint32(0)
	for i, end := range w.ends {
		at[i] += uint32(copy(keys[at[i]:], w.bytes[from:end]))
		from = end
	}
}
