package postgres

import (
	"context"
	"fmt"
	"net"
	"strconv"
	"time"

	"welkin/connect"
	"welkin/connect/way"
)

// Check implements connect.Connection.
func (d *Database) Check(ctx context.Context) []connect.CheckLine {
	ctx, cancel := context.WithTimeout(ctx, 20*time.Second)
	defer cancel()
	c := way.Begin(append(d.settings.Tunnel.ReachLines(), "sign-in", "may read", "may write", "clocks agree", "time for a question")...)
	if !c.Reach(ctx, d.way, d.settings.Host, net.JoinHostPort(d.settings.Host, strconv.Itoa(d.settings.port()))) {
		return c.Lines
	}
	var version, user string
	var tls bool
	err := d.pool.QueryRow(ctx, `SELECT current_setting('server_version'), current_user, COALESCE((SELECT ssl FROM pg_stat_ssl WHERE pid = pg_backend_pid()), false)`).Scan(&version, &user, &tls)
	if err != nil {
		return c.Bad(d.explain(err), "Correct user, password or database.", "password")
	}
	encrypted := "not encrypted"
	if tls {
		encrypted = "encrypted"
	}
	c.Good("as %s, PostgreSQL %s, %s", user, version, encrypted)
	var readable, writable int64
	err = d.pool.QueryRow(ctx, `SELECT count(*) FILTER (WHERE has_table_privilege(c.oid, 'SELECT')), count(*) FILTER (WHERE has_table_privilege(c.oid, 'INSERT'))
		FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
		WHERE c.relkind IN ('r','p','v','m') AND n.nspname NOT IN ('pg_catalog','information_schema') AND has_schema_privilege(n.oid, 'USAGE')`).Scan(&readable, &writable)
	if err != nil {
		return c.Bad(d.explain(err), "Give the user rights on the tables.", "user")
	}
	c.Good("%d tables", readable)
	var create bool
	_ = d.pool.QueryRow(ctx, `SELECT has_database_privilege(current_database(), 'CREATE') OR has_schema_privilege('public', 'CREATE')`).Scan(&create)
	switch {
	case create:
		c.Good("%d tables, and new ones may be made", writable)
	case writable > 0:
		c.Good("%d tables; new ones may not be made", writable)
	default:
		c.Note("no; that is right for a source", "")
	}
	var there time.Time
	began := time.Now()
	if err := d.pool.QueryRow(ctx, `SELECT clock_timestamp()`).Scan(&there); err != nil {
		return c.Bad(d.explain(err), "The database can't tell its time.", "")
	}
	took := time.Since(began)
	skew := there.Sub(began.Add(took / 2)).Abs().Round(time.Millisecond)
	if skew >= 5*time.Second {
		return c.Bad(fmt.Errorf("%s apart", skew), "Set both clocks by the same time service: reads of changed rows lean on them.", "")
	}
	c.Good("%s apart", skew)
	if took >= 500*time.Millisecond {
		return c.Bad(fmt.Errorf("%s", took.Round(10*time.Microsecond)), "The way there is slow; a worker nearer to the database would help.", "")
	}
	c.Good("%s", took.Round(10*time.Microsecond))
	return c.Lines
}
