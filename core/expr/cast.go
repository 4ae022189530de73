package expr

import (
	"math"
	"math/big"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/decimal128"

	"welkin/core/batch"
	"welkin/core/schema"
)

const dayMicros = int64(86_400_000_000)

// castNode gives n as type t; the binder has checked that the cast exists.
func castNode(n node, t schema.Type) node {
	if n.typ() == t {
		return n
	}
	from := n.typ()
	return &callNode{t, []node{n}, func(f *frame, args []arrow.Array) arrow.Array { return castArray(f, args[0], from, t) }}
}

// castable tells whether an explicit cast exists.
func castable(from, to schema.Type) bool {
	switch {
	case from == to || from.Kind == schema.Unknown || to.Kind == schema.Text:
		return true
	case from.Kind == schema.Text:
		return to.Kind != schema.Interval
	case from.Numeric() && to.Numeric(), from.Temporal() && to.Temporal():
		return true
	case from.Kind == schema.Bool && to.Kind == schema.Int, from.Kind == schema.Int && to.Kind == schema.Bool:
		return true
	case (from.Kind == schema.Timestamp || from.Kind == schema.TimestampTZ) && to.Kind == schema.Time:
		return true
	}
	return false
}

func castArray(f *frame, a arrow.Array, from, to schema.Type) arrow.Array {
	switch {
	case from.Kind == schema.Unknown && to.Kind == schema.Text:
		return a
	case to.Kind == schema.Text:
		out := batch.NewBuilder(to).(*array.StringBuilder)
		for i := range f.n {
			if a.IsNull(i) {
				out.AppendNull()
			} else {
				out.Append(batch.Text(a, from, i))
			}
		}
		return out.NewArray()
	case from.Kind == schema.Text || from.Kind == schema.Unknown:
		out, in := batch.NewBuilder(to), a.(*array.String)
		out.Reserve(f.n)
		for i := range f.n {
			if in.IsNull(i) {
				out.AppendNull()
			} else if fault := batch.AppendText(out, to, in.Value(i)); fault != nil {
				f.fail(i, fault)
				out.AppendNull()
			}
		}
		return out.NewArray()
	}
	switch from.Kind {
	case schema.Bool:
		return map1(f, a, to, func(v bool) (int64, *batch.Fault) {
			if v {
				return 1, nil
			}
			return 0, nil
		})
	case schema.Int:
		switch to.Kind {
		case schema.Bool:
			return map1(f, a, to, func(v int64) (bool, *batch.Fault) { return v != 0, nil })
		case schema.Float:
			return map1(f, a, to, func(v int64) (float64, *batch.Fault) { return float64(v), nil })
		case schema.Decimal:
			return map1(f, a, to, func(v int64) (decimal128.Num, *batch.Fault) {
				return batch.FitDecimal(big.NewInt(v), 0, to)
			})
		}
	case schema.Decimal:
		switch to.Kind {
		case schema.Int:
			return map1(f, a, to, func(v decimal128.Num) (int64, *batch.Fault) {
				n := batch.DivideRounded(v.BigInt(), batch.PowerOfTen(from.Scale))
				if !n.IsInt64() {
					return 0, batch.Faultf("number too large", "%s is larger than a whole number can be", n)
				}
				return n.Int64(), nil
			})
		case schema.Float:
			return map1(f, a, to, func(v decimal128.Num) (float64, *batch.Fault) { return decimalFloat(v, from.Scale), nil })
		case schema.Decimal:
			return map1(f, a, to, func(v decimal128.Num) (decimal128.Num, *batch.Fault) {
				return batch.FitDecimal(v.BigInt(), from.Scale, to)
			})
		}
	case schema.Float:
		switch to.Kind {
		case schema.Int:
			return map1(f, a, to, func(v float64) (int64, *batch.Fault) {
				r := math.RoundToEven(v)
				if !(r >= -9223372036854775808 && r < 9223372036854775808) {
					return 0, batch.Faultf("number too large", "%s can't be a whole number", batch.FormatFloat(v))
				}
				return int64(r), nil
			})
		case schema.Decimal:
			return map1(f, a, to, func(v float64) (decimal128.Num, *batch.Fault) {
				return batch.ParseDecimal(batch.FormatFloat(v), to)
			})
		}
	case schema.Date:
		return map1(f, a, to, func(v arrow.Date32) (arrow.Timestamp, *batch.Fault) {
			return arrow.Timestamp(int64(v) * dayMicros), nil
		})
	case schema.Timestamp, schema.TimestampTZ:
		switch to.Kind {
		case schema.Date:
			return map1(f, a, to, func(v arrow.Timestamp) (arrow.Date32, *batch.Fault) {
				return arrow.Date32(floorDiv(int64(v), dayMicros)), nil
			})
		case schema.Time:
			return map1(f, a, to, func(v arrow.Timestamp) (arrow.Time64, *batch.Fault) {
				return arrow.Time64(int64(v) - floorDiv(int64(v), dayMicros)*dayMicros), nil
			})
		default:
			return map1(f, a, to, func(v arrow.Timestamp) (arrow.Timestamp, *batch.Fault) { return v, nil })
		}
	}
	panic("expr: unbound cast from " + from.String() + " to " + to.String())
}

// decimalFloat gives the float nearest to a decimal.
func decimalFloat(v decimal128.Num, scale int) float64 {
	r, _ := new(big.Rat).SetFrac(v.BigInt(), batch.PowerOfTen(scale)).Float64()
	return r
}

func floorDiv(a, b int64) int64 {
	q := a / b
	if a%b < 0 {
		q--
	}
	return q
}

// Cast gives column a, of type from, as type to, by the rules of SQL's CAST.
// ok is false when there is no such cast.
func Cast(b *batch.Batch, column int, to schema.Type) (out arrow.Array, problems []Problem, ok bool) {
	from := b.Schema.Columns[column].Type
	if !castable(from, to) {
		return nil, nil, false
	}
	p := Program{root: castNode(&columnNode{column, from}, to)}
	out, problems = p.Eval(&Env{}, b)
	return out, problems, true
}

// Castable tells whether SQL has a cast between two types.
func Castable(from, to schema.Type) bool { return castable(from, to) }
