package postgres

import (
	"context"
	"fmt"
	"strings"

	"github.com/jackc/pgx/v5"

	"welkin/connect"
	"welkin/core/batch"
	"welkin/core/schema"
	"welkin/core/step"
)

const tableList = `SELECT n.nspname AS schema, c.relname AS name, c.relkind IN ('v','m') AS view, CASE WHEN c.relkind IN ('r','m','p') AND c.reltuples >= 0 THEN c.reltuples::bigint END AS rows,
	CASE WHEN c.relkind IN ('r','m') THEN pg_relation_size(c.oid) END AS bytes
	FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
	WHERE c.relkind IN ('r','p','v','m','f') AND NOT c.relispartition AND n.nspname !~ '^pg_' AND n.nspname <> 'information_schema'`

type tableRow struct {
	Schema string
	Name   string
	View   bool
	Rows   *int64
	Bytes  *int64
}

func (t tableRow) entry() connect.Entry {
	e := connect.Entry{Path: t.Schema + "." + t.Name, Name: t.Name, Type: "table", Rows: t.Rows, Bytes: t.Bytes}
	if strings.ContainsAny(t.Schema+t.Name, `."`) {
		e.Path = pgx.Identifier{t.Schema, t.Name}.Sanitize()
	}
	if t.View {
		e.Type = "view"
	}
	return e
}

func (d *Database) entries(ctx context.Context, sql string, args ...any) ([]connect.Entry, error) {
	rows, err := d.pool.Query(ctx, sql, args...)
	if err != nil {
		return nil, d.explain(err)
	}
	list, err := pgx.CollectRows(rows, pgx.RowToStructByName[tableRow])
	if err != nil {
		return nil, d.explain(err)
	}
	out := make([]connect.Entry, len(list))
	for i, t := range list {
		out[i] = t.entry()
	}
	return out, nil
}

// Browse implements connect.Connection: the schemas, then the tables of one.
func (d *Database) Browse(ctx context.Context, path string) ([]connect.Entry, error) {
	if path != "" {
		return d.entries(ctx, tableList+` AND n.nspname = $1 ORDER BY 2`, path)
	}
	rows, err := d.pool.Query(ctx, `SELECT n.nspname, count(c.oid) FROM pg_namespace n LEFT JOIN pg_class c ON c.relnamespace = n.oid AND c.relkind IN ('r','p','v','m','f') AND NOT c.relispartition
		WHERE n.nspname !~ '^pg_' AND n.nspname <> 'information_schema' GROUP BY 1 ORDER BY 1`)
	if err != nil {
		return nil, d.explain(err)
	}
	out, err := pgx.CollectRows(rows, func(r pgx.CollectableRow) (connect.Entry, error) {
		var e connect.Entry
		var n int64
		err := r.Scan(&e.Name, &n)
		e.Path, e.Type, e.Opens, e.Detail = e.Name, "schema", true, fmt.Sprintf("%d tables", n)
		return e, err
	})
	return out, d.explain(err)
}

// Search implements connect.Connection.
func (d *Database) Search(ctx context.Context, text string, limit int) ([]connect.Entry, error) {
	return d.entries(ctx, tableList+` AND position(lower($1) in lower(n.nspname || '.' || c.relname)) > 0 ORDER BY length(c.relname), 1, 2 LIMIT $2`, text, limit)
}

// Table implements step.Tables.
func (d *Database) Table(ctx context.Context, name string) (*step.Table, error) {
	rows, err := d.pool.Query(ctx, `SELECT a.attname, format_type(a.atttypid, a.atttypmod), a.attnotnull, a.atthasdef OR a.attidentity <> '',
			CASE WHEN a.atttypid IN (1042, 1043) AND a.atttypmod > 4 THEN a.atttypmod - 4 ELSE 0 END,
			CASE a.atttypid WHEN 21 THEN 16 WHEN 23 THEN 32 WHEN 20 THEN 64 ELSE 0 END,
			COALESCE(col_description(a.attrelid, a.attnum), ''), c.reltuples::bigint, COALESCE(array_position(i.indkey::int2[], a.attnum), -1)
		FROM pg_attribute a JOIN pg_class c ON c.oid = a.attrelid LEFT JOIN pg_index i ON i.indrelid = c.oid AND i.indisprimary
		WHERE a.attrelid = to_regclass($1) AND a.attnum > 0 AND NOT a.attisdropped ORDER BY a.attnum`, quote(name))
	if err != nil {
		return nil, d.explain(err)
	}
	defer rows.Close()
	t := &step.Table{Name: name, Relation: quote(name), Schema: &schema.Schema{}}
	keys := map[int]string{}
	for rows.Next() {
		var col schema.Column
		var n step.Native
		var place int
		if err := rows.Scan(&col.Name, &n.Type, &n.NotNull, &n.HasDefault, &n.MaxLength, &n.Bits, &col.Description, &t.Rows, &place); err != nil {
			return nil, d.explain(err)
		}
		known := false
		if col.Type, known = schema.FromPostgres(n.Type); !known {
			t.Strange = append(t.Strange, col.Name)
		}
		col.Nullable, col.From = !n.NotNull, name+"."+col.Name
		t.Schema.Columns = append(t.Schema.Columns, col)
		t.Native = append(t.Native, n)
		if place >= 0 {
			keys[place] = col.Name
		}
	}
	if err := rows.Err(); err != nil {
		return nil, d.explain(err)
	}
	if t.Schema.Len() == 0 {
		return nil, nil
	}
	for i := 0; len(keys) > 0 && i < 64; i++ {
		if k, ok := keys[i]; ok {
			t.Keys = append(t.Keys, k)
		}
	}
	return t, nil
}

// Describe implements connect.Connection.
func (d *Database) Describe(ctx context.Context, path string) (*connect.Description, error) {
	return connect.DescribeTable(ctx, d, path)
}

// Sample implements connect.Connection.
func (d *Database) Sample(ctx context.Context, path string, limit int) (batch.Wire, error) {
	return connect.SampleTable(ctx, d, path, limit)
}
