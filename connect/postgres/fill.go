package postgres

import (
	"context"
	"fmt"
	"math"
	"strings"

	"github.com/jackc/pgx/v5"

	"welkin/core/batch"
	"welkin/core/schema"
	"welkin/core/step"
)

var (
	_ step.Filler    = (*load)(nil)
	_ step.Explainer = (*Database)(nil)
)

// Fill implements step.Filler: the staging table is filled by a statement
// instead of a copy, and what Write checks row by row is looked for in it.
func (l *load) Fill(ctx context.Context, f step.Fill) ([]int64, error) {
	if err := l.endCopy(); err != nil {
		return nil, l.d.explain(err)
	}
	columns, values := make([]string, len(f.Columns)), make([]string, len(f.Columns))
	for i, name := range f.Columns {
		columns[i], values[i] = fmt.Sprintf("c%d", i), pgx.Identifier{name}.Sanitize()
	}
	with := append([]string{}, f.With...)
	with = append(with, "welkin_filled AS (INSERT INTO welkin_stage (n, place, line, key, "+strings.Join(columns, ", ")+") SELECT row_number() OVER (), '', 0, '', "+strings.Join(values, ", ")+" FROM "+f.From+" RETURNING 1)")
	counted := []string{"(SELECT count(*) FROM welkin_filled)"}
	for _, relation := range f.Count {
		counted = append(counted, "(SELECT count(*) FROM "+relation+")")
	}
	var counts []int64
	err := l.tx.QueryRow(ctx, "WITH "+strings.Join(with, ",\n")+"\nSELECT ARRAY["+strings.Join(counted, ", ")+"]", pgx.QueryExecModeSimpleProtocol).Scan(&counts)
	if err != nil {
		if _, isRow := refusal(err); isRow {
			return nil, fmt.Errorf("%w: %w", step.ErrRow, l.d.explain(err))
		}
		return nil, l.d.explain(err)
	}
	l.rows = counts[0]
	return counts[1:], l.d.explain(l.refuseUnfit(ctx))
}

// refuseUnfit takes the rows out of the staging table that the target would
// refuse; it is check for rows that are there already.
func (l *load) refuseUnfit(ctx context.Context) error {
	for _, k := range l.keys {
		name := l.Schema.Columns[k].Name
		if err := l.refuseWhere(ctx, fmt.Sprintf("c%d IS NULL", k), name, noKey(name)); err != nil {
			return err
		}
	}
	for _, c := range l.checks {
		col, name, at := l.Schema.Columns[c.column], l.Schema.Columns[c.column].Name, fmt.Sprintf("c%d", c.column)
		if c.notNull {
			if err := l.refuseWhere(ctx, at+" IS NULL", name, l.nullNotAllowed(name)); err != nil {
				return err
			}
		}
		condition, fault := "", (*batch.Fault)(nil)
		switch {
		case col.Type.Kind == schema.Int && (c.bits == 16 || c.bits == 32):
			most := int64(math.MaxInt32)
			if c.bits == 16 {
				most = math.MaxInt16
			}
			condition = fmt.Sprintf("%s NOT BETWEEN %d AND %d", at, -most-1, most)
			fault = batch.Faultf("number too large", "the number does not fit %q, which is %s in %s", name, c.native, l.Table)
		case col.Type.Kind == schema.Text && c.length > 0:
			condition = fmt.Sprintf("char_length(%s) > %d", at, c.length)
			fault = batch.Faultf("text too long", "the text does not fit %q, which holds %d characters in %s", name, c.length, l.Table)
		case col.Type.Kind == schema.Decimal && c.to.Kind == schema.Decimal:
			condition = fmt.Sprintf("abs(round(%s, %d)) >= 10::numeric ^ %d", at, c.to.Scale, c.to.Precision-c.to.Scale)
			fault = batch.Faultf("number too large", "the number does not fit %q, which is %s in %s", name, c.native, l.Table)
		default:
			continue
		}
		if err := l.refuseWhere(ctx, condition, name, fault); err != nil {
			return err
		}
	}
	return nil
}

func (l *load) refuseWhere(ctx context.Context, condition, column string, fault *batch.Fault) error {
	rows, err := l.tx.Query(ctx, fmt.Sprintf("SELECT n FROM welkin_stage WHERE %s ORDER BY n LIMIT %d", condition, mostRefused+1-len(l.refused)))
	if err != nil {
		return err
	}
	numbers, err := pgx.CollectRows(rows, pgx.RowTo[int64])
	if err != nil {
		return err
	}
	if len(l.refused)+len(numbers) > mostRefused {
		return l.tooManyRefused()
	}
	for _, n := range numbers {
		if err := l.refuseStaged(ctx, n, fault, column); err != nil {
			return err
		}
	}
	return nil
}

// Explain implements step.Explainer.
func (d *Database) Explain(ctx context.Context, sql string) (string, error) {
	var lines []string
	err := pgx.BeginTxFunc(ctx, d.pool, pgx.TxOptions{AccessMode: pgx.ReadOnly}, func(tx pgx.Tx) error {
		rows, err := tx.Query(ctx, "EXPLAIN "+sql, pgx.QueryExecModeSimpleProtocol)
		if err != nil {
			return err
		}
		lines, err = pgx.CollectRows(rows, pgx.RowTo[string])
		return err
	})
	return strings.Join(lines, "\n"), d.explain(err)
}
