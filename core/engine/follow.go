package engine

import (
	"context"
	"strconv"
	"strings"

	"welkin/core/batch"
	"welkin/core/sheet"
)

// Passed is what became of a followed row at one step.
type Passed struct {
	Step     string       `json:"step"`
	Before   []Rows       `json:"before" doc:"The rows of it that came in, by input."`
	After    []BranchRows `json:"after" doc:"The rows of it that came out, by output; the first has no name."`
	SetAside string       `json:"set_aside,omitempty" doc:"Why it was set aside here."`
	Fate     string       `json:"fate" enum:"read,passed,changed,several,dropped,set aside,absorbed,written" doc:"In a word."`
}

// followed are how many rows of one origin are shown at a step.
const followed = 20

// Follow runs a sheet on a sample and tells what becomes of one row at each step it
// reaches, up to where it is dropped, set aside or taken into a group, whose rows
// come from no single one. origin is one of Rows.Origins, as seen at t.Step.
func Follow(ctx context.Context, plan *Plan, t Trial, origin string) ([]Passed, error) {
	free := *plan.Sheet // a trial is not held to the limits of a run
	free.Limits = sheet.Limits{}
	plan = &Plan{Sheet: &free, Params: plan.Params, Steps: plan.Steps, order: plan.order}
	only := originOf(origin)
	keep := &originKeeper{origin: only}
	r := newRun(ctx, plan, Options{Budget: t.Budget, TempDir: t.Temp, Clock: t.Clock, Journal: keep, Workers: t.Workers, Rows: t.Rows})
	defer r.cleanup()
	main := map[string]bool{}
	for _, n := range r.nodes {
		n.capture = newCapture(n, Trial{Show: followed})
		for _, f := range append(append([]*flow{}, n.capture.in...), n.capture.out...) {
			f.only = &only
		}
		if n.Bound.Source == nil && !n.read() { // where rows end up
			for id := range mainSources(n.Planned) {
				main[id] = true
			}
		}
	}
	if err := r.sample(main, t.Sample, t.Others); err != nil {
		return nil, err
	}
	if err := r.flush(ctx); err != nil {
		return nil, err
	}
	reached := r.sourceOf(plan.Step(t.Step))
	byStep := map[string]Passed{}
	for _, n := range r.nodes { // plan order: inputs come first
		if passed := n.passed(reached, keep.sentences[n.ID]); passed != nil {
			byStep[n.ID] = *passed
			reached[n.ID] = true
		}
	}
	out := []Passed{}
	for _, p := range plan.Steps {
		if passed, ok := byStep[p.ID]; ok {
			out = append(out, passed)
		}
	}
	return out, nil
}

// sourceOf names the read from which the followed row came to a step: that of its
// main input if it gave such a row, else any that did. Two reads may call rows by
// the same place and number.
func (r *run) sourceOf(p *Planned) map[string]bool {
	out := map[string]bool{}
	if p == nil {
		return out
	}
	gave := func(id string) bool { return r.byID[id].capture.out[0].total > 0 }
	for id := range mainSources(p) {
		if out[id] = gave(id); out[id] {
			return out
		}
	}
	for _, before := range before(p) {
		if before.Bound.Source != nil && gave(before.ID) {
			out[before.ID] = true
		}
	}
	return out
}

// passed words what became of the followed row at a step; nil where it did not
// come, which it can only from steps that it has reached.
func (n *node) passed(reached map[string]bool, aside string) *Passed {
	out := &Passed{Step: n.ID, SetAside: aside, Before: []Rows{}, After: []BranchRows{}}
	into, outof := int64(0), int64(0)
	for i, f := range n.capture.in {
		if !reached[n.Inputs[i].ID] {
			continue
		}
		into += f.total
		out.Before = append(out.Before, f.rows(n.Inputs[i].Schema()))
	}
	if n.Bound.Source != nil && !reached[n.ID] || n.Bound.Source == nil && into == 0 {
		return nil
	}
	for number, f := range n.capture.out {
		outof += f.total
		name := ""
		if at := number - len(n.capture.out) + len(n.Bound.Branches); at >= 0 {
			name = n.Bound.Branches[at].Name
		}
		if f.total > 0 || number == 0 {
			out.After = append(out.After, BranchRows{name, f.rows(outputSchema(n.Planned, number))})
		}
	}
	switch {
	case n.Bound.Source != nil:
		out.Fate = "read"
	case aside != "":
		out.Fate = "set aside"
	case n.Bound.Target != nil:
		out.Fate = "written"
	case outof > into:
		out.Fate = "several"
	case outof == 0 && n.account.Absorbed > 0 && len(n.Inputs) == 1:
		out.Fate = "absorbed"
	case outof == 0:
		out.Fate = "dropped"
	case sameCells(out):
		out.Fate = "passed"
	default:
		out.Fate = "changed"
	}
	return out
}

// sameCells tells whether the row came out with the columns and values it had.
func sameCells(p *Passed) bool {
	for _, branch := range p.After {
		if len(branch.Rows.Rows) == 0 {
			continue
		}
		in := p.Before[0]
		if len(in.Rows) == 0 || len(in.Columns) != len(branch.Columns) {
			return false
		}
		for c := range in.Columns {
			a, b := in.Rows[0][c], branch.Rows.Rows[0][c]
			if in.Columns[c].Name != branch.Columns[c].Name || in.Columns[c].Type != branch.Columns[c].Type || (a == nil) != (b == nil) || a != nil && *a != *b {
				return false
			}
		}
	}
	return true
}

// followedOrigin is where a followed row comes from.
type followedOrigin struct {
	place, key string
	row        int64
}

// originOf reads what Rows.Origins holds.
func originOf(text string) followedOrigin {
	place, key, _ := cutLast(text, "·")
	out := followedOrigin{place: place, key: key}
	if row, err := strconv.ParseInt(key, 10, 64); err == nil {
		out.row = row
	}
	return out
}

func cutLast(s, sep string) (before, after string, found bool) {
	if i := strings.LastIndex(s, sep); i >= 0 {
		return s[:i], s[i+len(sep):], true
	}
	return s, "", false
}

func (o followedOrigin) is(place string, row int64, key string) bool {
	if place != o.place {
		return false
	}
	if row > 0 {
		return row == o.row
	}
	return key == o.key
}

// in gives the rows of a batch that come from there.
func (o followedOrigin) in(b *batch.Batch) *batch.Batch {
	var rows []int32
	for i := range b.N {
		if o.is(b.Origin.At(i)) {
			rows = append(rows, int32(i))
		}
	}
	return b.Take(rows)
}

// originKeeper is a Journal that keeps why rows of one origin were set aside.
type originKeeper struct {
	asideKeeper
	origin    followedOrigin
	sentences map[string]string // by step
}

func (k *originKeeper) SetAside(_ context.Context, rows []SetAsideRow) error {
	for _, row := range rows {
		if k.origin.is(row.Place, row.Row, row.Key) {
			if k.sentences == nil {
				k.sentences = map[string]string{}
			}
			k.sentences[row.Step] = row.Sentence
		}
	}
	return nil
}
