package expr

import (
	"math"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/decimal128"
	pg "github.com/pganalyze/pg_query_go/v6"

	"welkin/core/batch"
	"welkin/core/schema"
)

// Window is one call of a window function found in an expression. An expression
// with windows runs over rows of the input's columns followed by the calls'
// results.
type Window struct {
	Name      string
	Args      []*Program
	Filter    *Program
	Aggregate *Aggregate // for aggregates over a frame
	Type      schema.Type
	Text      int // number of the text that it stands in
}

// WindowNames lists the window functions that are no aggregates, for completion
// and help.
func WindowNames() []AggregateHelp {
	return []AggregateHelp{
		{"row_number", "number of the row in its partition", "row_number()"},
		{"rank", "number of the first row that is equal in the order", "rank()"},
		{"dense_rank", "rank without gaps", "dense_rank()"},
		{"percent_rank", "rank as a share from 0 to 1", "percent_rank()"},
		{"cume_dist", "share of the rows up to this one", "cume_dist()"},
		{"ntile", "which of n equal parts the row is in", "ntile(4)"},
		{"lag", "a value of an earlier row", "lag(nights), lag(nights, 2, 0)"},
		{"lead", "a value of a later row", "lead(arrived)"},
		{"first_value", "the value of the first row of the frame", "first_value(price)"},
		{"last_value", "the value of the last row of the frame", "last_value(price)"},
		{"nth_value", "the value of the nth row of the frame", "nth_value(price, 2)"},
	}
}

var windowFunctions = map[string][2]int{ // fewest and most arguments
	"row_number": {0, 0}, "rank": {0, 0}, "dense_rank": {0, 0}, "percent_rank": {0, 0}, "cume_dist": {0, 0},
	"ntile": {1, 1}, "lag": {1, 3}, "lead": {1, 3}, "first_value": {1, 1}, "last_value": {1, 1}, "nth_value": {2, 2},
}

// Frame is the rows around a row that an aggregate takes in. Without an order
// all rows of a partition are equal, and so one frame.
type Frame struct {
	Rows   bool // counted in rows; otherwise by equals in the order
	Before int  // rows before; Whole for all
	After  int  // rows behind; Whole for all
}

// Whole as a bound of a frame means up to the partition's edge.
const Whole = math.MaxInt

// windows gathers the calls while expressions are bound.
type windows struct {
	columns int
	found   []Window
	def     func() *pg.WindowDef // what OVER says in SQL
}

// collect binds one call.
func (w *windows) collect(b *binder, name string, c *pg.FuncCall) (node, error) {
	if c.Over != nil {
		return nil, b.errf(c.Location, "OVER has no place here: partition and order are settings of the step")
	}
	win := Window{Name: name, Type: intType}
	inner := func(n *pg.Node) (*Program, error) {
		plain := &binder{parsed: b.parsed, scope: b.scope}
		root, err := plain.bind(n)
		if err != nil {
			return nil, err
		}
		root = plain.settled(root, n)
		return &Program{Type: root.typ(), Columns: plain.columns, root: root}, nil
	}
	if isAggregate(name) {
		a := &aggregates{}
		probe := &binder{parsed: b.parsed, scope: b.scope, aggregates: a}
		if _, err := a.collect(probe, name, c, &pg.Node{}); err != nil {
			return nil, err
		}
		agg := a.found[0]
		if agg.collects() || agg.Distinct {
			return nil, b.errf(c.Location, "%s can't run over a frame; use it in a group step", name)
		}
		win.Aggregate, win.Type, win.Args, win.Filter = &agg, agg.Type, agg.Args, agg.Filter
	} else {
		limits := windowFunctions[name]
		if len(c.Args) < limits[0] || len(c.Args) > limits[1] || c.AggStar || c.AggFilter != nil {
			return nil, b.errf(c.Location, "%s does not take these arguments", name)
		}
		for _, arg := range c.Args {
			p, err := inner(arg)
			if err != nil {
				return nil, err
			}
			win.Args = append(win.Args, p)
		}
		switch name {
		case "percent_rank", "cume_dist":
			win.Type = floatType
		case "lag", "lead", "first_value", "last_value", "nth_value":
			win.Type = win.Args[0].Type
		}
		if name == "lag" || name == "lead" {
			if len(win.Args) == 3 {
				common, ok := schema.Common(win.Args[0].Type, win.Args[2].Type)
				if !ok || common != win.Args[0].Type {
					return nil, b.errf(c.Location, "the value given where no row is must be %s", win.Args[0].Type)
				}
				win.Args[2] = &Program{Type: common, Columns: win.Args[2].Columns, root: castNode(win.Args[2].root, common)}
			}
		}
		for k, arg := range win.Args {
			if wantsInt := name == "ntile" || k == 1; wantsInt && arg.Type.Kind != schema.Int {
				return nil, b.errf(c.Location, "%s takes a whole number there, not %s", name, arg.Type)
			}
		}
	}
	c.Over = w.def()
	w.found = append(w.found, win)
	return &columnNode{w.columns + len(w.found) - 1, win.Type}, nil
}

// BindWindows binds expressions that may call window functions. over writes what
// stands behind OVER, without brackets.
func BindWindows(texts []string, scope Scope, over string) (programs []*Program, found []Window, errs []error) {
	w := &windows{columns: scope.Schema.Len(), def: func() *pg.WindowDef {
		tree, err := pg.Parse("SELECT count(*) OVER (" + over + ")")
		if err != nil {
			panic("expr: OVER (" + over + ") can't be read: " + err.Error()) // it is written by the window step
		}
		return tree.Stmts[0].Stmt.GetSelectStmt().TargetList[0].GetResTarget().Val.GetFuncCall().Over
	}}
	programs, errs = make([]*Program, len(texts)), make([]error, len(texts))
	for i, text := range texts {
		p, err := parse(text)
		if err == nil {
			before := len(w.found)
			b := &binder{parsed: p, scope: scope, windows: w}
			var root node
			root, err = b.bind(p.node)
			for k := before; k < len(w.found); k++ {
				w.found[k].Text = i
			}
			if err == nil && len(w.found) == before {
				err = &Error{0, "a window function is expected here, such as row_number() or sum(nights)"}
			}
			if err == nil {
				if root.typ().Kind == schema.Unknown {
					root = castNode(root, textType)
				}
				programs[i] = &Program{Type: root.typ(), Columns: b.columns, root: root, Text: text, tree: p.node, own: b.own}
			}
		}
		errs[i] = err
	}
	return programs, w.found, errs
}

// Over computes the call for the rows of one partition, in order. args are its
// arguments evaluated, filter the rows that count; peers gives for each row the
// first row behind those that are equal to it in the order.
func (w Window) Over(args []arrow.Array, filter *array.Boolean, peers []int32, n int, frame Frame, fault func(row int, f *batch.Fault)) arrow.Array {
	switch w.Name {
	case "row_number", "rank", "dense_rank", "ntile":
		return w.ranks(args, peers, n, fault)
	case "percent_rank", "cume_dist":
		return w.shares(peers, n)
	case "lag", "lead":
		return w.shifted(args, n)
	}
	low, high := frame.bounds(peers, n)
	if w.Aggregate == nil {
		return w.valueOf(args, low, high, n, fault)
	}
	return w.framed(args, filter, low, high, n, fault)
}

func (w Window) ranks(args []arrow.Array, peers []int32, n int, fault func(int, *batch.Fault)) arrow.Array {
	out := batch.NewBuilder(intType).(*array.Int64Builder)
	out.Reserve(n)
	first, group := 0, int64(0)
	for i := range n {
		if i == 0 || i == int(peers[first]) {
			first = i
			group++
		}
		switch w.Name {
		case "row_number":
			out.Append(int64(i) + 1)
		case "rank":
			out.Append(int64(first) + 1)
		case "dense_rank":
			out.Append(group)
		default:
			buckets := args[0].(*array.Int64)
			if buckets.IsNull(0) {
				out.AppendNull()
				continue
			}
			k := buckets.Value(0)
			if k <= 0 {
				fault(i, batch.Faultf("bad argument", "ntile needs a number of parts above 0, not %d", k))
				out.AppendNull()
				continue
			}
			// The first parts are larger by one where n does not divide.
			size, more := int64(n)/k, int64(n)%k
			if row := int64(i); row < more*(size+1) {
				out.Append(row/(size+1) + 1)
			} else {
				out.Append((row-more*(size+1))/size + more + 1)
			}
		}
	}
	return out.NewArray()
}

func (w Window) shares(peers []int32, n int) arrow.Array {
	out := batch.NewBuilder(floatType).(*array.Float64Builder)
	first := 0
	for i := range n {
		if i > 0 && i == int(peers[first]) {
			first = i
		}
		switch {
		case w.Name == "cume_dist":
			out.Append(float64(peers[i]) / float64(n))
		case n == 1:
			out.Append(0)
		default:
			out.Append(float64(first) / float64(n-1))
		}
	}
	return out.NewArray()
}

func (w Window) shifted(args []arrow.Array, n int) arrow.Array {
	out := batch.NewBuilder(w.Type)
	out.Reserve(n)
	for i := range n {
		by := int64(1)
		if len(args) > 1 {
			if args[1].IsNull(i) {
				out.AppendNull()
				continue
			}
			by = args[1].(*array.Int64).Value(i)
		}
		if w.Name == "lag" {
			by = -by
		}
		switch at := int64(i) + by; {
		case by < int64(n) && by > -int64(n) && at >= 0 && at < int64(n):
			batch.AppendFrom(out, args[0], int(at))
		case len(args) == 3:
			batch.AppendFrom(out, args[2], i)
		default:
			out.AppendNull()
		}
	}
	return out.NewArray()
}

// bounds gives for each row where its frame begins and where it has ended.
func (f Frame) bounds(peers []int32, n int) (low, high []int32) {
	low, high = make([]int32, n), make([]int32, n)
	first := 0
	for i := range n {
		if i > 0 && i == int(peers[first]) {
			first = i
		}
		switch {
		case f.Before == Whole:
		case f.Rows:
			low[i] = int32(max(i-f.Before, 0))
		default:
			low[i] = int32(first)
		}
		switch {
		case f.After == Whole:
			high[i] = int32(n)
		case f.Rows:
			high[i] = int32(min(i+f.After+1, n))
		default:
			high[i] = peers[i]
		}
		high[i] = max(high[i], low[i])
	}
	return low, high
}

func (w Window) valueOf(args []arrow.Array, low, high []int32, n int, fault func(int, *batch.Fault)) arrow.Array {
	out := batch.NewBuilder(w.Type)
	for i := range n {
		at := low[i]
		switch w.Name {
		case "last_value":
			at = high[i] - 1
		case "nth_value":
			k := args[1].(*array.Int64)
			if k.IsNull(i) {
				out.AppendNull()
				continue
			}
			if k.Value(i) <= 0 {
				fault(i, batch.Faultf("bad argument", "rows are counted from 1; there is no row %d", k.Value(i)))
				out.AppendNull()
				continue
			}
			at = int32(min(int64(at)+k.Value(i)-1, math.MaxInt32))
		}
		if low[i] >= high[i] || at >= high[i] {
			out.AppendNull()
		} else {
			batch.AppendFrom(out, args[0], int(at))
		}
	}
	return out.NewArray()
}

// framed runs an aggregate over the frames. A frame that only grows keeps its
// state; one that moves is taken in anew for each row.
func (w Window) framed(args []arrow.Array, filter *array.Boolean, low, high []int32, n int, fault func(int, *batch.Fault)) arrow.Array {
	counts := func(row int32) bool { return filter == nil || filter.IsValid(int(row)) && filter.Value(int(row)) }
	grows := true
	for i := range n {
		if low[i] != 0 {
			grows = false
			break
		}
	}
	if grows {
		return w.growing(args, counts, high, n, fault)
	}
	// Each frame is a group of its own: its rows are handed to the state again.
	out := batch.NewBuilder(w.Type)
	const portion = 4096
	for from := 0; from < n; from += portion {
		to := min(from+portion, n)
		var ids, rows []int32
		for i := from; i < to; i++ {
			for r := low[i]; r < high[i]; r++ {
				if counts(r) {
					ids, rows = append(ids, int32(i-from)), append(rows, r)
				}
			}
		}
		state := w.Aggregate.NewState()
		state.Grow(to - from)
		taken := make([]arrow.Array, len(args))
		for k, a := range args {
			taken[k] = batch.Take(a, rows)
		}
		state.Add(ids, taken)
		result := state.Result(func(g int, f *batch.Fault) { fault(from+g, f) })
		for i := range to - from {
			batch.AppendFrom(out, result, i)
		}
	}
	return out.NewArray()
}

// growing is for frames that all begin at the first row: running aggregates.
func (w Window) growing(args []arrow.Array, counts func(int32) bool, high []int32, n int, fault func(int, *batch.Fault)) arrow.Array {
	out := batch.NewBuilder(w.Type)
	out.Reserve(n)
	state := newRunning(w)
	done := int32(0)
	for i := range n {
		for ; done < high[i]; done++ {
			if counts(done) {
				state.add(args, int(done))
			}
		}
		state.give(out, func(f *batch.Fault) { fault(i, f) })
	}
	return out.NewArray()
}

// running is an aggregate's state for one group, read after every row.
type running interface {
	add(args []arrow.Array, row int)
	give(out array.Builder, fault func(*batch.Fault))
}

func newRunning(w Window) running {
	if w.Name == "count" {
		return &runningCount{}
	}
	state := w.Aggregate.NewState()
	state.Grow(1)
	switch s := state.(type) {
	case *exactState:
		if !s.mean {
			return &runningSum{s}
		}
	case *floatState:
		return &runningFloat{s}
	}
	return &runningState{state: state, ids: []int32{0}}
}

// runningSum is a running sum of whole numbers or decimals.
type runningSum struct{ *exactState }

func (s *runningSum) add(args []arrow.Array, row int) {
	if args[0].IsNull(row) {
		return
	}
	switch a := args[0].(type) {
	case *array.Int64:
		s.exactState.add(0, a.Value(row))
	case *array.Decimal128:
		s.addDecimal(0, a.Value(row))
	}
}

func (s *runningSum) give(out array.Builder, fault func(*batch.Fault)) {
	if s.sums[0].n > 0 && s.big[0] == nil && s.scale == s.t.Scale {
		out.(*array.Decimal128Builder).Append(decimal128.FromI64(s.sums[0].small))
		return
	}
	batch.AppendFrom(out, s.Result(func(_ int, f *batch.Fault) { fault(f) }), 0)
}

// runningFloat is a running sum or mean of floats.
type runningFloat struct{ *floatState }

func (s *runningFloat) add(args []arrow.Array, row int) {
	if a := args[0].(*array.Float64); a.IsValid(row) {
		s.sums[0].add(a.Value(row))
	}
}

func (s *runningFloat) give(out array.Builder, _ func(*batch.Fault)) {
	batch.AppendFrom(out, s.Result(func(int, *batch.Fault) {}), 0)
}

type runningCount struct{ n int64 }

func (s *runningCount) add(args []arrow.Array, row int) {
	if len(args) == 0 || args[0].IsValid(row) {
		s.n++
	}
}

func (s *runningCount) give(out array.Builder, _ func(*batch.Fault)) {
	out.(*array.Int64Builder).Append(s.n)
}

// runningState reads any aggregate's state.
type runningState struct {
	state State
	ids   []int32
	one   []arrow.Array
}

func (s *runningState) add(args []arrow.Array, row int) {
	s.one = s.one[:0]
	for _, a := range args {
		s.one = append(s.one, array.NewSlice(a, int64(row), int64(row)+1))
	}
	s.state.Add(s.ids, s.one)
}

func (s *runningState) give(out array.Builder, fault func(*batch.Fault)) {
	batch.AppendFrom(out, s.state.Result(func(_ int, f *batch.Fault) { fault(f) }), 0)
}

// windowError words that a function stands where no window is.
func windowError(b *binder, name string, at int32) error {
	return b.errf(at, "%s looks at other rows; use it in a window step", name)
}
