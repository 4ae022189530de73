package expr

import (
	"fmt"
	"strings"
	"time"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/decimal128"

	"welkin/core/batch"
	"welkin/core/schema"
)

var timeFunctions = []Function{
	{Name: "now", Group: "time", Gives: kTZ, Help: "when this epoch began", Example: "now()", call: func(f *frame, _ []arrow.Array, _ []schema.Type, t schema.Type) arrow.Array {
		return repeat(f, t, arrow.Timestamp(f.env.Now.UnixMicro()))
	}},
	{Name: "current_date", Group: "time", Gives: kDate, Help: "the day this epoch began", Example: "current_date", call: func(f *frame, _ []arrow.Array, _ []schema.Type, t schema.Type) arrow.Array {
		return repeat(f, t, batch.ToDay(f.env.Now.UTC()))
	}},
	{Name: "date_trunc", Group: "time", Args: kinds(kText, kTS), Gives: kTS, Help: "down to the start of an hour, day, week, month, quarter or year", Example: "date_trunc('month', arrived) → 2026-11-01", call: try2(truncate)},
	{Name: "date_trunc", Group: "time", Args: kinds(kText, kTZ), Gives: kTZ, Help: "down to the start of an hour, day, week, month, quarter or year (UTC)", Example: "date_trunc('hour', seen)", call: try2(truncate)},
	{Name: "make_date", Group: "time", Args: kinds(kInt, kInt, kInt), Gives: kDate, Help: "a date of year, month and day", Example: "make_date(2026, 11, 23)", call: try3(func(y, m, d int64) (arrow.Date32, *batch.Fault) { return makeDate(int(y), int(m), int(d)) })},
	{Name: "to_date", Group: "time", Args: kinds(kText, kText), Gives: kDate, Help: "a date from text in a given form", Example: "to_date('23.11.2026', 'DD.MM.YYYY')", call: try2(func(s, form string) (arrow.Date32, *batch.Fault) {
		t, fault := ParseTime(s, form)
		return batch.ToDay(t), fault
	})},
	{Name: "to_timestamp", Group: "time", Args: kinds(kText, kText), Gives: kTZ, Help: "an instant from text in a given form (UTC)", Example: "to_timestamp('23.11.2026 18:30', 'DD.MM.YYYY HH24:MI')", call: try2(func(s, form string) (arrow.Timestamp, *batch.Fault) {
		t, fault := ParseTime(s, form)
		return arrow.Timestamp(t.UnixMicro()), fault
	})},
	{Name: "to_char", Group: "time", Args: kinds(kTS, kText), Gives: kText, Help: "a date or instant as text in a given form", Example: "to_char(night, 'YYYY-MM')", call: fn2(func(t arrow.Timestamp, form string) string { return formatTime(time.UnixMicro(int64(t)).UTC(), form) })},
	{Name: "to_char", Group: "time", Args: kinds(kTZ, kText), Gives: kText, Help: "an instant as text in a given form (UTC)", Example: "to_char(seen, 'HH24:MI')", call: fn2(func(t arrow.Timestamp, form string) string { return formatTime(time.UnixMicro(int64(t)).UTC(), form) })},
}

func repeat[T any](f *frame, t schema.Type, v T) arrow.Array {
	out := batch.NewBuilder(t).(builder[T])
	for range f.n {
		out.Append(v)
	}
	return out.NewArray()
}

func makeDate(y, m, d int) (arrow.Date32, *batch.Fault) {
	t := time.Date(y, time.Month(m), d, 0, 0, 0, 0, time.UTC)
	if t.Year() != y || int(t.Month()) != m || t.Day() != d {
		return 0, batch.Faultf("not a date", "there is no day %04d-%02d-%02d", y, m, d)
	}
	return batch.ToDay(t), nil
}

func truncate(unit string, v arrow.Timestamp) (arrow.Timestamp, *batch.Fault) {
	t := time.UnixMicro(int64(v)).UTC()
	y, m, d := t.Date()
	switch strings.ToLower(unit) {
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
		t = time.Date(y, 1, 1, 0, 0, 0, 0, time.UTC)
	default:
		return 0, batch.Faultf("bad argument", "%q is not a unit of time; use second, minute, hour, day, week, month, quarter or year", unit)
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
}

// bindExtract is EXTRACT(field FROM value). Whole fields are int here;
// PostgreSQL gives them as numeric.
func (b *binder) bindExtract(args []node, at int32) (node, error) {
	c, ok := args[0].(*constNode)
	if len(args) != 2 || !ok || c.value.DataType().ID() != arrow.STRING {
		return nil, b.errf(at, "EXTRACT is written as EXTRACT(year FROM night)")
	}
	field := strings.ToLower(c.value.(*array.String).Value(0))
	arg := args[1]
	if !arg.typ().Temporal() {
		return nil, b.errf(at, "EXTRACT takes a date or timestamp, not %s", arg.typ())
	}
	if arg.typ().Kind == schema.Date {
		arg = castNode(arg, schema.Of(kTS))
	}
	if part, ok := parts[field]; ok {
		return &callNode{intType, []node{arg}, func(f *frame, a []arrow.Array) arrow.Array {
			return map1(f, a[0], intType, func(v arrow.Timestamp) (int64, *batch.Fault) {
				return part(time.UnixMicro(int64(v)).UTC()), nil
			})
		}}, nil
	}
	if field != "epoch" && field != "second" {
		return nil, b.errf(at, "%q is not a field; use year, quarter, month, week, day, dow, isodow, doy, isoyear, hour, minute, second or epoch", field)
	}
	t := schema.DecimalOf(20, 6)
	return &callNode{t, []node{arg}, func(f *frame, a []arrow.Array) arrow.Array {
		return map1(f, a[0], t, func(v arrow.Timestamp) (decimal128.Num, *batch.Fault) {
			if field == "second" {
				v %= 60_000_000
				if v < 0 {
					v += 60_000_000
				}
			}
			return decimal128.FromI64(int64(v)), nil
		})
	}}, nil
}

// formField is one letter group of a date's written form.
type formField struct {
	mark   string
	digits int
	set    func(c *clock, v int)
	get    func(t time.Time) string
}

type clock struct {
	year, month, day, hour, minute, second, nano int
	pm, half                                     bool
}

// formFields, longest mark first where one begins like another.
var formFields = []formField{
	{"YYYY", 4, func(c *clock, v int) { c.year = v }, func(t time.Time) string { return fmt.Sprintf("%04d", t.Year()) }},
	{"YY", 2, func(c *clock, v int) {
		if c.year = 2000 + v; v >= 70 {
			c.year = 1900 + v
		}
	}, func(t time.Time) string { return fmt.Sprintf("%02d", t.Year()%100) }},
	{"IYYY", 0, nil, func(t time.Time) string { y, _ := t.ISOWeek(); return fmt.Sprintf("%04d", y) }},
	{"IW", 0, nil, func(t time.Time) string { _, w := t.ISOWeek(); return fmt.Sprintf("%02d", w) }},
	{"MM", 2, func(c *clock, v int) { c.month = v }, func(t time.Time) string { return t.Format("01") }},
	{"Day", 0, nil, func(t time.Time) string { return fmt.Sprintf("%-9s", t.Weekday()) }},
	{"Dy", 0, nil, func(t time.Time) string { return t.Format("Mon") }},
	{"DDD", 0, nil, func(t time.Time) string { return fmt.Sprintf("%03d", t.YearDay()) }},
	{"DD", 2, func(c *clock, v int) { c.day = v }, func(t time.Time) string { return t.Format("02") }},
	{"ID", 0, nil, func(t time.Time) string { return fmt.Sprint(parts["isodow"](t)) }},
	{"D", 0, nil, func(t time.Time) string { return fmt.Sprint(int(t.Weekday()) + 1) }},
	{"Q", 0, nil, func(t time.Time) string { return fmt.Sprint(parts["quarter"](t)) }},
	{"HH24", 2, func(c *clock, v int) { c.hour = v }, func(t time.Time) string { return t.Format("15") }},
	{"HH12", 2, func(c *clock, v int) { c.hour, c.half = v, true }, func(t time.Time) string { return t.Format("03") }},
	{"HH", 2, func(c *clock, v int) { c.hour, c.half = v, true }, func(t time.Time) string { return t.Format("03") }},
	{"MI", 2, func(c *clock, v int) { c.minute = v }, func(t time.Time) string { return t.Format("04") }},
	{"SS", 2, func(c *clock, v int) { c.second = v }, func(t time.Time) string { return t.Format("05") }},
	{"MS", 3, func(c *clock, v int) { c.nano = v * 1e6 }, func(t time.Time) string { return fmt.Sprintf("%03d", t.Nanosecond()/1e6) }},
	{"US", 6, func(c *clock, v int) { c.nano = v * 1e3 }, func(t time.Time) string { return fmt.Sprintf("%06d", t.Nanosecond()/1e3) }},
	{"Month", 0, nil, func(t time.Time) string { return fmt.Sprintf("%-9s", t.Month()) }},
	{"Mon", 0, nil, func(t time.Time) string { return t.Format("Jan") }},
	{"AM", 0, nil, func(t time.Time) string { return t.Format("PM") }},
	{"PM", 0, nil, func(t time.Time) string { return t.Format("PM") }},
}

func fieldAt(form string) *formField {
	for i, f := range formFields {
		if strings.HasPrefix(form, f.mark) {
			return &formFields[i]
		}
	}
	return nil
}

// ParseTime reads text in a form of PostgreSQL's to_date and to_timestamp, such
// as DD.MM.YYYY HH24:MI. Numbers may be shorter than their mark; what stands
// between the marks must stand in the text, blanks aside.
func ParseTime(text, form string) (time.Time, *batch.Fault) {
	bad := batch.Faultf("not a date", "%q does not read as %s", text, form)
	c, rest := clock{year: 1, month: 1, day: 1}, strings.TrimSpace(text)
	for at := 0; at < len(form); {
		f := fieldAt(form[at:])
		if strings.HasPrefix(form[at:], "FM") {
			at += 2
			continue
		}
		if f == nil {
			if form[at] == ' ' {
				rest = strings.TrimLeft(rest, " ")
			} else if rest == "" || rest[0] != form[at] {
				return time.Time{}, bad
			} else {
				rest = rest[1:]
			}
			at++
			continue
		}
		at += len(f.mark)
		switch {
		case f.digits > 0:
			n, v := 0, 0
			for n < len(rest) && n < f.digits && rest[n] >= '0' && rest[n] <= '9' {
				v = v*10 + int(rest[n]-'0')
				n++
			}
			if n == 0 {
				return time.Time{}, bad
			}
			for k := n; k < f.digits && (f.mark == "MS" || f.mark == "US"); k++ {
				v *= 10
			}
			f.set(&c, v)
			rest = rest[n:]
		case f.mark == "Month" || f.mark == "Mon":
			m := monthAt(rest, f.mark == "Month")
			if m == 0 {
				return time.Time{}, bad
			}
			c.month = m
			if rest = rest[3:]; f.mark == "Month" {
				rest = rest[len(time.Month(m).String())-3:]
			}
		case f.mark == "AM" || f.mark == "PM":
			if len(rest) < 2 {
				return time.Time{}, bad
			}
			c.pm, rest = strings.EqualFold(rest[:2], "PM"), rest[2:]
		default:
			return time.Time{}, batch.Faultf("bad argument", "%s can't be read from text", f.mark)
		}
	}
	if strings.TrimSpace(rest) != "" {
		return time.Time{}, bad
	}
	if c.half {
		if c.hour %= 12; c.pm {
			c.hour += 12
		}
	}
	if c.hour > 23 || c.minute > 59 || c.second > 59 {
		return time.Time{}, bad
	}
	d, fault := makeDate(c.year, c.month, c.day)
	if fault != nil {
		return time.Time{}, fault
	}
	y, m, day := batch.Day(d).Date()
	return time.Date(y, m, day, c.hour, c.minute, c.second, c.nano, time.UTC), nil
}

func monthAt(s string, long bool) int {
	for m := time.January; m <= time.December; m++ {
		name := m.String()
		if !long {
			name = name[:3]
		}
		if len(s) >= len(name) && strings.EqualFold(s[:len(name)], name) {
			return int(m)
		}
	}
	return 0
}

func formatTime(t time.Time, form string) string {
	var out strings.Builder
	for at := 0; at < len(form); {
		tight := strings.HasPrefix(form[at:], "FM")
		if tight {
			at += 2
		}
		if rest := form[at:]; strings.HasPrefix(rest, `"`) {
			quoted, _, _ := strings.Cut(rest[1:], `"`)
			out.WriteString(quoted)
			at += min(len(quoted)+2, len(rest))
			continue
		}
		f := fieldAt(form[at:])
		if f == nil {
			if at < len(form) {
				out.WriteByte(form[at])
			}
			at++
			continue
		}
		v := f.get(t)
		if tight {
			if v = strings.TrimRight(v, " "); f.digits > 0 && f.mark != "MS" && f.mark != "US" {
				v = strings.TrimLeft(v[:len(v)-1], "0") + v[len(v)-1:]
			}
		}
		out.WriteString(v)
		at += len(f.mark)
	}
	return out.String()
}
