package step

import (
	"fmt"
	"strings"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"

	"welkin/core/batch"
	"welkin/core/expr"
	"welkin/core/schema"
)

var chooseColumns = Kind{
	Name: "choose columns", Role: Work, Ports: []string{"rows"}, New: func() Settings { return &ChooseColumns{} },
	Help: "Picks columns, puts them in order, renames them and gives them other types.", Example: "take hut_no as hut, int",
	Words: "select pick order rename retype cast type drop columns",
}

// ChooseColumns picks, orders, renames and retypes columns.
type ChooseColumns struct {
	Columns []Chosen `json:"columns" jsonschema:"title=columns"`
	Others  string   `json:"others,omitempty" jsonschema:"title=all others,description=What happens to columns not listed,enum=drop,enum=keep"`
}

// Chosen is one column taken.
type Chosen struct {
	Take   string       `json:"take" jsonschema:"title=take,description=The column's name or words such as: like m_*"`
	As     string       `json:"as,omitempty" jsonschema:"title=as,description=Its new name; the same when left out"`
	Type   *schema.Type `json:"type,omitempty" jsonschema:"title=type,type=string,description=Its new type; the same when left out"`
	Format string       `json:"format,omitempty" jsonschema:"title=format,description=How dates in text are written such as DD.MM.YYYY"`
	Bad    string       `json:"bad,omitempty" jsonschema:"title=where it does not fit,enum=set aside,enum=use null"`
}

const useNull = "use null"

// Sentence implements Settings.
func (s *ChooseColumns) Sentence() string {
	var taken, retyped []string
	for _, c := range s.Columns {
		name := orElse(c.As, c.Take)
		if c.Type != nil {
			retyped = append(retyped, name+"` as `"+c.Type.String())
		} else {
			taken = append(taken, name)
		}
	}
	all := append(retyped, taken...)
	tail := ""
	if s.Others == "keep" {
		tail = ", keep the others"
	}
	return "take " + list(all, 4) + tail
}

// Bind implements Settings.
func (s *ChooseColumns) Bind(c *Context, in []*schema.Schema) *Bound {
	out := &schema.Schema{}
	o := &chooseOperator{}
	taken := map[int]bool{}
	var paths []string
	for i, ch := range s.Columns {
		path := fmt.Sprintf("columns[%d]", i)
		for _, at := range c.pickOne(path+".take", in[0], ch.Take) {
			if picks(ch.Take) && taken[at] {
				continue // taken by its name already
			}
			taken[at] = true
			out.Columns = append(out.Columns, o.take(c, path, in[0].Columns[at], at, ch))
			paths = append(paths, path)
		}
	}
	if s.Others == "keep" {
		for i, col := range in[0].Columns {
			if !taken[i] {
				out.Columns = append(out.Columns, col)
				o.picks = append(o.picks, picked{from: i, to: col.Type})
				paths = append(paths, "others")
			}
		}
	}
	if len(s.Columns) == 0 && s.Others != "keep" {
		c.Problem("columns", "no column is taken; list at least one")
	}
	c.distinctNames(out, func(i int) string { return paths[i] })
	o.schema = out
	return &Bound{Schema: out, Operator: func() Operator { return o }, Uses: o.uses(in[0]), Carries: o.carries(in[0]), SQL: oneSQL(func(from []string) (string, error) { return o.sql(from[0], in[0]) })}
}

// take binds one column taken.
func (o *chooseOperator) take(c *Context, path string, col schema.Column, at int, ch Chosen) schema.Column {
	pick := picked{from: at, to: col.Type, format: ch.Format, useNull: ch.Bad == useNull}
	if ch.Format != "" && (col.Type.Kind != schema.Text || ch.Type == nil || !ch.Type.Temporal()) {
		c.Problem(path+".format", "a format is for text that becomes a date or timestamp")
	}
	if ch.Type != nil {
		if !expr.Castable(col.Type, *ch.Type) {
			c.Problem(path+".type", "%s can't become %s", col.Type, *ch.Type)
		}
		pick.to, col.Type = *ch.Type, *ch.Type
		col.Nullable = col.Nullable || pick.useNull
	}
	o.picks = append(o.picks, pick)
	col.Name = named(orElse(ch.As, col.Name), col.Name)
	return col
}

// carries is for the columns that keep their type.
func (o *chooseOperator) carries(in *schema.Schema) Carries {
	return func(column int) int {
		p := o.picks[column]
		if in.Columns[p.from].Type != p.to {
			return -1
		}
		return p.from
	}
}

// uses takes what is wanted, and what is retyped: that may fail.
func (o *chooseOperator) uses(in *schema.Schema) func(wanted []bool) [][]bool {
	return func(wanted []bool) [][]bool {
		used := make([]bool, in.Len())
		for k, p := range o.picks {
			used[p.from] = used[p.from] || wanted[k] || in.Columns[p.from].Type != p.to
		}
		return [][]bool{used}
	}
}

type picked struct {
	from    int
	to      schema.Type
	format  string
	useNull bool
}

type chooseOperator struct {
	RowWise
	schema *schema.Schema
	picks  []picked
}

func (o *chooseOperator) Push(_ int, b *batch.Batch, out Emitter) error {
	next := &batch.Batch{Schema: o.schema, Cols: make([]arrow.Array, len(o.picks)), N: b.N, Origin: b.Origin}
	var bad map[int32]bool
	for k, p := range o.picks {
		from := b.Schema.Columns[p.from]
		if from.Type == p.to {
			next.Cols[k] = b.Cols[p.from]
			continue
		}
		var problems []expr.Problem
		if p.format != "" {
			next.Cols[k], problems = parseFormat(b.Cols[p.from].(*array.String), p.to, p.format)
		} else {
			next.Cols[k], problems, _ = expr.Cast(b, p.from, p.to)
		}
		for _, problem := range problems {
			if p.useNull || bad[problem.Row] {
				continue
			}
			if bad == nil {
				bad = map[int32]bool{}
			}
			bad[problem.Row] = true
			value := batch.Text(b.Cols[p.from], from.Type, int(problem.Row))
			if err := out.SetAside(b, int(problem.Row), from.Name, value, problem.Fault); err != nil {
				return err
			}
		}
	}
	return out.Emit(without(next, bad))
}

func (o *chooseOperator) sql(from string, in *schema.Schema) (string, error) {
	parts := make([]string, len(o.picks))
	for i, p := range o.picks {
		value := expr.QuoteName(in.Columns[p.from].Name)
		if from := in.Columns[p.from].Type; from != p.to {
			if p.format != "" || p.useNull {
				return "", noSQL("dates in a form of their own, and values that become null, are read here")
			}
			cast, err := expr.CastSQL(value, from, p.to)
			if err != nil {
				return "", err
			}
			value = cast
		}
		parts[i] = value + " AS " + expr.QuoteName(o.schema.Columns[i].Name)
	}
	return "SELECT " + strings.Join(parts, ", ") + " FROM " + from, nil
}

// parseFormat reads dates written in a form of their own.
func parseFormat(a *array.String, t schema.Type, form string) (arrow.Array, []expr.Problem) {
	out := batch.NewBuilder(t)
	var problems []expr.Problem
	for i := range a.Len() {
		if a.IsNull(i) {
			out.AppendNull()
			continue
		}
		v, fault := expr.ParseTime(a.Value(i), form)
		if fault != nil {
			problems = append(problems, expr.Problem{Row: int32(i), Fault: fault})
			out.AppendNull()
			continue
		}
		if d, ok := out.(*array.Date32Builder); ok {
			d.Append(batch.ToDay(v))
		} else {
			out.(*array.TimestampBuilder).Append(arrow.Timestamp(v.UnixMicro()))
		}
	}
	return out.NewArray(), problems
}
