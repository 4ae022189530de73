package store

import (
	"context"
	"encoding/json"
	"time"

	"github.com/jackc/pgx/v5"
)

// InboxRow is a message that came to an inbound address.
type InboxRow struct {
	N    int64     `db:"n"`
	Came time.Time `db:"came_at"`
	Body string    `db:"body"`
}

// Receive keeps messages, all or none. One call after the other gets its numbers, so that
// whoever reads up to a number misses none that is kept later.
func (s *Store) Receive(ctx context.Context, connection int64, bodies []json.RawMessage) error {
	return pgx.BeginFunc(ctx, s.Pool, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, `SELECT pg_advisory_xact_lock(hashtext('inbox'), $1::int)`, connection); err != nil {
			return err
		}
		_, err := tx.CopyFrom(ctx, pgx.Identifier{"inbox"}, []string{"connection_id", "body"}, pgx.CopyFromSlice(len(bodies), func(i int) ([]any, error) {
			return []any{connection, bodies[i]}, nil
		}))
		return err
	})
}

// Inbox gives messages above a number and up to another (0 for all), in order.
func (s *Store) Inbox(ctx context.Context, connection, above, upTo int64, limit int) ([]InboxRow, error) {
	return many[InboxRow](s.Pool.Query(ctx, `SELECT n, came_at, body::text AS body FROM inbox WHERE connection_id = $1 AND n > $2 AND ($3 = 0 OR n <= $3) ORDER BY n LIMIT $4`, connection, above, upTo, limit))
}

// InboxNewest gives the number of the newest message and how many there are.
func (s *Store) InboxNewest(ctx context.Context, connection int64) (n, count int64, err error) {
	err = s.Pool.QueryRow(ctx, `SELECT COALESCE(max(n), 0), count(*) FROM inbox WHERE connection_id = $1`, connection).Scan(&n, &count)
	return n, count, err
}
