package step

import (
	"fmt"

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
	Take   string       `json:"take" jsonschema:"title=take,description=The column's name"`
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
		at := c.column(path+".take", in[0], ch.Take)
		if at < 0 {
			continue
		}
		taken[at] = true
		col := in[0].Columns[at]
		pick := picked{from: at, to: col.Type, format: ch.Format, useNull: ch.Bad == useNull}
		if ch.Type != nil {
			if !expr.Castable(col.Type, *ch.Type) {
				c.Problem(path+".type", "%s can't become %s", col.Type, *ch.Type)
			}
			pick.to, col.Type = *ch.Type, *ch.Type
			col.Nullable = col.Nullable || pick.useNull
		}
		if ch.Format != "" && (in[0].Columns[at].Type.Kind != schema.Text || !col.Type.Temporal()) {
			c.Problem(path+".format", "a format is for text that becomes a date or timestamp")
		}
		col.Name = orElse(ch.As, col.Name)
		out.Columns = append(out.Columns, col)
		o.picks = append(o.picks, pick)
		paths = append(paths, path)
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
	return &Bound{Schema: out, Operator: func() Operator { return o }}
}

type picked struct {
	from    int
	to      schema.Type
	format  string
	useNull bool
}

type chooseOperator struct {
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

func (o *chooseOperator) End(int, Emitter) error { return nil }

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
