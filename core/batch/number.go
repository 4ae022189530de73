package batch

import (
	"encoding/binary"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/decimal128"
	"github.com/zeebo/xxh3"
)

// Number numbers the rows of columns by their values: rows with equal values, as
// AppendKey has it, have the same number. Numbers count up from 0 in the order in
// which values come first; firsts holds the first row of each.
//
// It goes column by column: the number so far and the next value make the next
// number, in a table of rows that stand for their numbers.
func Number(columns []arrow.Array, n int) (ids, firsts []int32) {
	ids = make([]int32, n)
	if n == 0 {
		return ids, nil
	}
	firsts = []int32{0}
	for _, c := range columns {
		t := &numbering{ids: ids, next: make([]int32, n), slots: make([]int32, 64), firsts: firsts[:0:0]}
		switch c := c.(type) {
		case *array.Int64:
			numberFixed(t, c, func(v int64) uint64 { return uint64(v) })
		case *array.Date32:
			numberFixed(t, c, func(v arrow.Date32) uint64 { return uint64(v) })
		case *array.Timestamp:
			numberFixed(t, c, func(v arrow.Timestamp) uint64 { return uint64(v) })
		case *array.Decimal128:
			numberFixed(t, c, func(v decimal128.Num) uint64 { return v.LowBits() ^ uint64(v.HighBits())*0x9e3779b97f4a7c15 })
		case *array.String:
			if packed, ok := packTexts(c); ok {
				numberBy(t, c, func(i int32) uint64 { return packed[i].hash() }, func(i, j int32) bool { return packed[i] == packed[j] })
				break
			}
			numberBy(t, c, func(i int32) uint64 { return xxh3.HashString(c.Value(int(i))) },
				func(i, j int32) bool { return c.Value(int(i)) == c.Value(int(j)) })
		default:
			keys := make([]string, n)
			var key []byte
			for i := range keys {
				key = AppendKey(key[:0], c, i)
				keys[i] = string(key)
			}
			t.run(nil, func(i int32) uint64 { return xxh3.HashString(keys[i]) }, func(i, j int32) bool { return keys[i] == keys[j] })
		}
		ids, firsts = t.next, t.firsts
	}
	return ids, firsts
}

// numbering is one column's step of Number.
type numbering struct {
	ids, next []int32 // numbers before and after
	slots     []int32 // by hash: number and one; 0 for none
	firsts    []int32 // by number after: its first row
}

func numberFixed[T comparable](t *numbering, c arrow.Array, hash func(T) uint64) {
	values, _ := Raw[T](c)
	numberBy(t, c, func(i int32) uint64 { return hash(values[i]) }, func(i, j int32) bool { return values[i] == values[j] })
}

// packedText is a text of up to fifteen bytes and, in the last byte, its length: it
// is compared without a look at the column's bytes.
type packedText struct{ low, high uint64 }

func (p packedText) hash() uint64 { return p.low ^ p.high*0x9e3779b97f4a7c15 }

// packTexts packs a column's texts, if all are short enough.
func packTexts(c *array.String) ([]packedText, bool) {
	offsets, values := storedTexts(c)
	for i := range c.Len() {
		if offsets[i+1]-offsets[i] > 15 {
			return nil, false
		}
	}
	out := make([]packedText, c.Len())
	for i := range out {
		from, length := int(offsets[i]-offsets[0]), int(offsets[i+1]-offsets[i])
		if from+16 <= len(values) { // what follows the text is cut off
			p := packedText{binary.LittleEndian.Uint64(values[from:]), binary.LittleEndian.Uint64(values[from+8:])}
			if length < 8 {
				p = packedText{low: p.low & (1<<(8*length) - 1)}
			} else {
				p.high &= 1<<(8*length-64) - 1
			}
			out[i] = packedText{p.low, p.high | uint64(length)<<56}
			continue
		}
		var text [16]byte
		copy(text[:], values[from:from+length])
		text[15] = byte(length)
		out[i] = packedText{binary.LittleEndian.Uint64(text[:]), binary.LittleEndian.Uint64(text[8:])}
	}
	return out, true
}

func numberBy(t *numbering, c arrow.Array, hash func(i int32) uint64, equal func(i, j int32) bool) {
	t.run(Valid(len(t.ids), c), hash, equal)
}

// run numbers all rows; what valid does not name are nulls, equal to each other.
func (t *numbering) run(valid *Validity, hash func(i int32) uint64, equal func(i, j int32) bool) {
	mask := uint64(len(t.slots) - 1)
	hashes := make([]uint64, 0, 64) // by number after
	for i := range int32(len(t.ids)) {
		h := uint64(t.ids[i]) * 0x9e3779b97f4a7c15
		there := valid.At(int(i))
		if there {
			h ^= hash(i)
		}
		h *= 0xff51afd7ed558ccd
		h ^= h >> 32
		for at := h & mask; ; at = (at + 1) & mask {
			number := t.slots[at] - 1
			if number < 0 {
				number = int32(len(t.firsts))
				t.slots[at] = number + 1
				t.firsts, hashes = append(t.firsts, i), append(hashes, h)
				t.next[i] = number
				if 2*len(t.firsts) > len(t.slots) {
					t.slots = make([]int32, 2*len(t.slots))
					mask = uint64(len(t.slots) - 1)
					for k, h := range hashes {
						place := h & mask
						for t.slots[place] != 0 {
							place = (place + 1) & mask
						}
						t.slots[place] = int32(k) + 1
					}
				}
				break
			}
			first := t.firsts[number]
			if hashes[number] == h && t.ids[first] == t.ids[i] && valid.At(int(first)) == there && (!there || equal(i, first)) {
				t.next[i] = number
				break
			}
		}
	}
}
