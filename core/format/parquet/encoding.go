package parquet

import (
	"math/bits"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/decimal128"

	"welkin/core/batch"
)

// maxStep is how many bits the steps from one number to the next may take on
// average to be stored instead of the numbers.
const maxStep = 32

// smallSteps tells whether the numbers of a column are better stored as the steps
// from one to the next, of as many bits as the largest of some neighbours needs
// (DELTA_BINARY_PACKED): for keys, counts, amounts and days that is smaller than
// the numbers compressed, and several times as fast both ways.
func smallSteps(col arrow.Array) bool {
	switch col := col.(type) {
	case *array.Int64:
		return small(col, func(v int64) int64 { return v })
	case *array.Timestamp:
		return small(col, func(v arrow.Timestamp) int64 { return int64(v) })
	case *array.Date32:
		return small(col, func(v arrow.Date32) int64 { return int64(v) })
	case *array.Decimal128: // stored as a whole number when short enough
		return col.DataType().(*arrow.Decimal128Type).Precision <= 18 && small(col, func(v decimal128.Num) int64 { return int64(v.LowBits()) })
	}
	return false
}

func small[T any](col arrow.Array, number func(T) int64) bool {
	values, _ := batch.Raw[T](col)
	const neighbours = 32 // that share a width
	width, steps, before := 0, 0, int64(0)
	low, high, some := int64(0), int64(0), 0
	end := func() {
		if some > 0 {
			width, steps = width+bits.Len64(uint64(high-low)), steps+1
		}
		some = 0
	}
	for i, v := range values {
		if col.IsNull(i) {
			continue
		}
		n := number(v)
		step := n - before // may wrap around, as it does when it is stored
		before = n
		if some == 0 {
			low, high = step, step
		}
		low, high = min(low, step), max(high, step)
		if some++; some == neighbours {
			end()
		}
	}
	end()
	return width <= maxStep*steps
}
