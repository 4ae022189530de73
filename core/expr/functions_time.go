package expr

import (
	"math"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/decimal128"

	"welkin/core/batch"
	"welkin/core/schema"
)

const kTime = schema.Time

func epochNow(f *frame, _ []arrow.Array, _ []schema.Type, t schema.Type) arrow.Array {
	return repeat(f, t, arrow.Timestamp(f.env.Now.UnixMicro()))
}

var timeFunctions = []Function{
	{Name: "now", Group: "time", Gives: kTZ, Help: "when this epoch began", Example: "now() = now() → true", call: epochNow},
	{Name: "transaction_timestamp", Group: "time", Gives: kTZ, Help: "when this epoch began", Example: "transaction_timestamp() = now() → true", call: epochNow},
	{Name: "statement_timestamp", Group: "time", Gives: kTZ, Help: "when this epoch began", Example: "statement_timestamp() = now() → true", call: epochNow},
	{Name: "localtimestamp", Group: "time", Gives: kTS, Help: "when this epoch began, without zone (UTC)", Example: "localtimestamp = now()::timestamp → true", call: epochNow},
	{Name: "localtime", Group: "time", Gives: kTime, Help: "the time of day at which this epoch began (UTC)", Example: "localtime = now()::timestamp::time → true", call: func(f *frame, _ []arrow.Array, _ []schema.Type, t schema.Type) arrow.Array {
		micros := f.env.Now.UnixMicro()
		return repeat(f, t, arrow.Time64(micros-floorDiv(micros, dayMicros)*dayMicros))
	}},
	{Name: "current_date", Group: "time", Gives: kDate, Help: "the day this epoch began", Example: "current_date = now()::date → true", call: func(f *frame, _ []arrow.Array, _ []schema.Type, t schema.Type) arrow.Array {
		return repeat(f, t, batch.ToDay(f.env.Now.UTC()))
	}},
	{Name: "date_trunc", Group: "time", Args: kinds(kText, kTS), Gives: kTS, Help: "down to the start of an hour, day, week, month, quarter or year", Example: "date_trunc('month', timestamp '2026-11-23 18:30') → 2026-11-01 00:00:00", call: try2(truncate)},
	{Name: "date_trunc", Group: "time", Args: kinds(kText, kTZ), Gives: kTZ, Help: "down to the start of an hour, day, week, month, quarter or year (UTC)", Example: "date_trunc('hour', timestamptz '2026-11-23 18:30+00') → 2026-11-23 18:00:00+00", call: try2(truncate)},
	{Name: "date_trunc", Group: "time", Args: kinds(kText, schema.Interval), Gives: schema.Interval, Help: "an interval without its smaller units", Example: "date_trunc('hour', interval '3 hours 20 minutes') → 03:00:00", call: try2(truncInterval)},
	{Name: "date_trunc", Group: "time", Args: kinds(kText, kTZ, kText), Gives: kTZ, Help: "down to the start of a unit in a time zone", Example: "date_trunc('day', timestamptz '2026-11-23 23:30+00', 'Europe/Oslo') → 2026-11-23 23:00:00+00", call: try3(func(unit string, v arrow.Timestamp, zone string) (arrow.Timestamp, *batch.Fault) {
		loc, fault := location(zone)
		if fault != nil {
			return 0, fault
		}
		cut, fault := truncate(unit, wallClock(v, loc))
		return fromWallClock(cut, loc), fault
	})},
	{Name: "date_bin", Group: "time", Args: kinds(schema.Interval, kTS, kTS), Gives: kTS, Help: "down to the start of a span counted from a given moment", Example: "date_bin('15 minutes', timestamp '2026-11-23 18:37', timestamp '2001-01-01') → 2026-11-23 18:30:00", call: try3(dateBin)},
	{Name: "date_bin", Group: "time", Args: kinds(schema.Interval, kTZ, kTZ), Gives: kTZ, Help: "down to the start of a span counted from a given moment", Example: "date_bin('1 hour', timestamptz '2026-11-23 18:37+00', timestamptz '2001-01-01 00:00+00') → 2026-11-23 18:00:00+00", call: try3(dateBin)},
	{Name: "timezone", Group: "time", Args: kinds(kText, kTZ), Gives: kTS, Help: "what clocks show in a time zone; written AT TIME ZONE", Example: "timestamptz '2026-11-23 12:00+00' AT TIME ZONE 'Europe/Oslo' → 2026-11-23 13:00:00", call: try2(func(zone string, v arrow.Timestamp) (arrow.Timestamp, *batch.Fault) {
		loc, fault := location(zone)
		if fault != nil {
			return 0, fault
		}
		return wallClock(v, loc), nil
	})},
	{Name: "timezone", Group: "time", Args: kinds(kText, kTS), Gives: kTZ, Help: "the instant at which clocks in a time zone show it; written AT TIME ZONE", Example: "timestamp '2026-11-23 13:00' AT TIME ZONE 'Europe/Oslo' → 2026-11-23 12:00:00+00", call: try2(func(zone string, v arrow.Timestamp) (arrow.Timestamp, *batch.Fault) {
		loc, fault := location(zone)
		if fault != nil {
			return 0, fault
		}
		return fromWallClock(v, loc), nil
	})},
	{Name: "make_date", Group: "time", Args: kinds(kInt, kInt, kInt), Gives: kDate, Help: "a date of year, month and day", Example: "make_date(2026, 11, 23) → 2026-11-23", call: try3(makeDate)},
	{Name: "make_time", Group: "time", Args: kinds(kInt, kInt, kFloat), Gives: kTime, Help: "a time of day of hour, minute and seconds", Example: "make_time(18, 30, 0.5) → 18:30:00.5", call: try3(makeTime)},
	{Name: "make_timestamp", Group: "time", Args: kinds(kInt, kInt, kInt, kInt, kInt, kFloat), Gives: kTS, Help: "a timestamp of its six parts", Example: "make_timestamp(2026, 11, 23, 18, 30, 0) → 2026-11-23 18:30:00", call: makeTimestamp},
	{Name: "make_timestamptz", Group: "time", Args: kinds(kInt, kInt, kInt, kInt, kInt, kFloat), Gives: kTZ, Help: "an instant of its six parts (UTC)", Example: "make_timestamptz(2026, 11, 23, 18, 30, 0) → 2026-11-23 18:30:00+00", call: makeTimestamp},
	{Name: "to_date", Group: "time", Args: kinds(kText, kText), Gives: kDate, Help: "a date from text in a given form", Example: "to_date('23.11.2026', 'DD.MM.YYYY') → 2026-11-23", call: try2(func(s, form string) (arrow.Date32, *batch.Fault) {
		t, fault := ParseTime(s, form)
		return batch.ToDay(t), fault
	})},
	{Name: "to_timestamp", Group: "time", Args: kinds(kText, kText), Gives: kTZ, Help: "an instant from text in a given form (UTC)", Example: "to_timestamp('23.11.2026 18:30', 'DD.MM.YYYY HH24:MI') → 2026-11-23 18:30:00+00", call: try2(func(s, form string) (arrow.Timestamp, *batch.Fault) {
		t, fault := ParseTime(s, form)
		return arrow.Timestamp(t.UnixMicro()), fault
	})},
	{Name: "to_timestamp", Group: "time", Args: kinds(kFloat), Gives: kTZ, Help: "an instant from seconds since 1970", Example: "to_timestamp(0) → 1970-01-01 00:00:00+00", call: try1(func(v float64) (arrow.Timestamp, *batch.Fault) {
		if !(math.Abs(v) < 9e12) {
			return 0, batch.Faultf("date out of range", "%s seconds from 1970 can't be held", batch.FormatFloat(v))
		}
		return arrow.Timestamp(math.RoundToEven(v * 1e6)), nil
	})},
	{Name: "to_char", Group: "time", Args: kinds(kTS, kText), Gives: kText, Help: "a date or timestamp as text in a given form", Example: "to_char(date '2026-11-23', 'YYYY-MM') → 2026-11", call: try2(charTime)},
	{Name: "to_char", Group: "time", Args: kinds(kTZ, kText), Gives: kText, Help: "an instant as text in a given form (UTC)", Example: "to_char(timestamptz '2026-11-23 18:30+00', 'HH24:MI') → 18:30", call: try2(charTime)},
	{Name: "isfinite", Group: "time", Args: kinds(kTS), Gives: kBool, Help: "true: Welkin holds no endless dates", Example: "isfinite(date '2026-11-23') → true", call: fn1(func(arrow.Timestamp) bool { return true })},
}

var intervalFunctions = []Function{
	{Name: "interval_negate", Group: "interval", Args: kinds(schema.Interval), Gives: schema.Interval, Help: "an interval turned round; written -", Example: "- interval '1 day' → -1 days", call: fn1(func(v interval) interval {
		return interval{Months: -v.Months, Days: -v.Days, Nanoseconds: -v.Nanoseconds}
	})},
	{Name: "age", Group: "interval", Args: kinds(kTS, kTS), Gives: schema.Interval, Help: "time between two moments in years, months and days", Example: "age(timestamp '2026-11-23', timestamp '2025-10-20') → 1 year 1 mon 3 days", call: fn2(age)},
	{Name: "age", Group: "interval", Args: kinds(kTZ, kTZ), Gives: schema.Interval, Help: "time between two instants in years, months and days", Example: "age(timestamptz '2026-11-23 00:00+00', timestamptz '2026-11-20 00:00+00') → 3 days", call: fn2(age)},
	{Name: "justify_hours", Group: "interval", Args: kinds(schema.Interval), Gives: schema.Interval, Help: "24 hours made a day", Example: "justify_hours(interval '27 hours') → 1 day 03:00:00", call: fn1(justifyHours)},
	{Name: "justify_days", Group: "interval", Args: kinds(schema.Interval), Gives: schema.Interval, Help: "30 days made a month", Example: "justify_days(interval '35 days') → 1 mon 5 days", call: fn1(justifyDays)},
	{Name: "justify_interval", Group: "interval", Args: kinds(schema.Interval), Gives: schema.Interval, Help: "24 hours made a day and 30 days a month, with one sign", Example: "justify_interval(interval '1 mon -1 hour') → 29 days 23:00:00", call: fn1(justifyInterval)},
	{Name: "make_interval", Group: "interval", Args: kinds(kInt, kInt, kInt, kInt, kInt, kInt, kFloat), Gives: schema.Interval, Help: "an interval of years, months, weeks, days, hours, minutes and seconds", Example: "make_interval(1, 2, 0, 3, 4, 5, 6) → 1 year 2 mons 3 days 04:05:06", call: makeInterval},
}

func charTime(v arrow.Timestamp, form string) (string, *batch.Fault) {
	return formatTime(time.UnixMicro(int64(v)).UTC(), form)
}

// location finds a time zone of the IANA database by its name.
func location(name string) (*time.Location, *batch.Fault) {
	if strings.EqualFold(name, "utc") || strings.EqualFold(name, "z") {
		return time.UTC, nil
	}
	if loc, ok := locations.Load(name); ok {
		return loc.(*time.Location), nil
	}
	loc, err := time.LoadLocation(name)
	if err != nil || name == "" || name == "Local" {
		return nil, batch.Faultf("no such time zone", "there is no time zone %q; use a name such as Europe/Oslo", cutText(name))
	}
	locations.Store(name, loc)
	return loc, nil
}

// locations keeps the zones read; reading one takes a file.
var locations sync.Map

func wallClock(v arrow.Timestamp, loc *time.Location) arrow.Timestamp {
	_, offset := time.UnixMicro(int64(v)).In(loc).Zone()
	return v + arrow.Timestamp(offset)*1_000_000
}

// fromWallClock finds the instant at which clocks in a zone show v. A time that
// is skipped is taken by the offset before the change, one that comes twice is
// the later, as in PostgreSQL.
func fromWallClock(v arrow.Timestamp, loc *time.Location) arrow.Timestamp {
	offset := func(at arrow.Timestamp) arrow.Timestamp {
		_, seconds := time.UnixMicro(int64(at)).In(loc).Zone()
		return arrow.Timestamp(seconds) * 1_000_000
	}
	before, after := offset(v-arrow.Timestamp(dayMicros)), offset(v+arrow.Timestamp(dayMicros))
	if late := v - after; offset(late) == after {
		return late
	}
	return v - before
}

func dateBin(stride interval, v, origin arrow.Timestamp) (arrow.Timestamp, *batch.Fault) {
	if stride.Months != 0 {
		return 0, batch.Faultf("bad argument", "months are not all of one length; give the span in days or less")
	}
	micros := int64(stride.Days)*dayMicros + stride.Nanoseconds/1000
	if micros <= 0 {
		return 0, batch.Faultf("bad argument", "the span must be longer than nothing")
	}
	return arrow.Timestamp(int64(origin) + floorDiv(int64(v-origin), micros)*micros), nil
}

// age counts full years and months first, then days and time, from the later
// moment back.
func age(later, earlier arrow.Timestamp) interval {
	sign := int64(1)
	x, y := later, earlier
	if x < y {
		x, y, sign = y, x, -1
	}
	a, b := time.UnixMicro(int64(x)).UTC(), time.UnixMicro(int64(y)).UTC()
	micros := int64(x) - floorDiv(int64(x), dayMicros)*dayMicros - (int64(y) - floorDiv(int64(y), dayMicros)*dayMicros)
	days := a.Day() - b.Day()
	months := (a.Year()-b.Year())*12 + int(a.Month()) - int(b.Month())
	if micros < 0 {
		micros += dayMicros
		days--
	}
	if days < 0 { // days of the month in which the span begins; of the later one when it was turned round
		of := b
		if sign < 0 {
			of = a
			if a.Month() != b.Month() || a.Year() != b.Year() {
				of = b
			}
		}
		days += time.Date(of.Year(), of.Month()+1, 0, 0, 0, 0, 0, time.UTC).Day()
		months--
	}
	return interval{Months: int32(int64(months) * sign), Days: int32(int64(days) * sign), Nanoseconds: micros * 1000 * sign}
}

func justifyHours(v interval) interval {
	nanos := dayMicros * 1000
	v.Days += int32(v.Nanoseconds / nanos)
	v.Nanoseconds %= nanos
	switch {
	case v.Days > 0 && v.Nanoseconds < 0:
		v.Days, v.Nanoseconds = v.Days-1, v.Nanoseconds+nanos
	case v.Days < 0 && v.Nanoseconds > 0:
		v.Days, v.Nanoseconds = v.Days+1, v.Nanoseconds-nanos
	}
	return v
}

func justifyDays(v interval) interval {
	v.Months += v.Days / 30
	v.Days %= 30
	switch {
	case v.Months > 0 && v.Days < 0:
		v.Months, v.Days = v.Months-1, v.Days+30
	case v.Months < 0 && v.Days > 0:
		v.Months, v.Days = v.Months+1, v.Days-30
	}
	return v
}

func justifyInterval(v interval) interval {
	nanos := dayMicros * 1000
	v.Days += int32(v.Nanoseconds / nanos)
	v.Nanoseconds %= nanos
	v.Months += v.Days / 30
	v.Days %= 30
	if v.Months > 0 && (v.Days < 0 || v.Days == 0 && v.Nanoseconds < 0) {
		v.Months, v.Days = v.Months-1, v.Days+30
	} else if v.Months < 0 && (v.Days > 0 || v.Days == 0 && v.Nanoseconds > 0) {
		v.Months, v.Days = v.Months+1, v.Days-30
	}
	if v.Days > 0 && v.Nanoseconds < 0 {
		v.Days, v.Nanoseconds = v.Days-1, v.Nanoseconds+nanos
	} else if v.Days < 0 && v.Nanoseconds > 0 {
		v.Days, v.Nanoseconds = v.Days+1, v.Nanoseconds-nanos
	}
	return v
}

func makeInterval(f *frame, args []arrow.Array, _ []schema.Type, t schema.Type) arrow.Array {
	out := batch.NewBuilder(t).(*array.MonthDayNanoIntervalBuilder)
	for i := range f.n {
		if anyNull(args, i) {
			out.AppendNull()
			continue
		}
		whole := func(k int) float64 { return float64(args[k].(*array.Int64).Value(i)) }
		months, days := whole(0)*12+whole(1), whole(2)*7+whole(3)
		micros := math.RoundToEven((whole(4)*3600 + whole(5)*60 + args[6].(*array.Float64).Value(i)) * 1e6)
		if !(math.Abs(months) < math.MaxInt32 && math.Abs(days) < math.MaxInt32 && math.Abs(micros) < 9e15) {
			f.fail(i, batch.Faultf("number too large", "the interval is longer than can be held"))
			out.AppendNull()
			continue
		}
		out.Append(interval{Months: int32(months), Days: int32(days), Nanoseconds: int64(micros) * 1000})
	}
	return out.NewArray()
}

func makeTime(h, m int64, s float64) (arrow.Time64, *batch.Fault) {
	micros := math.RoundToEven(s * 1e6)
	if h < 0 || h > 23 || m < 0 || m > 59 || !(micros >= 0 && micros < 60e6) {
		return 0, batch.Faultf("not a time", "there is no time of day %d:%02d:%s", h, m, batch.FormatFloat(s))
	}
	return arrow.Time64((h*60+m)*60_000_000 + int64(micros)), nil
}

func makeTimestamp(f *frame, args []arrow.Array, _ []schema.Type, t schema.Type) arrow.Array {
	out := batch.NewBuilder(t).(*array.TimestampBuilder)
	for i := range f.n {
		if anyNull(args, i) {
			out.AppendNull()
			continue
		}
		whole := func(k int) int64 { return args[k].(*array.Int64).Value(i) }
		day, fault := makeDate(whole(0), whole(1), whole(2))
		var clock arrow.Time64
		if fault == nil {
			clock, fault = makeTime(whole(3), whole(4), args[5].(*array.Float64).Value(i))
		}
		if fault != nil {
			f.fail(i, fault)
			out.AppendNull()
			continue
		}
		out.Append(arrow.Timestamp(int64(day)*dayMicros + int64(clock)))
	}
	return out.NewArray()
}

func repeat[T any](f *frame, t schema.Type, v T) arrow.Array {
	out := batch.NewBuilder(t).(builder[T])
	for range f.n {
		out.Append(v)
	}
	return out.NewArray()
}

func makeDate(y, m, d int64) (arrow.Date32, *batch.Fault) {
	if y < 1 || y > 294_000 || m < 1 || m > 12 || d < 1 || d > 31 {
		return 0, batch.Faultf("not a date", "there is no day %04d-%02d-%02d", y, m, d)
	}
	t := time.Date(int(y), time.Month(m), int(d), 0, 0, 0, 0, time.UTC)
	if t.Day() != int(d) {
		return 0, batch.Faultf("not a date", "there is no day %04d-%02d-%02d", y, m, d)
	}
	return batch.ToDay(t), nil
}

func truncate(unit string, v arrow.Timestamp) (arrow.Timestamp, *batch.Fault) {
	t := time.UnixMicro(int64(v)).UTC()
	y, m, d := t.Date()
	year := func(n int) { t = time.Date(n, 1, 1, 0, 0, 0, 0, time.UTC) }
	switch strings.TrimSuffix(strings.ToLower(unit), "s") {
	case "microsecond":
	case "millisecond":
		t = t.Truncate(time.Millisecond)
	case "second":
		t = t.Truncate(time.Second)
	case "minute":
		t = t.Truncate(time.Minute)
	case "hour":
		t = t.Truncate(time.Hour)
	case "day":
		t = time.Date(y, m, d, 0, 0, 0, 0, time.UTC)
	case "week":
		t = time.Date(y, m, d-(int(t.Weekday())+6)%7, 0, 0, 0, 0, time.UTC)
	case "month":
		t = time.Date(y, m, 1, 0, 0, 0, 0, time.UTC)
	case "quarter":
		t = time.Date(y, (m-1)/3*3+1, 1, 0, 0, 0, 0, time.UTC)
	case "year":
		year(y)
	case "decade":
		year(y / 10 * 10)
	case "century":
		year((y-1)/100*100 + 1)
	case "millennium":
		year((y-1)/1000*1000 + 1)
	default:
		return 0, batch.Faultf("bad argument", "%q is not a unit of time; use second, minute, hour, day, week, month, quarter or year", cutText(unit))
	}
	return arrow.Timestamp(t.UnixMicro()), nil
}

// parts are the fields EXTRACT gives as whole numbers.
var parts = map[string]func(t time.Time) int64{
	"year": func(t time.Time) int64 { return int64(t.Year()) }, "month": func(t time.Time) int64 { return int64(t.Month()) },
	"day": func(t time.Time) int64 { return int64(t.Day()) }, "hour": func(t time.Time) int64 { return int64(t.Hour()) },
	"minute": func(t time.Time) int64 { return int64(t.Minute()) }, "quarter": func(t time.Time) int64 { return int64(t.Month()-1)/3 + 1 },
	"dow": func(t time.Time) int64 { return int64(t.Weekday()) }, "isodow": func(t time.Time) int64 { return int64(t.Weekday()+6)%7 + 1 },
	"doy": func(t time.Time) int64 { return int64(t.YearDay()) }, "week": func(t time.Time) int64 { _, w := t.ISOWeek(); return int64(w) },
	"isoyear": func(t time.Time) int64 { y, _ := t.ISOWeek(); return int64(y) },
	"decade":  func(t time.Time) int64 { return floorDiv(int64(t.Year()), 10) }, "century": func(t time.Time) int64 { return centuries(t.Year(), 100) },
	"millennium": func(t time.Time) int64 { return centuries(t.Year(), 1000) }, "timezone": func(time.Time) int64 { return 0 },
	"julian": func(t time.Time) int64 { return floorDiv(t.Unix(), 86_400) + 2_440_588 },
}

// centuries counts centuries or millennia: the first begins with the year 1.
func centuries(year, length int) int64 {
	if year > 0 {
		return int64((year + length - 1) / length)
	}
	return int64(-(length - year) / length)
}

// bindExtract is EXTRACT(field FROM value) and date_part. Whole fields are int
// here; PostgreSQL gives EXTRACT's as numeric and date_part's as float.
func (b *binder) bindExtract(args []node, asFloat bool, at int32) (node, error) {
	c, ok := args[0].(*constNode)
	if !ok || c.value.DataType().ID() != arrow.STRING || c.value.IsNull(0) {
		return nil, b.errf(at, "EXTRACT is written as EXTRACT(year FROM night)")
	}
	field := strings.ToLower(c.value.(*array.String).Value(0))
	n, err := b.extractField(field, args[1], at)
	if err == nil && asFloat {
		n = castNode(n, floatType)
	}
	return n, err
}

func (b *binder) extractField(field string, arg node, at int32) (node, error) {
	fields, ok := map[schema.Kind]string{
		kDate: "century, day, decade, dow, doy, epoch, isodow, isoyear, julian, millennium, month, quarter, week, year",
		kTS:   "century, day, decade, dow, doy, epoch, hour, isodow, isoyear, microseconds, millennium, milliseconds, minute, month, quarter, second, week, year",
		kTZ:   "century, day, decade, dow, doy, epoch, hour, isodow, isoyear, microseconds, millennium, milliseconds, minute, month, quarter, second, timezone, week, year",
		kTime: "epoch, hour, microseconds, milliseconds, minute, second", schema.Interval: "century, day, decade, epoch, hour, microseconds, millennium, milliseconds, minute, month, quarter, second, year",
	}[arg.typ().Kind]
	if !ok {
		return nil, b.errf(at, "EXTRACT takes a date, a time or an interval, not %s", arg.typ())
	}
	if !slices.Contains(strings.Split(fields, ", "), field) {
		return nil, b.errf(at, "%q is not a field of a %s; there are %s", field, arg.typ(), fields)
	}
	exact := map[string]schema.Type{"epoch": schema.DecimalOf(26, 6), "second": schema.DecimalOf(20, 6), "milliseconds": schema.DecimalOf(20, 3)}
	if field == "epoch" && arg.typ().Kind == kDate {
		delete(exact, "epoch")
	}
	fraction, isExact := exact[field]
	t := intType
	if isExact {
		t = fraction
	}
	if arg.typ().Kind == schema.Interval {
		return extractNode(arg, t, func(v interval) int64 { return intervalField(field, v) }), nil
	}
	if arg.typ().Kind == kTime {
		return extractNode(arg, t, func(v arrow.Time64) int64 { return clockField(field, int64(v)) }), nil
	}
	if arg.typ().Kind == kDate {
		arg = castNode(arg, schema.Of(kTS))
	}
	wasDate := field == "epoch" && !isExact
	return extractNode(arg, t, func(v arrow.Timestamp) int64 {
		switch part, isPart := parts[field]; {
		case isPart:
			return part(time.UnixMicro(int64(v)).UTC())
		case wasDate:
			return floorDiv(int64(v), 1_000_000)
		case field == "epoch":
			return int64(v)
		}
		return clockField(field, int64(v)-floorDiv(int64(v), dayMicros)*dayMicros)
	}), nil
}

// extractNode gives a whole number, or one of a decimal's smallest units.
func extractNode[A any](arg node, t schema.Type, fn func(A) int64) node {
	return &callNode{t, []node{arg}, func(f *frame, a []arrow.Array) arrow.Array {
		if t.Kind == schema.Decimal {
			return map1(f, a[0], t, func(v A) (decimal128.Num, *batch.Fault) { return decimal128.FromI64(fn(v)), nil })
		}
		return map1(f, a[0], t, func(v A) (int64, *batch.Fault) { return fn(v), nil })
	}}
}

// clockField takes a field of a time of day: seconds as microseconds,
// milliseconds as thousandths.
func clockField(field string, micros int64) int64 {
	switch field {
	case "hour":
		return micros / 3_600_000_000
	case "minute":
		return micros / 60_000_000 % 60
	case "epoch":
		return micros
	}
	return micros % 60_000_000 // second, milliseconds, microseconds
}

func intervalField(field string, v interval) int64 {
	years, micros := int64(v.Months/12), v.Nanoseconds/1000
	switch field {
	case "millennium":
		return years / 1000
	case "century":
		return years / 100
	case "decade":
		return years / 10
	case "year":
		return years
	case "quarter":
		return int64(v.Months%12)/3 + 1
	case "month":
		return int64(v.Months % 12)
	case "day":
		return int64(v.Days)
	case "epoch":
		return (years*365*4+years)*21_600*1_000_000 + (int64(v.Months%12)*30+int64(v.Days))*dayMicros + micros
	}
	return clockField(field, micros)
}

// truncInterval cuts an interval down to a unit.
func truncInterval(unit string, v interval) (interval, *batch.Fault) {
	micros := int64(0)
	switch strings.TrimSuffix(strings.ToLower(unit), "s") {
	case "millennium":
		v = interval{Months: v.Months / 12000 * 12000}
	case "century":
		v = interval{Months: v.Months / 1200 * 1200}
	case "decade":
		v = interval{Months: v.Months / 120 * 120}
	case "year":
		v = interval{Months: v.Months / 12 * 12}
	case "quarter":
		v = interval{Months: v.Months / 3 * 3}
	case "month":
		v = interval{Months: v.Months}
	case "day":
		v.Nanoseconds = 0
	case "hour":
		micros = 3_600_000_000
	case "minute":
		micros = 60_000_000
	case "second":
		micros = 1_000_000
	case "millisecond":
		micros = 1000
	case "microsecond":
	default:
		return v, batch.Faultf("bad argument", "%q is not a unit an interval can be cut to", cutText(unit))
	}
	if micros > 0 {
		v.Nanoseconds -= v.Nanoseconds % (micros * 1000)
	}
	return v, nil
}
