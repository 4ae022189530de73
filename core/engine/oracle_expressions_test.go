package engine_test

import (
	"slices"
	"strings"

	"welkin/core/expr"
	"welkin/core/schema"
	"welkin/core/step"
)

// Expressions, aggregates and keys of random sheets, each fit for its columns.

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
