package engine

import (
	"time"

	"welkin/core/batch"
	"welkin/core/expr"
	"welkin/core/step"
)

// Steps that keep nothing from row to row work ahead: a batch that reaches one
// is taken through it, and through all such steps behind it, by a goroutine of
// its own. What came of it is written down and told to the nodes afterwards, in
// the order in which the batches were sent, by the one goroutine that drives
// the run. So the number of workers never shows in a result.

// flight is a batch on its way through steps that work ahead.
type flight struct {
	edge edge
	b    *batch.Batch
	done chan *record
}

// record is what came of a batch at one step.
type record struct {
	node     *node
	in       int
	b        *batch.Batch
	prepared any // for a step that only prepares ahead
	ready    bool
	made     int
	dropped  int
	absorbed int
	matched  [2]int
	matchIn  int
	asides   []step.Refused
	warnings []string
	outs     []sentOut
	seconds  float64
	err      error
}

// sentOut is a batch that left by an output; ahead holds, by edge, what came of
// it where the next step works ahead too.
type sentOut struct {
	output int
	b      *batch.Batch
	ahead  []*record
}

// maxFlying is how many batches of one step may be under way.
const maxFlying = 4

// ahead tells whether a batch may be worked on ahead of its turn.
func (n *node) ahead(in int) bool {
	if n.op == nil {
		return false
	}
	if c, ok := n.op.(step.Concurrent); ok && c.Concurrent(in) && n.gate.Open(in) {
		return true
	}
	_, prepares := n.op.(step.Prepared)
	return prepares && n.gate.Open(in)
}

// dispatch sends a batch on its way.
func (n *node) dispatch(e edge, b *batch.Batch) error {
	f := &flight{e, b, make(chan *record, 1)}
	n.flying = append(n.flying, f)
	slots := n.run.slots
	go func() {
		slots <- struct{}{}
		f.done <- e.to.work(e.in, b)
		<-slots
	}()
	return n.settle(maxFlying)
}

// settle tells the nodes what came of batches, oldest first, until no more than
// left are under way.
func (n *node) settle(left int) error {
	for len(n.flying) > left {
		f := n.flying[0]
		n.flying = n.flying[1:]
		if err := n.run.tell(<-f.done); err != nil {
			return err
		}
	}
	return nil
}

// work takes a batch through a step and those behind it that work ahead. It
// changes nothing outside of its record.
func (n *node) work(in int, b *batch.Batch) *record {
	r := &record{node: n, in: in, b: b}
	began := time.Now()
	if p, ok := n.op.(step.Prepared); ok {
		r.prepared, r.err = p.Prepare(in, b, r)
		r.ready = true
	} else {
		r.err = n.op.Push(in, b, r)
	}
	r.seconds += time.Since(began).Seconds()
	return r
}

// tell counts a record and hands its rows on.
func (r *run) tell(rec *record) error {
	n := rec.node
	if n.account.Begin < 0 {
		n.account.Begin = r.since()
	}
	n.account.In[rec.in] += int64(rec.b.N)
	n.capture.input(rec.in, rec.b)
	n.account.Seconds += rec.seconds
	n.Made(rec.made)
	n.Dropped(rec.dropped)
	n.Absorbed(rec.absorbed)
	if rec.matched != [2]int{} {
		n.Match(rec.matchIn, rec.matched[0], rec.matched[1])
	}
	for _, w := range rec.warnings {
		n.Warn(w)
	}
	for _, aside := range rec.asides {
		if err := n.refuse(aside); err != nil {
			return err
		}
	}
	if rec.err != nil {
		return n.wrap(rec.err)
	}
	if rec.ready {
		defer r.enter(n)()
		return n.wrap(n.op.(step.Prepared).PushPrepared(rec.in, rec.b, rec.prepared, n))
	}
	for _, out := range rec.outs {
		n.sent(out.output, out.b)
		for i, e := range n.outs[out.output] {
			var err error
			if out.ahead[i] != nil {
				err = r.tell(out.ahead[i])
			} else {
				err = e.to.push(e.in, out.b)
			}
			if err != nil {
				return err
			}
		}
	}
	return nil
}

// Emit implements step.Emitter.
func (r *record) Emit(b *batch.Batch) error { return r.EmitTo(0, b) }

// EmitTo implements step.Emitter.
func (r *record) EmitTo(output int, b *batch.Batch) error {
	if b.N == 0 {
		return nil
	}
	out := sentOut{output, b, make([]*record, len(r.node.outs[output]))}
	began := time.Now()
	for i, e := range r.node.outs[output] {
		if e.to.rowWise(e.in) {
			out.ahead[i] = e.to.work(e.in, b)
		}
	}
	r.seconds -= time.Since(began).Seconds()
	r.outs = append(r.outs, out)
	return nil
}

// rowWise tells whether a step can be worked on within another's flight. Unlike
// ahead it must not look at what the driving goroutine changes.
func (n *node) rowWise(in int) bool {
	if n.op == nil || len(n.Inputs) != 1 {
		return false
	}
	if _, prepares := n.op.(step.Prepared); prepares {
		return true
	}
	c, ok := n.op.(step.Concurrent)
	return ok && c.Concurrent(in)
}

// SetAside implements step.Emitter.
func (r *record) SetAside(b *batch.Batch, i int, column, value string, fault *batch.Fault) error {
	r.asides = append(r.asides, step.RefusedRow(b, i, column, value, fault))
	return nil
}

// Made implements step.Emitter.
func (r *record) Made(rows int) { r.made += rows }

// Dropped implements step.Emitter.
func (r *record) Dropped(rows int) { r.dropped += rows }

// Absorbed implements step.Emitter.
func (r *record) Absorbed(rows int) { r.absorbed += rows }

// Match implements step.Emitter.
func (r *record) Match(in, matched, unmatched int) {
	r.matchIn = in
	r.matched[0] += matched
	r.matched[1] += unmatched
}

// Holds implements step.Emitter.
func (r *record) Holds(int64) error { return nil }

// Room implements step.Emitter.
func (r *record) Room() int64 { return r.node.Room() }

// TempDir implements step.Emitter.
func (r *record) TempDir() string { return r.node.TempDir() }

// Env implements step.Emitter.
func (r *record) Env() *expr.Env { return &r.node.run.env }

// Warn implements step.Emitter.
func (r *record) Warn(sentence string) { r.warnings = append(r.warnings, sentence) }

var _ step.Emitter = (*record)(nil)
