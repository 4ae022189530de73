package store

import (
	"context"
	"time"
)

// Present is someone who has a pipeline's sheet open.
type Present struct {
	Person  string    `db:"person" json:"person"`
	Step    string    `db:"step" json:"step" doc:"The step they look at; nothing for the whole sheet."`
	Changed bool      `db:"changed" json:"changed" doc:"They have changes that are not saved."`
	SeenAt  time.Time `db:"seen_at" json:"seen_at"`
}

// stillThere is how long someone counts as being there after the last sign.
const stillThere = 25 * time.Second

// SeePresent notes that a person has a sheet open, and gives the others who do.
func (s *Store) SeePresent(ctx context.Context, pipeline int64, p Present) ([]Present, error) {
	if _, err := s.Pool.Exec(ctx, `INSERT INTO presence (pipeline_id, person, step, changed) VALUES ($1, $2, $3, $4)
		ON CONFLICT (pipeline_id, person) DO UPDATE SET step = excluded.step, changed = excluded.changed, seen_at = now()`, pipeline, p.Person, p.Step, p.Changed); err != nil {
		return nil, err
	}
	return many[Present](s.Pool.Query(ctx, `SELECT person, step, changed, seen_at FROM presence WHERE pipeline_id = $1 AND person <> $2 AND seen_at > now() - $3::interval ORDER BY person`,
		pipeline, p.Person, stillThere))
}

// LeavePresent takes a person out who has closed a sheet.
func (s *Store) LeavePresent(ctx context.Context, pipeline int64, person string) error {
	_, err := s.Pool.Exec(ctx, `DELETE FROM presence WHERE pipeline_id = $1 AND person = $2`, pipeline, person)
	return err
}
