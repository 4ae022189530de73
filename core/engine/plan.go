// Package engine runs sheets. plan.go binds a sheet's steps to the columns that
// reach them; run.go pushes batches through the steps of one epoch and commits
// it; node.go is one step while it runs; account.go keeps the row accounts;
// spool.go holds rows that must wait; trial.go runs a part of a sheet on a
// sample and writes nothing.
package engine

import (
	"context"
	"time"

	"welkin/core/schema"
	"welkin/core/sheet"
	"welkin/core/step"
)

// Plan is a sheet whose steps know their columns.
type Plan struct {
	Sheet    *sheet.Sheet
	Steps    []*Planned // in the sheet's order
	Problems []sheet.Problem
	order    []*Planned // each after its inputs
}

// Planned is one bound step.
type Planned struct {
	*sheet.Step
	Kind     step.Kind
	Inputs   []*Planned
	Bound    *step.Bound // nil when the step could not be bound at all
	Sentence string
}

// Schema gives the columns that come out; nil when not known, or for a write.
func (p *Planned) Schema() *schema.Schema {
	if p.Bound == nil {
		return nil
	}
	return p.Bound.Schema
}

// Ready tells whether the plan can run: no problem but warnings.
func (p *Plan) Ready() bool {
	for _, problem := range p.Problems {
		if !problem.Warning {
			return false
		}
	}
	return true
}

// Step gives a planned step, or nil.
func (p *Plan) Step(id string) *Planned {
	for _, st := range p.Steps {
		if st.ID == id {
			return st
		}
	}
	return nil
}

// Binding is what Bind gets handed in.
type Binding struct {
	World  step.World
	Params map[string]string
	Now    time.Time
}

// Bind binds every step of a sheet that can be bound; found are the problems
// that reading the sheet gave already.
func Bind(ctx context.Context, s *sheet.Sheet, found []sheet.Problem, b Binding) *Plan {
	p := &Plan{Sheet: s, Problems: found}
	params, err := s.Values(b.Params)
	if err != nil {
		p.Problems = append(p.Problems, sheet.Problem{Path: "parameters", Sentence: err.Error()})
		if params, err = s.Values(nil); err != nil {
			return p
		}
	}
	if len(s.Steps) == 0 && len(found) == 0 {
		p.Problems = append(p.Problems, sheet.Problem{Sentence: "the sheet has no steps yet; begin with one that reads"})
	}
	order, circle := s.Order()
	if circle != nil {
		order = nil
	}
	byID := map[string]*Planned{}
	for _, st := range order {
		planned := &Planned{Step: st}
		byID[st.ID] = planned
		p.order = append(p.order, planned)
		kind, ok := step.Find(st.Kind)
		settings, isSettings := st.Settings.(step.Settings)
		if !ok || !isSettings {
			continue
		}
		planned.Kind, planned.Sentence = kind, settings.Sentence()
		var in []*schema.Schema
		for _, id := range st.Inputs() {
			if input := byID[id]; input != nil && input.Schema() != nil {
				planned.Inputs = append(planned.Inputs, input)
				in = append(in, input.Schema())
			}
		}
		if len(in) != len(kind.Ports) {
			continue // the problem stands at the input, or was found before
		}
		c := &step.Context{Context: ctx, World: b.World, Params: params, Now: b.Now, Pipeline: s.Name, Step: st.ID}
		planned.Bound = settings.Bind(c, in)
		for _, problem := range c.Problems() {
			line, column := st.At(problem.Path)
			p.Problems = append(p.Problems, sheet.Problem{Step: st.ID, Path: problem.Path, Line: line, Column: column, Sentence: problem.Sentence, Warning: problem.Warning})
		}
	}
	for _, st := range s.Steps {
		if planned := byID[st.ID]; planned != nil && planned.Step == st {
			p.Steps = append(p.Steps, planned)
		} else {
			p.Steps = append(p.Steps, &Planned{Step: st})
		}
	}
	p.warnUnused()
	return p
}

// warnUnused says of steps whose rows go nowhere.
func (p *Plan) warnUnused() {
	used := map[string]bool{}
	for _, st := range p.Steps {
		for _, in := range st.Step.Inputs() {
			used[in] = true
		}
	}
	for _, st := range p.Steps {
		if st.Kind.Role != step.Write && st.Bound != nil && !used[st.ID] {
			line, column := st.At("")
			p.Problems = append(p.Problems, sheet.Problem{Step: st.ID, Line: line, Column: column, Warning: true,
				Sentence: "the rows of this step go nowhere yet; add a step that writes them"})
		}
	}
}
