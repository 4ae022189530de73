// Package engine runs sheets. plan.go binds a sheet's steps to the columns that
// reach them; run.go does one epoch and commits it, with reading.go pushing the
// sources' batches through the steps, node.go being one step while it runs,
// ahead.go the work done ahead of its turn, loading.go the writing behind, lean.go
// the columns carried and account.go the row accounts; sql.go and database.go run
// a sheet in its database instead; trial.go runs a part of a sheet on a sample and
// writes nothing, with capture.go keeping what is shown and trialcache.go what is
// used again; found.go reads rows to find columns that depend on them.
package engine

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"welkin/core/expr"
	"welkin/core/schema"
	"welkin/core/sheet"
	"welkin/core/step"
)

// Plan is a sheet whose steps know their columns.
type Plan struct {
	Sheet    *sheet.Sheet
	Steps    []*Planned // in the sheet's order
	Problems []sheet.Problem
	Params   map[string]expr.Param
	order    []*Planned // each after its inputs
}

// Planned is one bound step.
type Planned struct {
	*sheet.Step
	Kind     step.Kind
	Inputs   []Input
	Bound    *step.Bound // nil when the step could not be bound at all
	Sentence string
}

// Input is where rows of a step come from.
type Input struct {
	*Planned
	Output int    // number of that step's output
	Place  string // as the sheet says it: step or step.output
}

// Schema gives the columns of that output.
func (in Input) Schema() *schema.Schema {
	_, output := sheet.Source(in.Place)
	_, s, _ := in.Bound.Output(output)
	return s
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
	Reach  int64 // rows read of a source to find columns that depend on rows; 0 for all
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
	p.Params = params
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
		var places []string
		for i, place := range st.Inputs() {
			id, output := sheet.Source(place)
			input := byID[id]
			if input == nil || input.Bound == nil {
				continue
			}
			number, columns, ok := input.Bound.Output(output)
			if !ok {
				p.problemAt(st, inputPath(i), noOutput(input, output))
				continue
			}
			planned.Inputs = append(planned.Inputs, Input{input, number, place})
			in, places = append(in, columns), append(places, place)
		}
		if least, _ := (step.Kinds{}).Ports(kind.Name); len(in) != len(st.Inputs()) || len(in) < least {
			continue // the problem stands at the input, or was found before
		}
		c := &step.Context{Context: ctx, World: b.World, Params: params, Now: b.Now, Pipeline: s.Name, Step: st.ID, Inputs: places}
		c.Distinct = func(input, column, limit int) ([]string, bool, error) {
			return p.distinct(ctx, planned.Inputs[input], in[input].Columns[column].Name, limit, b.Reach)
		}
		if planned.Bound = settings.Bind(c, in); planned.Bound != nil {
			for _, name := range planned.Bound.MarkPersonal(st.Personal, in) {
				at := slices.Index(st.Personal, name)
				p.problemAt(st, fmt.Sprintf("personal[%d]", at), fmt.Sprintf("no column %q comes out of this step, so it can't be personal%s", name, hint(planned.Bound, name)))
			}
		}
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
	p.checkEngine()
	return p
}

func (p *Plan) problemAt(st *sheet.Step, path, sentence string) {
	line, column := st.At(path)
	p.Problems = append(p.Problems, sheet.Problem{Step: st.ID, Path: path, Line: line, Column: column, Sentence: sentence})
}

// hint names the column that was probably meant.
func hint(b *step.Bound, name string) string {
	if b.Schema != nil {
		if near := b.Schema.Nearest(name); near != "" {
			return fmt.Sprintf("; did you mean %q?", near)
		}
	}
	return ""
}

func inputPath(i int) string {
	switch i {
	case 0:
		return "from"
	case 1:
		return "with"
	}
	return fmt.Sprintf("with[%d]", i-1)
}

// noOutput words that a step has no such output, and which it has.
func noOutput(p *Planned, output string) string {
	var names []string
	for _, b := range p.Bound.Branches {
		names = append(names, p.ID+"."+b.Name)
	}
	switch {
	case p.Kind.Role == step.Write:
		return fmt.Sprintf("%s writes rows and gives none", p.ID)
	case len(names) == 0:
		return fmt.Sprintf("step %s has one output; write %s alone, not %s.%s", p.ID, p.ID, p.ID, output)
	case output == "":
		return fmt.Sprintf("step %s has several outputs; say which one: %s", p.ID, strings.Join(names, ", "))
	}
	return fmt.Sprintf("step %s has no output %q; there are %s", p.ID, output, strings.Join(names, ", "))
}

// warnUnused says of steps whose rows go nowhere.
func (p *Plan) warnUnused() {
	used := map[string]bool{}
	for _, st := range p.Steps {
		for _, in := range st.Step.Inputs() {
			id, _ := sheet.Source(in)
			used[id] = true
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
