package batch

import (
	"math/bits"
	"unsafe"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/bitutil"
	"github.com/apache/arrow-go/v18/arrow/decimal128"
	"github.com/apache/arrow-go/v18/arrow/memory"
)

// Kernels read columns as plain slices and make them of plain slices: a value
// costs a load and a store, not a call through an interface.

// fixed tells whether values of Go type T are stored as they are, one behind the
// other.
func fixed[T any]() bool {
	var zero T
	switch any(zero).(type) {
	case int64, float64, arrow.Date32, arrow.Time64, arrow.Timestamp, decimal128.Num, arrow.MonthDayNanoInterval:
		return true
	}
	return false
}

// Raw gives the values of a column of Go type T without a copy; what stands for a
// null is any value. ok is false for types that are not stored as such a slice:
// text, bytes, bool, lists and records.
func Raw[T any](a arrow.Array) (values []T, ok bool) {
	if !fixed[T]() {
		return nil, false
	}
	data := a.Data()
	buffer := data.Buffers()[1]
	if buffer == nil || data.Len() == 0 {
		return make([]T, data.Len()), true
	}
	return unsafe.Slice((*T)(unsafe.Pointer(unsafe.SliceData(buffer.Bytes()))), data.Offset()+data.Len())[data.Offset():], true
}

// Makes tells whether NewColumn takes values of Go type T.
func Makes[T any]() bool {
	var zero T
	_, isBool := any(zero).(bool)
	return isBool || fixed[T]()
}

// NewColumn makes a column of values that it keeps; valid may be nil.
func NewColumn[T any](t arrow.DataType, values []T, valid *Validity) arrow.Array {
	if flags, ok := any(values).([]bool); ok {
		return newFixed(t, len(values), packed(flags), valid)
	}
	return newFixed(t, len(values), asBytes(values), valid)
}

func asBytes[T any](values []T) []byte {
	var zero T
	return unsafe.Slice((*byte)(unsafe.Pointer(unsafe.SliceData(values))), len(values)*int(unsafe.Sizeof(zero)))
}

func packed(flags []bool) []byte {
	out := make([]byte, (len(flags)+7)/8)
	for i, v := range flags {
		if v {
			out[i>>3] |= 1 << (i & 7)
		}
	}
	return out
}

func newFixed(t arrow.DataType, n int, values []byte, valid *Validity) arrow.Array {
	return made(t, n, valid, memory.NewBufferBytes(values))
}

// newTexts makes a column of texts or bytes: value i is data[offsets[i]:offsets[i+1]].
func newTexts(t arrow.DataType, offsets []int32, data []byte, valid *Validity) arrow.Array {
	return made(t, len(offsets)-1, valid, memory.NewBufferBytes(asBytes(offsets)), memory.NewBufferBytes(data))
}

// MapASCII makes a column of texts of another by changing each byte; ok is false
// where a character takes several bytes.
func MapASCII(a *array.String, change func(c byte) byte) (out arrow.Array, ok bool) {
	offsets, values := storedTexts(a)
	data := make([]byte, len(values))
	for i, c := range values {
		if c >= 0x80 {
			return nil, false
		}
		data[i] = change(c)
	}
	ends := make([]int32, a.Len()+1)
	for i := range offsets {
		ends[i] = offsets[i] - offsets[0]
	}
	return newTexts(a.DataType(), ends, data, Valid(a.Len(), a)), true
}

func made(t arrow.DataType, n int, valid *Validity, buffers ...*memory.Buffer) arrow.Array {
	var bitmap *memory.Buffer
	nulls := valid.Nulls()
	if nulls > 0 {
		bitmap = memory.NewBufferBytes(valid.bits)
	}
	return array.MakeFromData(array.NewData(t, n, append([]*memory.Buffer{bitmap}, buffers...), nil, nulls, 0))
}

// Validity tells which values of a column are not null. A nil one says all.
type Validity struct {
	bits  []byte
	nulls int
}

// AllValid makes a validity of n values of which none is null.
func AllValid(n int) *Validity {
	v := &Validity{bits: make([]byte, (n+7)/8)}
	for i := range v.bits {
		v.bits[i] = 0xff
	}
	return v
}

// Valid gives where all of some columns of n values have a value; nil when they
// have one everywhere.
func Valid(n int, columns ...arrow.Array) *Validity {
	var out *Validity
	for _, c := range columns {
		if c.NullN() == 0 {
			continue
		}
		if out == nil {
			out = AllValid(n)
		}
		bitmap, offset := c.NullBitmapBytes(), c.Data().Offset()
		if len(bitmap) == 0 { // every value of a column without a type is null
			for i := range n {
				out.SetNull(i)
			}
			continue
		}
		if offset == 0 {
			for i := range out.bits {
				out.bits[i] &= bitmap[i]
			}
			continue
		}
		for i := range n {
			if !bitutil.BitIsSet(bitmap, offset+i) {
				out.bits[i>>3] &^= 1 << (i & 7)
			}
		}
	}
	if out != nil {
		set := 0
		for i := range n >> 3 {
			set += bits.OnesCount8(out.bits[i])
		}
		for i := n &^ 7; i < n; i++ {
			if out.At(i) {
				set++
			}
		}
		out.nulls = n - set
	}
	return out
}

// At tells whether value i is not null.
func (v *Validity) At(i int) bool { return v == nil || v.bits[i>>3]&(1<<(i&7)) != 0 }

// SetNull makes value i null.
func (v *Validity) SetNull(i int) {
	if v.bits[i>>3]&(1<<(i&7)) != 0 {
		v.bits[i>>3] &^= 1 << (i & 7)
		v.nulls++
	}
}

// Nulls counts the nulls.
func (v *Validity) Nulls() int {
	if v == nil {
		return 0
	}
	return v.nulls
}
