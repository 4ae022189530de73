package engine

import (
	"context"
	"errors"
	"fmt"
	"time"

	"welkin/core/batch"
	"welkin/core/offer"
	"welkin/core/profile"
	"welkin/core/sheet"
	"welkin/core/step"
)

// Trial says what to try and how much to read.
type Trial struct {
	Step    string // whose rows are wanted
	Sample  int64  // rows read of main inputs
	Others  int64  // rows read of what is only joined to them, where its keys don't tell which; see sampling.go
	Show    int    // rows shown
	Budget  int64
	Temp    string
	Workers int  // 0 for as many as there are cores
	Rows    int  // rows of a batch at most; 0 for the usual number
	Profile bool // describe the columns that come out
	// Given are rows that take the place of what reaches an input, by its number;
	// origins are left as they are in them.
	Given map[int]*batch.Batch
	Cache *TrialCache // rows of earlier trials; nil for none
	Fresh bool        // read anew, whatever the cache holds
	Lean  bool        // read only the columns on which the rows that come out depend; rows before are not shown
	Clock func() time.Time
}

// Tried is what a trial gives. It wrote nothing anywhere.
type Tried struct {
	Before   []Rows            `json:"before" doc:"Rows that came in, by input."`
	After    Rows              `json:"after" doc:"Rows that came out, of the first output when there are several."`
	Branches []BranchRows      `json:"branches,omitempty" doc:"Rows that came out by named output."`
	SetAside []SetAsideRow     `json:"-"`
	Steps    []Account         `json:"steps"`
	Warnings []string          `json:"warnings,omitempty"`
	Seconds  float64           `json:"seconds"`
	Load     *step.LoadPreview `json:"load,omitempty" doc:"For a write: what it would do to its target."`
	Again    bool              `json:"again,omitempty" doc:"Steps before were not run anew: nothing they depend on has changed."`
}

// Rows are the first rows of a step's input or output, with the place each came
// from, so that rows before and after can be put beside each other.
type Rows struct {
	batch.Wire
	Origins []string          `json:"origins"`
	Total   int64             `json:"total" doc:"Rows there were in the trial."`
	Profile []profile.Profile `json:"profile,omitempty" doc:"What the columns hold, over all rows of the trial."`
	Offers  []offer.Offer     `json:"offers,omitempty" doc:"Steps that fit what the columns hold."`
}

// BranchRows are the first rows of a named output.
type BranchRows struct {
	Name string `json:"name"`
	Rows
}

// Try runs the part of a plan that a step depends on, on a sample.
func Try(ctx context.Context, plan *Plan, t Trial) (Tried, error) {
	target := plan.Step(t.Step)
	if target == nil {
		return Tried{}, fmt.Errorf("there is no step %q", t.Step)
	}
	free := *plan.Sheet // a trial is not held to the limits of a run
	free.Limits = sheet.Limits{}
	plan = &Plan{Sheet: &free, Params: plan.Params, Steps: plan.Steps, order: plan.order}
	tried, err := try(ctx, plan, t)
	if errors.Is(err, errLacksColumns) {
		t.Lean = false
		return try(ctx, plan, t)
	}
	return tried, err
}

func try(ctx context.Context, whole *Plan, t Trial) (Tried, error) {
	keep := &asideKeeper{limit: 500}
	main := mainSources(whole.Step(t.Step))
	plan, err := t.feed(whole, whole.Step(t.Step), main)
	if err != nil {
		return Tried{}, err
	}
	r := newRun(ctx, plan.Plan, Options{Budget: t.Budget, TempDir: t.Temp, Clock: t.Clock, Journal: keep, Workers: t.Workers, Rows: t.Rows})
	defer r.cleanup()
	n := r.byID[t.Step]
	n.capture = newCapture(n, t)
	if t.Lean {
		n.capture.in = nil
		r.makeLean()
	}
	for id := range mainSources(plan.target) {
		main[id] = true
	}
	if err := r.sample(main, t.Sample, t.Others); err != nil {
		return Tried{}, err
	}
	if err := r.flush(ctx); err != nil {
		return Tried{}, err
	}
	out := r.tried(n, plan, keep)
	if target, ok := n.Bound.Target.(step.PreviewTarget); ok && !t.Lean {
		rows := n.capture.in[0]
		seen := rows.all
		if rows.over {
			seen = rows.first
		}
		if out.Load, err = target.Preview(ctx, seen, !n.account.Sample && !rows.over); err != nil {
			return Tried{}, fmt.Errorf("the target can't be compared with: %w", err)
		}
	}
	if t.Cache != nil && len(t.Given) == 0 && !t.Lean {
		return out, t.remember(whole, plan, n, main, out)
	}
	return out, nil
}

// tried words what a trial gave. Steps that did not run because their rows were
// known tell what they did then.
func (r *run) tried(n *node, plan *fed, keep *asideKeeper) Tried {
	for i, k := range plan.before {
		if k != nil && len(k.steps) > 0 {
			r.byID[plan.target.Inputs[i].ID].account.Sample = k.steps[len(k.steps)-1].Sample
		}
		n.account.Keyed = n.account.Keyed || k != nil && k.keyed
	}
	for _, n := range r.nodes { // plan order: inputs come first
		for _, in := range n.Inputs {
			n.account.Sample = n.account.Sample || r.byID[in.ID].account.Sample
		}
	}
	s := r.finish()
	out := Tried{Warnings: s.Warnings, Seconds: s.Ended.Sub(s.Started).Seconds(), Before: []Rows{}}
	told := map[string]bool{}
	for _, k := range plan.before {
		if k == nil {
			continue
		}
		out.Again = true
		for _, a := range k.steps {
			if !told[a.Step] {
				told[a.Step] = true
				out.Steps = append(out.Steps, a)
				out.SetAside = append(out.SetAside, k.asideAt(a.Step)...)
			}
		}
	}
	for _, row := range keep.rows {
		if !told[row.Step] {
			out.SetAside = append(out.SetAside, row)
		}
	}
	for _, a := range s.Steps {
		if a.Kind != "" && !told[a.Step] {
			out.Steps = append(out.Steps, a)
		}
	}
	for i := range n.capture.in {
		in := n.Inputs[i]
		out.Before = append(out.Before, n.capture.in[i].rows(in.Schema()))
	}
	at := 0
	if n.Bound.Schema != nil {
		out.After = n.capture.out[0].rows(n.Bound.Schema)
		at++
	}
	for i, b := range n.Bound.Branches {
		rows := n.capture.out[at+i].rows(b.Schema)
		if out.Branches = append(out.Branches, BranchRows{b.Name, rows}); at+i == 0 {
			out.After = rows
		}
	}
	return out
}

func (k *kept) asideAt(id string) []SetAsideRow {
	var out []SetAsideRow
	for _, row := range k.aside {
		if row.Step == id {
			out = append(out, row)
		}
	}
	return out
}

// remember keeps what came into a step and out of it for later trials. What rests
// on rows that were kept already is kept no longer than they are.
func (t *Trial) remember(p *Plan, plan *fed, n *node, main map[string]bool, out Tried) error {
	until := t.Cache.clock().Add(unversioned)
	for _, k := range plan.before {
		if k != nil && !k.until.IsZero() && k.until.Before(until) {
			until = k.until
		}
	}
	target := p.Step(n.ID)
	keep := func(in Input, flow *flow, keyed bool) error {
		if flow.over {
			return nil
		}
		key, lasting, err := t.fingerprint(p, in, main)
		if err != nil {
			return err
		}
		if keyed {
			if key, err = t.fingerprintKeyed(p, key, target, main); err != nil {
				return err
			}
		}
		k := &kept{key: key, batches: flow.all, keyed: keyed}
		for _, st := range before(in.Planned) {
			for _, a := range out.Steps {
				if a.Step == st.ID {
					k.steps = append(k.steps, a)
				}
			}
			for _, row := range out.SetAside {
				if row.Step == st.ID {
					k.aside = append(k.aside, row)
				}
			}
		}
		if !lasting {
			k.until = until
		}
		t.Cache.put(k)
		return nil
	}
	for i, in := range target.Inputs {
		if plan.before[i] != nil {
			continue // it came from there
		}
		if err := keep(in, n.capture.in[i], i == 1 && n.pairs != nil && n.pairs.only); err != nil {
			return err
		}
	}
	for output, flow := range n.capture.out {
		if err := keep(Input{Planned: target, Output: output}, flow, false); err != nil {
			return err
		}
	}
	return nil
}

// mainSources gives the reads that reach a step by first inputs alone.
func mainSources(p *Planned) map[string]bool {
	for len(p.Inputs) > 0 {
		p = p.Inputs[0].Planned
	}
	return map[string]bool{p.ID: true}
}

// asideKeeper is a Journal that keeps the first set-aside rows and writes
// nothing down.
type asideKeeper struct {
	rows  []SetAsideRow
	limit int
}

func (k *asideKeeper) Restart(context.Context) error            { return nil }
func (k *asideKeeper) Prepared(context.Context, Summary) error  { return nil }
func (k *asideKeeper) Committed(context.Context, Summary) error { return nil }
func (k *asideKeeper) SetAside(_ context.Context, rows []SetAsideRow) error {
	k.rows = append(k.rows, rows[:min(len(rows), k.limit-len(k.rows))]...)
	return nil
}

var _ Journal = (*asideKeeper)(nil)

var _ step.Emitter = (*node)(nil)
