package engine

import (
	"encoding/json"

	"welkin/core/step"
)

// slice lets a read that has a position go on from it. What an earlier attempt at the
// same epoch had reached is the end of this one too: a target that committed then
// holds just that slice.
func (r *run) slice(n *node) error {
	source, ok := n.Bound.Source.(step.Positioned)
	if !ok || !r.Slices {
		return nil
	}
	s := step.Slice{After: r.Positions[n.ID], Now: r.Epoch.Started}
	if r.Before != nil {
		s.UpTo = r.Before.Positions[n.ID]
	}
	var err error
	n.sliced, n.reached, err = source.From(r.ctx, s)
	return err
}

// reach writes down the positions that were reached, to be kept when the epoch is
// committed.
func (r *run) reach() error {
	for _, n := range r.nodes {
		if n.reached == nil {
			continue
		}
		position, err := n.reached()
		if err != nil {
			return n.wrap(err)
		}
		if r.summary.Positions == nil {
			r.summary.Positions = map[string]json.RawMessage{}
		}
		r.summary.Positions[n.ID] = position
	}
	return nil
}

// positioned tells whether some read goes on from where the last run ended.
func (p *Plan) positioned() bool {
	for _, st := range p.Steps {
		if st.Bound != nil {
			if _, ok := st.Bound.Source.(step.Positioned); ok {
				return true
			}
		}
	}
	return false
}
