package engine_test

import (
	"context"
	"encoding/json"
	"fmt"
	"math"
	"math/rand/v2"
	"os"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"welkin/core/engine"
	"welkin/core/expr"
	"welkin/core/schema"
	"welkin/core/sheet"
	"welkin/core/step"
	"welkin/localpg/pgtest"
)

// The oracle: random sheets over random rows run in the engine, and as SQL in
// PostgreSQL, and must give the same rows. WELKIN_ORACLE sets how long, such as
// 10m; WELKIN_SEED where it begins.

func TestMain(m *testing.M) { pgtest.Main(m) }

// author makes random sheets.
type author struct {
	*rand.Rand
	sheet    *sheet.Sheet
	plan     *engine.Plan
	coverage map[string]int      // settings used in the sheet being made
	uses     map[string][]string // the same by step
	places   []string            // in the order in which they were made
	n        int
}

// spot is something that a step may take rows from.
type spot struct {
	name   string
	schema *schema.Schema
	sorted bool // by a column without equals
	rows   int  // about how many, at most
}

func (a *author) one(list ...string) string { return list[a.IntN(len(list))] }

func (a *author) chance(of int) bool { return a.IntN(of) == 0 }

// use remembers that a setting has a value in the sheet.
func (a *author) use(setting, value string) string {
	a.coverage[setting+"="+value]++
	return value
}

func (a *author) choose(setting string, list ...string) string { return a.use(setting, a.one(list...)) }

var words = []string{"hut", "Ravens Seat", "høyfjell", "", " x ", "a,b", "12", "Ängst", "it's", "\"q\"", "日本", "hut", "HUT", "a-b-c", "tab\there", "zz"}

// table writes a base table as pasted rows. Keys are few, so that they meet.
func (a *author) table(id string) {
	cols := []step.ReadColumn{{Name: "id", Type: schema.Of(schema.Int)}, {Name: "k", Type: schema.Of(schema.Text)}, {Name: "n", Type: schema.Of(schema.Int)}, {Name: "d", Type: schema.DecimalOf(8, 2)},
		{Name: "s", Type: schema.Of(schema.Text)}, {Name: "day", Type: schema.Of(schema.Date)}, {Name: "f", Type: schema.Of(schema.Float)}, {Name: "b", Type: schema.Of(schema.Bool)},
		{Name: "at", Type: schema.Of(schema.Timestamp)}, {Name: "tz", Type: schema.Of(schema.TimestampTZ)}, {Name: "big", Type: schema.Of(schema.Int)}, {Name: "l", Type: schema.ListOf(schema.Of(schema.Int))}}
	quote := func(s string) string { return `"` + strings.ReplaceAll(s, `"`, `""`) + `"` }
	var text strings.Builder
	for i, c := range cols {
		if i > 0 {
			text.WriteByte(',')
		}
		text.WriteString(c.Name)
	}
	text.WriteByte('\n')
	rows := 8 + a.IntN(24)
	if a.chance(40) {
		rows = 0
	}
	if a.chance(3) {
		rows += 40
	}
	for i := range rows {
		cell := func(chance int, v string) string {
			if a.chance(chance) {
				return ""
			}
			return quote(v)
		}
		cells := []string{strconv.Itoa(i + 1), cell(8, a.one("a", "b", "c", "d", "")), cell(6, strconv.Itoa(a.IntN(9)-3)), cell(6, fmt.Sprintf("%.2f", float64(a.IntN(4000)-1500)/100)),
			cell(7, a.one(words...)), cell(7, time.Date(2026, 1, 1+a.IntN(420)-60, 0, 0, 0, 0, time.UTC).Format("2006-01-02")), cell(7, strconv.FormatFloat(float64(a.IntN(200)-70)/8, 'g', -1, 64)),
			cell(6, a.one("true", "false")), cell(7, time.Date(2026, 3, 29, a.IntN(48), a.IntN(60), a.IntN(60), a.IntN(4)*250e6, time.UTC).Format("2006-01-02 15:04:05.999")),
			cell(7, time.Date(2026, 10, 25, a.IntN(30)-3, 30, 0, 0, time.UTC).Format("2006-01-02 15:04:05")+"+00"), cell(6, a.one("9223372036854775807", "-9223372036854775808", "0", "1")),
			cell(6, a.one("[]", "[1]", "[3, 1, 2]", "[null, 5]", "[2, 2]"))}
		if cells[1] == "" && a.chance(2) {
			cells[1] = quote("a")
		}
		text.WriteString(strings.Join(cells, ",") + "\n")
	}
	a.sheet.Steps = append(a.sheet.Steps, &sheet.Step{ID: id, Kind: "pasted rows", Settings: &step.PastedRows{Rows: text.String(), Columns: cols}})
}

// columns lists a place's columns of some kinds.
func columns(s *schema.Schema, kinds ...schema.Kind) []string {
	var out []string
	for _, c := range s.Columns {
		if len(kinds) == 0 || slices.Contains(kinds, c.Type.Kind) {
			out = append(out, c.Name)
		}
	}
	return out
}

var plainKinds = []schema.Kind{schema.Int, schema.Text, schema.Decimal, schema.Date, schema.Bool, schema.Timestamp, schema.TimestampTZ, schema.Float}

// some picks up to most columns.
func (a *author) some(list []string, most int) []string {
	list = slices.Clone(list)
	a.Shuffle(len(list), func(i, j int) { list[i], list[j] = list[j], list[i] })
	return list[:min(1+a.IntN(most), len(list))]
}

// name makes a name for a new column; kind leads it.
func (a *author) name(kind string) string {
	a.n++
	if a.chance(6) {
		return fmt.Sprintf("%s Odd \"%d\"", kind, a.n)
	}
	return fmt.Sprintf("%s%d", kind, a.n)
}

// small lists the whole-number columns with which can be reckoned.
func small(s *schema.Schema) []string {
	return slices.DeleteFunc(columns(s, schema.Int), func(n string) bool { return strings.Contains(n, "big") || strings.Contains(n, "date_key") })
}

// expression makes one of a kind.
func (a *author) expression(s *schema.Schema, kind schema.Kind, deep int) string {
	leaf := func(cols []string, constants ...string) string {
		if len(cols) > 0 && !a.chance(4) {
			return expr.QuoteName(a.one(cols...))
		}
		return a.one(constants...)
	}
	of := func(k schema.Kind) string { return a.expression(s, k, deep-1) }
	flat := deep <= 0 || a.chance(3)
	switch kind {
	case schema.Int:
		if flat {
			return leaf(small(s), "0", "1", "7", "(-3)", "NULL::bigint")
		}
		i, t, b := of(schema.Int), of(schema.Text), of(schema.Bool)
		return a.one("("+i+" + "+of(schema.Int)+")", "("+i+" - "+of(schema.Int)+")", "("+i+" * 2)", "("+i+" % 3)", "length("+t+")", "coalesce("+i+", "+of(schema.Int)+")", "CASE WHEN "+b+" THEN "+i+" ELSE "+of(schema.Int)+" END",
			"nullif("+i+", 1)", "greatest("+i+", "+of(schema.Int)+")", "abs("+i+")", "("+of(schema.Date)+" - "+of(schema.Date)+")", "EXTRACT(month FROM "+of(schema.Date)+")::bigint", "position('a' in "+t+")", "("+i+" / 2)")
	case schema.Decimal:
		if flat {
			return leaf(columns(s, schema.Decimal), "1.50", "(-0.25)", "NULL::numeric(8,2)")
		}
		d := of(schema.Decimal)
		return a.one("round("+d+", 1)", "coalesce("+d+", 0.00)", "abs("+d+")", "least("+d+", "+of(schema.Decimal)+")", "CASE WHEN "+of(schema.Bool)+" THEN "+d+" END", "floor("+d+")")
	case schema.Text:
		if flat {
			return leaf(columns(s, schema.Text), "'hut'", "''", "'a-b'", "NULL::text")
		}
		t := of(schema.Text)
		return a.one("upper("+t+")", "lower("+t+")", "("+t+" || 'x')", "left("+t+", 2)", "replace("+t+", 'a', 'oo')", "substring("+t+", 2)", "coalesce("+t+", 'none')", "split_part("+t+", '-', 1)", "concat("+t+", "+of(schema.Int)+")", "lpad("+t+", 4, '*')", "reverse("+t+")", "md5("+t+")", "btrim("+t+")", "to_char("+of(schema.Date)+", 'YYYY-MM')", of(schema.Int)+"::text")
	case schema.Bool:
		if flat {
			return leaf(columns(s, schema.Bool), "true", "NULL::bool", "("+a.expression(s, schema.Int, 0)+" > 0)")
		}
		b := of(schema.Bool)
		return a.one("("+b+" AND "+of(schema.Bool)+")", "("+b+" OR "+of(schema.Bool)+")", "(NOT "+b+")", "("+of(schema.Int)+" < "+of(schema.Int)+")", "("+of(schema.Text)+" = "+of(schema.Text)+")", "("+of(schema.Text)+" IS NULL)", "("+of(schema.Decimal)+" >= "+of(schema.Decimal)+")",
			"("+of(schema.Int)+" BETWEEN "+of(schema.Int)+" AND "+of(schema.Int)+")", "("+of(schema.Int)+" IN (1, 2, NULL))", "("+of(schema.Text)+" LIKE '%a%')", "("+of(schema.Date)+" > "+of(schema.Date)+")", "("+of(schema.Int)+" IS DISTINCT FROM "+of(schema.Int)+")", "("+b+" IS NOT TRUE)")
	case schema.Date:
		if flat {
			return leaf(columns(s, schema.Date), "date '2026-02-28'", "NULL::date")
		}
		return a.one("("+of(schema.Date)+" + 3)", "coalesce("+of(schema.Date)+", date '2026-01-01')", "date_trunc('month', "+of(schema.Date)+"::timestamp)::date", "greatest("+of(schema.Date)+", "+of(schema.Date)+")")
	}
	return leaf(columns(s, kind), "NULL::"+schema.Of(kind).Postgres())
}

var expressionKinds = []schema.Kind{schema.Int, schema.Decimal, schema.Text, schema.Bool, schema.Date}

// derived makes an expression of any kind with a name that tells it.
func (a *author) derived(s *schema.Schema) step.DerivedEach {
	kind := expressionKinds[a.IntN(len(expressionKinds))]
	letter := map[schema.Kind]string{schema.Int: "n", schema.Decimal: "d", schema.Text: "s", schema.Bool: "b", schema.Date: "day"}[kind]
	return step.DerivedEach{Name: a.name(letter), Value: a.expression(s, kind, 2)}
}

func (a *author) aggregate(s *schema.Schema, unique bool) step.Derived {
	ints := small(s)
	value := []string{"count(*)", "count(" + a.expression(s, schema.Text, 1) + ")", "bool_and(" + a.expression(s, schema.Bool, 1) + ")", "bool_or(" + a.expression(s, schema.Bool, 1) + ")", "min(" + a.expression(s, schema.Text, 1) + ")", "max(" + a.expression(s, schema.Date, 1) + ")", "count(DISTINCT " + a.expression(s, schema.Text, 1) + ")",
		"string_agg(" + a.expression(s, schema.Text, 1) + ", ',' ORDER BY id)", "array_agg(" + a.expression(s, schema.Int, 1) + " ORDER BY id DESC)", "first(" + a.expression(s, schema.Int, 0) + " ORDER BY id)", "last(" + a.expression(s, schema.Text, 0) + " ORDER BY id)"}
	if len(ints) > 0 {
		n := expr.QuoteName(a.one(ints...))
		value = append(value, "sum("+n+")", "avg("+n+")", "min("+n+")", "max("+n+") + 1", "sum(DISTINCT "+n+")", "stddev("+n+")", "var_pop("+n+")", "median("+n+")", "percentile_disc(0.3) WITHIN GROUP (ORDER BY "+n+")", "mode() WITHIN GROUP (ORDER BY "+n+")", "sum("+n+") FILTER (WHERE "+a.expression(s, schema.Bool, 1)+")", "percentile_cont(0.75) WITHIN GROUP (ORDER BY "+n+" DESC)")
	}
	if !unique {
		value = slices.DeleteFunc(value, func(v string) bool { return strings.Contains(v, "ORDER BY id") })
	}
	v := a.one(value...)
	call, _, _ := strings.Cut(v, "(")
	a.use("group/aggregate", call)
	if strings.Contains(v, "FILTER") {
		a.use("group/aggregate", "FILTER")
	}
	if strings.Contains(v, "DISTINCT") {
		a.use("group/aggregate", "DISTINCT")
	}
	letter := "v"
	if strings.HasPrefix(v, "count") {
		letter = "n"
	}
	return step.Derived{Name: a.name(letter), Value: v}
}

func (a *author) sortKeys(kind string, s *schema.Schema, unique bool) []step.SortKey {
	var keys []step.SortKey
	for _, c := range a.some(columns(s, plainKinds...), 2) {
		k := step.SortKey{By: c, Order: a.choose(kind+"/order", "", step.Rising, step.Falling), Nulls: a.choose(kind+"/nulls", "", "first", "last")}
		keys = append(keys, k)
	}
	if unique {
		keys = append(keys, step.SortKey{By: "id", Order: a.one(step.Rising, step.Falling)})
	}
	return keys
}

// makers make the settings of each kind for rows of a place; nil when the kind
// does not fit. The bool tells whether id still tells rows of the result apart.
type maker func(a *author, in spot, others []spot, unique map[string]bool) (s step.Settings, with []string, keepsID bool)

var makers = map[string]maker{
	"keep rows": func(a *author, in spot, _ []spot, u map[string]bool) (step.Settings, []string, bool) {
		return &step.KeepRows{Where: a.expression(in.schema, schema.Bool, 2) + a.one("", " OR n > 0", " IS NOT FALSE", " OR id % 3 > 0", " IS NOT TRUE OR id > 4")}, nil, u[in.name]
	},
	"derive columns": func(a *author, in spot, _ []spot, u map[string]bool) (step.Settings, []string, bool) {
		d := &step.DeriveColumns{Columns: []step.DerivedEach{a.derived(in.schema)}}
		switch texts := columns(in.schema, schema.Text); {
		case a.chance(3) && len(texts) > 0:
			a.use("derive columns/each", "of type")
			d.Columns = append(d.Columns, step.DerivedEach{Name: "{name}", Value: "upper(:this)", Each: []string{"of type text"}})
		case a.chance(2):
			if cols := small(in.schema); len(cols) > 0 {
				a.use("derive columns/replace", "yes")
				if at := slices.DeleteFunc(slices.Clone(cols), func(n string) bool { return n == "id" }); len(at) > 0 {
					d.Columns = append(d.Columns, step.DerivedEach{Name: at[0], Value: a.expression(in.schema, schema.Int, 1)})
				}
			}
		}
		return d, nil, u[in.name]
	},
	"choose columns": func(a *author, in spot, _ []spot, u map[string]bool) (step.Settings, []string, bool) {
		c := &step.ChooseColumns{Others: a.choose("choose columns/others", "keep", "drop", "keep")}
		if a.chance(4) {
			c.Columns = append(c.Columns, step.Chosen{Take: a.choose("choose columns/take", "all", "of type number", "all but s, l")})
			c.Others = ""
		}
		if len(columns(in.schema, schema.Decimal)) > 0 {
			t := schema.Of(schema.Float)
			col := a.one(columns(in.schema, schema.Decimal)...)
			if a.chance(2) {
				t = schema.DecimalOf(20, 1)
			}
			if len(c.Columns) == 0 {
				a.use("choose columns/type", t.String())
				c.Columns = append(c.Columns, step.Chosen{Take: col, As: a.name("v"), Type: &t})
			}
		}
		if len(c.Columns) == 0 {
			c.Columns = append(c.Columns, step.Chosen{Take: "id", As: "id"})
		}
		if c.Others != "keep" && c.Columns[0].Take != "all" && !strings.HasPrefix(c.Columns[0].Take, "all but") && c.Columns[0].Take != "id" {
			for _, name := range []string{"id", "k", "n"} {
				if slices.Index(in.schema.Names(), name) >= 0 && !strings.HasPrefix(c.Columns[0].Take, "of type") {
					c.Columns = append(c.Columns, step.Chosen{Take: name})
				}
			}
		}
		return c, nil, u[in.name]
	},
	"tidy names": func(a *author, in spot, _ []spot, u map[string]bool) (step.Settings, []string, bool) {
		t := &step.TidyNames{}
		if a.use("tidy names/columns", a.one("all", "some")) == "some" {
			t.Columns = a.some(in.schema.Names(), 3)
		}
		return t, nil, u[in.name]
	},
	"split column": func(a *author, in spot, _ []spot, u map[string]bool) (step.Settings, []string, bool) {
		texts := columns(in.schema, schema.Text)
		if len(texts) == 0 {
			return nil, nil, false
		}
		s := &step.SplitColumn{Column: a.one(texts...), Into: []string{a.name("s"), a.name("s")}, Keep: a.choose("split column/keep", "true", "false") == "true"}
		if a.choose("split column/by", "at", "places") == "at" {
			s.At, s.Many = a.one("-", ",", "a"), a.choose("split column/too_many", "", "last takes the rest", "drop")
		} else {
			s.Places = []int{1 + a.IntN(2), 3}
		}
		return s, nil, u[in.name]
	},
	"calendar parts": func(a *author, in spot, _ []spot, u map[string]bool) (step.Settings, []string, bool) {
		days := columns(in.schema, schema.Date, schema.Timestamp, schema.TimestampTZ)
		if len(days) == 0 {
			return nil, nil, false
		}
		c := &step.CalendarParts{Column: a.one(days...), Prefix: a.name("c") + "_", Language: a.choose("calendar parts/language", "", "en", "de", "fr", "it", "es", "nb"),
			WeekDay: a.choose("calendar parts/first_day", "", "monday", "sunday", "saturday"), Fiscal: a.IntN(13)}
		a.use("calendar parts/fiscal_month", strconv.Itoa(c.Fiscal))
		if a.choose("calendar parts/parts", "all", "some") == "some" {
			c.Parts = a.some([]string{"iso_week", "iso_year", "weekday", "week_start", "fiscal_year", "month_name", "quarter_end", "year_quarter"}, 4)
		}
		return c, nil, u[in.name]
	},
	"mask": func(a *author, in spot, _ []spot, u map[string]bool) (step.Settings, []string, bool) {
		cols := slices.DeleteFunc(columns(in.schema, schema.Text, schema.Int, schema.Date), func(n string) bool { return n == "id" })
		if len(cols) == 0 {
			return nil, nil, false
		}
		return &step.Mask{Columns: a.some(cols, 2), How: a.use("mask/how", step.MaskKeepLast), Last: a.IntN(3)}, nil, u[in.name]
	},
	"spread list": func(a *author, in spot, _ []spot, _ map[string]bool) (step.Settings, []string, bool) {
		lists := slices.DeleteFunc(columns(in.schema, schema.List), func(n string) bool { return strings.HasPrefix(n, "changed") })
		if len(lists) == 0 {
			return nil, nil, false
		}
		s := &step.SpreadList{Column: a.one(lists...), Empty: a.choose("spread list/empty", "", "drop", "keep")}
		if a.choose("spread list/position", "yes", "no") == "yes" {
			s.Position = a.name("n")
		}
		return s, nil, false
	},
	"route": func(a *author, in spot, _ []spot, u map[string]bool) (step.Settings, []string, bool) {
		return &step.Route{Branches: []step.RouteBranch{{Name: "one", Where: a.expression(in.schema, schema.Bool, 1)}, {Name: "two", Where: a.expression(in.schema, schema.Bool, 2)}}, Match: a.choose("route/match", "", step.RouteAll)}, nil, u[in.name]
	},
	"drop duplicates": func(a *author, in spot, _ []spot, u map[string]bool) (step.Settings, []string, bool) {
		if u[in.name] && a.choose("drop duplicates/by", "key", "all") == "key" {
			return &step.DropDuplicates{By: a.some(columns(in.schema, plainKinds...), 2), Keep: a.sortKeys("drop duplicates", in.schema, true)}, nil, true
		}
		if slices.ContainsFunc(in.schema.Columns, func(c schema.Column) bool { return c.Type.Kind == schema.JSON }) {
			return nil, nil, false
		}
		return &step.DropDuplicates{}, nil, u[in.name]
	},
	"sort": func(a *author, in spot, _ []spot, u map[string]bool) (step.Settings, []string, bool) {
		return &step.Sort{By: a.sortKeys("sort", in.schema, u[in.name])}, nil, u[in.name]
	},
	"limit": func(a *author, in spot, _ []spot, u map[string]bool) (step.Settings, []string, bool) {
		if !in.sorted {
			return nil, nil, false
		}
		skip := a.IntN(2) * a.IntN(6)
		a.use("limit/skip", strconv.FormatBool(skip > 0))
		return &step.Limit{Rows: int64(2 + a.IntN(20)), Skip: int64(skip)}, nil, u[in.name]
	},
	"stack": func(a *author, in spot, others []spot, _ map[string]bool) (step.Settings, []string, bool) {
		with := []string{others[a.IntN(len(others))].name}
		if a.chance(3) {
			with = append(with, others[a.IntN(len(others))].name)
		}
		s := &step.Stack{Columns: a.choose("stack/columns", "", "of any", "of all")}
		if a.choose("stack/step_as", "yes", "no") == "yes" {
			s.StepAs = a.name("s")
		}
		return s, with, false
	},
	"join": func(a *author, in spot, others []spot, u map[string]bool) (step.Settings, []string, bool) {
		other := others[a.IntN(len(others))]
		on := a.keys(in.schema, other.schema)
		j := &step.Join{Rows: a.choose("join/rows", "", step.JoinMatched, step.JoinLeft, step.JoinRight, step.JoinAll, step.JoinWith, step.JoinWithout, step.JoinPairs), On: on, Suffix: a.choose("join/suffix", "", "_r"), Nulls: a.choose("join/nulls_match", "true", "false") == "true"}
		if j.Rows == step.JoinPairs {
			j.On = nil
		} else if len(on) == 0 {
			return nil, nil, false
		}
		if a.choose("join/take", "all", "some") == "some" {
			j.Take = a.some(other.schema.Names(), 3)
		}
		return j, []string{other.name}, u[in.name] && (j.Rows == step.JoinWith || j.Rows == step.JoinWithout)
	},
	"look up": func(a *author, in spot, others []spot, u map[string]bool) (step.Settings, []string, bool) {
		other := others[a.IntN(len(others))]
		on := a.keys(in.schema, other.schema)
		if len(on) == 0 || !u[other.name] {
			return nil, nil, false
		}
		take := a.some(columns(other.schema, schema.Int, schema.Text, schema.Decimal), 2)
		answer := func(setting string) step.Answer {
			do := a.choose("look up/"+setting, "", "use null", "use values", "drop")
			if do != "use values" {
				return step.Answer{Do: do}
			}
			value := "NULL"
			switch col := other.schema.Columns[other.schema.Index(take[0])]; col.Type.Kind {
			case schema.Int, schema.Decimal:
				value = "-1"
			case schema.Text:
				value = "'none'"
			}
			name := take[0]
			for slices.Contains(in.schema.Names(), name) {
				name += "_l"
			}
			return step.Answer{Do: do, Values: []step.Derived{{Name: name, Value: value}}}
		}
		l := &step.LookUp{On: on, Take: take, First: a.sortKeys("look up", other.schema, true), Suffix: "_l"}
		l.NoKey, l.NoMatch = answer("no_key"), answer("no_match")
		return l, []string{other.name}, u[in.name]
	},
	"find valid": func(a *author, in spot, others []spot, u map[string]bool) (step.Settings, []string, bool) {
		other := others[a.IntN(len(others))]
		on := a.keys(in.schema, other.schema)
		days := columns(in.schema, schema.Date)
		if len(on) == 0 || len(days) == 0 || !strings.HasPrefix(other.name, "t") || slices.Index(other.schema.Names(), "day") < 0 || slices.Index(other.schema.Names(), "at") < 0 || !u[other.name] || u["valid"] {
			return nil, nil, false
		}
		a.use("find valid/no_match", "drop")
		return &step.FindValid{On: on, At: a.one(days...), From: "day", To: "at", Take: []string{"day"}, NoMatch: step.Answer{Do: a.choose("find valid/no_match", "", "drop")}}, []string{other.name}, u[in.name]
	},
	"compare": func(a *author, in spot, others []spot, u map[string]bool) (step.Settings, []string, bool) {
		other := others[a.IntN(len(others))]
		if !u[in.name] || !u[other.name] {
			return nil, nil, false
		}
		c := &step.Compare{On: []step.JoinKey{{Left: "id"}}, Case: a.choose("compare/case", "", "counts", "does not count"), MarkAs: a.name("s"), Changed: a.name("changed")}
		shared := slices.DeleteFunc(columns(in.schema, plainKinds...), func(n string) bool { return n == "id" || slices.Index(other.schema.Names(), n) < 0 })
		if len(shared) == 0 {
			return nil, nil, false
		}
		c.Columns = a.some(shared, 3)
		if a.choose("compare/rows", "all", "some") == "some" {
			c.Rows = a.some([]string{"new", "changed", "gone", "same"}, 3)
		}
		return c, []string{other.name}, true
	},
	"group": func(a *author, in spot, _ []spot, u map[string]bool) (step.Settings, []string, bool) {
		g := &step.Group{}
		if by := a.choose("group/by", "none", "some", "some", "some"); by == "some" {
			g.By = a.some(columns(in.schema, plainKinds...), 2)
		}
		for range 1 + a.IntN(3) {
			g.Values = append(g.Values, a.aggregate(in.schema, u[in.name]))
		}
		return g, nil, slices.Contains(g.By, "id") && len(g.By) == 1
	},
	"pivot": func(a *author, in spot, _ []spot, _ map[string]bool) (step.Settings, []string, bool) {
		if slices.Index(in.schema.Names(), "k") < 0 || in.schema.Columns[in.schema.Index("k")].Type.Kind != schema.Text {
			return nil, nil, false
		}
		cols := slices.DeleteFunc(columns(in.schema, plainKinds...), func(n string) bool { return n == "k" })
		if len(cols) == 0 {
			return nil, nil, false
		}
		p := &step.Pivot{By: a.some(cols, 1), Column: "k", Value: "count(*)", Values: []string{"a", "b", "zz"}, Name: a.choose("pivot/name", "", "n {value}")}
		if ints := small(in.schema); len(ints) > 0 && a.chance(2) {
			p.Value = "sum(" + expr.QuoteName(a.one(ints...)) + ")"
		}
		return p, nil, p.By[0] == "id"
	},
	"unpivot": func(a *author, in spot, _ []spot, _ map[string]bool) (step.Settings, []string, bool) {
		cols := slices.DeleteFunc(columns(in.schema, schema.Int, schema.Decimal), func(n string) bool { return n == "id" || strings.Contains(n, "big") })
		if len(cols) == 0 {
			return nil, nil, false
		}
		u := &step.Unpivot{Columns: a.some(cols, 3), Empty: a.choose("unpivot/empty", "", "drop", "keep"), HeaderAs: a.name("s"), ValueAs: a.name("v")}
		if a.choose("unpivot/columns", "names", "words") == "words" {
			u.Columns = []string{"like n*"}
		}
		return u, nil, false
	},
	"window": func(a *author, in spot, _ []spot, u map[string]bool) (step.Settings, []string, bool) {
		if !u[in.name] {
			return nil, nil, false
		}
		w := &step.WindowStep{Order: a.sortKeys("window", in.schema, true)}
		if a.choose("window/by", "none", "some") == "some" {
			w.By = a.some(columns(in.schema, plainKinds...), 2)
		}
		if a.choose("window/order", "unique", "with equals") == "with equals" {
			w.Order = w.Order[:len(w.Order)-1]
		}
		unique := len(w.Order) > 0 && w.Order[len(w.Order)-1].By == "id"
		if frame := a.choose("window/frame", "none", "rows", "moving", "whole"); frame != "none" && unique {
			w.Frame = map[string]*step.FrameSet{"rows": {Before: "all", After: "0"}, "moving": {Before: strconv.Itoa(a.IntN(4)), After: strconv.Itoa(a.IntN(3))}, "whole": {Before: "all", After: "all"}}[frame]
		}
		values := []string{"rank()", "dense_rank()", "percent_rank()", "cume_dist()", "count(*)", "max(" + a.expression(in.schema, schema.Date, 0) + ")"}
		ints := small(in.schema)
		if len(ints) > 0 {
			values = append(values, "sum("+expr.QuoteName(a.one(ints...))+")", "avg("+expr.QuoteName(a.one(ints...))+")", "min("+expr.QuoteName(a.one(ints...))+")", "count(*) FILTER (WHERE "+a.expression(in.schema, schema.Bool, 0)+")")
		}
		if unique {
			e := a.expression(in.schema, schema.Text, 0)
			values = append(values, "row_number()", "ntile(3)", "lag("+e+")", "lead("+e+", 2)", "lag("+e+", 1, 'none')", "first_value("+e+")", "last_value("+e+")", "nth_value("+e+", 2)")
		}
		for range 1 + a.IntN(3) {
			v := a.one(values...)
			call, _, _ := strings.Cut(v, "(")
			a.use("window/value", call)
			w.Values = append(w.Values, step.Derived{Name: a.name("w"), Value: v})
		}
		return w, nil, true
	},
	"sql": func(a *author, in spot, others []spot, u map[string]bool) (step.Settings, []string, bool) {
		other := others[a.IntN(len(others))]
		if other.name == in.name || !u[in.name] || !u[other.name] || len(small(in.schema)) == 0 {
			return nil, nil, false
		}
		quote := func(name string) string {
			id, branch := sheet.Source(name)
			if branch == "" {
				return id
			}
			return id + "." + expr.QuoteName(branch)
		}
		n, where := expr.QuoteName(a.one(small(in.schema)...)), a.expression(in.schema, schema.Bool, 1)
		queries := map[string]string{
			"where":     "SELECT *, " + n + " + 1 AS more FROM {x} WHERE " + where,
			"group":     "SELECT " + n + " % 3 AS part, count(*) AS n1, sum(" + n + ") AS total FROM {x} GROUP BY 1 HAVING count(*) > 1",
			"join":      "SELECT a.id, b.id AS other FROM {x} AS a JOIN {y} b ON a.id = b.id + 1 WHERE a.id > 2",
			"left":      "SELECT a.id, coalesce(b.id, 0) AS other FROM {x} a LEFT JOIN {y} b ON a.id = b.id AND b.id > 5",
			"using":     "SELECT id FROM {x} FULL JOIN {y} USING (id)",
			"exists":    "SELECT x.id FROM {x} x WHERE EXISTS (SELECT 1 FROM {y} y WHERE y.id = x.id AND y.id % 2 = 0)",
			"not":       "SELECT x.id FROM {x} x WHERE NOT EXISTS (SELECT 1 FROM {y} y WHERE y.id = x.id + 3)",
			"in":        "SELECT id FROM {x} WHERE id IN (SELECT id * 2 FROM {y})",
			"scalar":    "SELECT id, (SELECT max(id) FROM {y}) - id AS rest FROM {x}",
			"union":     "SELECT id FROM {x} UNION SELECT id + 5 FROM {y}",
			"except":    "SELECT id FROM {x} EXCEPT SELECT id FROM {y} WHERE id > 6",
			"intersect": "SELECT id FROM {x} INTERSECT SELECT id + 1 FROM {y}",
			"cte":       "WITH big AS (SELECT id, " + n + " AS v FROM {x} WHERE id > 1), two AS (SELECT v, count(*) AS c FROM big GROUP BY v) SELECT big.id, two.c FROM big JOIN two ON two.v = big.v",
			"window":    "SELECT id, rank() OVER (PARTITION BY " + n + " ORDER BY id DESC) AS r, sum(id) OVER (ORDER BY id ROWS BETWEEN 2 PRECEDING AND CURRENT ROW) AS moving FROM {x}",
			"sub":       "SELECT q.part, max(q.id) AS id FROM (SELECT id, id % 4 AS part FROM {x}) AS q GROUP BY q.part",
			"distinct":  "SELECT DISTINCT " + n + " AS v FROM {x} ORDER BY v DESC LIMIT 7",
			"on":        "SELECT DISTINCT ON (" + n + ") " + n + " AS v, id FROM {x} ORDER BY " + n + ", id DESC",
			"comma":     "SELECT a.id, b.id AS other FROM {x} a, {y} b WHERE a.id = b.id AND a.id < 20 ORDER BY 1 LIMIT 12 OFFSET 2",
		}
		names := make([]string, 0, len(queries))
		for k := range queries {
			names = append(names, k)
		}
		slices.Sort(names)
		kind := a.choose("sql/query", names...)
		return &step.SQLStep{Query: strings.NewReplacer("{x}", quote(in.name), "{y}", quote(other.name)).Replace(queries[kind])}, []string{other.name}, kind == "where"
	},
	"generate rows": func(a *author, _ spot, _ []spot, _ map[string]bool) (step.Settings, []string, bool) {
		if a.choose("generate rows/of", "numbers", "dates") == "numbers" {
			return &step.GenerateRows{Column: "n", From: strconv.Itoa(a.IntN(5) - 2), To: strconv.Itoa(a.IntN(30)), Every: a.choose("generate rows/every", "", "3")}, nil, false
		}
		return &step.GenerateRows{Column: "day", From: "date '2026-01-31'", To: "date '2026-12-31'", Every: a.choose("generate rows/every", "", "interval '1 month'", "interval '2 weeks'")}, nil, false
	},
}

// keys picks a pair of columns of one type on both sides.
func (a *author) keys(l, r *schema.Schema) []step.JoinKey {
	var out []step.JoinKey
	for _, name := range a.some([]string{"k", "n", "id", "day", "big", "b"}, 2) {
		if x, y := slices.Index(l.Names(), name), slices.Index(r.Names(), name); x >= 0 && y >= 0 && l.Columns[x].Type == r.Columns[y].Type {
			out = append(out, step.JoinKey{Left: name, Right: name})
		}
	}
	return out
}

// write makes a sheet of up to eight steps over two tables; last is the place
// whose rows are compared.
func (a *author) write() (last string) {
	a.sheet, a.coverage, a.n = &sheet.Sheet{Name: "oracle"}, map[string]int{}, 0
	a.uses, a.places = map[string][]string{}, nil
	a.table("t1")
	a.table("t2")
	a.plan = a.bind()
	unique := map[string]bool{"t1": true, "t2": true}
	places := []spot{{"t1", a.plan.Step("t1").Schema(), false, 70}, {"t2", a.plan.Step("t2").Schema(), false, 70}}
	last = "t1"
	kinds := make([]string, 0, len(makers))
	for k := range makers {
		kinds = append(kinds, k)
	}
	slices.Sort(kinds)
	steps := 1 + a.IntN(8)
	for tries := 0; steps > 0 && tries < 60; tries++ {
		in := places[a.IntN(len(places))]
		if a.chance(3) || len(places) > 2 && a.chance(2) {
			in = places[len(places)-1]
		}
		kind := a.one(append(kinds, "sql", "sql", "look up", "join")...)
		if in.sorted && a.chance(2) {
			kind = "limit"
		}
		before := map[string]int{}
		for k, v := range a.coverage {
			before[k] = v
		}
		settings, with, keepsID := makers[kind](a, in, places, unique)
		if settings == nil || about(in, with, places, settings) > 5500 {
			a.coverage = before
			continue
		}
		st := &sheet.Step{ID: fmt.Sprintf("s%d", len(a.sheet.Steps)-1), Kind: kind, From: in.name, Settings: settings}
		if kind == "generate rows" {
			st.From = ""
		}
		if len(with) > 0 {
			st.With, st.More = with[0], with[1:]
		}
		a.sheet.Steps = append(a.sheet.Steps, st)
		plan := a.bind()
		planned := plan.Step(st.ID)
		if !plan.Ready() && kind == "sql" && os.Getenv("WELKIN_COVERAGE") != "" {
			fmt.Println(settings.(*step.SQLStep).Query, plan.Problems)
		}
		wide := planned.Bound != nil && planned.Bound.Schema != nil && planned.Bound.Schema.Len() > 70
		if !plan.Ready() || planned.Bound == nil || wide {
			a.sheet.Steps = a.sheet.Steps[:len(a.sheet.Steps)-1]
			a.coverage = before
			continue
		}
		a.plan = plan
		a.use(kind, "used")
		for k, n := range a.coverage {
			if n > before[k] {
				a.uses[st.ID] = append(a.uses[st.ID], k)
			}
		}
		steps--
		if planned.Bound.Schema != nil {
			p := spot{st.ID, planned.Bound.Schema, kind == "sort" && unique[in.name], about(in, with, places, settings)}
			places = append(places, p)
			unique[p.name] = keepsID && slices.Index(p.schema.Names(), "id") >= 0 && p.schema.Columns[slices.Index(p.schema.Names(), "id")].Type.Kind == schema.Int
			last = p.name
			a.places = append(a.places, last)
		}
		for _, b := range planned.Bound.Branches {
			p := spot{st.ID + "." + b.Name, b.Schema, false, in.rows}
			places = append(places, p)
			unique[p.name] = keepsID
			last = p.name
			a.places = append(a.places, last)
		}
	}
	if len(a.places) == 0 {
		a.places = []string{last}
	}
	return last
}

// about estimates how many rows a step gives.
func about(in spot, with []string, places []spot, s step.Settings) int {
	rows := in.rows
	for _, name := range with {
		for _, p := range places {
			if p.name != name {
				continue
			}
			switch j := s.(type) {
			case *step.Join:
				if rows = rows * p.rows / 4; j.Rows == step.JoinPairs {
					rows *= 4
				}
			case *step.Stack, *step.Compare:
				rows += p.rows
			}
		}
	}
	switch u := s.(type) {
	case *step.SpreadList:
		rows *= 2
	case *step.Unpivot:
		rows *= 3
	case *step.Limit:
		rows = int(u.Rows)
	}
	return rows
}

func (a *author) bind() *engine.Plan {
	return engine.Bind(context.Background(), a.sheet, nil, engine.Binding{Now: time.Date(2026, 11, 23, 0, 0, 0, 0, time.UTC)})
}

// outcome is what a sheet gave, rows as text in order.
type outcome struct {
	rows  []string
	aside int
	err   error
}

// within runs the part of a plan up to a place in the engine.
func within(p *engine.Plan, at string, t engine.Trial) outcome {
	id, branch := sheet.Source(at)
	t.Step, t.Show = id, 1<<30
	if t.Clock == nil {
		t.Clock = time.Now
	}
	tried, err := engine.Try(context.Background(), p, t)
	if err != nil {
		return outcome{err: err}
	}
	for _, acc := range tried.Steps {
		if imbalance := acc.Imbalance(); imbalance != "" {
			return outcome{err: fmt.Errorf("%s", imbalance)}
		}
	}
	rows := tried.After
	for _, b := range tried.Branches {
		if b.Name == branch {
			rows = b.Rows
		}
	}
	out := outcome{aside: len(tried.SetAside)}
	for _, r := range rows.Rows {
		cells := make([]string, len(r))
		for i, c := range r {
			cells[i] = "∅"
			if c != nil {
				cells[i] = rounded(*c, rows.Columns[i].Type)
			}
		}
		out.rows = append(out.rows, strings.Join(cells, "|"))
	}
	slices.Sort(out.rows)
	return out
}

// rounded brings floats, and decimals with many digits, to ten digits, so that
// sums in another order compare.
func rounded(text string, t schema.Type) string {
	if t.Kind != schema.Float && (t.Kind != schema.Decimal || t.Scale < 10) {
		return text
	}
	f, err := strconv.ParseFloat(text, 64)
	if err != nil {
		return text
	}
	if f = math.Round(f*1e8) / 1e8; f == 0 {
		f = 0
	}
	return strconv.FormatFloat(f, 'g', 10, 64)
}

// there runs the same part as SQL.
func there(conn *pgx.Conn, p *engine.Plan, at string) outcome {
	id, branch := sheet.Source(at)
	text, err := p.SQL(id, branch)
	if err != nil {
		return outcome{err: err}
	}
	_, s, _ := p.Step(id).Bound.Output(branch)
	cols := make([]string, s.Len())
	for i, c := range s.Columns {
		if cols[i] = expr.QuoteName(c.Name) + "::text"; c.Type.Kind == schema.List {
			cols[i] = "to_jsonb(" + expr.QuoteName(c.Name) + ")::text"
		}
	}
	rows, err := conn.Query(context.Background(), "SELECT ARRAY["+strings.Join(cols, ", ")+"]::text[] FROM ("+text+") AS x", pgx.QueryExecModeSimpleProtocol)
	if err != nil {
		return outcome{err: err}
	}
	var out outcome
	found, err := pgx.CollectRows(rows, pgx.RowTo[[]*string])
	if err != nil {
		return outcome{err: fmt.Errorf("%w\n%s", err, text)}
	}
	for _, r := range found {
		cells := make([]string, len(r))
		for i, c := range r {
			cells[i] = "∅"
			if c != nil {
				cells[i] = rounded(*c, s.Columns[i].Type)
			}
		}
		out.rows = append(out.rows, strings.Join(cells, "|"))
	}
	slices.Sort(out.rows)
	return out
}

func oracleTime() time.Duration {
	if d, err := time.ParseDuration(os.Getenv("WELKIN_ORACLE")); err == nil {
		return d
	}
	return 30 * time.Second
}

func oracleSeed() uint64 {
	if n, err := strconv.ParseUint(os.Getenv("WELKIN_SEED"), 10, 64); err == nil {
		return n
	}
	return 1
}

// newAuthor makes the sheet of a seed.
func newAuthor(seed uint64) *author {
	a := &author{Rand: rand.New(rand.NewPCG(seed, 7))}
	a.write()
	return a
}

// describe writes the steps without the base tables.
func (a *author) describe() string {
	text := ""
	for _, st := range a.sheet.Steps[2:] {
		settings, _ := json.Marshal(st.Settings)
		text += fmt.Sprintf("%s: %s from %v %s\n", st.ID, st.Kind, st.Inputs(), settings)
	}
	return text
}

// ancestors lists the steps that a place depends on, with its own.
func (a *author) ancestors(at string) []string {
	id, _ := sheet.Source(at)
	var out []string
	for _, st := range a.sheet.UpTo(id).Steps {
		out = append(out, st.ID)
	}
	return out
}

func difference(a, b []string) string {
	var out []string
	i, j := 0, 0
	for (i < len(a) || j < len(b)) && len(out) < 6 {
		switch {
		case i < len(a) && j < len(b) && a[i] == b[j]:
			i, j = i+1, j+1
		case j >= len(b) || i < len(a) && a[i] < b[j]:
			out = append(out, "engine alone:     "+a[i])
			i++
		default:
			out = append(out, "PostgreSQL alone: "+b[j])
			j++
		}
	}
	return strings.Join(out, "\n")
}

func TestRandomSheetsGiveWhatPostgresGives(t *testing.T) {
	_, address := pgtest.Database(t)
	conn, err := pgx.Connect(context.Background(), address)
	require.NoError(t, err)
	defer conn.Close(context.Background())
	_, err = conn.Exec(context.Background(), "SET TIME ZONE 'UTC'; SET jit = off")
	require.NoError(t, err)
	coverage := map[string]int{}
	sheets, empty, refused, differ := 0, 0, 0, 0
	until := time.Now().Add(oracleTime())
	for seed := oracleSeed(); time.Now().Before(until) && differ < 5; seed++ {
		a := newAuthor(seed)
		sheets++
		filled := false
		// The last place that has rows, and every empty one behind it.
		for i := len(a.places) - 1; i >= 0 && !filled && i > len(a.places)-6; i-- {
			at := a.places[i]
			got, want := within(a.plan, at, engine.Trial{}), there(conn, a.plan, at)
			switch {
			case got.err == nil && got.aside > 0 && want.err != nil: // rows that fail end the statement there
				refused++
				filled = true
			case got.err != nil || want.err != nil || got.aside > 0 || !slices.Equal(got.rows, want.rows):
				differ++
				filled = true
				t.Errorf("seed %d at %s: engine %d rows, %d set aside, %v; PostgreSQL %d rows, %v\n%s\n%s", seed, at, len(got.rows), got.aside, got.err, len(want.rows), want.err, difference(got.rows, want.rows), a.describe())
			case len(got.rows) > 0:
				filled = true
				for _, st := range a.ancestors(at) {
					for _, k := range a.uses[st] {
						coverage[k]++
					}
				}
			}
		}
		if !filled {
			empty++
		}
	}
	t.Logf("%d sheets from seed %d: %d empty, %d refused, %d settings used", sheets, oracleSeed(), empty, refused, len(coverage))
	assert.LessOrEqual(t, float64(empty+refused), 0.05*float64(sheets)+1, "sheets empty or refused")
	least, at := math.MaxInt, ""
	for k, n := range coverage {
		if n < least {
			least, at = n, k
		}
	}
	t.Logf("the setting used least with rows: %s, %d times", at, least)
	if os.Getenv("WELKIN_COVERAGE") != "" {
		for k, n := range coverage {
			t.Logf("%6d %s", n, k)
		}
	}
	if sheets >= 6000 {
		assert.GreaterOrEqual(t, least, 50, at)
	}
}

// TestResultsDoNotDependOnHowTheyAreComputed runs random sheets with other batch
// sizes, workers, and a budget that makes every step spill.
func TestResultsDoNotDependOnHowTheyAreComputed(t *testing.T) {
	ways := map[string]engine.Trial{"rows of one": {Rows: 1}, "rows of 7": {Rows: 7}, "rows of 1000, one worker": {Rows: 1000, Workers: 1},
		"spilling": {Budget: 1, Temp: t.TempDir()}, "spilling, rows of 7, two workers": {Budget: 1, Rows: 7, Workers: 2, Temp: t.TempDir()}}
	until := time.Now().Add(oracleTime() / 3)
	sheets := 0
	for seed := oracleSeed() + 500_000; time.Now().Before(until) && !t.Failed(); seed++ {
		a := newAuthor(seed)
		at := a.places[len(a.places)-1]
		want := within(a.plan, at, engine.Trial{})
		for name, way := range ways {
			got := within(a.plan, at, way)
			if got.err != nil || want.err != nil || got.aside != want.aside || !slices.Equal(got.rows, want.rows) {
				t.Errorf("seed %d at %s, %s: %v %v, %d and %d rows\n%s\n%s", seed, at, name, got.err, want.err, len(got.rows), len(want.rows), difference(got.rows, want.rows), a.describe())
			}
		}
		sheets++
	}
	t.Logf("%d sheets, each in %d ways", sheets, len(ways)+1)
	left, err := os.ReadDir(ways["spilling"].Temp)
	require.NoError(t, err)
	assert.Empty(t, left, "temporary files are removed")
}
