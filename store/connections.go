package store

import (
	"context"
	"encoding/json"
	"errors"
	"time"
)

// Connection is a connection as it is kept; its secrets are sealed.
type Connection struct {
	ID        int64           `db:"id"`
	Name      string          `db:"name"`
	Kind      string          `db:"kind"`
	Settings  json.RawMessage `db:"settings"`
	Sealed    []byte          `db:"secrets"`
	ChangedAt time.Time       `db:"changed_at"`
	ChangedBy string          `db:"changed_by"`
}

const connectionColumns = `id, name, kind, settings, secrets, changed_at, changed_by`

// Connections lists all.
func (s *Store) Connections(ctx context.Context) ([]Connection, error) {
	return many[Connection](s.Pool.Query(ctx, `SELECT `+connectionColumns+` FROM connections ORDER BY name`))
}

// Connection gives one by its number.
func (s *Store) Connection(ctx context.Context, id int64) (Connection, error) {
	return one[Connection](s.Pool.Query(ctx, `SELECT `+connectionColumns+` FROM connections WHERE id = $1`, id))
}

// ConnectionByName gives one by its name.
func (s *Store) ConnectionByName(ctx context.Context, name string) (Connection, error) {
	return one[Connection](s.Pool.Query(ctx, `SELECT `+connectionColumns+` FROM connections WHERE name = $1`, name))
}

// Secrets opens a connection's secrets.
func (s *Store) Secrets(c Connection) (map[string]string, error) { return s.seal.open(c.Sealed) }

// SaveConnection adds a connection (ID 0) or changes one. A name that is taken
// is a ErrConflict.
func (s *Store) SaveConnection(ctx context.Context, c Connection, secrets map[string]string) (Connection, error) {
	sealed, err := s.seal.close(secrets)
	if err != nil {
		return c, err
	}
	sql, args := `INSERT INTO connections (name, kind, settings, secrets, changed_by) VALUES ($1, $2, $3, $4, $5) ON CONFLICT DO NOTHING RETURNING `+connectionColumns,
		[]any{c.Name, c.Kind, c.Settings, sealed, c.ChangedBy}
	if c.ID != 0 {
		sql = `UPDATE connections SET name = $1, kind = $2, settings = $3, secrets = $4, changed_by = $5, changed_at = now()
			WHERE id = $6 AND NOT EXISTS (SELECT 1 FROM connections o WHERE o.name = $1 AND o.id <> $6) RETURNING ` + connectionColumns
		args = append(args, c.ID)
	}
	out, err := one[Connection](s.Pool.Query(ctx, sql, args...))
	if errors.Is(err, ErrNotFound) {
		return out, ErrConflict
	}
	return out, err
}

// DeleteConnection removes a connection.
func (s *Store) DeleteConnection(ctx context.Context, id int64) error {
	tag, err := s.Pool.Exec(ctx, `DELETE FROM connections WHERE id = $1`, id)
	return changed(tag.RowsAffected(), err, ErrNotFound)
}
