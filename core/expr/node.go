package expr

import (
	"slices"
	"sync/atomic"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"

	"welkin/core/batch"
	"welkin/core/schema"
)

// node is a typed part of an expression.
type node interface {
	typ() schema.Type
	eval(f *frame) arrow.Array // an array of f.n values of typ()
}

// frame is the rows an evaluation looks at: all of a batch, or those picked by
// a branch. Columns are gathered when first read.
type frame struct {
	env    *Env
	base   *batch.Batch
	rows   []int32 // rows of base; nil for all
	n      int
	cols   map[int]arrow.Array
	faults *faults
}

type faults struct{ byRow map[int32]*batch.Fault }

func (fs *faults) sorted() []Problem {
	out := make([]Problem, 0, len(fs.byRow))
	for row, fault := range fs.byRow {
		out = append(out, Problem{row, fault})
	}
	slices.SortFunc(out, func(a, b Problem) int { return int(a.Row - b.Row) })
	return out
}

// fail records the first fault of a row.
func (f *frame) fail(i int, fault *batch.Fault) {
	row := int32(i)
	if f.rows != nil {
		row = f.rows[i]
	}
	if f.faults.byRow == nil {
		f.faults.byRow = map[int32]*batch.Fault{}
	}
	if f.faults.byRow[row] == nil {
		f.faults.byRow[row] = fault
	}
}

func (f *frame) col(i int) arrow.Array {
	if f.rows == nil {
		return f.base.Cols[i]
	}
	if a, ok := f.cols[i]; ok {
		return a
	}
	a := batch.Take(f.base.Cols[i], f.rows)
	if f.cols == nil {
		f.cols = map[int]arrow.Array{}
	}
	f.cols[i] = a
	return a
}

// pick gives the frame of some of f's rows.
func (f *frame) pick(rows []int32) *frame {
	if len(rows) == f.n {
		return f
	}
	own := make([]int32, len(rows))
	for i, r := range rows {
		own[i] = r
		if f.rows != nil {
			own[i] = f.rows[r]
		}
	}
	return &frame{env: f.env, base: f.base, rows: own, n: len(rows), faults: f.faults}
}

type columnNode struct {
	index int
	t     schema.Type
}

func (c *columnNode) typ() schema.Type          { return c.t }
func (c *columnNode) eval(f *frame) arrow.Array { return f.col(c.index) }

// constNode is a literal or a parameter: an array of one value.
type constNode struct {
	t     schema.Type
	value arrow.Array
	many  atomic.Pointer[arrow.Array] // the value as many times as it was wanted so far
}

func (c *constNode) typ() schema.Type { return c.t }
func (c *constNode) eval(f *frame) arrow.Array {
	if many := c.many.Load(); many != nil && (*many).Len() >= f.n {
		return batch.SliceColumn(*many, 0, f.n)
	}
	many := batch.Take(c.value, make([]int32, f.n))
	c.many.Store(&many)
	return many
}

// callNode applies a function to its evaluated arguments.
type callNode struct {
	t    schema.Type
	args []node
	call func(f *frame, args []arrow.Array) arrow.Array
}

func (c *callNode) typ() schema.Type { return c.t }
func (c *callNode) eval(f *frame) arrow.Array {
	args := make([]arrow.Array, len(c.args))
	for i, a := range c.args {
		args[i] = a.eval(f)
	}
	return c.call(f, args)
}

// logicNode is AND or OR of two arguments; the right one is evaluated only
// where the left one leaves the answer open.
type logicNode struct {
	and         bool
	left, right node
}

func (l *logicNode) typ() schema.Type { return schema.Of(schema.Bool) }
func (l *logicNode) eval(f *frame) arrow.Array {
	left := l.left.eval(f).(*array.Boolean)
	open := make([]int32, 0, f.n)
	for i := range f.n {
		if left.IsNull(i) || left.Value(i) == l.and {
			open = append(open, int32(i))
		}
	}
	right := l.right.eval(f.pick(open)).(*array.Boolean)
	out := make([]bool, f.n)
	for i := range out {
		out[i] = !l.and
	}
	var valid *batch.Validity
	for k, i := range open {
		switch {
		case right.IsValid(k) && right.Value(k) != l.and:
		case left.IsNull(int(i)) || right.IsNull(k):
			if valid == nil {
				valid = batch.AllValid(f.n)
			}
			valid.SetNull(int(i))
		default:
			out[i] = l.and
		}
	}
	return batch.NewColumn(boolType.Arrow(), out, valid)
}

// caseNode is CASE WHEN … THEN …; a branch is evaluated for its own rows alone.
type caseNode struct {
	t        schema.Type
	whens    []node
	thens    []node
	fallback node // nil gives null
}

func (c *caseNode) typ() schema.Type { return c.t }
func (c *caseNode) eval(f *frame) arrow.Array {
	left := make([]int32, f.n) // rows not decided yet
	for i := range left {
		left[i] = int32(i)
	}
	m := newMerge(f.n)
	for k, when := range c.whens {
		sub := f.pick(left)
		cond := when.eval(sub).(*array.Boolean)
		var hit, miss []int32
		for i, row := range left {
			if cond.IsValid(i) && cond.Value(i) {
				hit = append(hit, row)
			} else {
				miss = append(miss, row)
			}
		}
		if len(hit) > 0 {
			m.put(hit, c.thens[k].eval(f.pick(hit)))
		}
		if left = miss; len(left) == 0 {
			break
		}
	}
	if len(left) > 0 && c.fallback != nil {
		m.put(left, c.fallback.eval(f.pick(left)))
	}
	return m.array(c.t)
}

// coalesceNode gives the first argument that is not null.
type coalesceNode struct {
	t    schema.Type
	args []node
}

func (c *coalesceNode) typ() schema.Type { return c.t }
func (c *coalesceNode) eval(f *frame) arrow.Array {
	left := make([]int32, f.n)
	for i := range left {
		left[i] = int32(i)
	}
	m := newMerge(f.n)
	for _, arg := range c.args {
		values := arg.eval(f.pick(left))
		m.put(left, values)
		var miss []int32
		for i, row := range left {
			if values.IsNull(i) {
				miss = append(miss, row)
			}
		}
		if left = miss; len(left) == 0 {
			break
		}
	}
	return m.array(c.t)
}

// merge puts the results of branches back into row order.
type merge struct {
	parts []arrow.Array
	part  []int32 // by row: index into parts, -1 for null
	at    []int32 // by row: place in that part
}

func newMerge(n int) *merge {
	m := &merge{part: make([]int32, n), at: make([]int32, n)}
	for i := range m.part {
		m.part[i] = -1
	}
	return m
}

func (m *merge) put(rows []int32, values arrow.Array) {
	m.parts = append(m.parts, values)
	for i, row := range rows {
		m.part[row], m.at[row] = int32(len(m.parts)-1), int32(i)
	}
}

func (m *merge) array(t schema.Type) arrow.Array {
	if len(m.parts) == 1 && m.parts[0].Len() == len(m.part) {
		return m.parts[0]
	}
	out := batch.NewBuilder(t)
	out.Reserve(len(m.part))
	for i, p := range m.part {
		if p < 0 {
			out.AppendNull()
		} else {
			batch.AppendFrom(out, m.parts[p], int(m.at[i]))
		}
	}
	return out.NewArray()
}
