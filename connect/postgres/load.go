package postgres

import (
	"context"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math"
	"slices"
	"strings"
	"unicode/utf8"

	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgxpool"

	"welkin/core/batch"
	"welkin/core/schema"
	"welkin/core/step"
)

// mostRefused is how many rows one load may refuse before it gives up: a target
// that refuses more is not the right one.
const mostRefused = 100_000

// load is one epoch on its way into a table: rows are copied into a staging
// table, then applied, all in one transaction, in which the table of epochs
// beside the target is written too.
type load struct {
	step.TableLoad
	d       *Database
	conn    *pgxpool.Conn
	tx      pgx.Tx
	held    *step.Result
	stage   *io.PipeWriter
	copied  chan error
	rows    int64
	refused []step.Refused
	buffer  []byte
	keys    []int
	checks  []columnCheck
	result  step.Result
}

// columnCheck is what the target's column bears.
type columnCheck struct {
	column  int
	notNull bool
	length  int
	bits    int
	to      schema.Type
	native  string
}

// Load implements step.Tables.
func (d *Database) Load(ctx context.Context, l step.TableLoad) (step.Load, error) {
	conn, err := d.pool.Acquire(ctx)
	if err != nil {
		return nil, d.explain(err)
	}
	out := &load{TableLoad: l, d: d, conn: conn}
	if out.tx, err = conn.Begin(ctx); err == nil {
		if err = out.begin(ctx); err == nil {
			if out.held != nil { // there is nothing to do, so nothing to hold
				return out, out.Abort(ctx)
			}
			return out, nil
		}
		_ = out.tx.Rollback(context.WithoutCancel(ctx))
	}
	conn.Release()
	return nil, d.explain(err)
}

func (l *load) epochs() string {
	s, _ := schemaOf(l.Table)
	return pgx.Identifier{s, "welkin_epochs"}.Sanitize()
}

func (l *load) target() string {
	s, t := schemaOf(l.Table)
	return pgx.Identifier{s, t}.Sanitize()
}

func (l *load) begin(ctx context.Context) error {
	if _, err := l.tx.Exec(ctx, `SET LOCAL statement_timeout = 0; SET LOCAL idle_in_transaction_session_timeout = 0; SET LOCAL lock_timeout = '60s'`); err != nil {
		return err
	}
	var there bool
	if err := l.tx.QueryRow(ctx, `SELECT to_regclass($1) IS NOT NULL`, l.epochs()).Scan(&there); err != nil {
		return err
	}
	if there {
		var result []byte
		err := l.tx.QueryRow(ctx, `SELECT result FROM `+l.epochs()+` WHERE pipeline = $1 AND step = $2 AND epoch = $3 AND run = $4`,
			l.Epoch.Pipeline, l.Step, l.Epoch.Number, l.Epoch.Run).Scan(&result)
		if err == nil {
			l.held = &step.Result{}
			return json.Unmarshal(result, l.held)
		}
		if !errors.Is(err, pgx.ErrNoRows) {
			return err
		}
	}
	return l.openStage(ctx)
}

// openStage makes the staging table and begins to copy into it.
func (l *load) openStage(ctx context.Context) error {
	for _, k := range l.Keys {
		l.keys = append(l.keys, l.Schema.Index(k))
	}
	l.learn()
	columns := make([]string, l.Schema.Len())
	for i, c := range l.Schema.Columns {
		columns[i] = fmt.Sprintf("c%d %s", i, c.Type.Postgres())
	}
	if _, err := l.tx.Exec(ctx, `CREATE TEMP TABLE welkin_stage (n bigint, place text, line bigint, key text, `+strings.Join(columns, ", ")+`) ON COMMIT DROP`); err != nil {
		return err
	}
	r, w := io.Pipe()
	l.stage, l.copied = w, make(chan error, 1)
	go func() {
		_, err := l.tx.Conn().PgConn().CopyFrom(ctx, r, `COPY welkin_stage FROM STDIN (FORMAT binary)`)
		_ = r.CloseWithError(err) // a failed copy must not leave the writer waiting
		l.copied <- err
	}()
	_, err := w.Write(copyHeader)
	return err
}

// learn notes what the target's columns bear.
func (l *load) learn() {
	if l.Exists == nil {
		return
	}
	names := l.Exists.Schema.Names()
	for i, c := range l.Schema.Columns {
		at := slices.Index(names, c.Name)
		if at < 0 {
			continue
		}
		n := l.Exists.Native[at]
		check := columnCheck{column: i, notNull: n.NotNull, length: n.MaxLength, to: l.Exists.Schema.Columns[at].Type, native: n.Type}
		if n.Bits < 64 {
			check.bits = n.Bits
		}
		if check.notNull || check.length > 0 || check.bits > 0 || check.to.Kind == schema.Decimal && check.to != c.Type {
			l.checks = append(l.checks, check)
		}
	}
}

// Held implements step.Load.
func (l *load) Held() *step.Result { return l.held }

// Write implements step.Load.
func (l *load) Write(_ context.Context, b *batch.Batch) error {
	bad := l.check(b)
	if len(l.refused) > mostRefused {
		return l.tooManyRefused()
	}
	buf := l.buffer[:0]
	fields := uint16(len(b.Cols) + 4)
	for i := range b.N {
		if bad[i] {
			continue
		}
		l.rows++
		buf = binary.BigEndian.AppendUint16(buf, fields)
		buf = binary.BigEndian.AppendUint64(binary.BigEndian.AppendUint32(buf, 8), uint64(l.rows))
		place, line, key := b.Origin.At(i)
		buf = append(binary.BigEndian.AppendUint32(buf, uint32(len(place))), place...)
		buf = binary.BigEndian.AppendUint64(binary.BigEndian.AppendUint32(buf, 8), uint64(line))
		buf = append(binary.BigEndian.AppendUint32(buf, uint32(len(key))), key...)
		for c, col := range b.Cols {
			buf = copyValue(buf, col, b.Schema.Columns[c].Type, i)
		}
		if len(buf) > 1<<18 {
			if _, err := l.stage.Write(buf); err != nil {
				return l.d.explain(err)
			}
			buf = buf[:0]
		}
	}
	l.buffer = buf
	_, err := l.stage.Write(buf)
	return l.d.explain(err)
}

func (l *load) tooManyRefused() error {
	return fmt.Errorf("more than %d rows don't fit %s; is it the right table?", mostRefused, l.Table)
}

func noKey(column string) *batch.Fault {
	return batch.Faultf("no key", "the key column %q is null, so the row can't be told apart", column)
}

func (l *load) nullNotAllowed(column string) *batch.Fault {
	return batch.Faultf("null not allowed", "%s takes no null in %q", l.Table, column)
}

// check finds rows that the target would refuse.
func (l *load) check(b *batch.Batch) map[int]bool {
	var bad map[int]bool
	refuse := func(i, column int, fault *batch.Fault) {
		if bad[i] {
			return
		}
		if bad == nil {
			bad = map[int]bool{}
		}
		bad[i] = true
		c := b.Schema.Columns[column]
		l.refused = append(l.refused, step.RefusedRow(b, i, c.Name, batch.Text(b.Cols[column], c.Type, i), fault))
	}
	for _, k := range l.keys {
		if b.Cols[k].NullN() == 0 {
			continue
		}
		for i := range b.N {
			if b.Cols[k].IsNull(i) {
				refuse(i, k, noKey(b.Schema.Columns[k].Name))
			}
		}
	}
	for _, c := range l.checks {
		col, name := b.Cols[c.column], b.Schema.Columns[c.column].Name
		for i := range b.N {
			if col.IsNull(i) {
				if c.notNull {
					refuse(i, c.column, l.nullNotAllowed(name))
				}
				continue
			}
			switch a := col.(type) {
			case *array.Int64:
				if v := a.Value(i); c.bits == 32 && (v > math.MaxInt32 || v < math.MinInt32) || c.bits == 16 && (v > math.MaxInt16 || v < math.MinInt16) {
					refuse(i, c.column, batch.Faultf("number too large", "%d does not fit %q, which is %s in %s", v, name, c.native, l.Table))
				}
			case *array.String:
				if v := a.Value(i); c.length > 0 && len(v) > c.length && utf8.RuneCountInString(v) > c.length {
					refuse(i, c.column, batch.Faultf("text too long", "%d characters don't fit %q, which holds %d in %s", utf8.RuneCountInString(v), name, c.length, l.Table))
				}
			case *array.Decimal128:
				if c.to.Kind == schema.Decimal {
					if _, fault := batch.FitDecimal(a.Value(i).BigInt(), b.Schema.Columns[c.column].Type.Scale, c.to); fault != nil {
						refuse(i, c.column, batch.Faultf(fault.Code, "%s; %q is %s in %s", fault.Sentence, name, c.native, l.Table))
					}
				}
			}
		}
	}
	return bad
}

// endCopy ends the stream into the staging table and waits for it.
func (l *load) endCopy() error {
	if l.stage == nil {
		return nil
	}
	_, err := l.stage.Write([]byte{0xff, 0xff})
	_ = l.stage.Close()
	l.stage = nil
	if cerr := <-l.copied; cerr != nil {
		return cerr
	}
	return err
}

// Prepare implements step.Load.
func (l *load) Prepare(ctx context.Context) (step.Result, []step.Refused, error) {
	if err := l.endCopy(); err != nil {
		return step.Result{}, nil, l.d.explain(err)
	}
	l.result = step.Result{Target: l.Table}
	if err := l.apply(ctx); err != nil {
		return step.Result{}, nil, l.d.explain(err)
	}
	l.result.Refused = int64(len(l.refused))
	return l.result, l.refused, nil
}

// Commit implements step.Load.
func (l *load) Commit(ctx context.Context) error {
	defer l.release()
	return l.d.explain(l.tx.Commit(ctx))
}

// Abort implements step.Load.
func (l *load) Abort(ctx context.Context) error {
	if l.conn == nil {
		return nil
	}
	defer l.release()
	if l.stage != nil {
		_ = l.stage.CloseWithError(errors.New("given up"))
		<-l.copied
	}
	return l.tx.Rollback(ctx)
}

func (l *load) release() {
	if l.conn != nil {
		l.conn.Release()
		l.conn = nil
	}
}

// refusal tells whether an error is the database's refusal of a row.
func refusal(err error) (*pgconn.PgError, bool) {
	var pg *pgconn.PgError
	ok := errors.As(err, &pg) && (strings.HasPrefix(pg.Code, "23") || strings.HasPrefix(pg.Code, "22"))
	return pg, ok
}
