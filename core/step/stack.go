package step

import (
	"fmt"
	"slices"
	"strings"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"

	"welkin/core/batch"
	"welkin/core/expr"
	"welkin/core/schema"
)

var stackRows = Kind{
	Name: "stack", Role: Work, Ports: []string{"rows", "more rows"}, Many: true, New: func() Settings { return &Stack{} },
	Help: "Puts the rows of several steps under each other; columns meet by name.", Example: "seven club lists, step name as club",
	Words: "union all append concatenate merge files together",
}

// Stack gives the rows of all inputs. Columns meet by name; one that an input
// has not is null for its rows.
type Stack struct {
	Columns string `json:"columns,omitempty" jsonschema:"title=columns,description=Those of any input or only those that all have,enum=of any,enum=of all"`
	StepAs  string `json:"step_as,omitempty" jsonschema:"title=step name as,description=A column that says from which step a row came"`
}

// Sentence implements Settings.
func (s *Stack) Sentence() string {
	if s.StepAs != "" {
		return "stack, step name as `" + s.StepAs + "`"
	}
	return "stack by name"
}

// Bind implements Settings.
func (s *Stack) Bind(c *Context, in []*schema.Schema) *Bound {
	if s.Columns != "" && s.Columns != "of any" && s.Columns != "of all" {
		c.Problem("columns", "columns are those of any or of all, not %q", s.Columns)
	}
	o := &stackOperator{schema: &schema.Schema{}, names: c.Inputs}
	for n, one := range in {
		for _, col := range one.Columns {
			if s.Columns == "of all" && lacking(in, col.Name) {
				continue
			}
			at := slices.Index(o.schema.Names(), col.Name)
			if at < 0 {
				col.Nullable = col.Nullable || n > 0
				o.schema.Columns = append(o.schema.Columns, col)
				continue
			}
			t, ok := schema.Common(o.schema.Columns[at].Type, col.Type)
			if !ok {
				c.Problem("columns", "column %q is %s in one step and %s in another; give it one type in a step before", col.Name, o.schema.Columns[at].Type, col.Type)
				continue
			}
			o.schema.Columns[at].Type = t
			o.schema.Columns[at].Nullable = o.schema.Columns[at].Nullable || col.Nullable
		}
	}
	for i, col := range o.schema.Columns {
		o.schema.Columns[i].Nullable = col.Nullable || lacking(in, col.Name)
	}
	for _, one := range in {
		from := make([]int, o.schema.Len())
		for i, col := range o.schema.Columns {
			from[i] = slices.Index(one.Names(), col.Name)
		}
		o.from = append(o.from, from)
	}
	if len(o.schema.Columns) == 0 {
		c.Problem("columns", "the steps have no column in common")
	}
	if s.StepAs != "" {
		o.schema.Columns = append(o.schema.Columns, schema.Column{Name: s.StepAs, Type: schema.Of(schema.Text)})
		c.distinctNames(o.schema, func(int) string { return "step_as" })
		o.label = true
	}
	return &Bound{Schema: o.schema, Operator: func() Operator { return o }, SQL: oneSQL(func(from []string) (string, error) { return o.sql(in, from), nil })}
}

// lacking tells whether one of the inputs has no column of a name.
func lacking(in []*schema.Schema, name string) bool {
	return slices.ContainsFunc(in, func(one *schema.Schema) bool { return !slices.Contains(one.Names(), name) })
}

type stackOperator struct {
	RowWise
	schema *schema.Schema
	from   [][]int // by input, by column out: column in, or -1
	names  []string
	label  bool
}

func (o *stackOperator) name(in int) string {
	if in < len(o.names) {
		return o.names[in]
	}
	return fmt.Sprint(in + 1)
}

func (o *stackOperator) Push(in int, b *batch.Batch, out Emitter) error {
	next := &batch.Batch{Schema: o.schema, N: b.N, Origin: b.Origin}
	var bad map[int32]bool
	for i, at := range o.from[in] {
		t := o.schema.Columns[i].Type
		switch {
		case at < 0:
			next.Cols = append(next.Cols, batch.Nulls(t, b.N))
		case b.Schema.Columns[at].Type == t:
			next.Cols = append(next.Cols, b.Cols[at])
		default:
			col, problems, _ := expr.Cast(b, at, t)
			for _, p := range problems {
				if bad[p.Row] {
					continue
				}
				if bad == nil {
					bad = map[int32]bool{}
				}
				bad[p.Row] = true
				if err := out.SetAside(b, int(p.Row), b.Schema.Columns[at].Name, batch.Text(b.Cols[at], b.Schema.Columns[at].Type, int(p.Row)), p.Fault); err != nil {
					return err
				}
			}
			next.Cols = append(next.Cols, col)
		}
	}
	if o.label {
		names := batch.NewBuilder(schema.Of(schema.Text)).(*array.StringBuilder)
		for range b.N {
			names.Append(o.name(in))
		}
		next.Cols = append(next.Cols, arrow.Array(names.NewArray()))
	}
	return out.Emit(without(next, bad))
}

func (o *stackOperator) sql(in []*schema.Schema, from []string) string {
	parts := make([]string, len(from))
	for n, relation := range from {
		var cols []string
		for i, at := range o.from[n] {
			col := o.schema.Columns[i]
			value := "NULL"
			if at >= 0 {
				value = expr.QuoteName(in[n].Columns[at].Name)
			}
			cols = append(cols, value+"::"+col.Type.Postgres()+" AS "+expr.QuoteName(col.Name))
		}
		if o.label {
			cols = append(cols, expr.QuoteText(o.name(n))+"::text AS "+expr.QuoteName(o.schema.Columns[o.schema.Len()-1].Name))
		}
		parts[n] = "SELECT " + strings.Join(cols, ", ") + " FROM " + relation
	}
	return strings.Join(parts, " UNION ALL ")
}
