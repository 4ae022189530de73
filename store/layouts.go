package store

import (
	"context"
	"errors"
	"time"

	"github.com/jackc/pgx/v5"

	"welkin/core/format/fixed"
)

// SavedLayout is a record layout that pipelines share.
type SavedLayout struct {
	ID        int64        `db:"id" json:"id"`
	Name      string       `db:"name" json:"name"`
	Layout    fixed.Layout `db:"layout" json:"layout"`
	Version   int          `db:"version" json:"version"`
	ChangedAt time.Time    `db:"changed_at" json:"changed_at"`
	ChangedBy string       `db:"changed_by" json:"changed_by"`
}

const layoutColumns = `id, name, layout, version, changed_at, changed_by`

// Layouts lists all.
func (s *Store) Layouts(ctx context.Context) ([]SavedLayout, error) {
	return many[SavedLayout](s.Pool.Query(ctx, `SELECT `+layoutColumns+` FROM layouts ORDER BY name`))
}

// LayoutByName gives one by its name, in its newest version.
func (s *Store) LayoutByName(ctx context.Context, name string) (SavedLayout, error) {
	return one[SavedLayout](s.Pool.Query(ctx, `SELECT `+layoutColumns+` FROM layouts WHERE name = $1`, name))
}

// LayoutVersion gives an earlier version.
func (s *Store) LayoutVersion(ctx context.Context, id int64, version int) (SavedLayout, error) {
	return one[SavedLayout](s.Pool.Query(ctx, `SELECT l.id, l.name, v.layout, v.version, v.saved_at AS changed_at, v.saved_by AS changed_by
		FROM layout_versions v JOIN layouts l ON l.id = v.layout_id WHERE l.id = $1 AND v.version = $2`, id, version))
}

// SaveLayout adds a layout (ID 0), or saves a version of one: the version must be that
// which is kept, otherwise somebody saved meanwhile (ErrConflict).
func (s *Store) SaveLayout(ctx context.Context, l SavedLayout) (out SavedLayout, err error) {
	err = pgx.BeginFunc(ctx, s.Pool, func(tx pgx.Tx) error {
		if l.ID == 0 {
			out, err = one[SavedLayout](tx.Query(ctx, `INSERT INTO layouts (name, layout, changed_by) VALUES ($1, $2, $3) ON CONFLICT DO NOTHING RETURNING `+layoutColumns, l.Name, l.Layout, l.ChangedBy))
		} else {
			out, err = one[SavedLayout](tx.Query(ctx, `UPDATE layouts SET name = $2, layout = $3, changed_by = $4, changed_at = now(), version = version + 1
				WHERE id = $1 AND version = $5 AND NOT EXISTS (SELECT 1 FROM layouts o WHERE o.name = $2 AND o.id <> $1) RETURNING `+layoutColumns, l.ID, l.Name, l.Layout, l.ChangedBy, l.Version))
		}
		if errors.Is(err, ErrNotFound) {
			return ErrConflict
		}
		if err != nil {
			return err
		}
		_, err = tx.Exec(ctx, `INSERT INTO layout_versions (layout_id, version, layout, saved_by) VALUES ($1, $2, $3, $4)`, out.ID, out.Version, out.Layout, out.ChangedBy)
		return err
	})
	return out, err
}

// DeleteLayout removes a layout.
func (s *Store) DeleteLayout(ctx context.Context, id int64) error {
	tag, err := s.Pool.Exec(ctx, `DELETE FROM layouts WHERE id = $1`, id)
	return changed(tag.RowsAffected(), err, ErrNotFound)
}
