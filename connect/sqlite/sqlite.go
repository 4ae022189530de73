// Package sqlite is the connection kind for SQLite files: its tables are read.
package sqlite

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"io/fs"
	"net/url"
	"os"
	"path/filepath"
	"regexp"
	"strings"

	_ "modernc.org/sqlite" // the driver

	"welkin/connect"
	"welkin/connect/sqltables"
	"welkin/connect/way"
	"welkin/core/batch"
	"welkin/core/schema"
	"welkin/core/step"
)

// Kind is the SQLite kind.
var Kind = connect.Kind{
	Name: "sqlite", Holds: connect.HoldsTables,
	Help: "Tables of a SQLite file that the worker can reach; they are read, never written.",
	New:  func() connect.Settings { return &Settings{} },
	Open: func(_ context.Context, s connect.Settings) (connect.Connection, error) { return open(s.(*Settings)) },
}

// Settings of a file.
type Settings struct {
	Path string `json:"path" jsonschema:"title=file,description=Its full path on the worker's machine"`
}

// Validate implements connect.Settings.
func (s *Settings) Validate() error {
	switch {
	case s.Path == "":
		return errors.New("path is missing; give the file's full path")
	case !filepath.IsAbs(s.Path):
		return fmt.Errorf("path %q must be a full path that begins with /", s.Path)
	}
	return nil
}

// Database is an open file.
type Database struct {
	*sqltables.Database
	path string
}

func open(s *Settings) (*Database, error) {
	u := url.URL{Scheme: "file", Opaque: (&url.URL{Path: s.Path}).EscapedPath(), RawQuery: url.Values{"mode": {"ro"}, "_pragma": {"busy_timeout(5000)"}}.Encode()}
	db, err := sql.Open("sqlite", u.String())
	if err != nil {
		return nil, fmt.Errorf("%s can't be opened", s.Path)
	}
	db.SetMaxOpenConns(8)
	d := &Database{path: s.Path}
	d.Database = &sqltables.Database{DB: db, Dialect: sqltables.Dialect{Quote: quote, Split: func(name string) []string { return []string{name} }, Type: typeOf, Plain: plain, Explain: d.explain, Describe: d.describe}}
	return d, nil
}

func quote(name string) string { return `"` + strings.ReplaceAll(name, `"`, `""`) + `"` }

var measured = regexp.MustCompile(`\((\d+)(?:\s*,\s*(\d+))?\)`)

// typeOf follows the words of a declared type, as SQLite itself does; values may be of
// any type, and those that don't fit are row problems.
func typeOf(native string) (schema.Type, bool) {
	n := strings.ToLower(native)
	has := func(words ...string) bool {
		for _, w := range words {
			if strings.Contains(n, w) {
				return true
			}
		}
		return false
	}
	switch {
	case has("bool"):
		return schema.Of(schema.Bool), true
	case has("int"):
		return schema.Of(schema.Int), true
	case has("decimal", "numeric"):
		if measured.MatchString(n) {
			if t, err := schema.ParseType("decimal" + measured.FindString(n)); err == nil {
				return t, true
			}
		}
		return schema.DecimalOf(schema.MaxPrecision, 9), true
	case has("real", "floa", "doub"):
		return schema.Of(schema.Float), true
	case has("datetime", "timestamp"):
		return schema.Of(schema.Timestamp), true
	case n == "date":
		return schema.Of(schema.Date), true
	case n == "time":
		return schema.Of(schema.Time), true
	case has("json"):
		return schema.Of(schema.JSON), true
	case has("uuid"):
		return schema.Of(schema.UUID), true
	case has("blob"):
		return schema.Of(schema.Bytes), true
	case n == "" || has("char", "clob", "text"):
		return schema.Of(schema.Text), true
	}
	return schema.Of(schema.Text), false
}

// plain undoes what the driver makes of days and bytes.
func plain(_ string, t schema.Type, raw []byte) (string, *batch.Fault) {
	switch t.Kind {
	case schema.Bytes:
		return fmt.Sprintf(`\x%x`, raw), nil
	case schema.Date:
		return strings.TrimSuffix(string(raw), "T00:00:00Z"), nil
	case schema.Timestamp:
		return strings.TrimSuffix(string(raw), "Z"), nil
	}
	return string(raw), nil
}

func (d *Database) explain(err error) error {
	switch {
	case err == nil, errors.Is(err, context.Canceled):
		return err
	case errors.Is(err, context.DeadlineExceeded):
		return fmt.Errorf("%s did not answer in time; another program may hold it", d.path)
	}
	if _, failed := os.Stat(d.path); errors.Is(failed, fs.ErrNotExist) {
		return fmt.Errorf("%s is not there; it may have been moved or deleted", d.path)
	}
	text := strings.TrimPrefix(err.Error(), "SQL logic error: ")
	if strings.Contains(text, "not a database") {
		return fmt.Errorf("%s is no SQLite file", d.path)
	}
	return fmt.Errorf("the file said: %s", text)
}

func (d *Database) describe(ctx context.Context, db *sql.DB, name string) (*step.Table, error) {
	rows, err := db.QueryContext(ctx, `SELECT name, type, "notnull", pk FROM pragma_table_info(?)`, name)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var columns []sqltables.Column
	var keys []string
	for rows.Next() {
		var c sqltables.Column
		var notNull, key int
		if err := rows.Scan(&c.Name, &c.Type, &notNull, &key); err != nil {
			return nil, err
		}
		c.Nullable = notNull == 0 && key == 0
		columns = append(columns, c)
		if key > 0 {
			keys = append(keys, c.Name)
		}
	}
	if err := rows.Err(); err != nil || len(columns) == 0 {
		return nil, err
	}
	return d.Dialect.TableOf(name, columns, keys, -1), nil
}

// Check implements connect.Connection.
func (d *Database) Check(ctx context.Context) []connect.CheckLine {
	c := way.Begin("the file is there", "is a SQLite file", "may read")
	info, err := os.Stat(d.path)
	if err != nil || info.IsDir() {
		if err == nil {
			err = fmt.Errorf("%s is a folder", d.path)
		}
		return c.Bad(d.explain(err), "Correct the path, or put the file on the machine where the worker runs.", "path")
	}
	c.Good("%s, %d bytes", d.path, info.Size())
	var n int
	if err := d.DB.QueryRowContext(ctx, `SELECT count(*) FROM sqlite_schema WHERE type IN ('table', 'view')`).Scan(&n); err != nil {
		return c.Bad(d.explain(err), "Choose a file of SQLite's version 3, and one that Welkin's user may read.", "path")
	}
	c.Good("yes")
	c.Good("%d tables and views", n)
	return c.Lines
}

// Browse implements connect.Connection: tables and views.
func (d *Database) Browse(ctx context.Context, _ string) ([]connect.Entry, error) {
	return d.list(ctx, "", -1)
}

// Search implements connect.Connection.
func (d *Database) Search(ctx context.Context, text string, limit int) ([]connect.Entry, error) {
	return d.list(ctx, text, limit)
}

func (d *Database) list(ctx context.Context, part string, limit int) ([]connect.Entry, error) {
	rows, err := d.DB.QueryContext(ctx, `SELECT name, type FROM sqlite_schema WHERE type IN ('table', 'view') AND name NOT LIKE 'sqlite\_%' ESCAPE '\' AND instr(lower(name), lower(?)) > 0 ORDER BY name LIMIT ?`, part, limit)
	if err != nil {
		return nil, d.explain(err)
	}
	defer rows.Close()
	out := []connect.Entry{}
	for rows.Next() {
		var e connect.Entry
		if err := rows.Scan(&e.Name, &e.Type); err != nil {
			return nil, d.explain(err)
		}
		e.Path = e.Name
		out = append(out, e)
	}
	return out, d.explain(rows.Err())
}

// Describe implements connect.Connection.
func (d *Database) Describe(ctx context.Context, name string) (*connect.Description, error) {
	return connect.DescribeTable(ctx, d, name)
}

// Sample implements connect.Connection.
func (d *Database) Sample(ctx context.Context, name string, rows int) (batch.Wire, error) {
	return connect.SampleTable(ctx, d, name, rows)
}

// Close implements connect.Connection.
func (d *Database) Close() error { return d.DB.Close() }
