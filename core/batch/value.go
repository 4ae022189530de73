package batch

import (
	"encoding/hex"
	"fmt"
	"math"
	"math/big"
	"math/bits"
	"strconv"
	"strings"
	"time"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/decimal128"

	"welkin/core/schema"
)

// Fault is why a value can't be used: a reason code that groups like cases and
// a sentence for people.
type Fault struct {
	Code     string
	Sentence string
	Part     int // which part of the step's settings refused it, such as a rule, from 1; 0 when it has no parts
}

func (f *Fault) Error() string { return f.Sentence }

// Faultf makes a fault.
func Faultf(code, format string, args ...any) *Fault {
	return &Fault{Code: code, Sentence: fmt.Sprintf(format, args...)}
}

// Text writes the value at row i as PostgreSQL's text form writes it. A null
// gives "".
func Text(a arrow.Array, t schema.Type, i int) string {
	if a.IsNull(i) {
		return ""
	}
	switch a := a.(type) {
	case *array.Boolean:
		return strconv.FormatBool(a.Value(i))
	case *array.Int64:
		return strconv.FormatInt(a.Value(i), 10)
	case *array.Float64:
		return FormatFloat(a.Value(i))
	case *array.Decimal128:
		return FormatDecimal(a.Value(i), t.Scale)
	case *array.String:
		return a.Value(i)
	case *array.Binary:
		return `\x` + hex.EncodeToString(a.Value(i))
	case *array.FixedSizeBinary:
		v := hex.EncodeToString(a.Value(i))
		return v[:8] + "-" + v[8:12] + "-" + v[12:16] + "-" + v[16:20] + "-" + v[20:]
	case *array.Date32:
		return Day(a.Value(i)).Format("2006-01-02")
	case *array.Time64:
		return time.UnixMicro(int64(a.Value(i))).UTC().Format("15:04:05.999999")
	case *array.Timestamp:
		layout := "2006-01-02 15:04:05.999999"
		if t.Kind == schema.TimestampTZ {
			layout += "+00"
		}
		return time.UnixMicro(int64(a.Value(i))).UTC().Format(layout)
	case *array.MonthDayNanoInterval:
		return FormatInterval(a.Value(i))
	case *array.List, *array.Struct:
		return string(AppendJSONText(nil, a, t, i))
	}
	return a.ValueStr(i)
}

// FormatInterval writes an interval as PostgreSQL does: 1 year 2 mons 3 days
// 04:05:06.
func FormatInterval(v arrow.MonthDayNanoInterval) string {
	var parts []string
	before := false // the field before was negative: a positive one shows its sign
	unit := func(n int64, name string) {
		if n == 0 {
			return
		}
		if n != 1 {
			name += "s"
		}
		text := strconv.FormatInt(n, 10) + " " + name
		if before && n > 0 {
			text = "+" + text
		}
		before = n < 0
		parts = append(parts, text)
	}
	unit(int64(v.Months/12), "year")
	unit(int64(v.Months%12), "mon")
	unit(int64(v.Days), "day")
	if micros := v.Nanoseconds / 1000; micros != 0 || len(parts) == 0 {
		sign := ""
		if micros < 0 {
			sign, micros = "-", -micros
		} else if before {
			sign = "+"
		}
		clock := fmt.Sprintf("%s%02d:%02d:%02d", sign, micros/3_600_000_000, micros/60_000_000%60, micros/1_000_000%60)
		if rest := micros % 1_000_000; rest != 0 {
			clock += strings.TrimRight(fmt.Sprintf(".%06d", rest), "0")
		}
		parts = append(parts, clock)
	}
	return strings.Join(parts, " ")
}

// FormatFloat writes a float in the shortest form that reads back the same, as
// PostgreSQL does.
func FormatFloat(f float64) string {
	switch {
	case math.IsInf(f, 1):
		return "Infinity"
	case math.IsInf(f, -1):
		return "-Infinity"
	case math.IsNaN(f):
		return "NaN"
	}
	if e := math.Abs(f); e != 0 && (e < 1e-4 || e >= 1e15) {
		s := strconv.FormatFloat(f, 'e', -1, 64)
		return s
	}
	return strconv.FormatFloat(f, 'f', -1, 64)
}

// FormatDecimal writes a decimal with all its scale's digits.
func FormatDecimal(n decimal128.Num, scale int) string {
	text := n.BigInt().String()
	sign := ""
	if text[0] == '-' {
		sign, text = "-", text[1:]
	}
	if scale == 0 {
		return sign + text
	}
	if len(text) <= scale {
		text = strings.Repeat("0", scale-len(text)+1) + text
	}
	return sign + text[:len(text)-scale] + "." + text[len(text)-scale:]
}

// Day gives the midnight (UTC) of a date.
func Day(d arrow.Date32) time.Time { return time.Unix(int64(d)*86_400, 0).UTC() }

// ToDay gives the date of an instant.
func ToDay(t time.Time) arrow.Date32 {
	return arrow.Date32(floorDiv(time.Date(t.Year(), t.Month(), t.Day(), 0, 0, 0, 0, time.UTC).Unix(), 86_400))
}

func floorDiv(a, b int64) int64 {
	q := a / b
	if a%b < 0 {
		q--
	}
	return q
}

// ParseDecimal reads a decimal number and rounds it half away from zero to the
// scale of t.
func ParseDecimal(text string, t schema.Type) (decimal128.Num, *Fault) {
	if n, ok := quickDecimal(text, t); ok {
		return n, nil
	}
	text = strings.TrimSpace(text)
	mantissa, exponent := text, 0
	if i := strings.IndexAny(text, "eE"); i >= 0 {
		e, err := strconv.Atoi(text[i+1:])
		if err != nil || e > 80 || e < -80 {
			return decimal128.Num{}, Faultf("not a number", "%q is not a number", text)
		}
		mantissa, exponent = text[:i], e
	}
	whole, fraction, _ := strings.Cut(mantissa, ".")
	digits := strings.TrimLeft(whole, "+-") + fraction
	if digits == "" || len(whole)-len(strings.TrimLeft(whole, "+-")) > 1 || strings.Trim(digits, "0123456789") != "" {
		return decimal128.Num{}, Faultf("not a number", "%q is not a number", text)
	}
	n, _ := new(big.Int).SetString(digits, 10)
	if strings.HasPrefix(whole, "-") {
		n.Neg(n)
	}
	return FitDecimal(n, len(fraction)-exponent, t)
}

// smallPowers are the powers of ten of up to 18 digits.
var smallPowers = func() (p [19]int64) {
	p[0] = 1
	for i := 1; i < len(p); i++ {
		p[i] = p[i-1] * 10
	}
	return p
}()

var ten = big.NewInt(10)

// PowerOfTen gives 10^n. The number is shared and must not be changed.
func PowerOfTen(n int) *big.Int {
	if n < len(powers) {
		return powers[n]
	}
	return new(big.Int).Exp(ten, big.NewInt(int64(n)), nil)
}

// powers are those of ten that decimals need.
var powers = func() (p [2*schema.MaxPrecision + 1]*big.Int) {
	p[0] = big.NewInt(1)
	for i := 1; i < len(p); i++ {
		p[i] = new(big.Int).Mul(p[i-1], ten)
	}
	return p
}()

// Small gives a decimal's unscaled number where it fits 64 bits.
func Small(v decimal128.Num) (int64, bool) {
	n := int64(v.LowBits())
	return n, v.HighBits() == n>>63
}

// Rescale is FitDecimal for a number of 64 bits, without larger ones where that
// can be.
func Rescale(n int64, scale int, t schema.Type) (decimal128.Num, *Fault) {
	if up := t.Scale - scale; up >= 0 && up < len(smallPowers) && t.Precision >= 19 {
		if hi, lo := bits.Mul64(magnitude(n), uint64(smallPowers[up])); hi == 0 && lo < 1<<62 {
			return decimal128.FromI64(n * smallPowers[up]), nil
		}
	} else if up >= 0 && up < len(smallPowers) {
		if hi, lo := bits.Mul64(magnitude(n), uint64(smallPowers[up])); hi == 0 && lo < uint64(smallPowers[min(t.Precision, 18)]) {
			return decimal128.FromI64(n * smallPowers[up]), nil
		}
	}
	return FitDecimal(big.NewInt(n), scale, t)
}

func magnitude(n int64) uint64 {
	if n < 0 {
		return -uint64(n)
	}
	return uint64(n)
}

// FitDecimal brings a number of the given scale to the type t, rounding half
// away from zero; a number with too many digits is a fault.
func FitDecimal(n *big.Int, scale int, t schema.Type) (decimal128.Num, *Fault) {
	if scale < t.Scale {
		n = new(big.Int).Mul(n, PowerOfTen(t.Scale-scale))
	} else if scale > t.Scale {
		n = DivideRounded(n, PowerOfTen(scale-t.Scale))
	}
	if new(big.Int).Abs(n).Cmp(PowerOfTen(t.Precision)) >= 0 {
		return decimal128.Num{}, Faultf("number too large", "%s has more digits than %s holds", FormatBig(n, t.Scale), t)
	}
	return decimal128.FromBigInt(n), nil
}

// FormatBig writes a number of a scale.
func FormatBig(n *big.Int, scale int) string {
	text := new(big.Int).Abs(n).String()
	for len(text) <= scale {
		text = "0" + text
	}
	if scale > 0 {
		text = text[:len(text)-scale] + "." + text[len(text)-scale:]
	}
	if n.Sign() < 0 {
		return "-" + text
	}
	return text
}

// DivideRounded divides a by b, rounding half away from zero.
func DivideRounded(a, b *big.Int) *big.Int {
	q, r := new(big.Int).QuoRem(a, b, new(big.Int))
	if r.Abs(r).Lsh(r, 1).CmpAbs(b) >= 0 {
		if a.Sign()*b.Sign() < 0 {
			return q.Sub(q, big.NewInt(1))
		}
		q.Add(q, big.NewInt(1))
	}
	return q
}
