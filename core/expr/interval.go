package expr

import (
	"math"
	"strconv"
	"strings"
	"time"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	pg "github.com/pganalyze/pg_query_go/v6"

	"welkin/core/batch"
	"welkin/core/schema"
)

var intervalType = schema.Of(schema.Interval)

type interval = arrow.MonthDayNanoInterval

// bindInterval is INTERVAL '1 month 2 days', INTERVAL '3' DAY, or a cast to
// interval.
func (b *binder) bindInterval(arg node, t *pg.TypeName, at int32) (node, error) {
	unit := ""
	if len(t.Typmods) > 0 {
		switch t.Typmods[0].GetAConst().GetIval().GetIval() { // bits of the fields, see PostgreSQL's datetime.h
		case 1 << 2:
			unit = "year"
		case 1 << 1:
			unit = "month"
		case 1 << 3:
			unit = "day"
		case 1 << 10:
			unit = "hour"
		case 1 << 11:
			unit = "minute"
		case 1 << 12:
			unit = "second"
		case 0x7fff:
		default:
			return nil, b.errf(at, "this form of interval is not known; write INTERVAL '1 day 2 hours'")
		}
	}
	if c, ok := arg.(*constNode); ok && c.t.Kind == schema.Unknown && c.value.IsValid(0) {
		v, fault := parseInterval(c.value.(*array.String).Value(0), unit)
		if fault != nil {
			return nil, b.errf(at, "%s", fault.Sentence)
		}
		return intervalConst(v), nil
	}
	if !castable(arg.typ(), intervalType) {
		return nil, b.errf(at, "%s can't be cast to interval", arg.typ())
	}
	return castNode(arg, intervalType), nil
}

func intervalConst(v interval) node {
	out := batch.NewBuilder(intervalType).(*array.MonthDayNanoIntervalBuilder)
	out.Append(v)
	return &constNode{t: intervalType, value: out.NewArray()}
}

var intervalUnits = map[string]string{"microsecond": "us", "us": "us", "usec": "us", "millisecond": "ms", "ms": "ms", "msec": "ms", "second": "s", "sec": "s", "s": "s",
	"minute": "m", "min": "m", "m": "m", "hour": "h", "hr": "h", "h": "h", "day": "d", "d": "d", "week": "w", "w": "w", "month": "mon", "mon": "mon",
	"year": "y", "yr": "y", "y": "y", "decade": "dec", "century": "c", "centurie": "c", "millennium": "mil"}

// addUnit adds n of a unit; what is behind the point goes down to smaller units,
// with months of 30 days.
func addUnit(v *interval, n float64, unit string) bool {
	whole, rest := math.Modf(n)
	micros := func(f float64) { v.Nanoseconds += int64(math.RoundToEven(f)) * 1000 }
	switch unit {
	case "us":
		micros(n)
	case "ms":
		micros(n * 1e3)
	case "s":
		micros(n * 1e6)
	case "m":
		micros(n * 60e6)
	case "h":
		micros(n * 3600e6)
	case "d":
		v.Days += int32(whole)
		micros(rest * 86400e6)
	case "w":
		return addUnit(v, n*7, "d")
	case "mon":
		v.Months += int32(whole)
		return rest == 0 || addUnit(v, rest*30, "d")
	case "y", "dec", "c", "mil":
		n *= map[string]float64{"y": 1, "dec": 10, "c": 100, "mil": 1000}[unit]
		v.Months += int32(math.RoundToEven(n * 12))
	default:
		return false
	}
	return math.Abs(n) < 1e9 || unit == "us" || unit == "ms"
}

// parseInterval reads PostgreSQL's forms: 1 year 2 mons, 3 days 04:05:06,
// 1.5 hours ago, 1-2, P1Y2M3DT4H. A bare number is of the unit given, seconds
// when none is.
func parseInterval(text, unit string) (v interval, fault *batch.Fault) {
	bad := batch.Faultf("not an interval", "%q is not an interval; write one as '3 days' or '1 month 2 hours'", cutText(text))
	trimmed := strings.ToLower(strings.TrimSpace(text))
	if strings.HasPrefix(trimmed, "p") {
		return isoInterval(trimmed[1:], bad)
	}
	words := intervalWords(trimmed)
	if len(words) == 0 {
		return v, bad
	}
	ago := false
	for i := 0; i < len(words); i++ {
		w := words[i]
		switch {
		case w == "ago" && i == len(words)-1 && i > 0:
			ago = true
		case strings.Contains(w, ":"):
			micros, ok := parseClock(w)
			if !ok {
				return v, bad
			}
			v.Nanoseconds += micros * 1000
		case strings.Contains(strings.TrimLeft(w, "+-"), "-"):
			y, m, _ := strings.Cut(strings.TrimLeft(w, "+-"), "-")
			years, err1 := strconv.ParseInt(y, 10, 16)
			months, err2 := strconv.ParseInt(m, 10, 16)
			if err1 != nil || err2 != nil || months > 11 {
				return v, bad
			}
			n := int32(years*12 + months)
			if w[0] == '-' {
				n = -n
			}
			v.Months += n
		default:
			n, err := strconv.ParseFloat(w, 64)
			if err != nil || strings.ContainsAny(w, "ein") {
				return v, bad
			}
			name := "s"
			switch {
			case i+1 < len(words) && words[i+1] != "ago" && !strings.ContainsAny(words[i+1], "0123456789"):
				i++
				known, ok := intervalUnits[strings.TrimSuffix(words[i], "s")]
				if name = known; !ok {
					if name, ok = intervalUnits[words[i]]; !ok {
						return v, bad
					}
				}
			case i+1 < len(words) && strings.Contains(words[i+1], ":"):
				name = "d"
			case unit != "":
				name = intervalUnits[unit]
			}
			if !addUnit(&v, n, name) {
				return v, bad
			}
		}
	}
	if ago {
		v = interval{Months: -v.Months, Days: -v.Days, Nanoseconds: -v.Nanoseconds}
	}
	return v, nil
}

// intervalWords cuts "1day 2h" into numbers and units.
func intervalWords(text string) []string {
	var words []string
	for _, w := range strings.Fields(strings.TrimPrefix(text, "@")) {
		cut := strings.IndexFunc(w, func(r rune) bool { return r >= 'a' && r <= 'z' })
		if cut > 0 {
			words = append(words, w[:cut], w[cut:])
		} else {
			words = append(words, w)
		}
	}
	return words
}

// parseClock reads ±hh:mm[:ss[.ffffff]] into microseconds.
func parseClock(w string) (int64, bool) {
	sign := int64(1)
	if w[0] == '-' {
		sign = -1
	}
	parts := strings.Split(strings.TrimLeft(w, "+-"), ":")
	if len(parts) > 3 {
		return 0, false
	}
	total := int64(0)
	for i, p := range parts {
		if i == 2 {
			s, err := strconv.ParseFloat(p, 64)
			if err != nil || s < 0 || s >= 61 {
				return 0, false
			}
			return sign * (total*60_000_000 + int64(math.RoundToEven(s*1e6))), true
		}
		n, err := strconv.ParseUint(p, 10, 31)
		if err != nil || i > 0 && n > 59 {
			return 0, false
		}
		total = total*60 + int64(n)
	}
	return sign * total * 60_000_000, len(parts) > 1
}

// isoInterval reads what stands behind the P of an ISO 8601 duration.
func isoInterval(text string, bad *batch.Fault) (v interval, fault *batch.Fault) {
	inTime, start := false, 0
	for i, r := range text {
		if r == 't' && !inTime {
			inTime, start = true, i+1
			continue
		}
		if r >= '0' && r <= '9' || r == '.' || r == '-' || r == '+' {
			continue
		}
		n, err := strconv.ParseFloat(text[start:i], 64)
		unit := map[rune]string{'y': "y", 'm': "mon", 'w': "w", 'd': "d"}[r]
		if inTime {
			unit = map[rune]string{'h': "h", 'm': "m", 's': "s"}[r]
		}
		if err != nil || unit == "" || !addUnit(&v, n, unit) {
			return v, bad
		}
		start = i + 1
	}
	if text == "" || start != len(text) {
		return v, bad
	}
	return v, nil
}

// shiftTime adds an interval to an instant: months first (held to the month's last
// day), then days, then time, as PostgreSQL does.
func shiftTime(ts arrow.Timestamp, v interval, sign int64) arrow.Timestamp {
	t := time.UnixMicro(int64(ts)).UTC()
	if v.Months != 0 {
		y, m, d := t.Date()
		first := time.Date(y, m+time.Month(int64(v.Months)*sign), 1, t.Hour(), t.Minute(), t.Second(), t.Nanosecond(), time.UTC)
		last := first.AddDate(0, 1, -1).Day()
		t = first.AddDate(0, 0, min(d, last)-1)
	}
	t = t.AddDate(0, 0, int(int64(v.Days)*sign))
	return arrow.Timestamp(t.UnixMicro() + v.Nanoseconds/1000*sign)
}

// dateArithmetic is + and - with a date, timestamp or interval on a side.
func (b *binder) dateArithmetic(op string, left, right node, at int32) (node, error) {
	unfit := func() error {
		return b.errf(at, "%s %s %s has no meaning; add days to a date as whole numbers, or an INTERVAL", left.typ(), op, right.typ())
	}
	if left.typ().Kind == schema.Unknown || right.typ().Kind == schema.Unknown {
		pair := []node{left, right}
		if _, err := b.unify(pair, at, op); err != nil {
			return nil, err
		}
		left, right = pair[0], pair[1]
	}
	if left.typ().Kind == schema.Interval && (op == "*" || op == "/" || right.typ().Kind == schema.Interval) || op == "*" && right.typ().Kind == schema.Interval {
		return b.intervalArithmetic(op, left, right, unfit)
	}
	if op == "+" && !left.typ().Temporal() && left.typ().Kind != schema.Time || right.typ().Kind == schema.Date && left.typ().Kind == schema.Time {
		left, right = right, left
	}
	if op != "+" && op != "-" {
		return nil, unfit()
	}
	if left.typ().Kind == schema.Time {
		return b.clockArithmetic(op, left, right, unfit)
	}
	if !left.typ().Temporal() {
		return nil, unfit()
	}
	sign := int64(1)
	if op == "-" {
		sign = -1
	}
	l, r := left.typ(), right.typ()
	dates := schema.Of(schema.Date)
	switch {
	case l.Kind == schema.Date && r.Kind == schema.Time && op == "+":
		stamp := schema.Of(schema.Timestamp)
		return &callNode{stamp, []node{left, right}, func(f *frame, a []arrow.Array) arrow.Array {
			return map2(f, a[0], a[1], stamp, func(d arrow.Date32, t arrow.Time64) (arrow.Timestamp, *batch.Fault) {
				return arrow.Timestamp(int64(d)*dayMicros + int64(t)), nil
			})
		}}, nil
	case l.Kind == schema.Date && r.Kind == schema.Int:
		return &callNode{dates, []node{left, right}, func(f *frame, a []arrow.Array) arrow.Array {
			return map2(f, a[0], a[1], dates, func(d arrow.Date32, n int64) (arrow.Date32, *batch.Fault) {
				if v := int64(d) + sign*n; n > -1<<32 && n < 1<<32 && v > -2_500_000 && v < 2_000_000_000 {
					return arrow.Date32(v), nil
				}
				return 0, batch.Faultf("date out of range", "the day %d days from %s can't be held", sign*n, batch.Day(d).Format(time.DateOnly))
			})
		}}, nil
	case l.Kind == schema.Date && r.Kind == schema.Date && op == "-":
		return &callNode{intType, []node{left, right}, func(f *frame, a []arrow.Array) arrow.Array {
			return map2(f, a[0], a[1], intType, func(x, y arrow.Date32) (int64, *batch.Fault) { return int64(x) - int64(y), nil })
		}}, nil
	case r.Kind == schema.Interval:
		if l.Kind == schema.Date {
			left, l = castNode(left, schema.Of(schema.Timestamp)), schema.Of(schema.Timestamp)
		}
		return &callNode{l, []node{left, right}, func(f *frame, a []arrow.Array) arrow.Array {
			return map2(f, a[0], a[1], l, func(t arrow.Timestamp, v interval) (arrow.Timestamp, *batch.Fault) {
				return shiftTime(t, v, sign), nil
			})
		}}, nil
	case r.Temporal() && op == "-":
		pair := []node{left, right}
		if _, err := b.unify(pair, at, op); err != nil {
			return nil, err
		}
		return &callNode{intervalType, pair, func(f *frame, a []arrow.Array) arrow.Array {
			return map2(f, a[0], a[1], intervalType, func(x, y arrow.Timestamp) (interval, *batch.Fault) {
				micros := int64(x) - int64(y)
				return interval{Days: int32(micros / dayMicros), Nanoseconds: micros % dayMicros * 1000}, nil
			})
		}}, nil
	}
	return nil, unfit()
}

// intervalArithmetic is + and - of two intervals, and an interval times or by a
// number.
func (b *binder) intervalArithmetic(op string, left, right node, unfit func() error) (node, error) {
	if left.typ().Kind != schema.Interval {
		left, right = right, left
	}
	if right.typ().Kind == schema.Interval {
		sign := int64(1)
		if op == "-" {
			sign = -1
		}
		if op != "+" && op != "-" {
			return nil, unfit()
		}
		return &callNode{intervalType, []node{left, right}, func(f *frame, a []arrow.Array) arrow.Array {
			return map2(f, a[0], a[1], intervalType, func(x, y interval) (interval, *batch.Fault) {
				return interval{Months: x.Months + int32(sign)*y.Months, Days: x.Days + int32(sign)*y.Days, Nanoseconds: x.Nanoseconds + sign*y.Nanoseconds}, nil
			})
		}}, nil
	}
	if !right.typ().Numeric() {
		return nil, unfit()
	}
	return &callNode{intervalType, []node{left, castNode(right, floatType)}, func(f *frame, a []arrow.Array) arrow.Array {
		return map2(f, a[0], a[1], intervalType, func(v interval, by float64) (interval, *batch.Fault) {
			if op == "/" {
				if by == 0 {
					return v, batch.Faultf("division by zero", "division by zero")
				}
				return scaleInterval(v, func(x float64) float64 { return x / by })
			}
			return scaleInterval(v, func(x float64) float64 { return x * by })
		})
	}}, nil
}

// scaleInterval applies a factor; parts of a month go down to days, parts of a
// day to time, as PostgreSQL does.
func scaleInterval(v interval, by func(float64) float64) (interval, *batch.Fault) {
	months, days, micros := by(float64(v.Months)), by(float64(v.Days)), by(float64(v.Nanoseconds/1000))
	if !(math.Abs(months) < math.MaxInt32 && math.Abs(days) < math.MaxInt32 && math.Abs(micros) < 9e15) {
		return v, batch.Faultf("number too large", "the interval is longer than can be held")
	}
	out := interval{Months: int32(months), Days: int32(days)}
	round := func(f float64) float64 { return math.RoundToEven(f*1e6) / 1e6 } // PostgreSQL's TSROUND
	restDays := round((months - math.Trunc(months)) * 30)
	seconds := round((days - math.Trunc(days) + restDays - math.Trunc(restDays)) * 86_400)
	if math.Abs(seconds) >= 86_400 {
		out.Days += int32(seconds / 86_400)
		seconds -= math.Trunc(seconds/86_400) * 86_400
	}
	out.Days += int32(restDays)
	out.Nanoseconds = int64(math.RoundToEven(micros+seconds*1e6)) * 1000
	return out, nil
}

// clockArithmetic is + and - with a time of day on the left.
func (b *binder) clockArithmetic(op string, left, right node, unfit func() error) (node, error) {
	clock := schema.Of(schema.Time)
	switch {
	case right.typ().Kind == schema.Interval:
		return &callNode{clock, []node{left, right}, func(f *frame, a []arrow.Array) arrow.Array {
			return map2(f, a[0], a[1], clock, func(t arrow.Time64, v interval) (arrow.Time64, *batch.Fault) {
				micros := v.Nanoseconds / 1000
				if op == "-" {
					micros = -micros
				}
				return arrow.Time64(((int64(t)+micros)%dayMicros + dayMicros) % dayMicros), nil
			})
		}}, nil
	case right.typ().Kind == schema.Time && op == "-":
		return &callNode{intervalType, []node{left, right}, func(f *frame, a []arrow.Array) arrow.Array {
			return map2(f, a[0], a[1], intervalType, func(x, y arrow.Time64) (interval, *batch.Fault) {
				return interval{Nanoseconds: int64(x-y) * 1000}, nil
			})
		}}, nil
	}
	return nil, unfit()
}
