package work

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/riverqueue/river"

	"welkin/core/engine"
	"welkin/core/sheet"
	"welkin/core/step"
	"welkin/store"
)

// runJob is a run in the queue.
type runJob struct {
	Run int64 `json:"run"`
}

// Kind names the job in the queue.
func (runJob) Kind() string { return "run" }

type runWorker struct {
	river.WorkerDefaults[runJob]
	work *Work
}

// Work does one run. A failed run is told in the run itself, not to the queue.
func (r *runWorker) Work(ctx context.Context, job *river.Job[runJob]) error {
	w := r.work
	run, err := w.Store.Run(ctx, job.Args.Run)
	if errors.Is(err, store.ErrNotFound) {
		return nil // its pipeline was removed
	}
	if err != nil {
		return err
	}
	if run.State != store.Waiting {
		return nil // stopped before it began, or taken by another worker
	}
	// One run of a pipeline at a time: the lock goes with its connection, and
	// so with the worker's process.
	conn, err := w.Store.Pool.Acquire(ctx)
	if err != nil {
		return err
	}
	defer conn.Release()
	var mine bool
	if err := conn.QueryRow(ctx, `SELECT pg_try_advisory_lock(727002, $1::int)`, run.PipelineID).Scan(&mine); err != nil {
		return err
	}
	if !mine {
		return river.JobSnooze(time.Second)
	}
	defer func() {
		_, _ = conn.Exec(context.WithoutCancel(ctx), `SELECT pg_advisory_unlock(727002, $1::int)`, run.PipelineID)
	}()
	open, err := w.Store.OpenEpoch(ctx, run.PipelineID)
	if err != nil {
		return err
	}
	if open != nil && open.Run != run.ID {
		// A run that died left an epoch open. It is finished first, as the run
		// it belongs to; only then does this one begin.
		dead, err := w.Store.Run(ctx, open.Run)
		if err != nil {
			return err
		}
		_ = w.Store.Log(ctx, run.ID, "info", fmt.Sprintf("run %d of this pipeline was cut off; it is finished first", dead.ID))
		w.do(ctx, dead, open)
		if ctx.Err() != nil {
			return river.JobSnooze(0)
		}
		open = nil
	}
	if w.do(ctx, run, open) == handedBack {
		return river.JobSnooze(0)
	}
	return nil
}

type outcome int

const (
	ended outcome = iota
	handedBack
)

var errStopAsked = errors.New("stopped")

// do does a run, from its open epoch when it has one.
func (w *Work) do(ctx context.Context, run store.Run, open *store.Epoch) outcome {
	keep := context.WithoutCancel(ctx)
	if err := w.Store.TakeRun(keep, run.ID, w.name); err != nil {
		return ended
	}
	runCtx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	go w.beat(runCtx, run.ID, cancel)
	tell := func(level, format string, args ...any) {
		if err := w.Store.Log(keep, run.ID, level, fmt.Sprintf(format, args...)); err != nil {
			w.Log.Error("writing a run's log", "run", run.ID, "error", err)
		}
	}
	tell("info", "version %d begins on %s", run.Version, w.name)
	sum, err := w.epoch(runCtx, run, open, tell)
	if err != nil && ctx.Err() != nil && !errors.Is(err, errStopAsked) {
		// This worker stops: the run goes on elsewhere, or here after a restart.
		if _, err := w.Store.Pool.Exec(keep, `UPDATE runs SET state = 'waiting', worker = '' WHERE id = $1 AND state = 'running'`, run.ID); err != nil {
			w.Log.Error("handing a run back", "run", run.ID, "error", err)
		}
		tell("warn", "the worker stopped; the run waits for another")
		return handedBack
	}
	w.close(keep, run, sum, err, tell)
	return ended
}

// beat gives signs of life and looks whether the run shall stop.
func (w *Work) beat(ctx context.Context, run int64, cancel context.CancelCauseFunc) {
	tick := time.NewTicker(heartbeat)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
		if stop, by, err := w.Store.Beat(ctx, run); err == nil && stop {
			cancel(fmt.Errorf("%w by %s", errStopAsked, by))
			return
		}
	}
}

// epoch binds the run's sheet and does its epoch.
func (w *Work) epoch(ctx context.Context, run store.Run, open *store.Epoch, tell func(level, format string, args ...any)) (engine.Summary, error) {
	text, err := w.Store.SheetVersion(ctx, run.PipelineID, run.Version)
	if err != nil {
		return engine.Summary{}, err
	}
	if open == nil {
		if open, err = w.Store.BeginEpoch(ctx, run.PipelineID, run.ID, w.Clock()); err != nil {
			return engine.Summary{}, err
		}
	} else {
		tell("info", "goes on with epoch %d, which was begun before", open.Number)
	}
	connections := NewShared(w.Store, w.Programs, w.Rules)
	defer connections.Close()
	s, problems := sheet.Parse(text, step.Kinds{})
	plan := engine.Bind(ctx, s, problems, engine.Binding{World: connections.World(), Params: run.Params, Now: open.Started})
	if ctx.Err() != nil {
		return engine.Summary{}, context.Cause(ctx)
	}
	for _, p := range plan.Problems {
		if p.Warning {
			tell("warn", "%s", p)
		}
	}
	positions, err := w.Store.PositionsByStep(ctx, run.PipelineID)
	if err != nil {
		return engine.Summary{}, err
	}
	sum, err := engine.Run(ctx, plan, engine.Options{
		Positions: positions, Slices: true,
		Epoch:   step.Epoch{Pipeline: fmt.Sprintf("%d", run.PipelineID), Number: open.Number, Run: fmt.Sprintf("%d", run.ID), Started: open.Started},
		Journal: &journal{w.Store, open}, Before: open.Prepared, Budget: w.Memory, TempDir: w.TempDir, Clock: w.Clock, Log: w.Log,
		Progress: func(phase string, sum engine.Summary) {
			if err := w.Store.ShowRun(context.WithoutCancel(ctx), run.ID, phase, sum); err != nil {
				w.Log.Error("showing a run's progress", "run", run.ID, "error", err)
			}
		},
		Phase: func(phase string) {
			if w.Phase != nil {
				w.Phase(run.ID, phase)
			}
		},
	})
	if cause := context.Cause(ctx); err != nil && cause != nil {
		err = cause
	}
	// What failed before its commit left nothing behind: its epoch is given up.
	// After a commit began the epoch stays open, to be finished by the next run.
	var committing *engine.CommitError
	if err != nil && !errors.As(err, &committing) && !errors.Is(err, context.Canceled) {
		if aerr := w.Store.AbandonEpoch(context.WithoutCancel(ctx), open); aerr != nil {
			err = errors.Join(err, aerr)
		}
	}
	return sum, err
}

// close writes down how a run ended.
func (w *Work) close(ctx context.Context, run store.Run, sum engine.Summary, err error, tell func(level, format string, args ...any)) {
	state, message := store.Done, ""
	var stop *engine.StopError
	switch {
	case err == nil:
		tell("info", "done: %d rows read, %d loaded, %d set aside", sum.Read, sum.Loaded, sum.SetAside)
		for _, warning := range sum.Warnings {
			tell("warn", "%s", warning)
		}
	case errors.Is(err, errStopAsked):
		state, message = store.Stopped, err.Error()+". Nothing was loaded"
	case errors.As(err, &stop):
		state, message = store.Stopped, err.Error()
	default:
		state, message = store.Failed, err.Error()
	}
	if err != nil {
		tell("error", "%s", message)
		if e := w.Store.EndRun(ctx, run.ID, state, message, &sum); e != nil {
			w.Log.Error("closing a run", "run", run.ID, "error", e)
		}
	}
	w.ended.WithLabelValues(state).Inc()
	w.rows.WithLabelValues("read").Add(float64(sum.Read))
	w.rows.WithLabelValues("loaded").Add(float64(sum.Loaded))
	w.rows.WithLabelValues("set aside").Add(float64(sum.SetAside))
	w.Log.Info("run ended", "run", run.ID, "pipeline", run.Pipeline, "state", state, "read", sum.Read, "loaded", sum.Loaded, "set_aside", sum.SetAside, "message", message)
}
