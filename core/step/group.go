package step

import (
	"fmt"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"

	"welkin/core/batch"
	"welkin/core/expr"
	"welkin/core/schema"
)

var groupKind = Kind{
	Name: "group", Role: Work, Ports: []string{"rows"}, New: func() Settings { return &Group{} },
	Help: "Brings rows with the same keys together into one and aggregates the others' values.", Example: "by hut, night: sum(guests)",
	Words: "aggregate sum count average total by",
}

// Group gives one row for each combination of the key columns; rows whose key
// is null form a group of their own. Without keys all rows are one group, also
// when there are none.
type Group struct {
	By     []string  `json:"by,omitempty" jsonschema:"title=by,description=The columns that make a group"`
	Values []Derived `json:"values" jsonschema:"title=values,description=What is computed for each group such as sum(nights)"`
}

// Sentence implements Settings.
func (s *Group) Sentence() string {
	names := make([]string, len(s.Values))
	for i, v := range s.Values {
		names[i] = v.Name
	}
	by := "all rows"
	if len(s.By) > 0 {
		by = "by " + list(s.By, 4)
	}
	return "group " + by + ": " + list(names, 4)
}

// Bind implements Settings.
func (s *Group) Bind(c *Context, in []*schema.Schema) *Bound {
	out := &schema.Schema{}
	o := groupPlan{env: in[0]}
	var paths []string
	for i, name := range s.By {
		path := fmt.Sprintf("by[%d]", i)
		at := c.column(path, in[0], name)
		if at < 0 {
			continue
		}
		if !batch.Orderable(in[0].Columns[at].Type) {
			c.Problem(path, "%s can't be a key", in[0].Columns[at].Type)
		}
		o.keys = append(o.keys, at)
		out.Columns = append(out.Columns, in[0].Columns[at])
		paths = append(paths, path)
	}
	texts := make([]string, len(s.Values))
	for i, v := range s.Values {
		texts[i] = v.Value
	}
	programs, found, errs := expr.BindAggregates(texts, o.keys, c.scope(in[0]))
	for i, v := range s.Values {
		path := fmt.Sprintf("values[%d]", i)
		col := schema.Column{Name: v.Name, Type: schema.Of(schema.Text), Nullable: true}
		if errs[i] != nil {
			c.exprProblem(path+".value", v.Value, errs[i])
		} else {
			col.Type = programs[i].Type
		}
		out.Columns = append(out.Columns, col)
		paths = append(paths, path+".name")
	}
	if len(s.By) == 0 && len(s.Values) == 0 {
		c.Problem("by", "nothing to group by and nothing to compute; add a column or a value")
	}
	c.distinctNames(out, func(i int) string { return paths[i] })
	o.programs, o.aggregates, o.schema = programs, found, out
	o.middle = &schema.Schema{}
	for _, k := range o.keys {
		o.middle.Columns = append(o.middle.Columns, in[0].Columns[k])
	}
	for _, a := range found {
		o.middle.Columns = append(o.middle.Columns, schema.Column{Type: a.Type, Nullable: true})
	}
	return &Bound{Schema: out, Operator: func() Operator { return newGroup(o) }}
}

type groupPlan struct {
	env        *schema.Schema
	keys       []int
	aggregates []expr.Aggregate
	programs   []*expr.Program // over middle
	middle     *schema.Schema  // keys, then results of aggregates
	schema     *schema.Schema
}

type groupOperator struct {
	groupPlan
	groups   map[string]int32
	firsts   []array.Builder // the keys' values by group
	states   []expr.State
	n        int
	keyBytes int64
	scratch  []byte
}

func newGroup(p groupPlan) *groupOperator {
	o := &groupOperator{groupPlan: p, groups: map[string]int32{}}
	for _, k := range p.keys {
		o.firsts = append(o.firsts, batch.NewBuilder(p.env.Columns[k].Type))
	}
	for _, a := range p.aggregates {
		o.states = append(o.states, a.NewState())
	}
	return o
}

func (o *groupOperator) Push(_ int, b *batch.Batch, out Emitter) error {
	args, filters := make([]arrow.Array, len(o.aggregates)), make([]*array.Boolean, len(o.aggregates))
	var bad map[int32]bool
	eval := func(p *expr.Program) (arrow.Array, error) {
		values, problems := p.Eval(out.Env(), b)
		for _, problem := range problems {
			if bad[problem.Row] {
				continue
			}
			if bad == nil {
				bad = map[int32]bool{}
			}
			bad[problem.Row] = true
			if err := out.SetAside(b, int(problem.Row), "", "", problem.Fault); err != nil {
				return nil, err
			}
		}
		return values, nil
	}
	for k, a := range o.aggregates {
		var err error
		if a.Arg != nil {
			if args[k], err = eval(a.Arg); err != nil {
				return err
			}
		}
		if a.Filter != nil {
			v, err := eval(a.Filter)
			if err != nil {
				return err
			}
			filters[k] = v.(*array.Boolean)
		}
	}
	ids := make([]int32, b.N)
	absorbed := 0
	for i := range b.N {
		if bad[int32(i)] {
			ids[i] = -1
			continue
		}
		ids[i] = o.group(b, i)
		absorbed++
	}
	for k, s := range o.states {
		s.Grow(o.n)
		for i, id := range ids {
			if id >= 0 && (filters[k] == nil || filters[k].IsValid(i) && filters[k].Value(i)) {
				s.Add(int(id), args[k], i)
			}
		}
	}
	out.Absorbed(absorbed)
	held := o.keyBytes
	for _, s := range o.states {
		held += s.Bytes()
	}
	return out.Holds(held)
}

// group gives the number of the group row i belongs to.
func (o *groupOperator) group(b *batch.Batch, i int) int32 {
	o.scratch = o.scratch[:0]
	for _, k := range o.keys {
		o.scratch = batch.AppendKey(o.scratch, b.Cols[k], i)
	}
	if id, ok := o.groups[string(o.scratch)]; ok {
		return id
	}
	id := int32(o.n)
	o.groups[string(o.scratch)] = id
	for j, k := range o.keys {
		batch.AppendFrom(o.firsts[j], b.Cols[k], i)
	}
	o.n++
	o.keyBytes += int64(len(o.scratch))*2 + 64
	return id
}

func (o *groupOperator) End(_ int, out Emitter) error {
	if len(o.keys) == 0 && o.n == 0 {
		o.n = 1
	}
	result := &batch.Batch{Schema: o.middle, N: o.n}
	for _, f := range o.firsts {
		result.Cols = append(result.Cols, f.NewArray())
	}
	var failed error
	for k, s := range o.states {
		s.Grow(o.n)
		result.Cols = append(result.Cols, s.Result(func(_ int, f *batch.Fault) {
			failed = fmt.Errorf("%s of a group can't be held: %s", o.aggregates[k].Name, f.Sentence)
		}))
	}
	if failed != nil {
		return failed
	}
	final := &batch.Batch{Schema: o.schema, N: o.n, Cols: append([]arrow.Array{}, result.Cols[:len(o.keys)]...)}
	out.Made(o.n)
	var bad map[int32]bool
	for k, p := range o.programs {
		values, problems := p.Eval(out.Env(), result)
		final.Cols = append(final.Cols, values)
		for _, problem := range problems {
			if bad == nil {
				bad = map[int32]bool{}
			}
			if !bad[problem.Row] {
				bad[problem.Row] = true
				if err := out.SetAside(&batch.Batch{Schema: &schema.Schema{Columns: o.middle.Columns[:len(o.keys)]}, Cols: result.Cols[:len(o.keys)], N: o.n}, int(problem.Row), o.schema.Columns[len(o.keys)+k].Name, p.Text, problem.Fault); err != nil {
					return err
				}
			}
		}
	}
	final = without(final, bad)
	for from := 0; from < final.N; from += batch.Rows {
		if err := out.Emit(final.Slice(from, min(from+batch.Rows, final.N))); err != nil {
			return err
		}
	}
	return nil
}
