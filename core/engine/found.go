package engine

import (
	"context"
	"fmt"

	"welkin/core/schema"
	"welkin/core/sheet"
	"welkin/core/step"
)

// distinct reads the rows that reach an input and gives the values of one column
// as text, in order, without null, at most limit of them. At most reach rows of
// each source are read, all when it is 0; whole tells whether none were left out.
func (p *Plan) distinct(ctx context.Context, in Input, column string, limit int, reach int64) (values []string, whole bool, err error) {
	if !p.Ready() {
		return nil, false, nil // steps before have problems, which stand there
	}
	group := p.after(ctx, in, "group", &step.Group{By: []string{column}})
	if group == nil || group.Bound == nil {
		return nil, false, fmt.Errorf("the values of %s can't be found by reading; list them", column)
	}
	sorted := p.after(ctx, Input{group, 0, group.ID}, "sort", &step.Sort{By: []step.SortKey{{By: column}}})
	part := &Plan{Sheet: p.Sheet, order: append(before(in.Planned), group, sorted)}
	part.Steps = part.order
	tried, err := Try(ctx, part, Trial{Step: sorted.ID, Sample: reach, Others: reach, Show: limit + 1, Lean: true})
	if err != nil {
		return nil, false, err
	}
	for _, row := range tried.After.Rows {
		if row[0] != nil && len(values) < limit {
			values = append(values, *row[0])
		}
	}
	return values, !tried.Steps[len(tried.Steps)-1].Sample, nil
}

// after binds a step that the sheet does not have to rows of the sheet.
func (p *Plan) after(ctx context.Context, in Input, kind string, settings step.Settings) *Planned {
	k, _ := step.Find(kind)
	st := &sheet.Step{ID: in.ID + " " + kind, Kind: kind, Settings: settings}
	c := &step.Context{Context: ctx, Step: st.ID, Inputs: []string{in.Place}}
	return &Planned{Step: st, Kind: k, Inputs: []Input{in}, Bound: settings.Bind(c, []*schema.Schema{in.Schema()})}
}

// before lists a step and all it depends on, each after its inputs.
func before(p *Planned) []*Planned {
	var out []*Planned
	seen := map[*Planned]bool{}
	var visit func(p *Planned)
	visit = func(p *Planned) {
		if seen[p] {
			return
		}
		seen[p] = true
		for _, in := range p.Inputs {
			visit(in.Planned)
		}
		out = append(out, p)
	}
	visit(p)
	return out
}
