package engine

import (
	"errors"

	"welkin/core/batch"
	"welkin/core/step"
)

// A lean run carries only the columns that some step behind uses: the others are
// not read where the source can leave them out, and stand empty where it can't.
//
// A row set aside is kept as it entered its step, whole. A step that lacks
// columns can't give it so: then the run is given up and done again with all
// columns, which costs time, and nothing else, since nothing is committed yet.

// errLacksColumns says that a row was set aside that is not whole.
var errLacksColumns = errors.New("a row set aside lacks columns")

// makeLean finds out which columns each step needs.
func (r *run) makeLean() {
	wanted := map[*node][]bool{} // by column of the first output
	for i := len(r.nodes) - 1; i >= 0; i-- {
		n := r.nodes[i]
		n.wanted = wanted[n]
		if n.Bound.Schema != nil && n.wanted == nil {
			n.wanted = make([]bool, n.Bound.Schema.Len())
		}
		for c := range n.wanted { // a trial shows all
			n.wanted[c] = n.wanted[c] || n.capture != nil
		}
		var uses [][]bool
		if n.Bound.Uses != nil && len(n.Bound.Branches) == 0 {
			uses = n.Bound.Uses(n.wanted)
		}
		for in, from := range n.Inputs {
			source := r.byID[from.ID]
			if from.Output != 0 || from.Bound.Schema == nil {
				continue // a branch: steps with branches use all that they get
			}
			if wanted[source] == nil {
				wanted[source] = make([]bool, from.Bound.Schema.Len())
			}
			for c := range wanted[source] {
				wanted[source][c] = wanted[source][c] || uses == nil || uses[in][c]
			}
		}
	}
	for _, n := range r.nodes {
		if l, ok := n.op.(step.Leaner); ok && n.wanted != nil && len(n.Bound.Branches) == 0 {
			l.Lean(n.wanted)
			n.lacks = containsFalse(n.wanted)
			r.lean = r.lean || n.lacks
		}
		for _, from := range n.Inputs { // nil for a branch: it has all
			n.lacks = n.lacks || containsFalse(wanted[r.byID[from.ID]])
		}
		if n.Bound.Source == nil || !containsFalse(n.wanted) {
			n.wanted = nil
			continue
		}
		r.lean = true
	}
}

func containsFalse(list []bool) bool {
	for _, v := range list {
		if !v {
			return true
		}
	}
	return false
}

// source is what a read reads: all columns, or those wanted.
func (n *node) source() step.Source {
	source := n.Bound.Source
	if n.sliced != nil {
		source = n.sliced
	}
	if p, ok := source.(step.Projecting); ok && n.wanted != nil {
		return p.Project(n.wanted)
	}
	return source
}

// blank empties the columns that nobody wants.
func (n *node) blank(b *batch.Batch) *batch.Batch {
	if n.wanted == nil {
		return b
	}
	return b.Blank(n.wanted)
}
