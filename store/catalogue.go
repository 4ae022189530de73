package store

import (
	"context"
	"errors"
	"time"

	"github.com/jackc/pgx/v5"

	"welkin/connect"
)

// CatalogueState says how old a catalogue is.
type CatalogueState struct {
	ListedAt          time.Time `db:"listed_at" json:"listed_at"`
	Entries           int64     `db:"entries" json:"entries"`
	TookMS            int64     `db:"took_ms" json:"took_ms"`
	Failed            string    `db:"failed" json:"failed,omitempty" doc:"Why the last attempt to list anew failed."`
	ConnectionChanged time.Time `db:"connection_changed_at" json:"-"`
}

// CatalogueState gives the state of a connection's catalogue, nil before it was listed.
func (s *Store) CatalogueState(ctx context.Context, connection int64) (*CatalogueState, error) {
	out, err := one[CatalogueState](s.Pool.Query(ctx, `SELECT listed_at, entries, took_ms, failed, connection_changed_at FROM catalogue_state WHERE connection_id = $1`, connection))
	if errors.Is(err, ErrNotFound) {
		return nil, nil
	}
	return &out, err
}

// CatalogueEntry is an entry with the path of what it lies in, "" for the top.
type CatalogueEntry struct {
	Parent string
	connect.Entry
}

// KeepCatalogue takes the place of what was listed of a connection before.
func (s *Store) KeepCatalogue(ctx context.Context, c Connection, entries []CatalogueEntry, took time.Duration) error {
	err := pgx.BeginFunc(ctx, s.Pool, func(tx pgx.Tx) error {
		// One listing after the other: two at once would write the same entries.
		if _, err := tx.Exec(ctx, `SELECT pg_advisory_xact_lock(hashtext('catalogue'), $1::int)`, c.ID); err != nil {
			return err
		}
		if _, err := tx.Exec(ctx, `DELETE FROM catalogue WHERE connection_id = $1`, c.ID); err != nil {
			return err
		}
		_, err := tx.CopyFrom(ctx, pgx.Identifier{"catalogue"}, []string{"connection_id", "path", "parent", "name", "type", "opens", "rows", "bytes", "detail"}, pgx.CopyFromSlice(len(entries), func(i int) ([]any, error) {
			e := entries[i]
			return []any{c.ID, withoutNul(e.Path), withoutNul(e.Parent), withoutNul(e.Name), e.Type, e.Opens, e.Rows, e.Bytes, withoutNul(e.Detail)}, nil
		}))
		if err != nil {
			return err
		}
		_, err = tx.Exec(ctx, `INSERT INTO catalogue_state (connection_id, connection_changed_at, entries, took_ms) VALUES ($1, $2, $3, $4)
			ON CONFLICT (connection_id) DO UPDATE SET connection_changed_at = $2, listed_at = now(), entries = $3, took_ms = $4, failed = ''`, c.ID, c.ChangedAt, len(entries), took.Milliseconds())
		return err
	})
	if err == nil && len(entries) > 10_000 { // otherwise the first look at it would be slow
		_, err = s.Pool.Exec(ctx, `ANALYZE catalogue`)
	}
	return err
}

// CatalogueFailed writes down that listing anew failed; what was listed before stays.
func (s *Store) CatalogueFailed(ctx context.Context, c Connection, why string) error {
	_, err := s.Pool.Exec(ctx, `UPDATE catalogue_state SET failed = $2 WHERE connection_id = $1`, c.ID, withoutNul(why))
	return err
}

const entryColumns = `path, name, type, opens, rows, bytes, detail`

// Browse lists what lies in a path of a catalogue.
func (s *Store) Browse(ctx context.Context, connection int64, parent string, limit int) ([]connect.Entry, error) {
	return many[connect.Entry](s.Pool.Query(ctx, `SELECT `+entryColumns+` FROM catalogue WHERE connection_id = $1 AND parent = $2 ORDER BY NOT opens, name LIMIT $3`, connection, parent, limit))
}

// SearchCatalogue finds entries whose path holds a text, the shortest names first.
func (s *Store) SearchCatalogue(ctx context.Context, connection int64, text string, limit int) ([]connect.Entry, error) {
	return many[connect.Entry](s.Pool.Query(ctx, `SELECT `+entryColumns+` FROM catalogue WHERE connection_id = $1 AND strpos(lowered, lower($2)) > 0
		ORDER BY length(name), path LIMIT $3`, connection, text, limit))
}
