package mysql

import (
	"context"
	"database/sql"
	"time"

	"welkin/connect"
	"welkin/connect/sqltables"
	"welkin/connect/way"
	"welkin/core/batch"
	"welkin/core/step"
)

// Check implements connect.Connection.
func (d *Database) Check(ctx context.Context) []connect.CheckLine {
	c := way.Begin(append(d.settings.Tunnel.ReachLines(), "sign-in", "may read", "clocks agree", "time for a question")...)
	if !c.Reach(ctx, d.way, d.settings.Host, d.settings.address()) {
		return c.Lines
	}
	ctx, cancel := context.WithTimeout(ctx, 15*time.Second)
	defer cancel()
	var version, cipher string
	if err := d.DB.QueryRowContext(ctx, `SELECT version()`).Scan(&version); err != nil {
		return c.Bad(d.explain(err), "Correct user, password or database.", "password")
	}
	encrypted := "not encrypted"
	var name string
	if err := d.DB.QueryRowContext(ctx, `SHOW STATUS LIKE 'Ssl_cipher'`).Scan(&name, &cipher); err == nil && cipher != "" {
		encrypted = "encrypted"
	}
	c.Good("as %s, version %s, %s", d.settings.User, version, encrypted)
	var n int
	if err := d.DB.QueryRowContext(ctx, `SELECT count(*) FROM information_schema.tables WHERE table_schema = database()`).Scan(&n); err != nil {
		return c.Bad(d.explain(err), "Give the user rights on the tables.", "user")
	}
	c.Good("%d tables", n)
	began := time.Now()
	var there float64
	if err := d.DB.QueryRowContext(ctx, `SELECT unix_timestamp(sysdate(6))`).Scan(&there); err != nil {
		return c.Bad(d.explain(err), "The database can't tell its time.", "")
	}
	took := time.Since(began)
	skew := time.UnixMicro(int64(there * 1e6)).Sub(began.Add(took / 2)).Abs().Round(time.Millisecond)
	if skew > 5*time.Second {
		return c.Bad(errSkew(skew), "Set both clocks by the same time service: reads of changed rows lean on them.", "")
	}
	c.Good("%s apart", skew)
	c.Good("%s", took.Round(10*time.Microsecond))
	return c.Lines
}

type errSkew time.Duration

func (e errSkew) Error() string { return time.Duration(e).String() + " apart" }

// Browse implements connect.Connection: tables and views of the database.
func (d *Database) Browse(ctx context.Context, _ string) ([]connect.Entry, error) {
	return d.list(ctx, "", mostBrowsed)
}

// mostBrowsed is how many tables are listed.
const mostBrowsed = 200_000

// Search implements connect.Connection.
func (d *Database) Search(ctx context.Context, text string, limit int) ([]connect.Entry, error) {
	return d.list(ctx, text, limit)
}

func (d *Database) list(ctx context.Context, part string, limit int) ([]connect.Entry, error) {
	rows, err := d.DB.QueryContext(ctx, `SELECT table_name, CASE table_type WHEN 'VIEW' THEN 'view' ELSE 'table' END, table_rows, data_length + index_length
		FROM information_schema.tables WHERE table_schema = database() AND locate(lower(?), lower(table_name)) > 0 ORDER BY table_name LIMIT ?`, part, limit)
	if err != nil {
		return nil, d.explain(err)
	}
	defer rows.Close()
	out := []connect.Entry{}
	for rows.Next() {
		var e connect.Entry
		if err := rows.Scan(&e.Name, &e.Type, &e.Rows, &e.Bytes); err != nil {
			return nil, d.explain(err)
		}
		e.Path = e.Name
		out = append(out, e)
	}
	return out, d.explain(rows.Err())
}

func (d *Database) describe(ctx context.Context, db *sql.DB, name string) (*step.Table, error) {
	schema, table := d.settings.Database, name
	if p := split(name); len(p) == 2 {
		schema, table = p[0], p[1]
	}
	rows, err := db.QueryContext(ctx, `SELECT column_name, column_type, is_nullable = 'YES', column_key = 'PRI', column_comment
		FROM information_schema.columns WHERE table_schema = ? AND table_name = ? ORDER BY ordinal_position`, schema, table)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var columns []sqltables.Column
	var keys []string
	for rows.Next() {
		var c sqltables.Column
		var key bool
		if err := rows.Scan(&c.Name, &c.Type, &c.Nullable, &key, &c.Comment); err != nil {
			return nil, err
		}
		if columns = append(columns, c); key {
			keys = append(keys, c.Name)
		}
	}
	if err := rows.Err(); err != nil || len(columns) == 0 {
		return nil, err
	}
	count := int64(-1)
	_ = db.QueryRowContext(ctx, `SELECT table_rows FROM information_schema.tables WHERE table_schema = ? AND table_name = ? AND table_rows IS NOT NULL`, schema, table).Scan(&count)
	return d.Dialect.TableOf(name, columns, keys, count), nil
}

// Describe implements connect.Connection.
func (d *Database) Describe(ctx context.Context, name string) (*connect.Description, error) {
	return connect.DescribeTable(ctx, d, name)
}

// Sample implements connect.Connection.
func (d *Database) Sample(ctx context.Context, name string, rows int) (batch.Wire, error) {
	return connect.SampleTable(ctx, d, name, rows)
}
