package expr

import (
	"strconv"
	"strings"
	"time"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"

	"welkin/core/batch"
	"welkin/core/schema"
)

var intervalType = schema.Of(schema.Interval)

type interval = arrow.MonthDayNanoInterval

// bindInterval reads a literal such as INTERVAL '1 month 2 days'.
func (b *binder) bindInterval(arg node, at int32) (node, error) {
	c, ok := arg.(*constNode)
	if !ok || c.t.Kind != schema.Unknown || c.value.IsNull(0) {
		return nil, b.errf(at, "an interval is written as INTERVAL '1 day'")
	}
	text := c.value.(*array.String).Value(0)
	v, ok := parseInterval(text)
	if !ok {
		return nil, b.errf(at, "%q is not an interval; write one as '3 days' or '1 month 2 hours'", text)
	}
	out := batch.NewBuilder(intervalType).(*array.MonthDayNanoIntervalBuilder)
	out.Append(v)
	return &constNode{intervalType, out.NewArray()}, nil
}

func parseInterval(text string) (interval, bool) {
	var v interval
	words := strings.Fields(strings.ToLower(text))
	if len(words) == 0 || len(words)%2 != 0 {
		return v, false
	}
	for i := 0; i < len(words); i += 2 {
		n, err := strconv.ParseInt(words[i], 10, 32)
		if err != nil {
			return v, false
		}
		switch strings.TrimSuffix(words[i+1], "s") {
		case "year":
			v.Months += int32(n) * 12
		case "month", "mon":
			v.Months += int32(n)
		case "week":
			v.Days += int32(n) * 7
		case "day":
			v.Days += int32(n)
		case "hour":
			v.Nanoseconds += n * int64(time.Hour)
		case "minute", "min":
			v.Nanoseconds += n * int64(time.Minute)
		case "second", "sec":
			v.Nanoseconds += n * int64(time.Second)
		default:
			return v, false
		}
	}
	return v, true
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
	if op == "+" && !left.typ().Temporal() {
		left, right = right, left
	}
	if op != "+" && op != "-" || !left.typ().Temporal() {
		return nil, unfit()
	}
	sign := int64(1)
	if op == "-" {
		sign = -1
	}
	l, r := left.typ(), right.typ()
	dates := schema.Of(schema.Date)
	switch {
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
