package store

import (
	"context"
	"encoding/json"
	"time"

	"github.com/jackc/pgx/v5"
)

// Position is how far a read came.
type Position struct {
	Step      string          `db:"step" json:"step"`
	Position  json.RawMessage `db:"position" json:"position"`
	Epoch     *int64          `db:"epoch" json:"epoch,omitempty" doc:"The epoch that reached it; none when it was set by hand."`
	ChangedAt time.Time       `db:"changed_at" json:"changed_at"`
	ChangedBy string          `db:"changed_by" json:"changed_by" doc:"Who set it by hand; empty for a run."`
}

// Positions lists the positions of a pipeline.
func (s *Store) Positions(ctx context.Context, pipeline int64) ([]Position, error) {
	return many[Position](s.Pool.Query(ctx, `SELECT step, position, epoch, changed_at, changed_by FROM positions WHERE pipeline_id = $1 ORDER BY step`, pipeline))
}

// PositionsByStep gives the positions of a pipeline as a run takes them.
func (s *Store) PositionsByStep(ctx context.Context, pipeline int64) (map[string]json.RawMessage, error) {
	list, err := s.Positions(ctx, pipeline)
	if err != nil {
		return nil, err
	}
	out := map[string]json.RawMessage{}
	for _, p := range list {
		out[p.Step] = p.Position
	}
	return out, nil
}

// SetPosition sets a position by hand; nil takes it away, so that the next run begins
// at the start.
func (s *Store) SetPosition(ctx context.Context, pipeline int64, step string, position json.RawMessage, by string) error {
	if position == nil {
		_, err := s.Pool.Exec(ctx, `DELETE FROM positions WHERE pipeline_id = $1 AND step = $2`, pipeline, step)
		return err
	}
	_, err := s.Pool.Exec(ctx, `INSERT INTO positions (pipeline_id, step, position, changed_by) VALUES ($1, $2, $3, $4)
		ON CONFLICT (pipeline_id, step) DO UPDATE SET position = $3, epoch = NULL, changed_at = now(), changed_by = $4`, pipeline, step, position, by)
	return err
}

// keepPositions writes down what an epoch reached, with its commit.
func keepPositions(ctx context.Context, tx pgx.Tx, e *Epoch, positions map[string]json.RawMessage) error {
	for step, p := range positions {
		if _, err := tx.Exec(ctx, `INSERT INTO positions (pipeline_id, step, position, epoch) VALUES ($1, $2, $3, $4)
			ON CONFLICT (pipeline_id, step) DO UPDATE SET position = $3, epoch = $4, changed_at = now(), changed_by = ''`, e.Pipeline, step, p, e.Number); err != nil {
			return err
		}
	}
	return nil
}
