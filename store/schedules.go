package store

import (
	"context"
	"time"

	"github.com/jackc/pgx/v5"
)

// Schedule starts runs of a pipeline by the clock.
type Schedule struct {
	ID         int64             `db:"id" json:"id"`
	PipelineID int64             `db:"pipeline_id" json:"pipeline_id"`
	Pipeline   string            `db:"pipeline" json:"pipeline"`
	Cron       string            `db:"cron" json:"cron"`
	Zone       string            `db:"zone" json:"zone"`
	Enabled    bool              `db:"enabled" json:"enabled"`
	Params     map[string]string `db:"params" json:"params"`
	NextAt     *time.Time        `db:"next_at" json:"next_at,omitempty"`
	ChangedBy  string            `db:"changed_by" json:"changed_by"`
}

const scheduleSelect = `SELECT s.id, s.pipeline_id, p.name AS pipeline, s.cron, s.zone, s.enabled, s.params, s.next_at, s.changed_by FROM schedules s JOIN pipelines p ON p.id = s.pipeline_id`

// Schedules lists all, the next one first.
func (s *Store) Schedules(ctx context.Context) ([]Schedule, error) {
	return many[Schedule](s.Pool.Query(ctx, scheduleSelect+` ORDER BY s.enabled DESC, s.next_at, p.name`))
}

// SaveSchedule adds a schedule (ID 0) or changes one.
func (s *Store) SaveSchedule(ctx context.Context, c Schedule) (Schedule, error) {
	if c.Params == nil {
		c.Params = map[string]string{}
	}
	var err error
	if c.ID == 0 {
		err = s.Pool.QueryRow(ctx, `INSERT INTO schedules (pipeline_id, cron, zone, enabled, params, next_at, changed_by) VALUES ($1, $2, $3, $4, $5, $6, $7) RETURNING id`,
			c.PipelineID, c.Cron, c.Zone, c.Enabled, c.Params, c.NextAt, c.ChangedBy).Scan(&c.ID)
	} else {
		_, err = s.Pool.Exec(ctx, `UPDATE schedules SET pipeline_id = $2, cron = $3, zone = $4, enabled = $5, params = $6, next_at = $7, changed_by = $8, changed_at = now() WHERE id = $1`,
			c.ID, c.PipelineID, c.Cron, c.Zone, c.Enabled, c.Params, c.NextAt, c.ChangedBy)
	}
	if err != nil {
		return c, err
	}
	return one[Schedule](s.Pool.Query(ctx, scheduleSelect+` WHERE s.id = $1`, c.ID))
}

// DeleteSchedule removes a schedule.
func (s *Store) DeleteSchedule(ctx context.Context, id int64) error {
	tag, err := s.Pool.Exec(ctx, `DELETE FROM schedules WHERE id = $1`, id)
	return changed(tag.RowsAffected(), err, ErrNotFound)
}

// Due locks the schedules whose time has come; other workers pass them over.
func (s *Store) Due(ctx context.Context, tx pgx.Tx, now time.Time) ([]Schedule, error) {
	return many[Schedule](tx.Query(ctx, scheduleSelect+` WHERE s.enabled AND s.next_at <= $1 ORDER BY s.next_at LIMIT 100 FOR UPDATE OF s SKIP LOCKED`, now))
}

// MoveSchedule sets when a schedule starts next.
func (s *Store) MoveSchedule(ctx context.Context, tx pgx.Tx, id int64, next *time.Time) error {
	_, err := tx.Exec(ctx, `UPDATE schedules SET next_at = $2 WHERE id = $1`, id, next)
	return err
}
