package step

import (
	"fmt"
	"slices"

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
	Columns []DerivedEach `json:"columns" jsonschema:"title=columns"`
}

// Derived is one computed column.
type Derived struct {
	Name  string `json:"name" jsonschema:"title=name"`
	Value string `json:"value" jsonschema:"title=value,description=An expression in SQL,format=sql"`
}

// DerivedEach is a column, or one for each of several that are picked: then
// :this is the picked column and {name} in the name is its name.
type DerivedEach struct {
	Name  string   `json:"name" jsonschema:"title=name"`
	Value string   `json:"value" jsonschema:"title=value,description=An expression in SQL,format=sql"`
	Each  []string `json:"each,omitempty" jsonschema:"title=for each of,description=Columns for which it is derived once each; :this is the column and {name} its name"`
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
	o := deriveOperator{}
	current := in[0]
	for i, d := range s.Columns {
		path := fmt.Sprintf("columns[%d]", i)
		if d.Name == "" {
			c.Problem(path+".name", "the derived column has no name")
		}
		if len(d.Each) == 0 {
			current = o.bind(c, path, Derived{d.Name, d.Value}, current, 0)
			continue
		}
		for _, at := range c.pick(path+".each", current, d.Each) {
			current = o.bind(c, path, Derived{named(d.Name, current.Columns[at].Name), d.Value}, current, at+1)
		}
	}
	if len(s.Columns) == 0 {
		c.Problem("columns", "no column is derived yet; add a name and a value")
	}
	return &Bound{Schema: current, Operator: func() Operator { return &o }, Uses: o.uses(in[0]), Carries: o.carries(in[0]), MadeOf: o.madeOf(in[0]), SQL: oneSQL(func(from []string) (string, error) { return o.sql(from[0], in[0]) })}
}

// bind adds one derived column; this is the column that :this means, from 1.
func (o *deriveOperator) bind(c *Context, path string, d Derived, current *schema.Schema, this int) *schema.Schema {
	scope := c.scope(current)
	scope.This = this
	p, err := expr.Bind(d.Value, scope)
	if err == nil && p.Type.Kind == schema.Interval {
		err = fmt.Errorf("an interval can't stand in a column; take its days, such as departed - arrived of two dates")
	}
	col := schema.Column{Name: d.Name, Nullable: true, Type: schema.Of(schema.Text)}
	if err != nil {
		c.exprProblem(path+".value", d.Value, err)
	} else {
		col.Type = p.Type
	}
	next, place := with(current, col)
	o.columns, o.programs = append(o.columns, d), append(o.programs, p)
	o.schemas, o.places = append(o.schemas, next), append(o.places, place)
	return next
}

// carries is for the columns that are not derived.
func (o *deriveOperator) carries(in *schema.Schema) Carries {
	return func(column int) int {
		if column >= in.Len() || slices.Contains(o.places, column) {
			return -1
		}
		return column
	}
}

// madeOf goes back to the columns that came in, through derived ones.
func (o *deriveOperator) madeOf(in *schema.Schema) func(column int) []int {
	return func(column int) []int {
		wanted := make([]bool, max(in.Len(), column+1)+len(o.programs))
		wanted[column] = true
		for k := len(o.programs) - 1; k >= 0; k-- {
			if wanted[o.places[k]] {
				wanted[o.places[k]] = false
				marked(wanted, readBy(o.programs[k]))
			}
		}
		var out []int
		for at, yes := range wanted[:in.Len()] {
			if yes {
				out = append(out, at)
			}
		}
		return out
	}
}

// uses goes back from the last derived column to the first.
func (o *deriveOperator) uses(in *schema.Schema) func(wanted []bool) [][]bool {
	return func(wanted []bool) [][]bool {
		used := append([]bool{}, wanted...)
		for k := len(o.programs) - 1; k >= 0; k-- {
			used[o.places[k]] = false
			marked(used, readBy(o.programs[k]))
		}
		return [][]bool{used[:in.Len()]}
	}
}

// sql nests one SELECT in another, since each value sees those above it.
func (o *deriveOperator) sql(from string, before *schema.Schema) (string, error) {
	for i, p := range o.programs {
		value, err := p.SQL()
		if err != nil {
			return "", err
		}
		name := expr.QuoteName(o.columns[i].Name)
		list := "*, " + value + " AS " + name
		if o.places[i] < before.Len() {
			list = columnList(o.schemas[i], map[int]string{o.places[i]: value})
		}
		if i > 0 {
			from = "(" + from + fmt.Sprintf(") AS d%d", i)
		}
		from, before = "SELECT "+list+" FROM "+from, o.schemas[i]
	}
	return from, nil
}

type deriveOperator struct {
	RowWise
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
