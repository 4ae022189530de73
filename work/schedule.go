package work

import (
	"context"
	"time"

	"github.com/jackc/pgx/v5"

	"welkin/core/calendar"
	"welkin/store"
)

// NextTime gives when a schedule starts next after a time; nil when never.
func NextTime(cron, zone string, after time.Time) (*time.Time, error) {
	c, err := calendar.Parse(cron, zone)
	if err != nil {
		return nil, err
	}
	next := c.Next(after)
	if next.IsZero() {
		return nil, nil
	}
	next = next.UTC()
	return &next, nil
}

// SaveSchedule checks and keeps a schedule and reckons its next start.
func (w *Work) SaveSchedule(ctx context.Context, s store.Schedule) (store.Schedule, error) {
	next, err := NextTime(s.Cron, s.Zone, w.Clock())
	if err != nil {
		return s, err
	}
	s.NextAt = next
	return w.Store.SaveSchedule(ctx, s)
}

// startDue asks for the runs whose time has come. After a time without any
// worker a schedule starts once, not as often as it was missed.
func (w *Work) startDue(ctx context.Context) error {
	return pgx.BeginFunc(ctx, w.Store.Pool, func(tx pgx.Tx) error {
		due, err := w.Store.Due(ctx, tx, w.Clock())
		if err != nil {
			return err
		}
		for _, s := range due {
			if _, err := w.enqueue(ctx, tx, s.PipelineID, s.Params, "the timetable", &s.ID); err != nil {
				return err
			}
			next, err := NextTime(s.Cron, s.Zone, w.Clock())
			if err != nil {
				w.Log.Error("a schedule can't be read", "schedule", s.ID, "error", err)
			}
			if err := w.Store.MoveSchedule(ctx, tx, s.ID, next); err != nil {
				return err
			}
		}
		return nil
	})
}
