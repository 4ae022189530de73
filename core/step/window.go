package step

import (
	"bytes"
	"fmt"
	"slices"
	"strings"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"

	"welkin/core/batch"
	"welkin/core/expr"
	"welkin/core/schema"
	"welkin/core/spill"
)

var windowRows = Kind{
	Name: "window", Role: Work, Ports: []string{"rows"}, New: func() Settings { return &WindowStep{} },
	Help: "Adds values that look at other rows: rank, the row before, running totals, moving averages.", Example: "by hut in order of night: sum(beds) running",
	Words: "over partition rank lag lead running total moving average cumulative row number",
}

// WindowStep adds columns computed over the rows of a partition in an order. All
// rows come out, partition by partition.
type WindowStep struct {
	By     []string  `json:"by,omitempty" jsonschema:"title=by,description=Rows with the same values are looked at together"`
	Order  []SortKey `json:"order,omitempty" jsonschema:"title=in order of"`
	Frame  *FrameSet `json:"frame,omitempty" jsonschema:"title=frame,description=Which rows aggregates take in; from the first up to this one and its equals when left out and all without an order"`
	Values []Derived `json:"values" jsonschema:"title=values,description=Such as row_number() or sum(beds) or price - lag(price)"`
}

// FrameSet says which rows around a row an aggregate takes in.
type FrameSet struct {
	Before string `json:"before,omitempty" jsonschema:"title=rows before,description=A number or all; all when left out"`
	After  string `json:"after,omitempty" jsonschema:"title=rows after,description=A number or all; 0 when left out"`
}

// Sentence implements Settings.
func (s *WindowStep) Sentence() string {
	names := make([]string, len(s.Values))
	for i, v := range s.Values {
		names[i] = v.Name
	}
	text := "window"
	if len(s.By) > 0 {
		text += " by " + list(s.By, 3)
	}
	if len(s.Order) > 0 {
		text += " in order of " + words(s.Order)
	}
	return text + ": " + list(names, 4)
}

// frame reads the frame's settings.
func (s *WindowStep) frame(c *Context) (expr.Frame, string) {
	if s.Frame == nil {
		f := expr.Frame{Before: expr.Whole}
		if len(s.Order) == 0 {
			f.After = expr.Whole
		}
		return f, ""
	}
	bound := func(path, text, usual string) int {
		text = orElse(text, usual)
		if text == "all" {
			return expr.Whole
		}
		var n int
		if _, err := fmt.Sscanf(text, "%d", &n); err != nil || n < 0 || fmt.Sprint(n) != text || n > 1<<30 {
			c.Problem(path, "a frame reaches so many rows, or all; %q is neither", text)
		}
		return n
	}
	f := expr.Frame{Rows: true, Before: bound("frame.before", s.Frame.Before, "all"), After: bound("frame.after", s.Frame.After, "0")}
	side := func(n int, word string) string {
		if n == expr.Whole {
			return "UNBOUNDED " + word
		}
		return fmt.Sprintf("%d %s", n, word)
	}
	return f, " ROWS BETWEEN " + side(f.Before, "PRECEDING") + " AND " + side(f.After, "FOLLOWING")
}

// Bind implements Settings.
func (s *WindowStep) Bind(c *Context, in []*schema.Schema) *Bound {
	o := &windowPlan{in: in[0], by: c.pick("by", in[0], s.By), order: c.ordering("order", in[0], s.Order), schema: &schema.Schema{Columns: slices.Clone(in[0].Columns)}}
	for _, at := range o.by {
		if t := in[0].Columns[at].Type; !batch.Orderable(t) {
			c.Problem("by", "%s can't be a key", t)
		}
	}
	frame, frameSQL := s.frame(c)
	o.frame = frame
	var over []string
	if len(o.by) > 0 {
		over = append(over, "PARTITION BY "+nameList(in[0], o.by))
	}
	if len(o.order) > 0 {
		over = append(over, "ORDER BY "+o.order.sql(in[0]))
	}
	texts := make([]string, len(s.Values))
	for i, v := range s.Values {
		texts[i] = v.Value
	}
	programs, found, errs := expr.BindWindows(texts, c.scope(in[0]), strings.Join(over, " ")+frameSQL)
	for i, v := range s.Values {
		col := schema.Column{Name: v.Name, Type: schema.Of(schema.Text), Nullable: true}
		if errs[i] != nil {
			c.exprProblem(fmt.Sprintf("values[%d].value", i), v.Value, errs[i])
		} else {
			col.Type = programs[i].Type
		}
		o.schema.Columns = append(o.schema.Columns, col)
	}
	if len(s.Values) == 0 {
		c.Problem("values", "nothing is computed yet; add a name and a value such as row_number()")
	}
	c.distinctNames(o.schema, func(i int) string { return fmt.Sprintf("values[%d].name", max(i-in[0].Len(), 0)) })
	o.programs, o.windows = programs, found
	o.middle = &schema.Schema{Columns: slices.Clone(in[0].Columns)}
	for _, w := range found {
		o.middle.Columns = append(o.middle.Columns, schema.Column{Type: w.Type, Nullable: true})
	}
	return &Bound{Schema: o.schema, Operator: func() Operator { return &windowOperator{windowPlan: o} }, Uses: passesOn(in[0], o.uses()...), MadeOf: o.madeOf, SQL: oneSQL(func(from []string) (string, error) {
		cols := []string{}
		for _, col := range in[0].Columns {
			cols = append(cols, expr.QuoteName(col.Name))
		}
		for i, p := range o.programs {
			value, err := p.SQL()
			if err != nil {
				return "", err
			}
			cols = append(cols, value+" AS "+expr.QuoteName(s.Values[i].Name))
		}
		return "SELECT " + strings.Join(cols, ", ") + " FROM " + from[0], nil
	})}
}

type windowPlan struct {
	in       *schema.Schema
	by       []int
	order    ordering
	frame    expr.Frame
	windows  []expr.Window
	programs []*expr.Program
	middle   *schema.Schema // columns, then results of the calls
	schema   *schema.Schema
}

// madeOf gives the columns that a value and its calls read.
func (p *windowPlan) madeOf(column int) []int {
	at := column - p.in.Len()
	if at < 0 || p.programs[at] == nil {
		return nil
	}
	var out []int
	out = append(out, p.programs[at].Columns...)
	for _, w := range p.windows {
		if w.Text == at {
			out = append(out, readBy(w.Args...)...)
		}
	}
	return out
}

func (p *windowPlan) uses() []int {
	return append(append(p.order.columns(), p.by...), p.evaluated()...)
}

// evaluated lists the columns that expressions read.
func (p *windowPlan) evaluated() []int {
	out := readBy(p.programs...)
	for _, w := range p.windows {
		out = append(append(out, readBy(w.Args...)...), readBy(w.Filter)...)
	}
	return out
}

// windowOperator sorts the rows by partition and order, on disk if need be, and
// then works on one partition after the other. Of a partition only what the
// calls need is kept in memory; its rows wait in a spool.
type windowOperator struct {
	*windowPlan
	runs      *spill.Runs
	waiting   *spill.Spool
	last      []byte // key of the partition
	lastOrder []byte
	kept      []bool  // columns that are kept until the end; nil for all
	starts    []int32 // rows at which the order changes
	n         int32
	args      [][][]arrow.Array // by call, by argument: parts
	filters   [][]arrow.Array   // by call: parts
}

// Lean implements Leaner.
func (o *windowOperator) Lean(wanted []bool) {
	o.kept = marked(append([]bool{}, wanted[:o.in.Len()]...), o.uses())
}

func (o *windowOperator) keys(b *batch.Batch) batch.SortKeys { return o.order.groupKeys(b, o.by) }

// Prepare implements Prepared.
func (o *windowOperator) Prepare(_ int, b *batch.Batch, _ Emitter) (any, error) {
	return o.keys(b), nil
}

// PushPrepared implements Prepared.
func (o *windowOperator) PushPrepared(_ int, b *batch.Batch, prepared any, out Emitter) error {
	if o.runs == nil {
		o.runs = spill.NewRuns(out.TempDir(), o.in, o.keys, out.Room())
	}
	if o.kept != nil {
		b = b.Blank(o.kept)
	}
	if err := o.runs.Add(b, prepared.(batch.SortKeys)); err != nil {
		return err
	}
	return out.Holds(o.runs.Bytes())
}

// Push implements Operator.
func (o *windowOperator) Push(in int, b *batch.Batch, out Emitter) error {
	return o.PushPrepared(in, b, o.keys(b), out)
}

// End implements Operator.
func (o *windowOperator) End(_ int, out Emitter) error {
	if o.runs == nil {
		return nil
	}
	err := o.runs.Each(func(b *batch.Batch, key spill.KeyOf) error { return o.take(b, key, out) })
	if err != nil {
		return err
	}
	return o.finish(out)
}

// take cuts sorted rows into partitions.
func (o *windowOperator) take(b *batch.Batch, key spill.KeyOf, out Emitter) error {
	from := 0
	for i := range b.N {
		group, order := key(i)
		if o.last != nil && bytes.Equal(group, o.last) {
			if !bytes.Equal(order, o.lastOrder) {
				o.starts = append(o.starts, o.n+int32(i-from))
				o.lastOrder = append(o.lastOrder[:0], order...)
			}
			continue
		}
		if o.last != nil {
			if err := o.keep(b.Slice(from, i), out); err != nil {
				return err
			}
			if err := o.finish(out); err != nil {
				return err
			}
			from = i
		}
		o.last = append(make([]byte, 0, len(group)+1), group...)
		o.lastOrder = append(o.lastOrder[:0], order...)
		o.starts = append(o.starts[:0], 0)
	}
	return o.keep(b.Slice(from, b.N), out)
}

// keep adds rows to the partition.
func (o *windowOperator) keep(b *batch.Batch, out Emitter) error {
	if b.N == 0 {
		return nil
	}
	if o.args == nil {
		o.args, o.filters = make([][][]arrow.Array, len(o.windows)), make([][]arrow.Array, len(o.windows))
		for k, w := range o.windows {
			o.args[k] = make([][]arrow.Array, len(w.Args))
		}
	}
	bad := map[int32]bool{}
	var failed error
	eval := func(p *expr.Program) arrow.Array {
		values, problems := p.Eval(out.Env(), b)
		for _, problem := range problems {
			if !bad[problem.Row] && failed == nil {
				failed = out.SetAside(b, int(problem.Row), "", "", problem.Fault)
			}
			bad[problem.Row] = true
		}
		return values
	}
	args, filters := make([][]arrow.Array, len(o.windows)), make([]arrow.Array, len(o.windows))
	for k, w := range o.windows {
		for _, p := range w.Args {
			args[k] = append(args[k], eval(p))
		}
		if w.Filter != nil {
			filters[k] = eval(w.Filter)
		}
	}
	if failed != nil {
		return failed
	}
	rows := goodRows(b.N, bad)
	for k := range o.windows {
		for a, v := range args[k] {
			o.args[k][a] = append(o.args[k][a], pickRows(v, rows, bad))
		}
		if filters[k] != nil {
			o.filters[k] = append(o.filters[k], pickRows(filters[k], rows, bad))
		}
	}
	if len(bad) > 0 { // rows set aside leave the partition: where the order changes moves up
		b = o.shift(b, rows, bad)
	}
	o.n += int32(b.N)
	if o.waiting == nil {
		o.waiting = spill.NewSpool(out.TempDir(), out.Room()/2)
	}
	return o.waiting.Add(b)
}

func goodRows(n int, bad map[int32]bool) []int32 {
	rows := make([]int32, 0, n)
	for i := range int32(n) {
		if !bad[i] {
			rows = append(rows, i)
		}
	}
	return rows
}

func pickRows(a arrow.Array, rows []int32, bad map[int32]bool) arrow.Array {
	if len(bad) == 0 {
		return a
	}
	return batch.Take(a, rows)
}

// shift takes bad rows out of a part of the partition and moves the places at
// which the order changes accordingly.
func (o *windowOperator) shift(b *batch.Batch, rows []int32, bad map[int32]bool) *batch.Batch {
	var moved []int32
	for _, s := range o.starts {
		gone := int32(0)
		for r := range bad {
			if o.n+r < s {
				gone++
			}
		}
		if s -= gone; len(moved) == 0 || moved[len(moved)-1] != s {
			moved = append(moved, s)
		}
	}
	o.starts = moved
	return b.Take(rows)
}

// finish computes the calls for a whole partition and gives its rows.
func (o *windowOperator) finish(out Emitter) error {
	n := int(o.n)
	if n == 0 {
		return nil
	}
	peers := make([]int32, n)
	for k, s := range o.starts {
		end := int32(n)
		if k+1 < len(o.starts) {
			end = o.starts[k+1]
		}
		for i := s; i < end; i++ {
			peers[i] = end
		}
	}
	faults := map[int32]*batch.Fault{}
	results := make([]arrow.Array, len(o.windows))
	held := int64(n) * 4
	for k, w := range o.windows {
		args := make([]arrow.Array, len(w.Args))
		for a := range args {
			joined, err := batch.ConcatArrays(o.args[k][a])
			if err != nil {
				return err
			}
			args[a] = joined
			held += int64(joined.Data().SizeInBytes())
		}
		var filter *array.Boolean
		if w.Filter != nil {
			joined, err := batch.ConcatArrays(o.filters[k])
			if err != nil {
				return err
			}
			filter = joined.(*array.Boolean)
		}
		results[k] = w.Over(args, filter, peers, n, o.frame, func(row int, f *batch.Fault) {
			if faults[int32(row)] == nil {
				faults[int32(row)] = f
			}
		})
		held += int64(results[k].Data().SizeInBytes())
	}
	if err := out.Holds(held); err != nil {
		return err
	}
	waiting := o.waiting
	o.waiting, o.args, o.filters, o.n, o.last, o.starts = nil, nil, nil, 0, nil, nil
	at := int64(0)
	return waiting.Drain(func(b *batch.Batch) error {
		from := at
		at += int64(b.N)
		return o.give(b, results, from, faults, out)
	})
}

// give computes the values of some rows and hands them on.
func (o *windowOperator) give(b *batch.Batch, results []arrow.Array, from int64, faults map[int32]*batch.Fault, out Emitter) error {
	wide := &batch.Batch{Schema: o.middle, N: b.N, Origin: b.Origin, Cols: slices.Clone(b.Cols)}
	for _, r := range results {
		wide.Cols = append(wide.Cols, batch.SliceColumn(r, int(from), int(from)+b.N))
	}
	next := &batch.Batch{Schema: o.schema, N: b.N, Origin: b.Origin, Cols: slices.Clone(b.Cols)}
	bad := map[int32]bool{}
	refuse := func(i int32, column string, f *batch.Fault) error {
		if bad[i] {
			return nil
		}
		bad[i] = true
		return out.SetAside(b, int(i), column, "", f)
	}
	if len(faults) > 0 {
		for i := range int32(b.N) {
			if f := faults[int32(from)+i]; f != nil {
				if err := refuse(i, "", f); err != nil {
					return err
				}
			}
		}
	}
	for k, p := range o.programs {
		values, problems := p.Eval(out.Env(), wide)
		for _, problem := range problems {
			if err := refuse(problem.Row, o.schema.Columns[o.in.Len()+k].Name, problem.Fault); err != nil {
				return err
			}
		}
		next.Cols = append(next.Cols, values)
	}
	return out.Emit(without(next, bad))
}

// Close implements Closer.
func (o *windowOperator) Close() {
	o.runs.Close()
	o.waiting.Close()
}
