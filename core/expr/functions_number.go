package expr

import (
	"math"
	"math/big"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/decimal128"

	"welkin/core/batch"
	"welkin/core/schema"
)

func sameType(args []schema.Type) schema.Type { return args[0] }

var numberFunctions = []Function{
	{Name: "abs", Group: "number", Args: kinds(kInt), Gives: kInt, Help: "without its sign", Example: "abs(-3) → 3", call: try1(func(v int64) (int64, *batch.Fault) {
		if v == math.MinInt64 {
			return 0, batch.Faultf("number too large", "the result is larger than a whole number can be")
		}
		return max(v, -v), nil
	})},
	{Name: "abs", Group: "number", Args: kinds(kDec), result: sameType, Help: "without its sign", Example: "abs(-3.5) → 3.5", call: fn1(decimal128.Num.Abs)},
	{Name: "abs", Group: "number", Args: kinds(kFloat), Gives: kFloat, Help: "without its sign", Example: "abs(-3.5) → 3.5", call: fn1(math.Abs)},
	{Name: "sign", Group: "number", Args: kinds(kFloat), Gives: kFloat, Help: "-1, 0 or 1", Example: "sign(-3.5) → -1", call: fn1(func(v float64) float64 {
		switch {
		case v > 0:
			return 1
		case v < 0:
			return -1
		}
		return v
	})},
	{Name: "round", Group: "number", Args: kinds(kFloat), Gives: kFloat, Help: "to the nearest whole number", Example: "round(2.6) → 3", call: fn1(math.RoundToEven)},
	{Name: "round", Group: "number", Args: kinds(kDec), result: wholeDecimal, Help: "to the nearest whole number, halves away from zero", Example: "round(2.5) → 3", call: roundDecimal(batch.DivideRounded)},
	{Name: "round", Group: "number", Args: kinds(kDec, kInt), result: sameType, Help: "to so many decimals, halves away from zero", Example: "round(2.345, 2) → 2.35", call: roundTo},
	{Name: "ceil", Group: "number", Args: kinds(kFloat), Gives: kFloat, Help: "the next whole number above", Example: "ceil(2.1) → 3", call: fn1(math.Ceil)},
	{Name: "ceil", Group: "number", Args: kinds(kDec), result: wholeDecimal, Help: "the next whole number above", Example: "ceil(2.1) → 3", call: roundDecimal(divideUp)},
	{Name: "floor", Group: "number", Args: kinds(kFloat), Gives: kFloat, Help: "the next whole number below", Example: "floor(2.9) → 2", call: fn1(math.Floor)},
	{Name: "floor", Group: "number", Args: kinds(kDec), result: wholeDecimal, Help: "the next whole number below", Example: "floor(2.9) → 2", call: roundDecimal(divideDown)},
	{Name: "trunc", Group: "number", Args: kinds(kFloat), Gives: kFloat, Help: "without the decimals", Example: "trunc(-2.9) → -2", call: fn1(math.Trunc)},
	{Name: "trunc", Group: "number", Args: kinds(kDec), result: wholeDecimal, Help: "without the decimals", Example: "trunc(-2.9) → -2", call: roundDecimal(func(a, b *big.Int) *big.Int { return new(big.Int).Quo(a, b) })},
	{Name: "mod", Group: "number", Args: kinds(kInt, kInt), Gives: kInt, Help: "what remains of a division", Example: "mod(7, 3) → 1", call: func(f *frame, args []arrow.Array, _ []schema.Type, _ schema.Type) arrow.Array {
		return intKernel("%")(f, args)
	}},
	{Name: "power", Group: "number", Args: kinds(kFloat, kFloat), Gives: kFloat, Help: "a number raised to another", Example: "power(2, 3) → 8", call: try2(func(x, y float64) (float64, *batch.Fault) {
		v := math.Pow(x, y)
		if math.IsNaN(v) && !math.IsNaN(x) && !math.IsNaN(y) {
			return 0, batch.Faultf("bad argument", "a negative number can't be raised to %s", batch.FormatFloat(y))
		}
		if math.IsInf(v, 0) && !math.IsInf(x, 0) && !math.IsInf(y, 0) {
			return 0, batch.Faultf("number too large", "the result is larger than a float can be")
		}
		return v, nil
	})},
	{Name: "sqrt", Group: "number", Args: kinds(kFloat), Gives: kFloat, Help: "the square root", Example: "sqrt(9) → 3", call: try1(func(v float64) (float64, *batch.Fault) {
		if v < 0 {
			return 0, batch.Faultf("bad argument", "there is no square root of %s", batch.FormatFloat(v))
		}
		return math.Sqrt(v), nil
	})},
	{Name: "exp", Group: "number", Args: kinds(kFloat), Gives: kFloat, Help: "e raised to a number", Example: "exp(0) → 1", call: fn1(math.Exp)},
	{Name: "ln", Group: "number", Args: kinds(kFloat), Gives: kFloat, Help: "the natural logarithm", Example: "ln(1) → 0", call: try1(func(v float64) (float64, *batch.Fault) {
		if v <= 0 {
			return 0, batch.Faultf("bad argument", "there is no logarithm of %s", batch.FormatFloat(v))
		}
		return math.Log(v), nil
	})},
}

// wholeDecimal is a decimal without decimals, one digit wider for rounding up.
func wholeDecimal(args []schema.Type) schema.Type {
	return schema.DecimalOf(args[0].Precision-args[0].Scale+1, 0)
}

func roundDecimal(divide func(a, b *big.Int) *big.Int) kernel {
	return func(f *frame, args []arrow.Array, types []schema.Type, t schema.Type) arrow.Array {
		unit := batch.PowerOfTen(types[0].Scale)
		return map1(f, args[0], t, func(v decimal128.Num) (decimal128.Num, *batch.Fault) {
			return batch.FitDecimal(divide(v.BigInt(), unit), 0, t)
		})
	}
}

func divideDown(a, b *big.Int) *big.Int {
	q, r := new(big.Int).QuoRem(a, b, new(big.Int))
	if r.Sign() < 0 {
		q.Sub(q, big.NewInt(1))
	}
	return q
}

func divideUp(a, b *big.Int) *big.Int {
	q, r := new(big.Int).QuoRem(a, b, new(big.Int))
	if r.Sign() > 0 {
		q.Add(q, big.NewInt(1))
	}
	return q
}

func roundTo(f *frame, args []arrow.Array, types []schema.Type, t schema.Type) arrow.Array {
	scale := types[0].Scale
	return map2(f, args[0], args[1], t, func(v decimal128.Num, places int64) (decimal128.Num, *batch.Fault) {
		if places >= int64(scale) {
			return batch.FitDecimal(v.BigInt(), scale, t)
		}
		if places < -38 {
			return decimal128.Num{}, nil
		}
		rounded := batch.DivideRounded(v.BigInt(), batch.PowerOfTen(scale-int(places)))
		return batch.FitDecimal(rounded, int(places), t)
	})
}
