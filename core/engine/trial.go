package engine

import (
	"context"
	"errors"
	"fmt"
	"strconv"
	"time"

	"welkin/core/batch"
	"welkin/core/schema"
	"welkin/core/sheet"
	"welkin/core/step"
)

// Trial says what to try and how much to read.
type Trial struct {
	Step    string // whose rows are wanted
	Sample  int64  // rows read of main inputs
	Others  int64  // rows read of what is only joined to them
	Show    int    // rows shown
	Budget  int64
	Temp    string
	Workers int  // 0 for as many as there are cores
	Rows    int  // rows of a batch at most; 0 for the usual number
	Lean    bool // read only the columns on which the rows that come out depend; rows before are not shown
	Clock   func() time.Time
}

// Tried is what a trial gives. It wrote nothing anywhere.
type Tried struct {
	Before   []Rows        `json:"before" doc:"Rows that came in, by input."`
	After    Rows          `json:"after" doc:"Rows that came out, of the first output when there are several."`
	Branches []BranchRows  `json:"branches,omitempty" doc:"Rows that came out by named output."`
	SetAside []SetAsideRow `json:"-"`
	Steps    []Account     `json:"steps"`
	Warnings []string      `json:"warnings,omitempty"`
	Seconds  float64       `json:"seconds"`
}

// Rows are the first rows of a step's input or output, with the place each came
// from, so that rows before and after can be put beside each other.
type Rows struct {
	batch.Wire
	Origins []string `json:"origins"`
	Total   int64    `json:"total" doc:"Rows there were in the trial."`
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
	plan = &Plan{Sheet: &free, Steps: plan.Steps, order: plan.order}
	tried, err := try(ctx, plan, t)
	if errors.Is(err, errLacksColumns) {
		t.Lean = false
		return try(ctx, plan, t)
	}
	return tried, err
}

func try(ctx context.Context, plan *Plan, t Trial) (Tried, error) {
	keep := &asideKeeper{limit: 500}
	r := newRun(ctx, plan, Options{Budget: t.Budget, TempDir: t.Temp, Clock: t.Clock, Journal: keep, Workers: t.Workers, Rows: t.Rows})
	defer r.cleanup()
	n := r.byID[t.Step]
	n.capture = &capture{limit: t.Show, in: make([][]*batch.Batch, len(n.Inputs)), inRows: make([]int64, len(n.Inputs)), out: make([][]*batch.Batch, len(n.outs)), outRows: make([]int64, len(n.outs))}
	if t.Lean {
		n.capture.in = nil
		r.makeLean()
	}
	main := mainSources(n.Planned)
	for _, source := range r.sources() {
		limit := t.Others
		if main[source.ID] {
			limit = t.Sample
		}
		if err := r.read(source, limit); err != nil {
			return Tried{}, err
		}
	}
	if err := r.flush(ctx); err != nil {
		return Tried{}, err
	}
	return r.tried(n, keep), nil
}

func (r *run) tried(n *node, keep *asideKeeper) Tried {
	for _, n := range r.nodes { // plan order: inputs come first
		for _, in := range n.Inputs {
			n.account.Sample = n.account.Sample || r.byID[in.ID].account.Sample
		}
	}
	s := r.finish()
	out := Tried{Steps: s.Steps, Warnings: s.Warnings, Seconds: s.Ended.Sub(s.Started).Seconds(), SetAside: keep.rows, Before: []Rows{}}
	for i := range n.capture.in {
		in := n.Inputs[i]
		out.Before = append(out.Before, n.capture.rows(in.Schema(), n.capture.in[i], n.capture.inRows[i]))
	}
	at := 0
	if n.Bound.Schema != nil {
		out.After = n.capture.rows(n.Bound.Schema, n.capture.out[0], n.capture.outRows[0])
		at++
	}
	for i, b := range n.Bound.Branches {
		rows := n.capture.rows(b.Schema, n.capture.out[at+i], n.capture.outRows[at+i])
		if out.Branches = append(out.Branches, BranchRows{b.Name, rows}); at+i == 0 {
			out.After = rows
		}
	}
	return out
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

// capture keeps the first rows that pass a step. A nil capture keeps nothing.
type capture struct {
	limit   int
	in      [][]*batch.Batch
	inRows  []int64
	out     [][]*batch.Batch
	outRows []int64
}

func (c *capture) input(in int, b *batch.Batch) {
	if c != nil && c.in != nil {
		c.in[in] = c.keep(c.in[in], c.inRows[in], b)
		c.inRows[in] += int64(b.N)
	}
}

func (c *capture) output(output int, b *batch.Batch) {
	if c != nil {
		c.out[output] = c.keep(c.out[output], c.outRows[output], b)
		c.outRows[output] += int64(b.N)
	}
}

func (c *capture) keep(have []*batch.Batch, rows int64, b *batch.Batch) []*batch.Batch {
	if room := int64(c.limit) - rows; room > 0 {
		return append(have, b.Slice(0, int(min(room, int64(b.N)))))
	}
	return have
}

func (c *capture) rows(s *schema.Schema, batches []*batch.Batch, total int64) Rows {
	out := Rows{Wire: batch.ToWire(s, batches, c.limit), Total: total, Origins: []string{}}
	for _, b := range batches {
		for i := range b.N {
			place, row, key := b.Origin.At(i)
			if row > 0 {
				key = strconv.FormatInt(row, 10)
			}
			out.Origins = append(out.Origins, place+"·"+key)
		}
	}
	return out
}

var _ step.Emitter = (*node)(nil)
