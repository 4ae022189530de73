package engine

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"runtime"
	"time"

	"golang.org/x/sync/errgroup"

	"welkin/core/batch"
	"welkin/core/expr"
	"welkin/core/step"
)

// DefaultBudget is how much memory the operators of one run may hold, in bytes.
const DefaultBudget = 512 << 20

// Phases of an epoch, in order.
const (
	Reading   = "reading"   // rows flow from sources into targets' staging
	Applying  = "applying"  // all rows are read; the targets take them in
	Prepared  = "prepared"  // everything is done but the commit, and written down
	Committed = "committed" // the targets have committed, the journal has not
)

// Journal is where an epoch is written down, so that it can be finished after a
// crash. Package work gives one in the store and one in a folder.
type Journal interface {
	// Restart forgets the set-aside rows of an earlier attempt at this epoch.
	Restart(ctx context.Context) error
	SetAside(ctx context.Context, rows []SetAsideRow) error
	// Prepared is told before any target commits, Committed after all did.
	Prepared(ctx context.Context, s Summary) error
	Committed(ctx context.Context, s Summary) error
}

// SetAsideRow is a row set aside at a step.
type SetAsideRow struct {
	Step string
	step.Refused
	Personal []string `json:",omitempty"` // columns whose values are personal
}

// Options are what a run gets handed in.
type Options struct {
	Epoch   step.Epoch
	Journal Journal
	Before  *Summary // what an earlier attempt wrote down as prepared, or nil
	// Positions are those from which reads go on, by step. Where Slices is set, reads
	// that have a position begin at it; trials read them from their start.
	Positions map[string]json.RawMessage
	Slices    bool
	Budget    int64 // bytes; 0 for DefaultBudget
	Workers   int   // 0 for as many as there are cores
	Rows      int   // rows of a batch at most; 0 for batch.Rows
	TempDir   string
	Clock     func() time.Time
	Log       *slog.Logger
	Progress  func(phase string, s Summary) // called often, by one goroutine; may be nil
	Phase     func(phase string)            // called once when a phase begins; may be nil
}

type run struct {
	Options
	ctx      context.Context
	plan     *Plan
	nodes    []*node // in the plan's order
	byID     map[string]*node
	env      expr.Env
	summary  Summary
	held     int64
	keepers  int           // steps that may keep rows
	slots    chan struct{} // as many as there are workers
	aside    []SetAsideRow
	current  *node
	since0   time.Time // when the current node began to work
	shown    time.Time
	phase    string
	lean     bool        // see lean.go
	database *InDatabase // that does the work; nil for the engine
}

// Run does one epoch of a plan: reads, pushes, and commits all or nothing. The
// summary is filled as far as the run came, also with an error.
func Run(ctx context.Context, plan *Plan, o Options) (Summary, error) {
	if !plan.Ready() {
		return Summary{}, fmt.Errorf("the sheet can't run: %s", firstProblem(plan))
	}
	warning := ""
	if d := plan.where(); d != nil {
		s, err := attempt(ctx, plan, o, way{database: d})
		if !errors.Is(err, step.ErrRow) {
			return s, err
		}
		warning = fmt.Sprintf("%s could not compute a row (%s), so this run was done by Welkin's engine", d.Connection, err)
	}
	s, err := attempt(ctx, plan, o, way{lean: true, warning: warning})
	if errors.Is(err, errLacksColumns) {
		return attempt(ctx, plan, o, way{warning: warning})
	}
	return s, err
}

// way is how a run is done.
type way struct {
	database *InDatabase // nil for the engine
	lean     bool        // with the columns that are used alone, see lean.go
	warning  string      // what came before it
}

// attempt does a run in one way.
func attempt(ctx context.Context, plan *Plan, o Options, way way) (Summary, error) {
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	r := newRun(ctx, plan, o)
	if way.lean {
		r.makeLean()
	}
	if way.warning != "" {
		r.summary.Warnings = append(r.summary.Warnings, way.warning)
	}
	r.database = way.database
	defer r.cleanup()
	if err := r.begin(); err != nil {
		return r.finish(), err
	}
	if o.Before != nil && r.allHeld() {
		return r.settle(*o.Before)
	}
	err := r.work(cancel)
	if err != nil {
		if cause := context.Cause(ctx); cause != nil && errors.Is(err, context.Canceled) {
			err = cause
		}
		r.abort()
		_ = r.flush(context.WithoutCancel(ctx)) // rows set aside are kept, whatever happened
		return r.finish(), err
	}
	return r.finish(), nil
}

func firstProblem(p *Plan) string {
	for _, problem := range p.Problems {
		if !problem.Warning {
			return problem.String()
		}
	}
	return ""
}

func newRun(ctx context.Context, plan *Plan, o Options) *run {
	if o.Budget == 0 {
		o.Budget = DefaultBudget
	}
	if o.Workers == 0 {
		o.Workers = runtime.GOMAXPROCS(0)
	}
	if o.Rows == 0 {
		o.Rows = batch.Rows
	}
	if o.Clock == nil {
		o.Clock = time.Now
	}
	if o.Log == nil {
		o.Log = slog.New(slog.DiscardHandler)
	}
	r := &run{Options: o, ctx: ctx, plan: plan, byID: map[string]*node{}, slots: make(chan struct{}, o.Workers)}
	r.summary = Summary{Epoch: o.Epoch.Number, Started: o.Clock(), Targets: map[string]step.Result{}}
	if r.Epoch.Started.IsZero() {
		r.Epoch.Started = r.summary.Started
	}
	r.env.Now = r.Epoch.Started
	r.since0 = r.summary.Started
	for _, p := range plan.order {
		n := newNode(r, p)
		r.byID[p.ID] = n
		r.nodes = append(r.nodes, n)
		if c, ok := n.op.(step.Concurrent); n.op != nil && (!ok || !c.Concurrent(0)) {
			r.keepers++
		}
		for in, from := range p.Inputs {
			source := r.byID[from.ID]
			source.outs[from.Output] = append(source.outs[from.Output], edge{n, in})
			source.account.Readers[from.Output]++
		}
	}
	return r
}

func (r *run) since() float64 { return r.Clock().Sub(r.summary.Started).Seconds() }

// enter makes n the step that works now; the function given back makes it the
// one before again.
func (r *run) enter(n *node) func() {
	before := r.current
	r.tick(n)
	return func() { r.tick(before) }
}

func (r *run) tick(next *node) {
	now := r.Clock()
	if r.current != nil {
		r.current.account.Seconds += now.Sub(r.since0).Seconds()
	}
	r.current, r.since0 = next, now
}

// begin opens the targets.
func (r *run) begin() error {
	for _, n := range r.nodes {
		if err := r.slice(n); err != nil {
			r.abort()
			return n.wrap(err)
		}
		if n.Bound.Target == nil {
			continue
		}
		load, err := n.Bound.Target.Begin(r.ctx, r.Epoch)
		if err != nil {
			r.abort()
			return n.wrap(err)
		}
		n.load = newLoading(n, load)
	}
	return nil
}

func (r *run) allHeld() bool {
	some := false
	for _, n := range r.nodes {
		if n.load != nil {
			some = true
			if n.load.held == nil {
				return false
			}
		}
	}
	return some
}

// settle finishes an epoch that every target holds already.
func (r *run) settle(before Summary) (Summary, error) {
	r.abort() // lets the targets go; what they hold stays
	before.Again = true
	r.summary = before
	err := r.Journal.Committed(r.ctx, before)
	return before, err
}

func (r *run) enterPhase(phase string) {
	r.phase = phase
	if r.Phase != nil {
		r.Phase(phase)
	}
	r.show(true)
}

func (r *run) work(cancel context.CancelCauseFunc) error {
	if err := r.Journal.Restart(r.ctx); err != nil {
		return err
	}
	r.enterPhase(Reading)
	writers, ctx := errgroup.WithContext(r.ctx)
	for _, n := range r.nodes {
		if n.load != nil && n.load.held == nil {
			n.load.start(ctx, writers, cancel)
		}
	}
	var err error
	if r.database != nil {
		err = r.fill(r.database)
	} else {
		err = r.pump()
	}
	for _, n := range r.nodes {
		if n.load != nil {
			n.load.close()
		}
	}
	if werr := writers.Wait(); werr != nil && (err == nil || errors.Is(err, context.Canceled)) {
		err = werr
	}
	if err != nil {
		return err
	}
	if err := r.reach(); err != nil {
		return err
	}
	r.enterPhase(Applying)
	if err := r.prepare(); err != nil {
		return err
	}
	if err := r.flush(r.ctx); err != nil {
		return err
	}
	if err := r.checkBalance(); err != nil {
		return err
	}
	if err := r.checkLimits(true); err != nil {
		return err
	}
	if err := r.ctx.Err(); err != nil {
		return err
	}
	if err := r.Journal.Prepared(r.ctx, r.finish()); err != nil {
		return err
	}
	r.enterPhase(Prepared)
	// From here on the epoch must not be given up half way: a stop waits.
	ctx = context.WithoutCancel(r.ctx)
	for _, n := range r.nodes {
		if n.load != nil && n.load.held == nil {
			if err := n.load.load.Commit(ctx); err != nil {
				return &CommitError{n.wrap(err)}
			}
		}
	}
	r.enterPhase(Committed)
	if err := r.Journal.Committed(ctx, r.finish()); err != nil {
		return &CommitError{err}
	}
	r.abort() // lets go of targets that held the epoch already
	return nil
}

// CommitError is a failure after the first target may have committed: the epoch
// must be finished, not given up.
type CommitError struct{ Err error }

func (e *CommitError) Error() string { return e.Err.Error() }
func (e *CommitError) Unwrap() error { return e.Err }

func (r *run) setAside(n *node, row step.Refused) error {
	r.summary.SetAside++
	r.aside = append(r.aside, SetAsideRow{n.ID, row, n.personal})
	if len(r.aside) >= 500 {
		if err := r.flush(r.ctx); err != nil {
			return err
		}
	}
	return r.checkLimits(false)
}

func (r *run) flush(ctx context.Context) error {
	if len(r.aside) == 0 || r.Journal == nil {
		return nil
	}
	rows := r.aside
	r.aside = nil
	if err := r.Journal.SetAside(ctx, rows); err != nil {
		return fmt.Errorf("keeping set-aside rows: %w", err)
	}
	return nil
}

// checkLimits holds the run to the sheet's limits. A share says little before
// some rows have come.
func (r *run) checkLimits(final bool) error {
	l := r.plan.Sheet.Limits
	if l.SetAside > 0 && r.summary.SetAside > l.SetAside {
		return &StopError{Sentence: fmt.Sprintf("stopped: more than %d rows were set aside, the limit of this sheet. Nothing was loaded; the rows set aside are kept", l.SetAside)}
	}
	if share := float64(r.summary.SetAside) * 100; l.Share > 0 && (final || r.summary.Read > 10_000) && share > l.Share*float64(max(r.summary.Read, 1)) {
		return &StopError{Sentence: fmt.Sprintf("stopped: %d of %d rows were set aside, more than the sheet's limit of %g %%. Nothing was loaded; the rows set aside are kept", r.summary.SetAside, r.summary.Read, l.Share)}
	}
	return nil
}

// prepare lets the targets take their rows in, short of the commit.
func (r *run) prepare() error {
	for _, n := range r.nodes {
		if n.load == nil {
			continue
		}
		leave := r.enter(n)
		result := n.load.held
		if result == nil {
			res, refused, err := n.load.load.Prepare(r.ctx)
			if err != nil {
				leave()
				return n.wrap(err)
			}
			for _, bad := range refused {
				if err := n.refuse(bad); err != nil {
					leave()
					return err
				}
			}
			result = &res
		}
		n.account.Out += result.Inserted + result.Updated + result.Unchanged
		n.account.Dropped += result.LeftOut
		n.account.Absorbed += result.Superseded
		n.account.Bytes += result.Bytes
		n.account.End = r.since()
		r.summary.Targets[n.ID] = *result
		r.summary.Loaded += result.Inserted + result.Updated + result.Unchanged
		leave()
		r.show(true)
	}
	return nil
}

// checkBalance fails a run whose books don't balance, and says where.
func (r *run) checkBalance() error {
	for _, n := range r.nodes {
		if n.load != nil && n.load.held != nil {
			continue // its rows were counted by the attempt that loaded them
		}
		if sentence := n.account.Imbalance(); sentence != "" {
			return &StepError{n.ID, errors.New(sentence + ". Nothing was loaded; this is a defect of the step")}
		}
		for in, from := range n.Inputs {
			if sent := r.byID[from.ID].account.outputs()[from.Output]; sent != n.account.In[in] {
				return &StepError{n.ID, fmt.Errorf("%d rows left step %s and %d arrived. Nothing was loaded; this is a defect", sent, from.ID, n.account.In[in])}
			}
		}
	}
	return nil
}

func (r *run) abort() {
	ctx := context.WithoutCancel(r.ctx)
	for _, n := range r.nodes {
		if n.load != nil {
			if err := n.load.load.Abort(ctx); err != nil {
				r.Log.Warn("undoing a load", "step", n.ID, "error", err)
			}
		}
	}
}

func (r *run) cleanup() {
	for _, n := range r.nodes {
		for _, f := range n.flying { // after a failure: nothing may work on behind the run's back
			<-f.done
		}
		n.gate.Close()
		if c, ok := n.op.(step.Closer); ok {
			c.Close()
		}
	}
}

// finish gives the summary as it stands.
func (r *run) finish() Summary {
	s := r.summary
	s.Ended = r.Clock()
	s.Steps = make([]Account, 0, len(r.nodes))
	for _, p := range r.plan.Steps {
		if n := r.byID[p.ID]; n != nil {
			a := n.account
			a.Reached = a.Begin >= 0
			a.Begin = max(a.Begin, 0)
			if len(n.reasons) > 0 {
				a.Reasons = n.reasons.list()
			}
			s.Steps = append(s.Steps, a)
		}
	}
	return s
}

func (r *run) show(now bool) {
	if r.Progress == nil || !now && r.Clock().Sub(r.shown) < 200*time.Millisecond {
		return
	}
	r.shown = r.Clock()
	r.Progress(r.phase, r.finish())
}
