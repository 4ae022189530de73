package store

import (
	"context"
	"errors"
	"time"

	"github.com/jackc/pgx/v5"
)

// Pipeline is a sheet with its latest version.
type Pipeline struct {
	ID        int64     `db:"id"`
	Name      string    `db:"name"`
	Sheet     string    `db:"sheet"`
	Version   int       `db:"version"`
	ChangedAt time.Time `db:"changed_at"`
	ChangedBy string    `db:"changed_by"`
}

const pipelineColumns = `id, name, sheet, version, changed_at, changed_by`

// Pipelines lists all.
func (s *Store) Pipelines(ctx context.Context) ([]Pipeline, error) {
	return many[Pipeline](s.Pool.Query(ctx, `SELECT `+pipelineColumns+` FROM pipelines ORDER BY name`))
}

// Pipeline gives one.
func (s *Store) Pipeline(ctx context.Context, id int64) (Pipeline, error) {
	return one[Pipeline](s.Pool.Query(ctx, `SELECT `+pipelineColumns+` FROM pipelines WHERE id = $1`, id))
}

// SheetVersion gives the text of one version.
func (s *Store) SheetVersion(ctx context.Context, id int64, version int) (text string, err error) {
	err = s.Pool.QueryRow(ctx, `SELECT sheet FROM pipeline_versions WHERE pipeline_id = $1 AND version = $2`, id, version).Scan(&text)
	if errors.Is(err, pgx.ErrNoRows) {
		return "", ErrNotFound
	}
	return text, err
}

// SheetVersion is one saved version of a pipeline's sheet.
type SheetVersion struct {
	Version int       `db:"version"`
	Sheet   string    `db:"sheet"`
	SavedAt time.Time `db:"saved_at"`
	SavedBy string    `db:"saved_by"`
}

// SheetVersions gives the latest versions, the newest first.
func (s *Store) SheetVersions(ctx context.Context, id int64, limit int) ([]SheetVersion, error) {
	return many[SheetVersion](s.Pool.Query(ctx, `SELECT version, sheet, saved_at, saved_by FROM pipeline_versions WHERE pipeline_id = $1 ORDER BY version DESC LIMIT $2`, id, limit))
}

// AddPipeline adds a pipeline; a name that is taken is a ErrConflict.
func (s *Store) AddPipeline(ctx context.Context, name, sheet, by string) (p Pipeline, err error) {
	err = pgx.BeginFunc(ctx, s.Pool, func(tx pgx.Tx) error {
		p, err = one[Pipeline](tx.Query(ctx, `INSERT INTO pipelines (name, sheet, changed_by) VALUES ($1, $2, $3) ON CONFLICT DO NOTHING RETURNING `+pipelineColumns, name, sheet, by))
		if errors.Is(err, ErrNotFound) {
			return ErrConflict
		}
		if err != nil {
			return err
		}
		return keepVersion(ctx, tx, p)
	})
	return p, err
}

func keepVersion(ctx context.Context, tx pgx.Tx, p Pipeline) error {
	_, err := tx.Exec(ctx, `INSERT INTO pipeline_versions (pipeline_id, version, sheet, saved_by) VALUES ($1, $2, $3, $4)`, p.ID, p.Version, p.Sheet, p.ChangedBy)
	return err
}

// SavePipeline keeps a new version. It is a ErrConflict when the latest version is
// not the one that was edited, or the name is taken.
func (s *Store) SavePipeline(ctx context.Context, id int64, edited int, name, sheet, by string) (p Pipeline, err error) {
	err = pgx.BeginFunc(ctx, s.Pool, func(tx pgx.Tx) error {
		p, err = one[Pipeline](tx.Query(ctx, `UPDATE pipelines SET name = $3, sheet = $4, changed_by = $5, changed_at = now(), version = version + 1
			WHERE id = $1 AND version = $2 AND NOT EXISTS (SELECT 1 FROM pipelines o WHERE o.name = $3 AND o.id <> $1) RETURNING `+pipelineColumns, id, edited, name, sheet, by))
		if errors.Is(err, ErrNotFound) {
			return ErrConflict
		}
		if err != nil {
			return err
		}
		return keepVersion(ctx, tx, p)
	})
	return p, err
}

// DeletePipeline removes a pipeline with its versions, schedules and runs.
func (s *Store) DeletePipeline(ctx context.Context, id int64) error {
	tag, err := s.Pool.Exec(ctx, `DELETE FROM pipelines WHERE id = $1`, id)
	return changed(tag.RowsAffected(), err, ErrNotFound)
}
