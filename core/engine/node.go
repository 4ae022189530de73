package engine

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"

	"welkin/core/batch"
	"welkin/core/expr"
	"welkin/core/sheet"
	"welkin/core/step"
)

// node is one step while it runs. It is the Emitter of its operator.
type node struct {
	*Planned
	run      *run
	account  Account
	reasons  reasons
	op       step.Operator
	outs     [][]edge // by output
	gate     *step.Gate
	holds    int64
	flying   []*flight // what this step sent to steps that work ahead, in order
	load     *loading
	capture  *capture    // for trials
	sliced   step.Source // of a read with a position: what this run reads
	reached  func() (json.RawMessage, error)
	pairs    *pairs   // for trials; nil where rows are not looked for by a key
	personal []string // columns of its rows that are personal
	again    bool     // of a read in a trial: it was read before, and what it refused is known
	wanted   []bool   // of a read in a lean run: the columns that steps behind use; nil for all
	lacks    bool     // in a lean run: not all columns reach this step
}

type edge struct {
	to *node
	in int
}

func newNode(r *run, p *Planned) *node {
	n := &node{Planned: p, run: r, reasons: reasons{}, personal: p.personalNames()}
	if p.Bound.Operator != nil {
		n.op = p.Bound.Operator()
	}
	n.gate = step.NewGate(n.op, len(p.Inputs))
	n.account = Account{Step: p.ID, Kind: p.Kind.Name, In: make([]int64, max(len(p.Inputs), 1)), Begin: -1}
	outputs := len(p.Bound.Branches)
	if p.Bound.Schema != nil {
		outputs++
	}
	n.account.Readers = make([]int64, outputs)
	if n.outs = make([][]edge, outputs); outputs > 1 {
		n.account.Outs = make([]int64, outputs)
	}
	return n
}

// read tells whether any step takes rows of n.
func (n *node) read() bool {
	for _, output := range n.outs {
		if len(output) > 0 {
			return true
		}
	}
	return false
}

// push takes a batch that reached input in.
func (n *node) push(in int, b *batch.Batch) error {
	defer n.run.enter(n)()
	if n.account.Begin < 0 {
		n.account.Begin = n.run.since()
	}
	b, err := n.pairs.pass(in, b)
	if err != nil {
		return n.wrap(err)
	}
	n.account.In[in] += int64(b.N)
	n.capture.input(in, b)
	if !n.gate.Open(in) {
		return n.gate.Wait(in, b, n.run.TempDir, n.Room())
	}
	return n.take(in, b)
}

func (n *node) take(in int, b *batch.Batch) error {
	switch {
	case n.op != nil:
		if p, ok := n.op.(step.Prepared); ok {
			prepared, err := p.Prepare(in, b, n)
			if err == nil {
				err = p.PushPrepared(in, b, prepared, n)
			}
			return n.wrap(err)
		}
		return n.wrap(n.op.Push(in, b, n))
	case n.load != nil:
		return n.load.write(b)
	}
	return nil // a write step in a trial
}

func (n *node) wrap(err error) error {
	var already *StepError
	if err == nil || errors.As(err, &already) || errors.Is(err, context.Canceled) {
		return err
	}
	return &StepError{n.ID, err}
}

// StepError is a failure in a step.
type StepError struct {
	Step string
	Err  error
}

func (e *StepError) Error() string { return fmt.Sprintf("step %s: %s", e.Step, e.Err) }
func (e *StepError) Unwrap() error { return e.Err }

// end says that input in has no more rows.
func (n *node) end(in int) error {
	defer n.run.enter(n)()
	done, err := n.gate.End(in, n.take, func(in int) error {
		if n.op == nil {
			return nil
		}
		return n.op.End(in, n)
	})
	if err != nil || !done {
		return n.wrap(err)
	}
	return n.done()
}

// done tells the steps behind that no more comes.
func (n *node) done() error {
	n.account.End = n.run.since()
	if err := n.settle(0); err != nil {
		return err
	}
	for _, output := range n.outs {
		for _, o := range output {
			if err := o.to.end(o.in); err != nil {
				return err
			}
		}
	}
	return nil
}

// Emit implements step.Emitter.
func (n *node) Emit(b *batch.Batch) error { return n.EmitTo(0, b) }

// EmitTo implements step.Emitter.
func (n *node) EmitTo(output int, b *batch.Batch) error {
	if b.N == 0 {
		return nil
	}
	n.sent(output, b)
	for _, e := range n.outs[output] {
		if !e.to.ahead(e.in) {
			// What was sent before must arrive before.
			if err := n.settle(0); err != nil {
				return err
			}
			if err := e.to.push(e.in, b); err != nil {
				return err
			}
			continue
		}
		if err := n.dispatch(e, b); err != nil {
			return err
		}
	}
	return nil
}

// sent counts rows that leave by an output.
func (n *node) sent(output int, b *batch.Batch) {
	n.account.Out += int64(b.N)
	if n.account.Outs != nil {
		n.account.Outs[output] += int64(b.N)
	}
	n.capture.output(output, b)
}

// SetAside implements step.Emitter.
func (n *node) SetAside(b *batch.Batch, i int, column, value string, fault *batch.Fault) error {
	return n.refuse(step.RefusedRow(b, i, column, value, fault))
}

func (n *node) refuse(r step.Refused) error {
	if n.run.lean && n.lacks {
		return errLacksColumns
	}
	n.account.SetAside++
	n.reasons.count(r.Code, r.Column, r.Part)
	if n.Problems == sheet.Stop {
		r = SetAsideRow{n.ID, r, n.personal}.Hidden().Refused // everybody reads why a run stopped
		return &StopError{n.ID, fmt.Sprintf("stopped at step %s, which allows no bad rows: %s (%s)", n.ID, r.Sentence, r.Where())}
	}
	return n.run.setAside(n, r)
}

// StopError ends a run by a rule of the sheet: nothing is committed.
type StopError struct {
	Step     string
	Sentence string
}

func (e *StopError) Error() string { return e.Sentence }

// Made implements step.Emitter.
func (n *node) Made(rows int) { n.account.Made += int64(rows) }

// Dropped implements step.Emitter.
func (n *node) Dropped(rows int) { n.account.Dropped += int64(rows) }

// Absorbed implements step.Emitter.
func (n *node) Absorbed(rows int) { n.account.Absorbed += int64(rows) }

// Match implements step.Emitter.
func (n *node) Match(in, matched, unmatched int) {
	if n.account.Matched == nil {
		n.account.Matched, n.account.Alone = make([]int64, len(n.Inputs)), make([]int64, len(n.Inputs))
	}
	n.account.Matched[in] += int64(matched)
	n.account.Alone[in] += int64(unmatched)
}

// Holds implements step.Emitter.
func (n *node) Holds(bytes int64) error {
	n.run.held += bytes - n.holds
	n.holds = bytes
	n.account.Memory = max(n.account.Memory, bytes)
	if n.run.held > max(2*n.run.Budget, leastLimit) {
		return fmt.Errorf("what it must keep needs more than twice the run's %d MiB of memory and can't be put on disk; keep fewer rows or columns before it, or give the run more memory", n.run.Budget>>20)
	}
	return nil
}

// Room implements step.Emitter: the budget is shared by the steps that may keep
// rows.
func (n *node) Room() int64 { return n.run.Budget / int64(max(n.run.keepers, 1)) }

// TempDir implements step.Emitter.
func (n *node) TempDir() string { return n.run.TempDir }

// leastLimit is what steps may hold in any case, in bytes: below it a small
// budget makes them spill and nothing more.
const leastLimit = 16 << 20

// Env implements step.Emitter.
func (n *node) Env() *expr.Env { return &n.run.env }

// Warn implements step.Emitter.
func (n *node) Warn(sentence string) {
	n.run.summary.Warnings = append(n.run.summary.Warnings, "step "+n.ID+": "+sentence)
}
