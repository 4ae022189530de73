package engine

import (
	"fmt"
	"slices"
	"time"

	"github.com/apache/arrow-go/v18/arrow"

	"welkin/core/batch"
	"welkin/core/schema"
	"welkin/core/step"
)

// A trial reads so many rows of its main input. What is looked up for them, as in
// a join, is read after it. It is taken whole while it is small, and so used again
// by later trials; of more, only the rows with the keys of the main rows are
// taken: a database is asked for them, files are read through and the others left
// out. So a join in a trial finds what it would find in a run.

// sample reads the sources for a trial: main ones up to limit rows, others whole
// or by keys where that can be, and else up to others rows.
func (r *run) sample(main map[string]bool, limit, others int64) error {
	var left []*partners
	for _, n := range r.nodes {
		if n.Bound.Keys != nil {
			n.pairs = &pairs{node: n, wanted: n.Bound.Keys.Wanted()}
		}
	}
	for _, n := range r.sources() {
		if !main[n.ID] {
			left = append(left, &partners{n, slices.Clone(n.outs)})
			continue
		}
		if err := r.read(n, limit); err != nil {
			return err
		}
	}
	for len(left) > 0 {
		p, to := left[0], slices.Clone(left[0].outs)
		var by []*pairs
		for _, other := range left { // those whose keys are known come first
			if outs, known := other.known(); known != nil {
				p, to, by = other, outs, known
				break
			}
		}
		if err := r.readFor(p, to, by, others); err != nil {
			return err
		}
		left = slices.DeleteFunc(left, func(p *partners) bool { return !p.waited() })
	}
	return nil
}

// partners are a source that others look into, and the edges that wait for its
// rows. It may be read several times, for one edge after the other: what is looked
// for by one may depend on what another found.
type partners struct {
	*node
	outs [][]edge
}

// waited tells whether any edge still waits.
func (p *partners) waited() bool {
	return slices.ContainsFunc(p.outs, func(edges []edge) bool { return len(edges) > 0 })
}

// known gives the edges behind which all rows are looked for by keys that are
// known, and the steps that do so.
func (p *partners) known() (outs [][]edge, by []*pairs) {
	outs = make([][]edge, len(p.outs))
	for output, edges := range p.outs {
		for _, e := range edges {
			if found := e.lookedForBy(); found != nil {
				outs[output], by = append(outs[output], e), append(by, found...)
			}
		}
	}
	return outs, by
}

// readFor reads partners for some of the edges that wait.
func (r *run) readFor(p *partners, to [][]edge, by []*pairs, others int64) error {
	n, whole := p.node, p.node.outs
	n.again = n.account.Begin >= 0
	if n.again { // it is counted once
		r.summary.Read -= n.account.In[0]
		n.account.In[0], n.account.Out, n.account.Bytes = 0, 0, 0
	}
	n.outs = to
	defer func() { n.outs = whole }()
	for output, edges := range p.outs {
		p.outs[output] = slices.DeleteFunc(slices.Clone(edges), func(e edge) bool { return slices.Contains(to[output], e) })
	}
	return r.readPartners(n, by, others)
}

// pairs lets only those rows of a step's second input pass that are looked for,
// once it is told to. A nil one lets all pass.
type pairs struct {
	node   *node
	wanted *step.WantedKeys
	only   bool
}

// pass takes rows on their way to an input.
func (p *pairs) pass(in int, b *batch.Batch) (*batch.Batch, error) {
	switch {
	case p == nil:
	case in == 0:
		return b, p.wanted.Add(b)
	case in == 1 && p.only:
		return p.wanted.Only(b)
	}
	return b, nil
}

// known tells whether all keys are known and decide which rows of the second input
// come to anything.
func (p *pairs) known() bool {
	return p.node.gate.Over(0) && (!p.wanted.Rest || p.node.sampled(0))
}

// sampled tells whether rows of an input come from a source that was not read to
// its end.
func (n *node) sampled(in int) bool {
	for _, st := range before(n.Inputs[in].Planned) {
		if n.run.byID[st.ID].account.Sample {
			return true
		}
	}
	return false
}

// lookedForBy gives the steps that look by known keys for the rows that take an
// edge. It is nil when they get anywhere else.
func (e edge) lookedForBy() []*pairs {
	if p := e.to.pairs; p != nil && e.in == 1 {
		if p.known() {
			return []*pairs{p}
		}
		return nil
	}
	var out []*pairs
	for _, edges := range e.to.outs {
		for _, next := range edges {
			further := next.lookedForBy()
			if further == nil {
				return nil
			}
			out = append(out, further...)
		}
	}
	return out
}

// longestLook is how long a source is read for the rows that are looked for.
const longestLook = 10 * time.Second

// readPartners reads a source whose rows are looked for by the steps given.
func (r *run) readPartners(n *node, by []*pairs, others int64) error {
	if by == nil || others == 0 {
		return r.read(n, others)
	}
	began, scanning := r.Clock(), false
	var first []step.Chunk
	rows := int64(0)
	err := r.readChunks(n, n.source(), 0, func(c step.Chunk) error {
		if scanning {
			if r.Clock().Sub(began) > longestLook {
				n.account.Sample = true
				n.Warn(fmt.Sprintf("only what was read of it in %d seconds was looked through", int(longestLook.Seconds())))
				return errEnough
			}
			return r.take(n, c)
		}
		first = append(first, c)
		if rows += int64(c.Batch.N); rows <= others {
			return nil
		}
		for _, p := range by {
			p.only, p.node.account.Keyed = true, true
		}
		if n.narrowed(by) != nil {
			return errEnough
		}
		scanning = true
		return r.takeAll(n, &first)
	})
	if err != nil {
		return err
	}
	if rows > others && !scanning {
		if err := r.readChunks(n, n.narrowed(by), 0, func(c step.Chunk) error { return r.take(n, c) }); err != nil {
			return err
		}
		return n.done()
	}
	if err := r.takeAll(n, &first); err != nil {
		return err
	}
	return n.done()
}

func (r *run) takeAll(n *node, chunks *[]step.Chunk) error {
	for _, c := range *chunks {
		if err := r.take(n, c); err != nil {
			return err
		}
	}
	*chunks = nil
	return nil
}

// mostAsked is for how many keys a database is asked.
const mostAsked = 100_000

// narrowed gives a source that reads the rows alone that are looked for; nil where
// it can't, or several steps look for different ones.
func (n *node) narrowed(by []*pairs) step.Source {
	source, ok := n.source().(step.Narrowing)
	if !ok || len(by) != 1 || by[0].wanted.Len() > mostAsked {
		return nil
	}
	columns, values, err := n.asked(by[0])
	if err != nil || len(columns) == 0 {
		return nil
	}
	return source.Narrow(columns, values)
}

// asked gives the columns of a source that hold the keys a step looks for, and
// their values.
func (n *node) asked(p *pairs) (columns []int, values []arrow.Array, err error) {
	all, err := p.wanted.Values()
	if err != nil {
		return nil, nil, err
	}
	for k, at := range p.wanted.Columns() {
		column := p.node.comesFrom(1, at, n)
		if column < 0 {
			continue
		}
		t := n.Bound.Schema.Columns[column].Type
		if t.Kind == schema.List || t.Kind == schema.Record || !arrow.TypeEqual(t.Arrow(), all[k].DataType()) {
			continue
		}
		columns, values = append(columns, column), append(values, all[k])
	}
	return columns, values, nil
}

// comesFrom follows a column of an input back to a source through steps that pass
// it on; it is -1 where one of them does not.
func (n *node) comesFrom(in, column int, source *node) int {
	from := n.run.byID[n.Inputs[in].ID]
	switch {
	case from == source:
		return column
	case from.Bound.Carries == nil || n.Inputs[in].Output != 0 || len(from.Inputs) != 1:
		return -1
	}
	if column = from.Bound.Carries(column); column < 0 {
		return -1
	}
	return from.comesFrom(0, column, source)
}
