package expr

import (
	"fmt"
	"strings"
	"time"

	"github.com/apache/arrow-go/v18/arrow"

	"welkin/core/batch"
)

// formField is one letter group of a date's written form.
type formField struct {
	mark   string
	digits int
	set    func(c *clock, v int)
	get    func(t time.Time) string
}

type clock struct {
	year, month, day, hour, minute, second, nano int
	yearDay                                      int
	pm, half                                     bool
}

func number(format string, get func(t time.Time) int64) func(t time.Time) string {
	return func(t time.Time) string { return fmt.Sprintf(format, get(t)) }
}

func ad(t time.Time) int64 { return int64(t.Year()) }

func isoYear(t time.Time) int64 { return parts["isoyear"](t) }

func half(small bool, dotted bool) func(t time.Time) string {
	return func(t time.Time) string {
		s := t.Format("PM")
		if dotted {
			s = s[:1] + "." + s[1:] + "."
		}
		if small {
			return strings.ToLower(s)
		}
		return s
	}
}

// name writes a name in the case of its mark: MONTH, Month or month.
func name(mark string, get func(t time.Time) string) formField {
	return formField{mark, 0, nil, func(t time.Time) string {
		switch s := get(t); mark[1] {
		case 'O', 'A', 'Y':
			return strings.ToUpper(s)
		default:
			if mark[0] >= 'a' {
				return strings.ToLower(s)
			}
			return s
		}
	}}
}

func longMonth(t time.Time) string  { return fmt.Sprintf("%-9s", t.Month()) }
func longDay(t time.Time) string    { return fmt.Sprintf("%-9s", t.Weekday()) }
func shortMonth(t time.Time) string { return t.Month().String()[:3] }
func shortDay(t time.Time) string   { return t.Weekday().String()[:3] }

var romans = []string{"", "I", "II", "III", "IV", "V", "VI", "VII", "VIII", "IX", "X", "XI", "XII"}

// formFields, longest mark first where one begins like another.
var formFields = []formField{
	{"Y,YYY", 0, nil, func(t time.Time) string { return fmt.Sprintf("%d,%03d", t.Year()/1000, t.Year()%1000) }},
	{"YYYY", 4, func(c *clock, v int) { c.year = v }, number("%04d", ad)},
	{"YYY", 3, func(c *clock, v int) { c.year = nearYear(v, 1000) }, number("%03d", func(t time.Time) int64 { return ad(t) % 1000 })},
	{"YY", 2, func(c *clock, v int) { c.year = nearYear(v, 100) }, number("%02d", func(t time.Time) int64 { return ad(t) % 100 })},
	{"Y", 1, func(c *clock, v int) { c.year = nearYear(v, 10) }, number("%d", func(t time.Time) int64 { return ad(t) % 10 })},
	{"IYYY", 0, nil, number("%04d", isoYear)},
	{"IYY", 0, nil, number("%03d", func(t time.Time) int64 { return isoYear(t) % 1000 })},
	{"IY", 0, nil, number("%02d", func(t time.Time) int64 { return isoYear(t) % 100 })},
	{"IDDD", 0, nil, number("%03d", func(t time.Time) int64 { return parts["week"](t)*7 - 7 + parts["isodow"](t) })},
	{"ID", 0, nil, number("%d", parts["isodow"])},
	{"IW", 0, nil, number("%02d", parts["week"])},
	{"I", 0, nil, number("%d", func(t time.Time) int64 { return isoYear(t) % 10 })},
	name("MONTH", longMonth), name("Month", longMonth), name("month", longMonth), name("MON", shortMonth), name("Mon", shortMonth), name("mon", shortMonth),
	{"MM", 2, func(c *clock, v int) { c.month = v }, func(t time.Time) string { return t.Format("01") }},
	{"MI", 2, func(c *clock, v int) { c.minute = v }, func(t time.Time) string { return t.Format("04") }},
	{"MS", 3, func(c *clock, v int) { c.nano = v * 1e6 }, func(t time.Time) string { return fmt.Sprintf("%03d", t.Nanosecond()/1e6) }},
	name("DAY", longDay), name("Day", longDay), name("day", longDay), name("DY", shortDay), name("Dy", shortDay), name("dy", shortDay),
	{"DDD", 3, func(c *clock, v int) { c.yearDay = v }, number("%03d", parts["doy"])},
	{"DD", 2, func(c *clock, v int) { c.day = v }, func(t time.Time) string { return t.Format("02") }},
	{"D", 0, nil, number("%d", func(t time.Time) int64 { return int64(t.Weekday()) + 1 })},
	{"Q", 0, nil, number("%d", parts["quarter"])},
	{"CC", 0, nil, number("%02d", parts["century"])},
	{"J", 0, nil, number("%d", parts["julian"])},
	{"WW", 0, nil, number("%02d", func(t time.Time) int64 { return int64(t.YearDay()-1)/7 + 1 })},
	{"W", 0, nil, number("%d", func(t time.Time) int64 { return int64(t.Day()-1)/7 + 1 })},
	{"RM", 0, nil, func(t time.Time) string { return fmt.Sprintf("%-4s", romans[t.Month()]) }},
	{"rm", 0, nil, func(t time.Time) string { return fmt.Sprintf("%-4s", strings.ToLower(romans[t.Month()])) }},
	{"HH24", 2, func(c *clock, v int) { c.hour = v }, func(t time.Time) string { return t.Format("15") }},
	{"HH12", 2, func(c *clock, v int) { c.hour, c.half = v, true }, func(t time.Time) string { return t.Format("03") }},
	{"HH", 2, func(c *clock, v int) { c.hour, c.half = v, true }, func(t time.Time) string { return t.Format("03") }},
	{"SSSS", 0, nil, number("%d", func(t time.Time) int64 { return int64(t.Hour()*3600 + t.Minute()*60 + t.Second()) })},
	{"SS", 2, func(c *clock, v int) { c.second = v }, func(t time.Time) string { return t.Format("05") }},
	{"US", 6, func(c *clock, v int) { c.nano = v * 1e3 }, func(t time.Time) string { return fmt.Sprintf("%06d", t.Nanosecond()/1e3) }},
	{"A.M.", 0, nil, half(false, true)}, {"P.M.", 0, nil, half(false, true)}, {"a.m.", 0, nil, half(true, true)}, {"p.m.", 0, nil, half(true, true)},
	{"AM", 0, nil, half(false, false)}, {"PM", 0, nil, half(false, false)}, {"am", 0, nil, half(true, false)}, {"pm", 0, nil, half(true, false)},
}

// nearYear gives the year with the last digits given that is nearest to 2020.
func nearYear(v, span int) int {
	switch {
	case span == 100 && v < 70:
		return 2000 + v
	case span == 100:
		return 1900 + v
	case span == 10:
		return 2000 + v
	case v < 520:
		return 2000 + v
	}
	return 1000 + v
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
		case strings.EqualFold(f.mark, "Month") || strings.EqualFold(f.mark, "Mon"):
			m := monthAt(rest, len(f.mark) == 5)
			if m == 0 {
				return time.Time{}, bad
			}
			c.month = m
			if rest = rest[3:]; len(f.mark) == 5 {
				rest = rest[len(time.Month(m).String())-3:]
			}
		case strings.EqualFold(f.mark, "AM") || strings.EqualFold(f.mark, "PM"):
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
	d, fault := makeDate(int64(c.year), int64(c.month), int64(c.day))
	if fault != nil {
		return time.Time{}, fault
	}
	if c.yearDay > 0 {
		d, _ = makeDate(int64(c.year), 1, 1)
		d += arrow.Date32(c.yearDay - 1)
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

// formatTime writes a moment in a form of PostgreSQL's to_char.
func formatTime(t time.Time, form string) (string, *batch.Fault) {
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
			for _, mark := range []string{"TZ", "tz", "OF", "BC", "AD", "bc", "ad", "B.C.", "A.D.", "FF", "TM", "SP"} {
				if strings.HasPrefix(form[at:], mark) {
					return "", batch.Faultf("bad argument", "%s is not known in a form here", mark)
				}
			}
			if at < len(form) {
				out.WriteByte(form[at])
			}
			at++
			continue
		}
		v := f.get(t)
		if at += len(f.mark); tight {
			if v = strings.TrimRight(v, " "); v[0] >= '0' && v[0] <= '9' && f.mark != "MS" && f.mark != "US" {
				v = strings.TrimLeft(v[:len(v)-1], "0") + v[len(v)-1:]
			}
		}
		out.WriteString(v)
		if rest := form[at:]; strings.HasPrefix(rest, "TH") || strings.HasPrefix(rest, "th") {
			if v[len(v)-1] >= '0' && v[len(v)-1] <= '9' {
				out.WriteString(ordinal(v, rest[0] == 't'))
				at += 2
			}
		}
	}
	return out.String(), nil
}

// ordinal gives the ending of an English ordinal: 1st, 2nd, 3rd, 4th.
func ordinal(digits string, small bool) string {
	end := "TH"
	if len(digits) < 2 || digits[len(digits)-2] != '1' {
		switch digits[len(digits)-1] {
		case '1':
			end = "ST"
		case '2':
			end = "ND"
		case '3':
			end = "RD"
		}
	}
	if small {
		return strings.ToLower(end)
	}
	return end
}
