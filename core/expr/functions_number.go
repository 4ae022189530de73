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
		return 0
	})},
	{Name: "round", Group: "number", Args: kinds(kFloat), Gives: kFloat, Help: "to the nearest whole number", Example: "round(2.6) → 3", call: fn1(math.RoundToEven)},
	{Name: "round", Group: "number", Args: kinds(kDec), result: wholeDecimal, Help: "to the nearest whole number, halves away from zero", Example: "round(2.5) → 3", call: roundDecimal(batch.DivideRounded)},
	{Name: "round", Group: "number", Args: kinds(kDec, kInt), result: sameType, Help: "to so many decimals, halves away from zero", Example: "round(2.345, 2) → 2.35", call: decimalPlaces(batch.DivideRounded)},
	{Name: "ceil", Group: "number", Args: kinds(kFloat), Gives: kFloat, Help: "the next whole number above", Example: "ceil(2.1) → 3", call: fn1(math.Ceil)},
	{Name: "ceil", Group: "number", Args: kinds(kDec), result: wholeDecimal, Help: "the next whole number above", Example: "ceil(2.1) → 3", call: roundDecimal(divideUp)},
	{Name: "floor", Group: "number", Args: kinds(kFloat), Gives: kFloat, Help: "the next whole number below", Example: "floor(2.9) → 2", call: fn1(math.Floor)},
	{Name: "floor", Group: "number", Args: kinds(kDec), result: wholeDecimal, Help: "the next whole number below", Example: "floor(2.9) → 2", call: roundDecimal(divideDown)},
	{Name: "trunc", Group: "number", Args: kinds(kFloat), Gives: kFloat, Help: "without the decimals", Example: "trunc(-2.9) → -2", call: fn1(math.Trunc)},
	{Name: "trunc", Group: "number", Args: kinds(kDec), result: wholeDecimal, Help: "without the decimals", Example: "trunc(-2.9) → -2", call: roundDecimal(func(a, b *big.Int) *big.Int { return new(big.Int).Quo(a, b) })},
	{Name: "mod", Group: "number", Args: kinds(kInt, kInt), Gives: kInt, Help: "what remains of a division", Example: "mod(7, 3) → 1", call: func(f *frame, args []arrow.Array, _ []schema.Type, _ schema.Type) arrow.Array {
		return intKernel("%")(f, args)
	}},
	{Name: "power", Group: "number", Args: kinds(kFloat, kFloat), Gives: kFloat, Help: "a number raised to another", Example: "power(2, 3) → 8", call: try2(power)},
	{Name: "sqrt", Group: "number", Args: kinds(kFloat), Gives: kFloat, Help: "the square root", Example: "sqrt(9) → 3", call: try1(func(v float64) (float64, *batch.Fault) {
		if v < 0 {
			return 0, batch.Faultf("bad argument", "there is no square root of %s", batch.FormatFloat(v))
		}
		return math.Sqrt(v), nil
	})},
	{Name: "exp", Group: "number", Args: kinds(kFloat), Gives: kFloat, Help: "e raised to a number", Example: "exp(0) → 1", call: try1(func(v float64) (float64, *batch.Fault) {
		e := math.Exp(v)
		if math.IsInf(e, 0) && !math.IsInf(v, 0) || e == 0 && !math.IsInf(v, 0) {
			return 0, batch.Faultf("number too large", "e to the power of %s can't be held", batch.FormatFloat(v))
		}
		return e, nil
	})},
	{Name: "ln", Group: "number", Args: kinds(kFloat), Gives: kFloat, Help: "the natural logarithm", Example: "ln(1) → 0", call: try1(logarithm(math.Log))},
	{Name: "sign", Group: "number", Args: kinds(kDec), result: sameType, Help: "-1, 0 or 1", Example: "sign(-3.5) → -1", call: func(f *frame, args []arrow.Array, types []schema.Type, t schema.Type) arrow.Array {
		return map1(f, args[0], t, func(v decimal128.Num) (decimal128.Num, *batch.Fault) {
			return batch.FitDecimal(big.NewInt(int64(v.Sign())), 0, t)
		})
	}},
	{Name: "ceiling", Group: "number", Args: kinds(kFloat), Gives: kFloat, Help: "the next whole number above", Example: "ceiling(2.1) → 3", call: fn1(math.Ceil)},
	{Name: "ceiling", Group: "number", Args: kinds(kDec), result: wholeDecimal, Help: "the next whole number above", Example: "ceiling(2.1) → 3", call: roundDecimal(divideUp)},
	{Name: "trunc", Group: "number", Args: kinds(kDec, kInt), result: sameType, Help: "to so many decimals, the others cut off", Example: "trunc(2.349, 2) → 2.34", call: decimalPlaces(func(a, b *big.Int) *big.Int { return new(big.Int).Quo(a, b) })},
	{Name: "div", Group: "number", Args: kinds(kDec, kDec), result: func([]schema.Type) schema.Type { return schema.DecimalOf(schema.MaxPrecision, 0) }, Help: "how often a number fits into another", Example: "div(9, 4) → 2", call: func(f *frame, args []arrow.Array, types []schema.Type, t schema.Type) arrow.Array {
		return map2(f, args[0], args[1], t, func(x, y decimal128.Num) (decimal128.Num, *batch.Fault) {
			if y.Sign() == 0 {
				return y, batch.Faultf("division by zero", "division by zero")
			}
			a, b := x.BigInt(), y.BigInt()
			a.Mul(a, batch.PowerOfTen(types[1].Scale))
			b.Mul(b, batch.PowerOfTen(types[0].Scale))
			return batch.FitDecimal(a.Quo(a, b), 0, t)
		})
	}},
	{Name: "mod", Group: "number", Args: kinds(kDec, kDec), result: func(args []schema.Type) schema.Type { return decimalResult("%", args[0], args[1]) }, Help: "what remains of a division", Example: "mod(7.5, 2) → 1.5", call: func(f *frame, args []arrow.Array, types []schema.Type, t schema.Type) arrow.Array {
		return decimalKernel("%", types[0], types[1], t)(f, args)
	}},
	{Name: "pow", Group: "number", Args: kinds(kFloat, kFloat), Gives: kFloat, Help: "a number raised to another", Example: "pow(2, 3) → 8", call: try2(power)},
	{Name: "cbrt", Group: "number", Args: kinds(kFloat), Gives: kFloat, Help: "the cube root", Example: "cbrt(27) → 3", call: fn1(math.Cbrt)},
	{Name: "log10", Group: "number", Args: kinds(kFloat), Gives: kFloat, Help: "the logarithm to base 10", Example: "log10(1000) → 3", call: try1(logarithm(math.Log10))},
	{Name: "log", Group: "number", Args: kinds(kFloat), Gives: kFloat, Help: "the logarithm to base 10", Example: "log(1000) → 3", call: try1(logarithm(math.Log10))},
	{Name: "log", Group: "number", Args: kinds(kDec, kDec), Gives: kFloat, Help: "the logarithm to a base", Example: "log(2.0, 8.0) → 3", call: func(f *frame, args []arrow.Array, types []schema.Type, t schema.Type) arrow.Array {
		return map2(f, args[0], args[1], t, func(base, v decimal128.Num) (float64, *batch.Fault) {
			b, fault := logarithm(math.Log)(decimalFloat(base, types[0].Scale))
			if fault != nil {
				return 0, fault
			}
			x, fault := logarithm(math.Log)(decimalFloat(v, types[1].Scale))
			if fault == nil && b == 0 {
				fault = batch.Faultf("division by zero", "there is no logarithm to base 1")
			}
			return x / b, fault
		})
	}},
	{Name: "pi", Group: "number", Gives: kFloat, Help: "the circle's number", Example: "round(pi()::decimal(20,10), 4) → 3.1416", call: func(f *frame, _ []arrow.Array, _ []schema.Type, t schema.Type) arrow.Array {
		return repeat(f, t, math.Pi)
	}},
	{Name: "factorial", Group: "number", Args: kinds(kInt), result: func([]schema.Type) schema.Type { return schema.DecimalOf(schema.MaxPrecision, 0) }, Help: "1 times 2 times … a number", Example: "factorial(5) → 120", call: func(f *frame, args []arrow.Array, _ []schema.Type, t schema.Type) arrow.Array {
		return map1(f, args[0], t, func(n int64) (decimal128.Num, *batch.Fault) {
			if n < 0 || n > 33 {
				return decimal128.Num{}, batch.Faultf("number too large", "the factorial of %d can't be held", n)
			}
			return batch.FitDecimal(new(big.Int).MulRange(1, n), 0, t)
		})
	}},
	{Name: "gcd", Group: "number", Args: kinds(kInt, kInt), Gives: kInt, Help: "the greatest common divisor", Example: "gcd(12, 18) → 6", call: try2(gcd)},
	{Name: "lcm", Group: "number", Args: kinds(kInt, kInt), Gives: kInt, Help: "the least common multiple", Example: "lcm(4, 6) → 12", call: try2(func(x, y int64) (int64, *batch.Fault) {
		if x == 0 || y == 0 {
			return 0, nil
		}
		d, fault := gcd(x, y)
		if fault != nil {
			return 0, fault
		}
		n := new(big.Int).Mul(big.NewInt(x/d), big.NewInt(y))
		if n.Abs(n); !n.IsInt64() {
			return 0, batch.Faultf("number too large", "the result is larger than a whole number can be")
		}
		return n.Int64(), nil
	})},
	{Name: "width_bucket", Group: "number", Args: kinds(kFloat, kFloat, kFloat, kInt), Gives: kInt, Help: "which of n equal parts between two bounds a number falls into; 0 below, n + 1 above", Example: "width_bucket(5.0, 0, 10, 4) → 3", call: widthBucket},
	{Name: "scale", Group: "number", Args: kinds(kDec), Gives: kInt, Help: "number of decimals", Example: "scale(2.50) → 2", call: func(f *frame, args []arrow.Array, types []schema.Type, t schema.Type) arrow.Array {
		return map1(f, args[0], t, func(decimal128.Num) (int64, *batch.Fault) { return int64(types[0].Scale), nil })
	}},
	{Name: "min_scale", Group: "number", Args: kinds(kDec), Gives: kInt, Help: "number of decimals that are needed", Example: "min_scale(2.50) → 1", call: func(f *frame, args []arrow.Array, types []schema.Type, t schema.Type) arrow.Array {
		return map1(f, args[0], t, func(v decimal128.Num) (int64, *batch.Fault) {
			n, ten, rest := v.BigInt(), big.NewInt(10), new(big.Int)
			scale := types[0].Scale
			for scale > 0 && rest.Rem(n, ten).Sign() == 0 {
				n.Quo(n, ten)
				scale--
			}
			return int64(scale), nil
		})
	}},
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

// decimalPlaces rounds to so many decimals, minus n meaning places before the
// point.
func decimalPlaces(divide func(a, b *big.Int) *big.Int) kernel {
	return func(f *frame, args []arrow.Array, types []schema.Type, t schema.Type) arrow.Array {
		scale := types[0].Scale
		return map2(f, args[0], args[1], t, func(v decimal128.Num, places int64) (decimal128.Num, *batch.Fault) {
			if places >= int64(scale) {
				return batch.FitDecimal(v.BigInt(), scale, t)
			}
			if places < -38 {
				return decimal128.Num{}, nil
			}
			return batch.FitDecimal(divide(v.BigInt(), batch.PowerOfTen(scale-int(places))), int(places), t)
		})
	}
}

func power(x, y float64) (float64, *batch.Fault) {
	v := math.Pow(x, y)
	switch {
	case x == 0 && y < 0:
		return 0, batch.Faultf("bad argument", "zero can't be raised to a negative number")
	case math.IsNaN(v) && !math.IsNaN(x) && !math.IsNaN(y):
		return 0, batch.Faultf("bad argument", "a negative number can't be raised to %s", batch.FormatFloat(y))
	case math.IsInf(v, 0) && !math.IsInf(x, 0) && !math.IsInf(y, 0), v == 0 && x != 0 && !math.IsInf(x, 0) && !math.IsInf(y, 0):
		return 0, batch.Faultf("number too large", "the result can't be held as a float")
	}
	return v, nil
}

func logarithm(fn func(float64) float64) func(float64) (float64, *batch.Fault) {
	return func(v float64) (float64, *batch.Fault) {
		if v <= 0 {
			return 0, batch.Faultf("bad argument", "there is no logarithm of %s", batch.FormatFloat(v))
		}
		return fn(v), nil
	}
}

func gcd(x, y int64) (int64, *batch.Fault) {
	a, b := magnitude(x), magnitude(y)
	for b != 0 {
		a, b = b, a%b
	}
	if a > math.MaxInt64 {
		return 0, batch.Faultf("number too large", "the result is larger than a whole number can be")
	}
	return int64(a), nil
}

func widthBucket(f *frame, args []arrow.Array, _ []schema.Type, t schema.Type) arrow.Array {
	out := batch.NewBuilder(t).(*array.Int64Builder)
	for i := range f.n {
		if anyNull(args, i) {
			out.AppendNull()
			continue
		}
		v, low, high := args[0].(*array.Float64).Value(i), args[1].(*array.Float64).Value(i), args[2].(*array.Float64).Value(i)
		n := args[3].(*array.Int64).Value(i)
		if n <= 0 || low == high || math.IsNaN(v) || math.IsNaN(low) || math.IsNaN(high) || math.IsInf(low, 0) || math.IsInf(high, 0) || n > math.MaxInt32 {
			f.fail(i, batch.Faultf("bad argument", "width_bucket needs two different bounds and a count above 0"))
			out.AppendNull()
			continue
		}
		below, above := v < low, v >= high
		if low > high {
			below, above = v > low, v <= high
		}
		switch {
		case below:
			out.Append(0)
		case above:
			out.Append(n + 1)
		default:
			out.Append(min(int64(float64(n)*(v-low)/(high-low))+1, n))
		}
	}
	return out.NewArray()
}
