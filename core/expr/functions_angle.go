package expr

import (
	"fmt"
	"math"
	"math/bits"

	"welkin/core/batch"
)

// angle makes an entry of a function over floats; inside tells for which
// arguments it is there.
func angle(name, help, example string, fn func(float64) float64, inside func(float64) bool) Function {
	return Function{Name: name, Group: "angle", Args: kinds(kFloat), Gives: kFloat, Help: help, Example: example, call: try1(func(v float64) (float64, *batch.Fault) {
		if inside != nil && !inside(v) {
			return 0, batch.Faultf("bad argument", "there is no %s of %s", name, batch.FormatFloat(v))
		}
		r := fn(v)
		if math.IsInf(r, 0) && !math.IsInf(v, 0) && (name == "degrees" || name == "tan") {
			return 0, batch.Faultf("number too large", "the %s of %s can't be held", name, batch.FormatFloat(v))
		}
		return r, nil
	})}
}

func finite(v float64) bool   { return !math.IsInf(v, 0) }
func unit(v float64) bool     { return !(v < -1 || v > 1) }
func aboveOne(v float64) bool { return !(v < 1) }

const degree = math.Pi / 180

// exactDegrees are the sines of whole tens and quarters of a circle, which
// floats would miss by a hair.
func sinDegrees(v float64) float64 {
	v = math.Mod(v, 360)
	sign := 1.0
	if v < 0 {
		v, sign = -v, -1
	}
	if v > 180 {
		v, sign = 360-v, -sign
	}
	if v > 90 {
		v = 180 - v
	}
	switch v {
	case 0:
		return sign * 0
	case 30:
		return sign * 0.5
	case 90:
		return sign
	}
	return sign * math.Sin(v*degree)
}

func cosDegrees(v float64) float64 {
	v = math.Mod(math.Abs(v), 360)
	if v > 180 {
		v = 360 - v
	}
	switch v {
	case 60:
		return 0.5
	case 90:
		return 0
	case 120:
		return -0.5
	}
	return math.Cos(v * degree)
}

func tanDegrees(v float64) float64 {
	if s, c := sinDegrees(v), cosDegrees(v); math.Mod(v, 45) == 0 && math.Mod(v, 90) != 0 {
		return math.Copysign(1, s*c)
	} else {
		return s / c
	}
}

var angleFunctions = []Function{
	angle("degrees", "an angle in degrees", "degrees(0) → 0", func(v float64) float64 { return v / degree }, nil),
	angle("radians", "an angle in radians", "radians(0) → 0", func(v float64) float64 { return v * degree }, nil),
	angle("sin", "sine of an angle in radians", "sin(0) → 0", math.Sin, finite),
	angle("cos", "cosine of an angle in radians", "cos(0) → 1", math.Cos, finite),
	angle("tan", "tangent of an angle in radians", "tan(0) → 0", math.Tan, finite),
	angle("cot", "cotangent of an angle in radians", "round(cot(1)::decimal(9,4), 2) → 0.64", func(v float64) float64 { return 1 / math.Tan(v) }, finite),
	angle("asin", "angle in radians of a sine", "asin(0) → 0", math.Asin, unit),
	angle("acos", "angle in radians of a cosine", "acos(1) → 0", math.Acos, unit),
	angle("atan", "angle in radians of a tangent", "atan(0) → 0", math.Atan, nil),
	angle("sind", "sine of an angle in degrees", "sind(30) → 0.5", sinDegrees, finite),
	angle("cosd", "cosine of an angle in degrees", "cosd(60) → 0.5", cosDegrees, finite),
	angle("tand", "tangent of an angle in degrees", "tand(45) → 1", tanDegrees, finite),
	angle("asind", "angle in degrees of a sine", "asind(1) → 90", func(v float64) float64 { return math.Asin(v) / degree }, unit),
	angle("acosd", "angle in degrees of a cosine", "acosd(0) → 90", func(v float64) float64 { return math.Acos(v) / degree }, unit),
	angle("atand", "angle in degrees of a tangent", "atand(1) → 45", func(v float64) float64 { return math.Atan(v) / degree }, nil),
	angle("sinh", "hyperbolic sine", "sinh(0) → 0", math.Sinh, nil),
	angle("cosh", "hyperbolic cosine", "cosh(0) → 1", math.Cosh, nil),
	angle("tanh", "hyperbolic tangent", "tanh(0) → 0", math.Tanh, nil),
	angle("asinh", "number of a hyperbolic sine", "asinh(0) → 0", math.Asinh, nil),
	angle("acosh", "number of a hyperbolic cosine", "acosh(1) → 0", math.Acosh, aboveOne),
	angle("atanh", "number of a hyperbolic tangent", "atanh(0) → 0", math.Atanh, unit),
	{Name: "atan2", Group: "angle", Args: kinds(kFloat, kFloat), Gives: kFloat, Help: "angle in radians of a point, y first", Example: "atan2(0, 1) → 0", call: fn2(math.Atan2)},
	{Name: "atan2d", Group: "angle", Args: kinds(kFloat, kFloat), Gives: kFloat, Help: "angle in degrees of a point, y first", Example: "atan2d(1, 1) → 45", call: fn2(func(y, x float64) float64 { return math.Atan2(y, x) / degree })},
}

// bitFunctions are what the operators & | # ~ << >> are called.
var bitFunctions = []Function{
	{Name: "bit_and", Group: "bits", Args: kinds(kInt, kInt), Gives: kInt, Help: "bits set in both; written &", Example: "12 & 10 → 8", call: fn2(func(x, y int64) int64 { return x & y })},
	{Name: "bit_or", Group: "bits", Args: kinds(kInt, kInt), Gives: kInt, Help: "bits set in one or both; written |", Example: "12 | 10 → 14", call: fn2(func(x, y int64) int64 { return x | y })},
	{Name: "bit_xor", Group: "bits", Args: kinds(kInt, kInt), Gives: kInt, Help: "bits set in one alone; written #", Example: "12 # 10 → 6", call: fn2(func(x, y int64) int64 { return x ^ y })},
	{Name: "bit_not", Group: "bits", Args: kinds(kInt), Gives: kInt, Help: "all bits turned over; written ~", Example: "~ 0 → -1", call: fn1(func(x int64) int64 { return ^x })},
	{Name: "bit_left", Group: "bits", Args: kinds(kInt, kInt), Gives: kInt, Help: "bits moved up; written <<", Example: "1 << 4 → 16", call: fn2(func(x, n int64) int64 { return x << uint64(n&63) })},
	{Name: "bit_right", Group: "bits", Args: kinds(kInt, kInt), Gives: kInt, Help: "bits moved down; written >>", Example: "16 >> 4 → 1", call: fn2(func(x, n int64) int64 { return x >> uint64(n&63) })},
	{Name: "bit_ones", Group: "bits", Args: kinds(kInt), Gives: kInt, Help: "number of bits that are set (Welkin's own)", Example: "bit_ones(7) → 3", call: fn1(func(x int64) int64 { return int64(bits.OnesCount64(uint64(x))) })},
	{Name: "to_binary", Group: "bits", Args: kinds(kInt), Gives: kText, Help: "a whole number in zeros and ones (Welkin's own)", Example: "to_binary(5) → 101", call: fn1(func(x int64) string { return fmt.Sprintf("%b", uint64(x)) })},
}
