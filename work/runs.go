package work

import (
	"context"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"

	"welkin/core/sheet"
	"welkin/core/step"
)

// AskRun asks for a run of a pipeline now: a row in runs and a job in the queue,
// in one transaction. Parameters that don't fit the sheet are refused.
func (w *Work) AskRun(ctx context.Context, pipeline int64, params map[string]string, by string) (run int64, err error) {
	p, err := w.Store.Pipeline(ctx, pipeline)
	if err != nil {
		return 0, err
	}
	s, problems := sheet.Parse(p.Sheet, step.Kinds{})
	for _, problem := range problems {
		if !problem.Warning {
			return 0, fmt.Errorf("the sheet can't run: %s", problem)
		}
	}
	if _, err := s.Values(params); err != nil {
		return 0, err
	}
	err = pgx.BeginFunc(ctx, w.Store.Pool, func(tx pgx.Tx) error {
		run, err = w.enqueue(ctx, tx, pipeline, params, by, nil)
		return err
	})
	return run, err
}

func (w *Work) enqueue(ctx context.Context, tx pgx.Tx, pipeline int64, params map[string]string, by string, schedule *int64) (int64, error) {
	run, err := w.Store.AddRun(ctx, tx, pipeline, params, by, schedule)
	if err != nil {
		return 0, err
	}
	_, err = w.client.InsertTx(ctx, tx, runJob{Run: run}, nil)
	return run, err
}

// reviveSilent gives runs whose worker has died back to the queue. They go on
// from their open epoch.
func (w *Work) reviveSilent(ctx context.Context) error {
	silent, err := w.Store.Silent(ctx, time.Now().Add(-silence))
	if err != nil {
		return err
	}
	for _, run := range silent {
		err := pgx.BeginFunc(ctx, w.Store.Pool, func(tx pgx.Tx) error {
			if err := w.Store.HandBack(ctx, tx, run, "the worker gave no sign of life; the run is taken up again"); err != nil {
				return err
			}
			_, err := w.client.InsertTx(ctx, tx, runJob{Run: run}, nil)
			return err
		})
		if err != nil {
			return err
		}
		w.Log.Warn("a run's worker died; the run is queued again", "run", run)
	}
	return nil
}
