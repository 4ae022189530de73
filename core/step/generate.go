package step

import (
	"context"
	"fmt"
	"io"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"

	"welkin/core/batch"
	"welkin/core/expr"
	"welkin/core/schema"
)

var generateRows = Kind{
	Name: "generate rows", Role: Read, New: func() Settings { return &GenerateRows{} },
	Help: "Makes rows of counted numbers or of days.", Example: "day from date '2026-01-01' to current_date",
	Words: "series sequence range numbers dates calendar days create",
}

// GenerateRows makes one row for each number or day from one to another, both
// included.
type GenerateRows struct {
	Column string `json:"column" jsonschema:"title=column,description=The name of the column made"`
	From   string `json:"from_value" jsonschema:"title=first,description=A whole number or a date; an expression that may use parameters,format=sql"`
	To     string `json:"to_value" jsonschema:"title=last,description=A whole number or a date,format=sql"`
	Every  string `json:"every,omitempty" jsonschema:"title=every,description=A number or an interval such as interval '1 month'; 1 or one day when left out,format=sql"`
}

// maxGenerated is how many rows one step makes at most.
const maxGenerated = 1_000_000_000

// Sentence implements Settings.
func (s *GenerateRows) Sentence() string {
	return fmt.Sprintf("generate `%s` from `%s` to `%s`", orElse(s.Column, "…"), orElse(s.From, "…"), orElse(s.To, "…"))
}

// constant evaluates an expression that names no column.
func (c *Context) constant(path, text string) (arrow.Array, *expr.Program) {
	p, err := expr.Bind(text, expr.Scope{Schema: &schema.Schema{}, Params: c.Params})
	if err != nil {
		c.exprProblem(path, text, err)
		return nil, nil
	}
	v, problems := p.Eval(&expr.Env{Now: c.Now}, &batch.Batch{Schema: &schema.Schema{}, N: 1})
	if len(problems) > 0 {
		c.Problem(path, "%s", problems[0].Sentence)
		return nil, nil
	}
	if v.IsNull(0) {
		c.Problem(path, "a value is needed here; this is null")
		return nil, nil
	}
	return v, p
}

// Bind implements Settings.
func (s *GenerateRows) Bind(c *Context, _ []*schema.Schema) *Bound {
	if s.Column == "" {
		c.Problem("column", "the column made has no name")
	}
	from, p := c.constant("from_value", s.From)
	to, q := c.constant("to_value", s.To)
	if c.Failed() {
		return nil
	}
	t := p.Type
	if t != q.Type || t.Kind != schema.Int && t.Kind != schema.Date {
		c.Problem("to_value", "first and last are both whole numbers or both dates, not %s and %s", t, q.Type)
		return nil
	}
	g := &generated{column: s.Column, every: interval{Days: 1}, step: 1}
	every := orElse(s.Every, "1")
	if t.Kind == schema.Date && s.Every == "" {
		every = "interval '1 day'"
	}
	v, p := c.constant("every", every)
	if c.Failed() {
		return nil
	}
	switch by := v.(type) {
	case *array.Int64:
		g.step = by.Value(0)
		g.every = interval{Days: int32(min(max(g.step, -1<<30), 1<<30))}
	case *array.MonthDayNanoInterval:
		if g.every = by.Value(0); t.Kind == schema.Int || g.every.Nanoseconds != 0 {
			c.Problem("every", "numbers go by whole numbers and days by days, weeks, months or years")
		}
	default:
		c.Problem("every", "every is a whole number or an interval, not %s", p.Type)
	}
	span := batch.IntervalMicros(g.every)
	if t.Kind == schema.Int && g.step == 0 || t.Kind == schema.Date && span == 0 {
		c.Problem("every", "the rows would never end: every is nothing")
	}
	if c.Failed() {
		return nil
	}
	if t.Kind == schema.Int {
		g.from, g.to = from.(*array.Int64).Value(0), to.(*array.Int64).Value(0)
	} else {
		g.dates = true
		g.from, g.to = int64(from.(*array.Date32).Value(0)), int64(to.(*array.Date32).Value(0))
		g.step = max(span/86_400_000_000, 1)
		if span < 0 {
			g.step = min(span/86_400_000_000, -1)
		}
	}
	if float64(g.to-g.from)/float64(g.step) > maxGenerated {
		c.Problem("to_value", "that would be more than %d rows", maxGenerated)
		return nil
	}
	g.schema = schema.New(schema.Column{Name: s.Column, Type: t})
	return &Bound{Schema: g.schema, Source: g, SQL: oneSQL(func([]string) (string, error) { return g.sql(), nil })}
}

type interval = arrow.MonthDayNanoInterval

type generated struct {
	column   string
	schema   *schema.Schema
	dates    bool
	from, to int64 // numbers, or days since 1970
	step     int64
	every    interval
}

func (g *generated) sql() string {
	name := expr.QuoteName(g.column)
	if !g.dates {
		return fmt.Sprintf("SELECT generate_series(%d::bigint, %d::bigint, %d::bigint) AS %s", g.from, g.to, g.step, name)
	}
	day := func(d int64) string { return "date '" + batch.Day(arrow.Date32(d)).Format("2006-01-02") + "'" }
	return fmt.Sprintf("SELECT (%s + n * interval '%s')::date AS %s FROM generate_series(0, %d) AS n WHERE (%s + n * interval '%s')::date %s %s", day(g.from),
		batch.FormatInterval(g.every), name, max((g.to-g.from)/g.step+32, 0), day(g.from), batch.FormatInterval(g.every), map[bool]string{true: "<=", false: ">="}[g.step > 0], day(g.to))
}

// Version implements Versioned: the settings say it all.
func (g *generated) Version() string { return "" }

// Open implements Source.
func (g *generated) Open(_ context.Context, limit int64) (Reader, error) {
	return &generator{generated: g, limit: limit}, nil
}

type generator struct {
	*generated
	n, limit int64
}

// at gives the nth value; ok is false behind the last. Months are counted from
// the first day, so that ends of months don't wander.
func (g *generator) at(n int64) (v int64, ok bool) {
	if !g.dates {
		v = g.from + n*g.step
	} else {
		t := batch.Day(arrow.Date32(g.from))
		if g.every.Months != 0 {
			months := int(int64(g.every.Months) * n)
			first := t.AddDate(0, months, 1-t.Day())
			last := first.AddDate(0, 1, -1).Day()
			t = first.AddDate(0, 0, min(t.Day(), last)-1)
		}
		v = int64(batch.ToDay(t.AddDate(0, 0, int(int64(g.every.Days)*n))))
	}
	return v, g.step > 0 && v <= g.to || g.step < 0 && v >= g.to
}

// Next implements Reader.
func (g *generator) Next(context.Context) (Chunk, error) {
	out := batch.NewBuilder(g.schema.Columns[0].Type)
	n := 0
	for ; n < batch.Rows && (g.limit == 0 || g.n < g.limit); n++ {
		v, ok := g.at(g.n)
		if !ok {
			break
		}
		g.n++
		switch to := out.(type) {
		case *array.Int64Builder:
			to.Append(v)
		case *array.Date32Builder:
			to.Append(arrow.Date32(v))
		}
	}
	if n == 0 {
		return Chunk{}, io.EOF
	}
	return Chunk{Batch: &batch.Batch{Schema: g.schema, N: n, Cols: []arrow.Array{out.NewArray()}}, Seen: int64(n)}, nil
}

// Close implements Reader.
func (g *generator) Close() error { return nil }
