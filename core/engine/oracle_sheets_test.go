package engine_test

import (
	"context"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"

	"welkin/core/engine"
	"welkin/core/schema"
	"welkin/core/sheet"
	"welkin/core/step"
)

// The sheets that the oracle tries: their tables and the order of their steps.

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
		kind := a.one(append(kinds, "sql", "sql", "sql", "sql", "sql", "sql", "window", "window", "window", "group", "group", "look up", "join")...)
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
