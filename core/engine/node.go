package engine

import (
	"context"
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
	run     *run
	account Account
	op      step.Operator
	outs    []edge
	first   int    // the input that must end first, -1 for none
	ended   []bool // by input
	left    int    // inputs not ended
	waiting *spool
	holds   int64
	load    *loading
	capture *capture // for trials
}

type edge struct {
	to *node
	in int
}

func newNode(r *run, p *Planned) *node {
	n := &node{Planned: p, run: r, first: -1, ended: make([]bool, len(p.Inputs)), left: len(p.Inputs)}
	n.account = Account{Step: p.ID, Kind: p.Kind.Name, In: make([]int64, max(len(p.Inputs), 1)), Begin: -1}
	if p.Bound.Operator != nil {
		n.op = p.Bound.Operator()
		if needs, ok := n.op.(step.Needs); ok {
			n.first = needs.First()
			n.waiting = &spool{folder: r.TempDir, budget: r.Budget / 4}
		}
	}
	return n
}

// push takes a batch that reached input in.
func (n *node) push(in int, b *batch.Batch) error {
	defer n.run.enter(n)()
	if n.account.Begin < 0 {
		n.account.Begin = n.run.since()
	}
	n.account.In[in] += int64(b.N)
	n.capture.input(in, b)
	if n.first >= 0 && in != n.first && !n.ended[n.first] {
		return n.waiting.add(b)
	}
	return n.take(in, b)
}

func (n *node) take(in int, b *batch.Batch) error {
	switch {
	case n.op != nil:
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
	n.ended[in] = true
	n.left--
	if n.first >= 0 && in != n.first && !n.ended[n.first] {
		return nil // its rows wait; they end when they have been pushed
	}
	if err := n.finish(in); err != nil {
		return err
	}
	if in == n.first {
		other := 1 - in
		if err := n.waiting.drain(func(b *batch.Batch) error { return n.take(other, b) }); err != nil {
			return n.wrap(err)
		}
		if n.ended[other] {
			if err := n.finish(other); err != nil {
				return err
			}
		}
	}
	if n.left > 0 {
		return nil
	}
	return n.done()
}

func (n *node) finish(in int) error {
	if n.op == nil {
		return nil
	}
	return n.wrap(n.op.End(in, n))
}

// done tells the steps behind that no more comes.
func (n *node) done() error {
	n.account.End = n.run.since()
	for _, o := range n.outs {
		if err := o.to.end(o.in); err != nil {
			return err
		}
	}
	return nil
}

// Emit implements step.Emitter.
func (n *node) Emit(b *batch.Batch) error {
	if b.N == 0 {
		return nil
	}
	n.account.Out += int64(b.N)
	n.capture.output(b)
	for _, o := range n.outs {
		if err := o.to.push(o.in, b); err != nil {
			return err
		}
	}
	return nil
}

// SetAside implements step.Emitter.
func (n *node) SetAside(b *batch.Batch, i int, column, value string, fault *batch.Fault) error {
	return n.refuse(step.RefusedRow(b, i, column, value, fault))
}

func (n *node) refuse(r step.Refused) error {
	n.account.SetAside++
	if n.Problems == sheet.Stop {
		return &StopError{n.ID, fmt.Sprintf("stopped at step %s, which allows no bad rows: %s (%s)", n.ID, r.Sentence, placeOf(r))}
	}
	return n.run.setAside(n, r)
}

func placeOf(r step.Refused) string {
	switch {
	case r.Key != "":
		return fmt.Sprintf("%s, %s", r.Place, r.Key)
	case r.Row > 0:
		return fmt.Sprintf("%s, line %d", r.Place, r.Row)
	}
	return "a row made inside the sheet"
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
	if n.run.held > n.run.Budget {
		return fmt.Errorf("the rows it must keep need more than the run's %d MiB of memory; keep fewer rows or columns before it, or give the run more memory", n.run.Budget>>20)
	}
	return nil
}

// Env implements step.Emitter.
func (n *node) Env() *expr.Env { return &n.run.env }

// Warn implements step.Emitter.
func (n *node) Warn(sentence string) {
	n.run.summary.Warnings = append(n.run.summary.Warnings, "step "+n.ID+": "+sentence)
}
