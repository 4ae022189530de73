package store

import (
	"context"
	"time"

	"welkin/core/profile"
)

// KeptProfile is a kept profile of a table or file.
type KeptProfile struct {
	ID      int64             `db:"id" json:"id"`
	Path    string            `db:"path" json:"path"`
	MadeAt  time.Time         `db:"made_at" json:"made_at"`
	MadeBy  string            `db:"made_by" json:"made_by"`
	Rows    int64             `db:"rows" json:"rows"`
	Whole   bool              `db:"whole" json:"whole" doc:"All rows were looked at; otherwise the first."`
	Columns []profile.Profile `db:"columns" json:"columns"`
}

const profileColumns = `id, path, made_at, made_by, rows, whole, columns`

// KeepProfile keeps a profile.
func (s *Store) KeepProfile(ctx context.Context, connection int64, p KeptProfile) (KeptProfile, error) {
	return one[KeptProfile](s.Pool.Query(ctx, `INSERT INTO profiles (connection_id, path, made_by, rows, whole, columns) VALUES ($1, $2, $3, $4, $5, $6) RETURNING `+profileColumns,
		connection, p.Path, p.MadeBy, p.Rows, p.Whole, p.Columns))
}

// Profiles gives the newest profiles of a path.
func (s *Store) Profiles(ctx context.Context, connection int64, path string, limit int) ([]KeptProfile, error) {
	return many[KeptProfile](s.Pool.Query(ctx, `SELECT `+profileColumns+` FROM profiles WHERE connection_id = $1 AND path = $2 ORDER BY id DESC LIMIT $3`, connection, path, limit))
}
