package step

import (
	"fmt"
	"strings"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/zeebo/xxh3"

	"welkin/core/batch"
	"welkin/core/expr"
	"welkin/core/schema"
	"welkin/core/spill"
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
	Values []Derived `json:"values,omitempty" jsonschema:"title=values,description=What is computed for each group such as sum(nights)"`
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
	p := &groupPlan{in: in[0], keys: c.pick("by", in[0], s.By), schema: &schema.Schema{}}
	var paths []string
	for i, at := range p.keys {
		if col := in[0].Columns[at]; !batch.Orderable(col.Type) {
			c.Problem(fmt.Sprintf("by[%d]", min(i, len(s.By)-1)), "%s can't be a key", col.Type)
		}
		p.schema.Columns = append(p.schema.Columns, in[0].Columns[at])
		paths = append(paths, "by")
	}
	texts := make([]string, len(s.Values))
	for i, v := range s.Values {
		texts[i] = v.Value
	}
	programs, found, errs := expr.BindAggregates(texts, p.keys, c.scope(in[0]))
	for i, v := range s.Values {
		path := fmt.Sprintf("values[%d]", i)
		col := schema.Column{Name: v.Name, Type: schema.Of(schema.Text), Nullable: true}
		if errs[i] != nil {
			c.exprProblem(path+".value", v.Value, errs[i])
		} else {
			col.Type = programs[i].Type
		}
		p.schema.Columns = append(p.schema.Columns, col)
		paths = append(paths, path+".name")
	}
	if len(s.By) == 0 && len(s.Values) == 0 {
		c.Problem("by", "nothing to group by and nothing to compute; add a column or a value")
	}
	c.distinctNames(p.schema, func(i int) string { return paths[i] })
	p.programs, p.aggregates = programs, found
	p.middle = &schema.Schema{}
	for _, k := range p.keys {
		p.middle.Columns = append(p.middle.Columns, in[0].Columns[k])
	}
	for _, a := range found {
		p.middle.Columns = append(p.middle.Columns, schema.Column{Type: a.Type, Nullable: true})
	}
	return &Bound{Schema: p.schema, Operator: func() Operator { return &groupOperator{groupPlan: p} }, Uses: usesOnly(in[0], p.uses()), Carries: p.carries, MadeOf: p.madeOf, SQL: oneSQL(func(from []string) (string, error) { return p.sql(from[0]) })}
}

type groupPlan struct {
	in         *schema.Schema
	keys       []int
	aggregates []expr.Aggregate
	programs   []*expr.Program // over middle
	middle     *schema.Schema  // keys, then results of aggregates
	schema     *schema.Schema
}

func (p *groupPlan) uses() []int {
	out := append([]int{}, p.keys...)
	for _, a := range p.aggregates {
		out = append(append(out, readBy(a.Args...)...), readBy(a.Filter)...)
	}
	return out
}

// carries is for the columns that make the groups.
func (p *groupPlan) carries(column int) int {
	if column < len(p.keys) {
		return p.keys[column]
	}
	return -1
}

// madeOf gives the columns that a value's aggregates read.
func (p *groupPlan) madeOf(column int) []int {
	var out []int
	for _, a := range p.aggregates {
		if a.Text == column-len(p.keys) {
			out = append(out, readBy(a.Args...)...)
		}
	}
	return out
}

func (p *groupPlan) sql(from string) (string, error) {
	var parts []string
	if len(p.keys) > 0 {
		parts = append(parts, nameList(p.in, p.keys))
	}
	for i, program := range p.programs {
		value, err := program.SQL()
		if err != nil {
			return "", err
		}
		parts = append(parts, value+" AS "+expr.QuoteName(p.schema.Columns[len(p.keys)+i].Name))
	}
	text := "SELECT " + strings.Join(parts, ", ") + " FROM " + from
	if len(p.keys) > 0 {
		text += " GROUP BY " + nameList(p.in, p.keys)
	}
	return text, nil
}

// prepared is a batch of which the keys are found and the arguments evaluated.
type preparedGroup struct {
	args    [][]arrow.Array  // by aggregate
	filters []*array.Boolean // by aggregate; nil for all rows
	bad     map[int32]bool   // rows set aside
	ids     []int32          // by row: number of its key within the batch
	keys    []string         // by that number
	firsts  []int32          // by that number: its first row
	hashes  []uint64         // by that number
}

// groupOperator keeps a table of groups. When it is full, rows of groups it has
// not go to parts on disk, and each part is grouped when the rest is done: so a
// group is either wholly in the table or wholly in one part.
type groupOperator struct {
	*groupPlan
	table *groupTable
	parts *spill.Parts
}

// Prepare implements Prepared.
func (o *groupOperator) Prepare(_ int, b *batch.Batch, out Emitter) (any, error) {
	p := &preparedGroup{args: make([][]arrow.Array, len(o.aggregates)), filters: make([]*array.Boolean, len(o.aggregates))}
	eval := func(program *expr.Program) (arrow.Array, error) {
		values, problems := program.Eval(out.Env(), b)
		for _, problem := range problems {
			if p.bad[problem.Row] {
				continue
			}
			if p.bad == nil {
				p.bad = map[int32]bool{}
			}
			p.bad[problem.Row] = true
			if err := out.SetAside(b, int(problem.Row), "", "", problem.Fault); err != nil {
				return nil, err
			}
		}
		return values, nil
	}
	for k, a := range o.aggregates {
		for _, arg := range a.Args {
			v, err := eval(arg)
			if err != nil {
				return nil, err
			}
			p.args[k] = append(p.args[k], v)
		}
		if a.Filter != nil {
			v, err := eval(a.Filter)
			if err != nil {
				return nil, err
			}
			p.filters[k] = v.(*array.Boolean)
		}
	}
	o.number(b, p)
	return p, nil
}

// number numbers the keys of a batch.
func (o *groupOperator) number(b *batch.Batch, p *preparedGroup) {
	cols := columnsOf(b, o.keys)
	p.ids, p.firsts = batch.Number(cols, b.N)
	var key []byte
	for _, row := range p.firsts {
		key = appendKey(key[:0], cols, int(row))
		p.keys, p.hashes = append(p.keys, string(key)), append(p.hashes, xxh3.Hash(key))
	}
	if len(p.bad) > 0 {
		p.leaveOut()
	}
}

// leaveOut takes the rows that were set aside out: keys that only they have are
// no groups.
func (p *preparedGroup) leaveOut() {
	number := make([]int32, len(p.keys)) // by number before: number after and one
	var keys []string
	var firsts []int32
	var hashes []uint64
	for i, id := range p.ids {
		if p.bad[int32(i)] {
			p.ids[i] = -1
			continue
		}
		if number[id] == 0 {
			keys, firsts, hashes = append(keys, p.keys[id]), append(firsts, int32(i)), append(hashes, p.hashes[id])
			number[id] = int32(len(keys))
		}
		p.ids[i] = number[id] - 1
	}
	p.keys, p.firsts, p.hashes = keys, firsts, hashes
}

// Push implements Operator.
func (o *groupOperator) Push(in int, b *batch.Batch, out Emitter) error {
	p, err := o.Prepare(in, b, out)
	if err != nil {
		return err
	}
	return o.PushPrepared(in, b, p, out)
}

// PushPrepared implements Prepared.
func (o *groupOperator) PushPrepared(_ int, b *batch.Batch, prepared any, out Emitter) error {
	p := prepared.(*preparedGroup)
	if o.table == nil {
		o.table = newGroupTable(o.groupPlan)
	}
	absorbed, err := o.take(o.table, &o.parts, 0, b, p, out)
	if err != nil {
		return err
	}
	out.Absorbed(absorbed)
	return out.Holds(o.table.bytes())
}

// take puts rows into a table, or into parts when the table is full and has not
// got their group. It tells how many rows were taken, wherever they went.
func (o *groupOperator) take(t *groupTable, parts **spill.Parts, level int, b *batch.Batch, p *preparedGroup, out Emitter) (int, error) {
	full := t.bytes() > out.Room() && level < spill.MaxLevel && len(o.keys) > 0
	global := make([]int32, len(p.keys))
	left := false
	for k, key := range p.keys {
		id, ok := t.groups[key]
		switch {
		case ok:
			global[k] = id
		case full:
			global[k], left = -1, true
		default:
			global[k] = t.add(key, b, int(p.firsts[k]))
		}
	}
	ids, taken := make([]int32, b.N), 0
	var away []int32
	for i, local := range p.ids {
		if local < 0 {
			ids[i] = -1
			continue
		}
		taken++
		if ids[i] = global[local]; left && ids[i] < 0 {
			away = append(away, int32(i))
		}
	}
	t.accumulate(ids, p)
	if len(away) == 0 {
		return taken, nil
	}
	if *parts == nil {
		*parts = spill.NewParts(out.TempDir(), level)
	}
	hashes := make([]uint64, b.N)
	for _, i := range away {
		hashes[i] = p.hashes[p.ids[i]]
	}
	return taken, (*parts).Add(b, hashes, away)
}

// End implements Operator.
func (o *groupOperator) End(_ int, out Emitter) error {
	if o.table == nil {
		o.table = newGroupTable(o.groupPlan)
	}
	if len(o.keys) == 0 && o.table.n == 0 {
		o.table.n = 1
	}
	t, parts := o.table, o.parts
	o.table, o.parts = nil, nil
	return o.finish(t, parts, out)
}

// finish gives the groups of a table, then those of its parts.
func (o *groupOperator) finish(t *groupTable, parts *spill.Parts, out Emitter) error {
	defer parts.Close()
	if err := t.emit(out); err != nil {
		return err
	}
	if parts == nil {
		return nil
	}
	for k := range spill.Fan {
		part := parts.Part(k)
		if part == nil {
			continue
		}
		t := newGroupTable(o.groupPlan)
		var deeper *spill.Parts
		err := part.Drain(func(b *batch.Batch) error {
			p, err := o.Prepare(0, b, silent{out})
			if err != nil {
				return err
			}
			if _, err := o.take(t, &deeper, parts.Level()+1, b, p.(*preparedGroup), out); err != nil {
				return err
			}
			return out.Holds(t.bytes())
		})
		if err != nil {
			deeper.Close()
			return err
		}
		if err := o.finish(t, deeper, out); err != nil {
			return err
		}
	}
	return nil
}

// Close implements Closer.
func (o *groupOperator) Close() { o.parts.Close() }

// silent is an Emitter for work that is done again: what is set aside was set
// aside before.
type silent struct{ Emitter }

func (silent) SetAside(*batch.Batch, int, string, string, *batch.Fault) error { return nil }

// groupTable is the groups in memory.
type groupTable struct {
	*groupPlan
	groups   map[string]int32
	firsts   []array.Builder // the keys' values by group
	states   []expr.State
	n        int
	keyBytes int64
}

func newGroupTable(p *groupPlan) *groupTable {
	t := &groupTable{groupPlan: p, groups: map[string]int32{}}
	for _, k := range p.keys {
		t.firsts = append(t.firsts, batch.NewBuilder(p.in.Columns[k].Type))
	}
	for _, a := range p.aggregates {
		t.states = append(t.states, a.NewState())
	}
	return t
}

func (t *groupTable) bytes() int64 {
	held := t.keyBytes
	for _, s := range t.states {
		held += s.Bytes()
	}
	return held
}

// add makes a group of a key that stands at row i.
func (t *groupTable) add(key string, b *batch.Batch, i int) int32 {
	id := int32(t.n)
	t.groups[key] = id
	for j, k := range t.keys {
		batch.AppendFrom(t.firsts[j], b.Cols[k], i)
	}
	t.n++
	t.keyBytes += int64(len(key))*2 + 64
	return id
}

func (t *groupTable) accumulate(ids []int32, p *preparedGroup) {
	var some []int32
	for k, s := range t.states {
		s.Grow(t.n)
		into := ids
		if f := p.filters[k]; f != nil {
			some = append(some[:0], ids...)
			for i := range some {
				if f.IsNull(i) || !f.Value(i) {
					some[i] = -1
				}
			}
			into = some
		}
		s.Add(into, p.args[k])
	}
}

// emit computes the values of all groups and gives them. Results that can't be
// held are set aside under their keys.
func (t *groupTable) emit(out Emitter) error {
	if t.n == 0 {
		return nil
	}
	result := &batch.Batch{Schema: t.middle, N: t.n}
	for _, f := range t.firsts {
		result.Cols = append(result.Cols, f.NewArray())
	}
	nKeys := len(t.keys)
	keys := &batch.Batch{Schema: &schema.Schema{Columns: t.middle.Columns[:nKeys]}, Cols: result.Cols[:nKeys:nKeys], N: t.n}
	bad := map[int32]bool{}
	out.Made(t.n)
	refuse := func(row int32, column, value string, fault *batch.Fault) error {
		if bad[row] {
			return nil
		}
		bad[row] = true
		return out.SetAside(keys, int(row), column, value, fault)
	}
	for k, s := range t.states {
		s.Grow(t.n)
		var failed error
		result.Cols = append(result.Cols, s.Result(func(g int, f *batch.Fault) {
			if err := refuse(int32(g), t.aggregates[k].Name, "", f); err != nil && failed == nil {
				failed = err
			}
		}))
		if failed != nil {
			return failed
		}
	}
	final := &batch.Batch{Schema: t.schema, N: t.n, Cols: append([]arrow.Array{}, keys.Cols...)}
	for k, p := range t.programs {
		values, problems := p.Eval(out.Env(), result)
		final.Cols = append(final.Cols, values)
		for _, problem := range problems {
			if err := refuse(problem.Row, t.schema.Columns[nKeys+k].Name, p.Text, problem.Fault); err != nil {
				return err
			}
		}
	}
	return emitAll(out, without(final, bad))
}

// emitAll gives a large batch in portions of the usual size.
func emitAll(out Emitter, b *batch.Batch) error {
	for from := 0; from < b.N; from += batch.Rows {
		if err := out.Emit(b.Slice(from, min(from+batch.Rows, b.N))); err != nil {
			return err
		}
	}
	return nil
}
