// Package sqltables reads tables through database/sql, for databases that speak a
// SQL of their own. A kind says how names are quoted and which types it has, and
// embeds a Database.
package sqltables

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"io"
	"strings"

	"welkin/core/batch"
	"welkin/core/schema"
	"welkin/core/step"
)

// Dialect is what differs between databases.
type Dialect struct {
	// Quote writes an identifier so that it means just that.
	Quote func(name string) string
	// Split cuts schema.table into its parts.
	Split func(name string) []string
	// Type gives the type of a native one, such as decimal(10,2); ok is false for
	// those that Welkin has not: they are read as text.
	Type func(native string) (t schema.Type, ok bool)
	// Plain rewrites a value as batch.AppendText reads it; raw is valid until the next
	// row alone.
	Plain func(native string, t schema.Type, raw []byte) (text string, fault *batch.Fault)
	// Tx are the options of the transaction in which a table is read.
	Tx *sql.TxOptions
	// Begin is a statement run first in it, "" for none.
	Begin string
	// Explain turns a driver's error into a sentence without secrets.
	Explain func(err error) error
	// Describe gives a table, nil when there is none.
	Describe func(ctx context.Context, db *sql.DB, name string) (*step.Table, error)
}

// Database is an open database.
type Database struct {
	DB      *sql.DB
	Dialect Dialect
}

var _ step.Tables = (*Database)(nil)

// Table implements step.Tables.
func (d *Database) Table(ctx context.Context, name string) (*step.Table, error) {
	t, err := d.Dialect.Describe(ctx, d.DB, name)
	if err != nil {
		return nil, d.Dialect.Explain(err)
	}
	return t, nil
}

// TableOf makes a table of its columns' names and native types.
func (d Dialect) TableOf(name string, columns []Column, keys []string, rows int64) *step.Table {
	t := &step.Table{Name: name, Relation: d.relation(name), Schema: &schema.Schema{}, Keys: keys, Rows: rows}
	for _, c := range columns {
		typ, ok := d.Type(c.Type)
		if !ok {
			t.Strange = append(t.Strange, c.Name)
		}
		t.Schema.Columns = append(t.Schema.Columns, schema.Column{Name: c.Name, Type: typ, Nullable: c.Nullable, Description: c.Comment, From: name + "." + c.Name})
		t.Native = append(t.Native, step.Native{Type: c.Type, NotNull: !c.Nullable})
	}
	return t
}

// Column is a column as its database knows it.
type Column struct {
	Name, Type, Comment string
	Nullable            bool
}

func (d Dialect) relation(name string) string {
	parts := d.Split(name)
	quoted := make([]string, len(parts))
	for i, p := range parts {
		quoted[i] = d.Quote(p)
	}
	return strings.Join(quoted, ".")
}

// Query implements step.Tables.
func (d *Database) Query(ctx context.Context, query string) (*schema.Schema, error) {
	rows, err := d.DB.QueryContext(ctx, "SELECT * FROM ("+trimmed(query)+"\n) AS q LIMIT 0")
	if err != nil {
		return nil, d.Dialect.Explain(err)
	}
	defer rows.Close()
	types, err := rows.ColumnTypes()
	if err != nil {
		return nil, d.Dialect.Explain(err)
	}
	out := &schema.Schema{}
	for _, c := range types {
		t, _ := d.Dialect.Type(nativeOf(c))
		out.Columns = append(out.Columns, schema.Column{Name: c.Name(), Type: t, Nullable: true})
	}
	return out, d.Dialect.Explain(rows.Err())
}

func trimmed(query string) string { return strings.TrimRight(strings.TrimSpace(query), ";") }

// nativeOf writes a column's type with its measures.
func nativeOf(c *sql.ColumnType) string {
	name := strings.ToLower(c.DatabaseTypeName())
	if p, s, ok := c.DecimalSize(); ok && strings.HasPrefix(name, "decimal") && p > 0 && p <= 65 {
		return fmt.Sprintf("decimal(%d,%d)", p, s)
	}
	return name
}

// Read implements step.Tables. All rows come from one statement, and so from one
// moment.
func (d *Database) Read(ctx context.Context, r step.TableRead) (step.Reader, error) {
	tx, err := d.DB.BeginTx(ctx, d.Dialect.Tx)
	if err != nil {
		return nil, d.Dialect.Explain(err)
	}
	if d.Dialect.Begin != "" {
		if _, err := tx.ExecContext(ctx, d.Dialect.Begin); err != nil {
			_ = tx.Rollback()
			return nil, d.Dialect.Explain(err)
		}
	}
	statement, args, err := d.statement(r)
	if err != nil {
		_ = tx.Rollback()
		return nil, err
	}
	rows, err := tx.QueryContext(ctx, statement, args...)
	if err != nil {
		_ = tx.Rollback()
		return nil, d.Dialect.Explain(err)
	}
	out := &reader{d: d, tx: tx, rows: rows, read: r, place: r.Table}
	if r.Query != "" {
		out.place = "query"
	}
	types, err := rows.ColumnTypes()
	if err != nil {
		_ = out.Close()
		return nil, d.Dialect.Explain(err)
	}
	for _, c := range types {
		out.native = append(out.native, nativeOf(c))
	}
	out.raw, out.to = make([]sql.RawBytes, r.Schema.Len()), make([]any, r.Schema.Len())
	for i := range out.raw {
		out.to[i] = &out.raw[i]
	}
	for _, k := range r.Keys {
		if i := r.Schema.Index(k); i >= 0 {
			out.keys = append(out.keys, i)
		}
	}
	return out, nil
}

func (d *Database) statement(r step.TableRead) (string, []any, error) {
	list := make([]string, len(r.Columns))
	for i, name := range r.Columns {
		list[i] = d.Dialect.Quote(name)
		if r.Greatest {
			list[i] = "max(" + list[i] + ")"
		}
	}
	from := d.Dialect.relation(r.Table)
	if r.Query != "" {
		from = "(" + trimmed(r.Query) + "\n) AS q"
	}
	var args []any
	var conditions []string
	argument := func(t schema.Type, text string) error {
		v, err := valueOf(t, text)
		args = append(args, v)
		return err
	}
	for _, only := range r.Only {
		if len(args)+len(only.Values) > mostArguments { // whoever asks looks through the rows anyway
			continue
		}
		marks := make([]string, len(only.Values))
		for i, v := range only.Values {
			if err := argument(only.Type, v); err != nil {
				return "", nil, err
			}
			marks[i] = "?"
		}
		if len(marks) == 0 {
			marks = []string{"NULL"}
		}
		conditions = append(conditions, d.Dialect.Quote(only.Column)+" IN ("+strings.Join(marks, ", ")+")")
	}
	if b := r.Between; b != nil {
		for _, end := range []struct{ is, value string }{{">", b.Above}, {"<=", b.UpTo}} {
			if end.value == "" {
				continue
			}
			if err := argument(b.Type, end.value); err != nil {
				return "", nil, err
			}
			conditions = append(conditions, d.Dialect.Quote(b.Column)+" "+end.is+" ?")
		}
	}
	statement := "SELECT " + strings.Join(list, ", ") + " FROM " + from
	if len(conditions) > 0 {
		statement += " WHERE " + strings.Join(conditions, " AND ")
	}
	if r.Limit > 0 {
		statement += fmt.Sprintf(" LIMIT %d", r.Limit)
	}
	return statement, args, nil
}

// mostArguments is how many values a statement takes everywhere.
const mostArguments = 30_000

// valueOf gives a value as a driver compares it with a column of its type.
func valueOf(t schema.Type, text string) (any, error) {
	switch t.Kind {
	case schema.Int:
		n, fault := batch.ParseInt(text)
		if fault != nil {
			return nil, errors.New(fault.Sentence)
		}
		return n, nil
	case schema.Float:
		f, fault := batch.ParseFloat(text)
		if fault != nil {
			return nil, errors.New(fault.Sentence)
		}
		return f, nil
	case schema.Bool:
		b, fault := batch.ParseBool(text)
		if fault != nil {
			return nil, errors.New(fault.Sentence)
		}
		return b, nil
	case schema.TimestampTZ:
		return strings.TrimSuffix(text, "+00"), nil
	}
	return text, nil
}

type reader struct {
	d      *Database
	tx     *sql.Tx
	rows   *sql.Rows
	read   step.TableRead
	place  string
	native []string
	raw    []sql.RawBytes
	to     []any
	keys   []int
	seen   int64
	ended  bool
}

// Next implements step.Reader.
func (r *reader) Next(context.Context) (step.Chunk, error) {
	if r.ended {
		return step.Chunk{}, io.EOF
	}
	s := r.read.Schema
	columns := make([]batch.TextColumn, s.Len())
	for i, c := range s.Columns {
		columns[i] = batch.NewTextColumn(c.Type, batch.Rows)
	}
	var out step.Chunk
	origin := batch.Origin{All: r.place}
	var good []int32
	at := 0
	for ; at < batch.Rows; at++ {
		if !r.rows.Next() {
			r.ended = true
			break
		}
		if err := r.rows.Scan(r.to...); err != nil {
			return step.Chunk{}, r.d.Dialect.Explain(err)
		}
		r.seen++
		if bad, is := r.row(at, columns, &out.Bytes); is {
			out.Refused = append(out.Refused, bad)
			continue
		}
		good = append(good, int32(at))
		origin.Row = append(origin.Row, r.seen)
		if len(r.keys) > 0 {
			origin.Key = append(origin.Key, r.key())
		}
	}
	if err := r.rows.Err(); err != nil {
		return step.Chunk{}, r.d.Dialect.Explain(err)
	}
	if at == 0 {
		return step.Chunk{}, io.EOF
	}
	b := &batch.Batch{Schema: s, N: len(good), Origin: origin}
	for _, c := range columns {
		b.Cols = append(b.Cols, batch.Take(c.Column(), good))
	}
	out.Batch, out.Seen = b, int64(at)
	return out, nil
}

// row reads the current row; is says that it can't be used.
func (r *reader) row(at int, columns []batch.TextColumn, bytes *int64) (bad step.Refused, is bool) {
	for i, raw := range r.raw {
		*bytes += int64(len(raw))
		if raw == nil {
			columns[i].SetNull(at)
			continue
		}
		text, fault := r.d.Dialect.Plain(r.native[i], r.read.Schema.Columns[i].Type, raw)
		if fault == nil {
			fault = columns[i].Set(at, text)
		}
		if fault != nil {
			for k := i; k < len(columns); k++ {
				columns[k].SetNull(at)
			}
			return r.refused(fault, i), true
		}
	}
	return bad, false
}

func (r *reader) refused(fault *batch.Fault, column int) step.Refused {
	out := step.Refused{Fault: fault, Column: r.read.Schema.Columns[column].Name, Value: string(r.raw[column]), Place: r.place, Row: r.seen, Names: r.read.Schema.Names()}
	for _, raw := range r.raw {
		if raw == nil {
			out.Cells = append(out.Cells, nil)
			continue
		}
		text := strings.ToValidUTF8(string(raw), "�")
		out.Cells = append(out.Cells, &text)
	}
	if len(r.keys) > 0 {
		out.Key = r.key()
	}
	return out
}

func (r *reader) key() string {
	parts := make([]string, len(r.keys))
	for i, c := range r.keys {
		parts[i] = r.read.Schema.Columns[c].Name + "=" + string(r.raw[c])
	}
	return strings.Join(parts, ", ")
}

// Close implements step.Reader.
func (r *reader) Close() error {
	_ = r.rows.Close()
	if err := r.tx.Rollback(); err != nil && !errors.Is(err, sql.ErrTxDone) && !errors.Is(err, context.Canceled) {
		return nil // the way is cut: there is nothing to be undone
	}
	return nil
}
