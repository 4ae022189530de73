package store

import (
	"context"
	"encoding/json"
	"errors"
	"time"

	"github.com/jackc/pgx/v5"

	"welkin/core/engine"
)

// Epoch is one commit of a pipeline on its way.
type Epoch struct {
	Pipeline int64
	Number   int64
	Run      int64
	Started  time.Time
	Prepared *engine.Summary
}

// OpenEpoch gives the epoch of a pipeline that has neither been committed nor
// given up, or nil.
func (s *Store) OpenEpoch(ctx context.Context, pipeline int64) (*Epoch, error) {
	e := &Epoch{Pipeline: pipeline}
	var prepared []byte
	err := s.Pool.QueryRow(ctx, `SELECT number, run_id, started_at, prepared FROM epochs WHERE pipeline_id = $1 AND ended_at IS NULL ORDER BY number LIMIT 1`, pipeline).
		Scan(&e.Number, &e.Run, &e.Started, &prepared)
	if errors.Is(err, pgx.ErrNoRows) {
		return nil, nil
	}
	if err == nil && prepared != nil {
		e.Prepared = &engine.Summary{}
		err = json.Unmarshal(prepared, e.Prepared)
	}
	return e, err
}

// BeginEpoch writes down that a run begins the next epoch of its pipeline.
func (s *Store) BeginEpoch(ctx context.Context, pipeline, run int64, started time.Time) (*Epoch, error) {
	e := &Epoch{Pipeline: pipeline, Run: run, Started: started}
	err := s.Pool.QueryRow(ctx, `INSERT INTO epochs (pipeline_id, number, run_id, started_at)
		SELECT $1, COALESCE(max(number), 0) + 1, $2, $3 FROM epochs WHERE pipeline_id = $1 RETURNING number`, pipeline, run, started).Scan(&e.Number)
	return e, err
}

// PrepareEpoch writes down that all but the targets' commits is done.
func (s *Store) PrepareEpoch(ctx context.Context, e *Epoch, sum engine.Summary) error {
	_, err := s.Pool.Exec(ctx, `UPDATE epochs SET prepared = $3 WHERE pipeline_id = $1 AND number = $2`, e.Pipeline, e.Number, sum)
	return err
}

// CommitEpoch closes an epoch and its run in one transaction.
func (s *Store) CommitEpoch(ctx context.Context, e *Epoch, sum engine.Summary) error {
	return pgx.BeginFunc(ctx, s.Pool, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, `UPDATE epochs SET ended_at = now(), committed = true WHERE pipeline_id = $1 AND number = $2`, e.Pipeline, e.Number); err != nil {
			return err
		}
		if _, err := tx.Exec(ctx, `UPDATE pipelines SET last_epoch = $2 WHERE id = $1`, e.Pipeline, e.Number); err != nil {
			return err
		}
		if err := keepPositions(ctx, tx, e, sum.Positions); err != nil {
			return err
		}
		return endRun(ctx, tx, e.Run, Done, "", &sum)
	})
}

// AbandonEpoch closes an epoch that left nothing in any target.
func (s *Store) AbandonEpoch(ctx context.Context, e *Epoch) error {
	_, err := s.Pool.Exec(ctx, `UPDATE epochs SET ended_at = now() WHERE pipeline_id = $1 AND number = $2`, e.Pipeline, e.Number)
	return err
}
