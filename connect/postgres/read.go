package postgres

import (
	"context"
	"fmt"
	"io"
	"strings"
	"sync/atomic"

	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"

	"welkin/core/batch"
	"welkin/core/schema"
	"welkin/core/step"
)

// Query implements step.Tables.
func (d *Database) Query(ctx context.Context, sql string) (*schema.Schema, error) {
	conn, err := d.pool.Acquire(ctx)
	if err != nil {
		return nil, d.explain(err)
	}
	defer conn.Release()
	st, err := conn.Conn().Prepare(ctx, "", wrap(sql))
	if err != nil {
		return nil, d.explain(err)
	}
	out := &schema.Schema{}
	for _, f := range st.Fields {
		var formatted string
		if err := conn.QueryRow(ctx, `SELECT format_type($1, $2)`, f.DataTypeOID, f.TypeModifier).Scan(&formatted); err != nil {
			return nil, d.explain(err)
		}
		t, _ := schema.FromPostgres(formatted)
		out.Columns = append(out.Columns, schema.Column{Name: f.Name, Type: t, Nullable: true})
	}
	return out, nil
}

// wrap makes a query a table of its own; the line ends keep a comment at its
// end from swallowing the bracket.
func wrap(sql string) string {
	return "SELECT * FROM (\n" + strings.TrimRight(strings.TrimSpace(sql), ";") + "\n) AS q"
}

// Read implements step.Tables. All rows come from one snapshot; a large table is read
// in parts, by several connections at once (see parts.go).
func (d *Database) Read(ctx context.Context, r step.TableRead) (step.Reader, error) {
	conn, tx, err := d.snapshot(ctx)
	if err != nil {
		return nil, d.explain(err)
	}
	if pages := d.pages(ctx, tx, r); pages >= fewestPages {
		return d.readParts(ctx, r, conn, tx, pages)
	}
	out := d.newReader(r, conn, tx)
	if err := out.query(ctx, ""); err != nil {
		_ = out.Close()
		return nil, d.explain(err)
	}
	return out, nil
}

// snapshot begins a transaction that sees one moment alone.
func (d *Database) snapshot(ctx context.Context) (*pgxpool.Conn, pgx.Tx, error) {
	conn, err := d.pool.Acquire(ctx)
	if err != nil {
		return nil, nil, err
	}
	tx, err := conn.BeginTx(ctx, pgx.TxOptions{IsoLevel: pgx.RepeatableRead, AccessMode: pgx.ReadOnly})
	if err != nil {
		conn.Release()
		return nil, nil, err
	}
	return conn, tx, nil
}

func (d *Database) newReader(r step.TableRead, conn *pgxpool.Conn, tx pgx.Tx) *reader {
	out := &reader{d: d, conn: conn, tx: tx, read: r, place: r.Table, seen: &atomic.Int64{}}
	if r.Query != "" {
		out.place = "query"
	}
	for _, k := range r.Keys {
		if i := r.Schema.Index(k); i >= 0 {
			out.keys = append(out.keys, i)
		}
	}
	return out
}

// query asks for the rows, those alone where a condition holds.
func (r *reader) query(ctx context.Context, condition string) (err error) {
	statement, args := selectOf(r.read, condition)
	r.rows, err = r.tx.Query(ctx, statement, args...)
	return err
}

// selectOf writes the statement of a read. Every column is cast to the type Welkin
// reads it as, so that only those wire forms come.
func selectOf(r step.TableRead, condition string) (string, []any) {
	list := make([]string, len(r.Columns))
	for i, name := range r.Columns {
		list[i] = pgx.Identifier{name}.Sanitize() + "::" + r.Schema.Columns[i].Type.Postgres()
		if r.Schema.Columns[i].Type.Kind == schema.Decimal {
			list[i] = pgx.Identifier{name}.Sanitize() + "::numeric"
		}
	}
	if r.Greatest {
		list[0] = "max(" + pgx.Identifier{r.Columns[0]}.Sanitize() + ")::" + r.Schema.Columns[0].Type.Postgres()
	}
	from := quote(r.Table)
	if r.Query != "" {
		from = "(" + wrap(r.Query) + ") AS w"
	}
	sql := "SELECT " + strings.Join(list, ", ") + " FROM " + from
	var args []any
	var conditions []string
	for _, only := range r.Only {
		args = append(args, only.Values)
		conditions = append(conditions, among(only, len(args)))
	}
	if b := r.Between; b != nil {
		for _, end := range []struct{ is, value string }{{">", b.Above}, {"<=", b.UpTo}} {
			if end.value != "" {
				args = append(args, end.value)
				conditions = append(conditions, fmt.Sprintf("%s %s $%d::text::%s", pgx.Identifier{b.Column}.Sanitize(), end.is, len(args), b.Type.Postgres()))
			}
		}
	}
	if condition != "" {
		conditions = append(conditions, condition)
	}
	if len(conditions) > 0 {
		sql += " WHERE " + strings.Join(conditions, " AND ")
	}
	if r.Limit > 0 {
		sql += fmt.Sprintf(" LIMIT %d", r.Limit)
	}
	return sql, args
}

// among compares a column with values that come as texts in a parameter. Whole
// numbers of any width are compared as they are, so that an index can be used.
func among(a step.Among, parameter int) string {
	column, typ := pgx.Identifier{a.Column}.Sanitize(), a.Type.Postgres()
	switch a.Type.Kind {
	case schema.Int:
	case schema.Decimal:
		column, typ = column+"::numeric", "numeric"
	default:
		column += "::" + typ
	}
	return fmt.Sprintf("%s = ANY($%d::text[]::%s[])", column, parameter, typ)
}

type reader struct {
	d     *Database
	conn  *pgxpool.Conn
	tx    pgx.Tx
	rows  pgx.Rows
	read  step.TableRead
	place string
	keys  []int
	seen  *atomic.Int64 // rows of all parts
	ended bool
}

// Next implements step.Reader.
func (r *reader) Next(context.Context) (step.Chunk, error) {
	if r.ended {
		return step.Chunk{}, io.EOF
	}
	s := r.read.Schema
	builders := make([]array.Builder, s.Len())
	for i, c := range s.Columns {
		builders[i] = batch.NewBuilder(c.Type)
		builders[i].Reserve(batch.Rows)
	}
	var out step.Chunk
	b := &batch.Batch{Schema: s, Origin: batch.Origin{All: r.place}}
	var bad []int32
	for b.N < batch.Rows {
		if !r.rows.Next() {
			r.ended = true
			break
		}
		seen := r.seen.Add(1)
		var fault *batch.Fault
		column := -1
		for i, raw := range r.rows.RawValues() {
			out.Bytes += int64(len(raw))
			if raw == nil {
				builders[i].AppendNull()
			} else if f := appendBinary(builders[i], s.Columns[i].Type, raw); f != nil {
				builders[i].AppendNull()
				if fault == nil {
					fault, column = f, i
				}
			}
		}
		if fault != nil {
			bad = append(bad, int32(b.N))
			out.Refused = append(out.Refused, step.Refused{Fault: fault, Column: s.Columns[column].Name, Place: r.place, Row: seen})
		}
		b.N++
		b.Origin.Row = append(b.Origin.Row, seen)
	}
	if r.ended {
		if err := r.rows.Err(); err != nil {
			return step.Chunk{}, r.d.explain(err)
		}
		if b.N == 0 {
			return step.Chunk{}, io.EOF
		}
	}
	for _, bl := range builders {
		b.Cols = append(b.Cols, bl.NewArray())
	}
	r.keyTexts(b)
	out.Seen = int64(b.N)
	for i, row := range bad {
		out.Refused[i].Names, out.Refused[i].Cells = s.Names(), b.Row(int(row))
		out.Refused[i].Key = b.Origin.Key[row]
	}
	out.Batch = dropRows(b, bad)
	return out, nil
}

// keyTexts writes each row's key as `id = 7`.
func (r *reader) keyTexts(b *batch.Batch) {
	b.Origin.Key = make([]string, b.N)
	for i := range b.N {
		texts := make([]string, len(r.keys))
		for j, k := range r.keys {
			texts[j] = b.Schema.Columns[k].Name + " = " + batch.Text(b.Cols[k], b.Schema.Columns[k].Type, i)
		}
		b.Origin.Key[i] = strings.Join(texts, ", ")
	}
}

func dropRows(b *batch.Batch, bad []int32) *batch.Batch {
	if len(bad) == 0 {
		return b
	}
	keep := make([]int32, 0, b.N)
	for i := range int32(b.N) {
		if len(bad) > 0 && bad[0] == i {
			bad = bad[1:]
			continue
		}
		keep = append(keep, i)
	}
	return b.Take(keep)
}

// Close implements step.Reader.
func (r *reader) Close() error {
	if r.rows != nil {
		r.rows.Close()
	}
	_ = r.tx.Rollback(context.Background())
	r.conn.Release()
	return nil
}
