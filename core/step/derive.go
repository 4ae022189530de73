package step

import (
	"fmt"

	"github.com/apache/arrow-go/v18/arrow"

	"welkin/core/batch"
	"welkin/core/expr"
	"welkin/core/schema"
)

var deriveColumns = Kind{
	Name: "derive columns", Role: Work, Ports: []string{"rows"}, New: func() Settings { return &DeriveColumns{} },
	Help: "Adds columns computed from the others, or replaces columns of the same name.", Example: "nights: departed - arrived",
	Words: "compute calculate formula expression new column replace clean",
}

// DeriveColumns adds computed columns. A name that is there already is
// replaced, at its place. Each value sees the columns that came in and those
// derived above it.
type DeriveColumns struct {
	Columns []Derived `json:"columns" jsonschema:"title=columns"`
}

// Derived is one computed column.
type Derived struct {
	Name  string `json:"name" jsonschema:"title=name"`
	Value string `json:"value" jsonschema:"title=value,description=An expression in SQL,format=sql"`
}

// Sentence implements Settings.
func (s *DeriveColumns) Sentence() string {
	switch len(s.Columns) {
	case 0:
		return "derive columns"
	case 1:
		return fmt.Sprintf("derive `%s` = `%s`", s.Columns[0].Name, s.Columns[0].Value)
	}
	names := make([]string, len(s.Columns))
	for i, d := range s.Columns {
		names[i] = d.Name
	}
	return "derive " + list(names, 4)
}

// Bind implements Settings.
func (s *DeriveColumns) Bind(c *Context, in []*schema.Schema) *Bound {
	current := in[0]
	programs := make([]*expr.Program, len(s.Columns))
	schemas := make([]*schema.Schema, len(s.Columns)) // after each column
	places := make([]int, len(s.Columns))
	for i, d := range s.Columns {
		path := fmt.Sprintf("columns[%d].value", i)
		if d.Name == "" {
			c.Problem(fmt.Sprintf("columns[%d].name", i), "the derived column has no name")
		}
		p, err := expr.Bind(d.Value, c.scope(current))
		if err == nil && p.Type.Kind == schema.Interval {
			err = fmt.Errorf("an interval can't stand in a column; take its days, such as departed - arrived of two dates")
		}
		col := schema.Column{Name: d.Name, Nullable: true, Type: schema.Of(schema.Text)}
		if err != nil {
			c.exprProblem(path, d.Value, err)
		} else {
			programs[i], col.Type = p, p.Type
		}
		next := &schema.Schema{Columns: append([]schema.Column{}, current.Columns...)}
		if places[i] = current.Index(d.Name); places[i] >= 0 && current.Columns[places[i]].Name == d.Name {
			next.Columns[places[i]] = col
		} else {
			places[i] = len(next.Columns)
			next.Columns = append(next.Columns, col)
		}
		schemas[i], current = next, next
	}
	if len(s.Columns) == 0 {
		c.Problem("columns", "no column is derived yet; add a name and a value")
	}
	return &Bound{Schema: current, Operator: func() Operator {
		return &deriveOperator{s.Columns, programs, schemas, places}
	}}
}

type deriveOperator struct {
	columns  []Derived
	programs []*expr.Program
	schemas  []*schema.Schema
	places   []int
}

func (o *deriveOperator) Push(_ int, b *batch.Batch, out Emitter) error {
	original := b // set-aside rows are kept as they came in
	var bad map[int32]bool
	current := b
	for k, p := range o.programs {
		values, problems := p.Eval(out.Env(), current)
		for _, problem := range problems {
			if bad[problem.Row] {
				continue
			}
			if bad == nil {
				bad = map[int32]bool{}
			}
			bad[problem.Row] = true
			value := o.columns[k].Value
			if len(p.Columns) == 1 {
				value = batch.Text(current.Cols[p.Columns[0]], current.Schema.Columns[p.Columns[0]].Type, int(problem.Row))
			}
			if err := out.SetAside(original, int(problem.Row), o.columns[k].Name, value, problem.Fault); err != nil {
				return err
			}
		}
		next := &batch.Batch{Schema: o.schemas[k], N: b.N, Origin: b.Origin}
		next.Cols = append(append([]arrow.Array{}, current.Cols...), values)
		if o.places[k] < len(current.Cols) {
			next.Cols = next.Cols[:len(current.Cols)]
			next.Cols[o.places[k]] = values
		}
		current = next
	}
	return out.Emit(without(current, bad))
}

func (o *deriveOperator) End(int, Emitter) error { return nil }

// without gives the rows that are not bad.
func without(b *batch.Batch, bad map[int32]bool) *batch.Batch {
	if len(bad) == 0 {
		return b
	}
	rows := make([]int32, 0, b.N)
	for i := range int32(b.N) {
		if !bad[i] {
			rows = append(rows, i)
		}
	}
	return b.Take(rows)
}
