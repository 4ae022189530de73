package step

import (
	"fmt"

	"welkin/core/batch"
	"welkin/core/schema"
)

// subgraph is steps within a step: the SQL step plans a query onto the same
// operators that sheets use.
type subgraph struct {
	inputs int
	nodes  []*subnode
}

// subnode is one step of a subgraph, with where its rows come from.
type subnode struct {
	bound  *Bound
	from   []subsource
	schema *schema.Schema
}

// subsource is an input of the whole, or an earlier node.
type subsource struct {
	node  int // -1 for an input of the whole
	input int
}

// add binds settings over sources; a mistake is an error in words.
func (g *subgraph) add(c *Context, s Settings, from []subsource, in []*schema.Schema) (subsource, *schema.Schema, error) {
	inner := &Context{Context: c.Context, World: c.World, Params: c.Params, Now: c.Now, Pipeline: c.Pipeline, Step: c.Step}
	bound := s.Bind(inner, in)
	for _, p := range inner.problems {
		if !p.Warning {
			return subsource{}, nil, fmt.Errorf("%s", p.Sentence)
		}
	}
	g.nodes = append(g.nodes, &subnode{bound, from, bound.Schema})
	return subsource{node: len(g.nodes) - 1}, bound.Schema, nil
}

// operator makes the running part; out is the node whose rows are the result.
func (g *subgraph) operator(out subsource) Operator {
	o := &subOperator{subgraph: g, readers: make([][]subedge, g.inputs)}
	for i, n := range g.nodes {
		run := &subrun{op: n.bound.Operator(), owner: o, last: i == out.node}
		run.gate = NewGate(run.op, len(n.from))
		o.running = append(o.running, run)
		for in, from := range n.from {
			if from.node < 0 {
				o.readers[from.input] = append(o.readers[from.input], subedge{run, in})
			} else {
				o.running[from.node].outs = append(o.running[from.node].outs, subedge{run, in})
			}
		}
	}
	return o
}

type subOperator struct {
	*subgraph
	running []*subrun
	readers [][]subedge // by input
	outer   Emitter
	held    int64
}

type subedge struct {
	to *subrun
	in int
}

// Push implements Operator. The rows that come in are absorbed, and those that
// go out are made.
func (o *subOperator) Push(in int, b *batch.Batch, out Emitter) error {
	o.outer = out
	out.Absorbed(b.N)
	for _, e := range o.readers[in] {
		if err := e.to.push(e.in, b); err != nil {
			return err
		}
	}
	return nil
}

// End implements Operator.
func (o *subOperator) End(in int, out Emitter) error {
	o.outer = out
	for _, e := range o.readers[in] {
		if err := e.to.end(e.in); err != nil {
			return err
		}
	}
	return nil
}

// Close implements Closer.
func (o *subOperator) Close() {
	for _, r := range o.running {
		r.gate.Close()
		if c, ok := r.op.(Closer); ok {
			c.Close()
		}
	}
}

// subrun is one running step; it is the Emitter of its operator.
type subrun struct {
	Emitter // the outer step's, for what is not counted here
	op      Operator
	owner   *subOperator
	gate    *Gate
	outs    []subedge
	last    bool
	holds   int64
}

func (r *subrun) push(in int, b *batch.Batch) error {
	r.Emitter = r.owner.outer
	if !r.gate.Open(in) {
		return r.gate.Wait(in, b, r.TempDir(), r.Room())
	}
	return r.op.Push(in, b, r)
}

func (r *subrun) end(in int) error {
	r.Emitter = r.owner.outer
	done, err := r.gate.End(in, func(in int, b *batch.Batch) error { return r.op.Push(in, b, r) }, func(in int) error { return r.op.End(in, r) })
	if err != nil || !done {
		return err
	}
	for _, e := range r.outs {
		if err := e.to.end(e.in); err != nil {
			return err
		}
	}
	return nil
}

// Emit implements Emitter.
func (r *subrun) Emit(b *batch.Batch) error { return r.EmitTo(0, b) }

// EmitTo implements Emitter.
func (r *subrun) EmitTo(_ int, b *batch.Batch) error {
	if b.N == 0 {
		return nil
	}
	if r.last {
		r.owner.outer.Made(b.N)
		if err := r.owner.outer.Emit(b); err != nil {
			return err
		}
	}
	for _, e := range r.outs {
		if err := e.to.push(e.in, b); err != nil {
			return err
		}
	}
	return nil
}

// SetAside implements Emitter: the row was absorbed when it came in, so it is
// made again to be set aside.
func (r *subrun) SetAside(b *batch.Batch, i int, column, value string, fault *batch.Fault) error {
	r.owner.outer.Made(1)
	return r.owner.outer.SetAside(b, i, column, value, fault)
}

// Made, Dropped, Absorbed and Match are of the inner steps alone.
func (r *subrun) Made(int)            {}
func (r *subrun) Dropped(int)         {}
func (r *subrun) Absorbed(int)        {}
func (r *subrun) Match(int, int, int) {}

// Holds implements Emitter.
func (r *subrun) Holds(bytes int64) error {
	r.owner.held += bytes - r.holds
	r.holds = bytes
	return r.owner.outer.Holds(r.owner.held)
}

// Room implements Emitter: the step's room is shared by its inner steps.
func (r *subrun) Room() int64 { return r.owner.outer.Room() / int64(max(len(r.owner.running)/3, 1)) }
