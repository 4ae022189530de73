package step

import (
	"welkin/core/batch"
	"welkin/core/spill"
)

// Gate lets batches of several inputs through to an operator in the order it
// Needs: those of an input whose turn has not come wait, on disk if need be.
type Gate struct {
	first   []int
	over    []bool // by input: whether it has ended
	closed  []bool // by input: whether the operator was told so
	waiting []*spill.Spool
}

// NewGate makes the gate of an operator; op may be nil.
func NewGate(op Operator, inputs int) *Gate {
	g := &Gate{over: make([]bool, inputs), closed: make([]bool, inputs), waiting: make([]*spill.Spool, inputs)}
	if needs, ok := op.(Needs); ok {
		g.first = needs.First()
	}
	return g
}

// First lists the inputs that must end first.
func (g *Gate) First() []int { return g.first }

// Over tells whether an input has no more rows.
func (g *Gate) Over(in int) bool { return g.over[in] }

// Open tells whether a batch of an input may go through now.
func (g *Gate) Open(in int) bool { return g.turn(in) && g.waiting[in] == nil }

func (g *Gate) turn(in int) bool {
	for _, f := range g.first {
		if f == in {
			return true
		}
		if !g.closed[f] {
			return false
		}
	}
	return true
}

// Wait keeps a batch until its turn comes.
func (g *Gate) Wait(in int, b *batch.Batch, folder string, room int64) error {
	if g.waiting[in] == nil {
		g.waiting[in] = spill.NewSpool(folder, room)
	}
	return g.waiting[in].Add(b)
}

// End says that an input has no more rows. Batches whose turn has come are taken
// then, and inputs that are through are ended. done tells that all are.
func (g *Gate) End(in int, take func(in int, b *batch.Batch) error, end func(in int) error) (done bool, err error) {
	g.over[in] = true
	for again := true; again; {
		again = false
		for in := range g.over {
			if g.closed[in] || !g.turn(in) {
				continue
			}
			if w := g.waiting[in]; w != nil {
				g.waiting[in] = nil
				if err := w.Drain(func(b *batch.Batch) error { return take(in, b) }); err != nil {
					return false, err
				}
			}
			if !g.over[in] {
				continue
			}
			g.closed[in], again = true, true
			if err := end(in); err != nil {
				return false, err
			}
		}
	}
	for _, closed := range g.closed {
		if !closed {
			return false, nil
		}
	}
	return true, nil
}

// Close lets go of what waits.
func (g *Gate) Close() {
	for _, w := range g.waiting {
		w.Close()
	}
}
