package engine_test

import (
	"slices"
	"strconv"
	"strings"

	"welkin/core/expr"
	"welkin/core/schema"
	"welkin/core/sheet"
	"welkin/core/step"
)

// Settings of random steps, by their kind.

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
		if unique { // half of them are those that need a whole order
			e := a.expression(in.schema, schema.Text, 0)
			values = append(values[:min(len(values), 3+a.IntN(8))], "row_number()", "ntile(3)", "lag("+e+")", "lead("+e+", 2)", "lag("+e+", 1, 'none')", "first_value("+e+")", "last_value("+e+")", "nth_value("+e+", 2)")
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
			"where":  "SELECT *, " + n + " + 1 AS more FROM {x} WHERE " + where,
			"group":  "SELECT " + n + " % 3 AS part, count(*) AS n1, sum(" + n + ") AS total FROM {x} GROUP BY 1 HAVING count(*) > 1",
			"join":   "SELECT a.id, b.id AS other FROM {x} AS a JOIN {y} b ON a.id = b.id + 1 WHERE a.id > 2",
			"left":   "SELECT a.id, coalesce(b.id, 0) AS other FROM {x} a LEFT JOIN {y} b ON a.id = b.id AND b.id > 5",
			"using":  "SELECT id FROM {x} FULL JOIN {y} USING (id)",
			"exists": "SELECT x.id FROM {x} x WHERE EXISTS (SELECT 1 FROM {y} y WHERE y.id = x.id AND y.id % 2 = 0)",
			"not":    "SELECT x.id FROM {x} x WHERE NOT EXISTS (SELECT 1 FROM {y} y WHERE y.id = x.id + 3)",
			"in":     "SELECT id FROM {x} WHERE id IN (SELECT id * 2 FROM {y})",
			"not in": a.one("SELECT id FROM {x} WHERE nullif("+n+" % 5, 2) NOT IN (SELECT id % 4 FROM {y} WHERE id < 3)",
				"SELECT id FROM {x} WHERE id NOT IN (SELECT nullif(id, 9) FROM {y} WHERE id > 7)", "SELECT id FROM {x} WHERE nullif(id, 2) NOT IN (SELECT nullif(id, 8) FROM {y} WHERE id > 5000)"),
			"scalar":    "SELECT id, (SELECT max(id) FROM {y}) - id AS rest FROM {x}",
			"union":     "SELECT id FROM {x} UNION SELECT id + 5 FROM {y}",
			"except":    a.one("SELECT id FROM {x} EXCEPT SELECT id FROM {y} WHERE id > 6", "SELECT nullif(id % 3, 1) AS part, 1 AS one FROM {x} EXCEPT ALL SELECT id % 2, 1 FROM {y} WHERE id < 4"),
			"intersect": a.one("SELECT id FROM {x} INTERSECT SELECT id + 1 FROM {y}", "SELECT id % 3 AS part FROM {x} INTERSECT ALL SELECT nullif(id % 2, 1) FROM {y}"),
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
