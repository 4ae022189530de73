package step

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"

	"welkin/core/batch"
	"welkin/core/expr"
	"welkin/core/schema"
)

var calendarParts = Kind{
	Name: "calendar parts", Role: Work, Ports: []string{"rows"}, New: func() Settings { return &CalendarParts{} },
	Help: "Adds what a calendar says of a day: year, quarter, ISO week, names of month and day, fiscal year and more.", Example: "of night: iso_year, iso_week, weekday_name",
	Words: "date dimension calendar week month quarter fiscal year day name",
}

// CalendarParts adds calendar columns to a date column; all of them when none
// are named, which makes a calendar dimension of a column of days.
type CalendarParts struct {
	Column   string   `json:"column" jsonschema:"title=column,description=A date or timestamp"`
	Parts    []string `json:"parts,omitempty" jsonschema:"title=parts,description=Those wanted such as iso_week; all when left out"`
	Prefix   string   `json:"prefix,omitempty" jsonschema:"title=prefix,description=Put before the names of the columns"`
	Language string   `json:"language,omitempty" jsonschema:"title=language,description=Of the names of months and days,enum=en,enum=de,enum=fr,enum=it,enum=es,enum=nb"`
	WeekDay  string   `json:"first_day,omitempty" jsonschema:"title=first day of the week,enum=monday,enum=sunday,enum=saturday"`
	Fiscal   int      `json:"fiscal_month,omitempty" jsonschema:"title=fiscal year begins in month,description=1 to 12; the fiscal year is named by the year in which it ends"`
}

// Sentence implements Settings.
func (s *CalendarParts) Sentence() string {
	if len(s.Parts) == 0 {
		return "all calendar parts of `" + orElse(s.Column, "…") + "`"
	}
	return list(s.Parts, 4) + " of `" + orElse(s.Column, "…") + "`"
}

// calendarPart is one column a calendar gives. sql has {d} for the day.
type calendarPart struct {
	name string
	kind schema.Kind
	of   func(c *calendarRule, t time.Time) any // int64, string, bool or time.Time
	sql  func(c *calendarRule) string
}

// calendarRule is what the parts depend on.
type calendarRule struct {
	months, days []string // names; days from Monday
	firstDay     int      // ISO number of the first day of the week
	fiscal       int
}

// weekday counts the days of a week from 1 at its first.
func (c *calendarRule) weekday(t time.Time) int64 {
	return int64((isoDay(t)-c.firstDay+7)%7) + 1
}

func isoDay(t time.Time) int { return (int(t.Weekday())+6)%7 + 1 }

func monthStart(t time.Time, months int) time.Time {
	return time.Date(t.Year(), t.Month()+time.Month(months), 1, 0, 0, 0, 0, time.UTC)
}

// fiscalMonth moves a day so that its calendar year and month are those of the
// fiscal year.
func (c *calendarRule) fiscalMonth(t time.Time) time.Time {
	return monthStart(t, (13-c.fiscal)%12)
}

func quarter(t time.Time) int64 { return int64(t.Month()-1)/3 + 1 }

func short(s string) string {
	r := []rune(s)
	return string(r[:min(3, len(r))])
}

func plainSQL(text string) func(*calendarRule) string {
	return func(*calendarRule) string { return text }
}

func extractSQL(field string) func(*calendarRule) string {
	return plainSQL("EXTRACT(" + field + " FROM {d})::bigint")
}

// nameSQL picks a name out of a list by a number from 1.
func nameSQL(names []string, number string) string {
	quoted := make([]string, len(names))
	for i, n := range names {
		quoted[i] = expr.QuoteText(n)
	}
	return "(ARRAY[" + strings.Join(quoted, ", ") + "])[" + number + "]"
}

func (c *calendarRule) fiscalSQL() string {
	return fmt.Sprintf("(date_trunc('month', {d}) + interval '%d months')", (13-c.fiscal)%12)
}

func shorts(names []string) []string {
	out := make([]string, len(names))
	for i, n := range names {
		out[i] = short(n)
	}
	return out
}

var allCalendarParts = []calendarPart{
	{"date_key", schema.Int, func(_ *calendarRule, t time.Time) any { return int64(t.Year()*10000 + int(t.Month())*100 + t.Day()) }, plainSQL("(EXTRACT(year FROM {d}) * 10000 + EXTRACT(month FROM {d}) * 100 + EXTRACT(day FROM {d}))::bigint")},
	{"year", schema.Int, func(_ *calendarRule, t time.Time) any { return int64(t.Year()) }, extractSQL("year")},
	{"half", schema.Int, func(_ *calendarRule, t time.Time) any { return int64(t.Month()-1)/6 + 1 }, plainSQL("((EXTRACT(month FROM {d})::bigint - 1) / 6 + 1)")},
	{"quarter", schema.Int, func(_ *calendarRule, t time.Time) any { return quarter(t) }, extractSQL("quarter")},
	{"month", schema.Int, func(_ *calendarRule, t time.Time) any { return int64(t.Month()) }, extractSQL("month")},
	{"month_name", schema.Text, func(c *calendarRule, t time.Time) any { return c.months[t.Month()-1] }, func(c *calendarRule) string { return nameSQL(c.months, "EXTRACT(month FROM {d})::int") }},
	{"month_short", schema.Text, func(c *calendarRule, t time.Time) any { return short(c.months[t.Month()-1]) }, func(c *calendarRule) string { return nameSQL(shorts(c.months), "EXTRACT(month FROM {d})::int") }},
	{"year_month", schema.Text, func(_ *calendarRule, t time.Time) any { return t.Format("2006-01") }, plainSQL("to_char({d}, 'YYYY-MM')")},
	{"year_quarter", schema.Text, func(_ *calendarRule, t time.Time) any { return fmt.Sprintf("%04d-Q%d", t.Year(), quarter(t)) }, plainSQL(`to_char({d}, 'YYYY-"Q"Q')`)},
	{"iso_year", schema.Int, func(_ *calendarRule, t time.Time) any { y, _ := t.ISOWeek(); return int64(y) }, extractSQL("isoyear")},
	{"iso_week", schema.Int, func(_ *calendarRule, t time.Time) any { _, w := t.ISOWeek(); return int64(w) }, extractSQL("week")},
	{"week_start", schema.Date, func(c *calendarRule, t time.Time) any { return t.AddDate(0, 0, 1-int(c.weekday(t))) }, func(c *calendarRule) string { return "({d}::date - (" + c.weekdaySQL() + " - 1)::int)" }},
	{"day", schema.Int, func(_ *calendarRule, t time.Time) any { return int64(t.Day()) }, extractSQL("day")},
	{"day_of_year", schema.Int, func(_ *calendarRule, t time.Time) any { return int64(t.YearDay()) }, extractSQL("doy")},
	{"weekday", schema.Int, func(c *calendarRule, t time.Time) any { return c.weekday(t) }, (*calendarRule).weekdaySQL},
	{"weekday_name", schema.Text, func(c *calendarRule, t time.Time) any { return c.days[isoDay(t)-1] }, func(c *calendarRule) string { return nameSQL(c.days, "EXTRACT(isodow FROM {d})::int") }},
	{"weekday_short", schema.Text, func(c *calendarRule, t time.Time) any { return short(c.days[isoDay(t)-1]) }, func(c *calendarRule) string { return nameSQL(shorts(c.days), "EXTRACT(isodow FROM {d})::int") }},
	{"is_weekend", schema.Bool, func(_ *calendarRule, t time.Time) any { return isoDay(t) > 5 }, plainSQL("EXTRACT(isodow FROM {d}) > 5")},
	{"days_in_month", schema.Int, func(_ *calendarRule, t time.Time) any { return int64(monthStart(t, 1).AddDate(0, 0, -1).Day()) }, plainSQL("EXTRACT(day FROM date_trunc('month', {d}) + interval '1 month - 1 day')::bigint")},
	{"is_month_end", schema.Bool, func(_ *calendarRule, t time.Time) any { return t.AddDate(0, 0, 1).Day() == 1 }, plainSQL("EXTRACT(day FROM {d}::date + 1) = 1")},
	{"month_start", schema.Date, func(_ *calendarRule, t time.Time) any { return monthStart(t, 0) }, plainSQL("date_trunc('month', {d})::date")},
	{"month_end", schema.Date, func(_ *calendarRule, t time.Time) any { return monthStart(t, 1).AddDate(0, 0, -1) }, plainSQL("(date_trunc('month', {d}) + interval '1 month - 1 day')::date")},
	{"quarter_start", schema.Date, func(_ *calendarRule, t time.Time) any { return monthStart(t, -int(t.Month()-1)%3) }, plainSQL("date_trunc('quarter', {d})::date")},
	{"quarter_end", schema.Date, func(_ *calendarRule, t time.Time) any { return monthStart(t, 3-int(t.Month()-1)%3).AddDate(0, 0, -1) }, plainSQL("(date_trunc('quarter', {d}) + interval '3 months - 1 day')::date")},
	{"year_start", schema.Date, func(_ *calendarRule, t time.Time) any { return time.Date(t.Year(), 1, 1, 0, 0, 0, 0, time.UTC) }, plainSQL("date_trunc('year', {d})::date")},
	{"year_end", schema.Date, func(_ *calendarRule, t time.Time) any { return time.Date(t.Year(), 12, 31, 0, 0, 0, 0, time.UTC) }, plainSQL("(date_trunc('year', {d}) + interval '1 year - 1 day')::date")},
	{"fiscal_year", schema.Int, func(c *calendarRule, t time.Time) any { return int64(c.fiscalMonth(t).Year()) }, func(c *calendarRule) string { return "EXTRACT(year FROM " + c.fiscalSQL() + ")::bigint" }},
	{"fiscal_quarter", schema.Int, func(c *calendarRule, t time.Time) any { return quarter(c.fiscalMonth(t)) }, func(c *calendarRule) string { return "EXTRACT(quarter FROM " + c.fiscalSQL() + ")::bigint" }},
	{"fiscal_month", schema.Int, func(c *calendarRule, t time.Time) any { return int64(c.fiscalMonth(t).Month()) }, func(c *calendarRule) string { return "EXTRACT(month FROM " + c.fiscalSQL() + ")::bigint" }},
}

func (c *calendarRule) weekdaySQL() string {
	return fmt.Sprintf("((EXTRACT(isodow FROM {d})::bigint - %d + 7) %% 7 + 1)", c.firstDay)
}

// calendarNames are the names of months and days (from Monday) by language.
var calendarNames = map[string][2]string{
	"en": {"January February March April May June July August September October November December", "Monday Tuesday Wednesday Thursday Friday Saturday Sunday"},
	"de": {"Januar Februar März April Mai Juni Juli August September Oktober November Dezember", "Montag Dienstag Mittwoch Donnerstag Freitag Samstag Sonntag"},
	"fr": {"janvier février mars avril mai juin juillet août septembre octobre novembre décembre", "lundi mardi mercredi jeudi vendredi samedi dimanche"},
	"it": {"gennaio febbraio marzo aprile maggio giugno luglio agosto settembre ottobre novembre dicembre", "lunedì martedì mercoledì giovedì venerdì sabato domenica"},
	"es": {"enero febrero marzo abril mayo junio julio agosto septiembre octubre noviembre diciembre", "lunes martes miércoles jueves viernes sábado domingo"},
	"nb": {"januar februar mars april mai juni juli august september oktober november desember", "mandag tirsdag onsdag torsdag fredag lørdag søndag"},
}

// Bind implements Settings.
func (s *CalendarParts) Bind(c *Context, in []*schema.Schema) *Bound {
	o := &calendarOperator{column: c.column("column", in[0], s.Column)}
	if o.column >= 0 && !in[0].Columns[o.column].Type.Temporal() {
		c.Problem("column", "calendar parts are of a date or timestamp; %s is %s", s.Column, in[0].Columns[o.column].Type)
	}
	names, ok := calendarNames[orElse(s.Language, "en")]
	if !ok {
		c.Problem("language", "there are no names in %q; use en, de, fr, it, es or nb", s.Language)
	}
	first := map[string]int{"": 1, "monday": 1, "sunday": 7, "saturday": 6}[s.WeekDay]
	if first == 0 {
		c.Problem("first_day", "a week begins on monday, sunday or saturday, not on %q", s.WeekDay)
	}
	fiscal := max(s.Fiscal, 1)
	if s.Fiscal < 0 || s.Fiscal > 12 {
		c.Problem("fiscal_month", "a fiscal year begins in month 1 to 12, not %d", s.Fiscal)
	}
	o.rule = &calendarRule{strings.Fields(names[0]), strings.Fields(names[1]), first, fiscal}
	known := make([]string, len(allCalendarParts))
	for i, p := range allCalendarParts {
		known[i] = p.name
	}
	for i, name := range s.Parts {
		if !slices.Contains(known, name) {
			c.Problem(fmt.Sprintf("parts[%d]", i), "there is no calendar part %q; there are %s", name, strings.Join(known, ", "))
		}
	}
	out := &schema.Schema{Columns: slices.Clone(in[0].Columns)}
	for _, p := range allCalendarParts {
		if len(s.Parts) == 0 || slices.Contains(s.Parts, p.name) {
			o.parts = append(o.parts, p)
			out.Columns = append(out.Columns, schema.Column{Name: s.Prefix + p.name, Type: schema.Of(p.kind), Nullable: true})
		}
	}
	c.distinctNames(out, func(int) string { return "prefix" })
	o.schema = out
	return &Bound{Schema: out, MadeOf: madeOfNone, Operator: func() Operator { return o }, SQL: oneSQL(func(from []string) (string, error) {
		day := expr.QuoteName(in[0].Columns[o.column].Name)
		if in[0].Columns[o.column].Type.Kind == schema.TimestampTZ {
			day = "(" + day + " AT TIME ZONE 'UTC')"
		}
		cols := []string{columnList(in[0], nil)}
		for i, p := range o.parts {
			cols = append(cols, strings.ReplaceAll(p.sql(o.rule), "{d}", day+"::timestamp")+" AS "+expr.QuoteName(out.Columns[in[0].Len()+i].Name))
		}
		return "SELECT " + strings.Join(cols, ", ") + " FROM " + from[0], nil
	})}
}

type calendarOperator struct {
	RowWise
	column int
	rule   *calendarRule
	parts  []calendarPart
	schema *schema.Schema
}

func (o *calendarOperator) Push(_ int, b *batch.Batch, out Emitter) error {
	next := &batch.Batch{Schema: o.schema, N: b.N, Origin: b.Origin, Cols: slices.Clone(b.Cols)}
	days := make([]time.Time, b.N)
	col := b.Cols[o.column]
	for i := range days {
		if col.IsNull(i) {
			continue
		}
		switch a := col.(type) {
		case *array.Date32:
			days[i] = batch.Day(a.Value(i))
		case *array.Timestamp:
			t := time.UnixMicro(int64(a.Value(i))).UTC()
			days[i] = time.Date(t.Year(), t.Month(), t.Day(), 0, 0, 0, 0, time.UTC)
		}
	}
	for _, p := range o.parts {
		to := batch.NewBuilder(schema.Of(p.kind))
		for i, day := range days {
			if col.IsNull(i) {
				to.AppendNull()
				continue
			}
			switch v := p.of(o.rule, day).(type) {
			case int64:
				to.(*array.Int64Builder).Append(v)
			case string:
				to.(*array.StringBuilder).Append(v)
			case bool:
				to.(*array.BooleanBuilder).Append(v)
			case time.Time:
				to.(*array.Date32Builder).Append(batch.ToDay(v))
			}
		}
		next.Cols = append(next.Cols, arrow.Array(to.NewArray()))
	}
	return out.Emit(next)
}

func (s *CalendarParts) choices() map[string][]string {
	names := make([]string, len(allCalendarParts))
	for i, p := range allCalendarParts {
		names[i] = p.name
	}
	return map[string][]string{"parts": names}
}
