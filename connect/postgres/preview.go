package postgres

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/jackc/pgx/v5"

	"welkin/core/batch"
	"welkin/core/step"
)

// mostPreviewed is how many rows of a preview are given one by one; all are
// counted.
const mostPreviewed = 2000

// PreviewLoad implements step.Previewer: the rows are copied into a temporary
// table and compared with the target in a transaction that may only read from
// then on, and is given up.
func (d *Database) PreviewLoad(ctx context.Context, t step.TableLoad, rows []*batch.Batch, whole bool) (*step.LoadPreview, error) {
	conn, err := d.pool.Acquire(ctx)
	if err != nil {
		return nil, d.explain(err)
	}
	l := &load{TableLoad: t, d: d, conn: conn}
	if l.tx, err = conn.Begin(ctx); err != nil {
		conn.Release()
		return nil, d.explain(err)
	}
	defer func() { _ = l.Abort(context.WithoutCancel(ctx)) }()
	out, err := l.preview(ctx, rows, whole)
	return out, d.explain(err)
}

func (l *load) preview(ctx context.Context, rows []*batch.Batch, whole bool) (*step.LoadPreview, error) {
	if _, err := l.tx.Exec(ctx, `SET LOCAL statement_timeout = '20s'`); err != nil {
		return nil, err
	}
	if err := l.openStage(ctx); err != nil {
		return nil, err
	}
	for _, b := range rows {
		if err := l.Write(ctx, b); err != nil {
			return nil, err
		}
	}
	if err := l.endCopy(); err != nil {
		return nil, err
	}
	if _, err := l.tx.Exec(ctx, `ANALYZE welkin_stage; SET TRANSACTION READ ONLY`); err != nil {
		return nil, err
	}
	out := &step.LoadPreview{Target: l.Table, Create: l.Exists == nil, Columns: l.Schema.Names(), Rows: []step.LoadedRow{}, Statements: l.told()}
	for _, r := range l.refused {
		out.Refused++
		out.Rows = append(out.Rows, step.LoadedRow{What: "refuse", Cells: r.Cells, Sentence: r.Sentence})
	}
	if err := l.classify(ctx, out); err != nil {
		return nil, err
	}
	return out, l.countDeleted(ctx, out, whole)
}

// told is what the load would tell the database, in its order.
func (l *load) told() []string {
	var out []string
	switch l.Mode {
	case step.Replace:
		out = append(out, `DELETE FROM `+l.target())
	case step.Merge:
		if l.Delete {
			out = append(out, l.deleteMissing())
		}
		if update := l.update("true"); !l.Keep && update != "" {
			out = append(out, update)
		}
		if l.NoNew {
			return out
		}
	}
	return append(out, l.insert("true"))
}

// classify tells for each staged row what would become of it.
func (l *load) classify(ctx context.Context, out *step.LoadPreview) error {
	names := l.Schema.Names()
	texts := func(list []string) []string {
		cast := make([]string, len(list))
		for i, c := range list {
			cast[i] = c + "::text"
		}
		return cast
	}
	merge := l.Mode == step.Merge
	matches := merge && l.Exists != nil
	place, join, matched := "1", "", "false"
	if merge {
		place = l.placeInKey()
	}
	columns := texts(l.staged("s.", names))
	if matches {
		join = ` LEFT JOIN LATERAL (SELECT true AS welkin_found, t.* FROM ` + l.target() + ` t WHERE ` + l.sameKey() + ` LIMIT 1) t ON true`
		matched = "t.welkin_found IS TRUE"
		var before []string
		for _, n := range names {
			before = append(before, "t."+pgx.Identifier{n}.Sanitize())
		}
		columns = append(columns, texts(before)...)
	}
	differs := "ARRAY[]::boolean[]"
	if d := l.differs(); matches && len(d) > 0 {
		differs = "ARRAY[" + strings.Join(d, ", ") + "]"
	}
	clash, err := l.clashes(ctx)
	if err != nil {
		return err
	}
	found, err := l.tx.Query(ctx, `SELECT s.place_in_key, `+matched+`, `+differs+`, `+clash+`, `+strings.Join(columns, ", ")+
		` FROM (SELECT *, `+place+` AS place_in_key FROM welkin_stage) s`+join+` ORDER BY s.n`)
	if err != nil {
		return err
	}
	defer found.Close()
	for found.Next() {
		var nth int64
		var match bool
		var differ []bool
		var clash *string
		cells := make([]*string, len(columns))
		to := []any{&nth, &match, &differ, &clash}
		for i := range cells {
			to = append(to, &cells[i])
		}
		if err := found.Scan(to...); err != nil {
			return err
		}
		r := step.LoadedRow{Cells: cells[:len(names)]}
		if match {
			r.Before = cells[len(names):]
		}
		l.decide(&r, nth, match, differ, clash)
		out.Count(r)
		if len(out.Rows) < mostPreviewed {
			out.Rows = append(out.Rows, r)
		}
	}
	return found.Err()
}

// decide says what would become of a row by the load's rules.
func (l *load) decide(r *step.LoadedRow, nth int64, match bool, differ []bool, clash *string) {
	switch {
	case nth > 1:
		r.What = "superseded"
	case match && l.Keep:
		r.What = "leave out"
	case match:
		r.What = "same"
		k := 0
		for _, c := range l.Schema.Columns {
			if slices.Contains(l.Keys, c.Name) {
				continue
			}
			if k < len(differ) && differ[k] {
				r.What, r.Changed = "change", append(r.Changed, c.Name)
			}
			k++
		}
	case l.Mode == step.Merge && l.NoNew:
		r.What = "leave out"
	case clash != nil:
		r.What, r.Sentence = "refuse", fmt.Sprintf("%s takes each %s once, and has these already", l.Table, *clash)
	default:
		r.What = "insert"
	}
}

// clashes is an expression that names the columns of which the target would have
// values twice, null where there are none: in the table, or in a row before.
func (l *load) clashes(ctx context.Context) (string, error) {
	if l.Exists == nil {
		return "NULL::text", nil
	}
	rows, err := l.tx.Query(ctx, `SELECT array_agg(a.attname::text ORDER BY k.place) FROM pg_index i CROSS JOIN LATERAL unnest(i.indkey) WITH ORDINALITY AS k(att, place)
		JOIN pg_attribute a ON a.attrelid = i.indrelid AND a.attnum = k.att WHERE i.indrelid = to_regclass($1) AND i.indisunique AND i.indpred IS NULL AND i.indexprs IS NULL GROUP BY i.indexrelid`, l.target())
	if err != nil {
		return "", err
	}
	unique, err := pgx.CollectRows(rows, pgx.RowTo[[]string])
	if err != nil {
		return "", err
	}
	var cases []string
	for _, columns := range unique {
		var there, before []string
		for _, c := range columns {
			at := l.Schema.Index(c)
			if at < 0 {
				there = nil
				break
			}
			there = append(there, fmt.Sprintf("t2.%s = s.c%d", pgx.Identifier{c}.Sanitize(), at))
			before = append(before, fmt.Sprintf("s2.c%d = s.c%d", at, at))
		}
		if len(there) == 0 {
			continue
		}
		condition := `EXISTS (SELECT 1 FROM welkin_stage s2 WHERE s2.n < s.n AND ` + strings.Join(before, " AND ") + `)`
		if l.Mode == step.Append {
			condition += ` OR EXISTS (SELECT 1 FROM ` + l.target() + ` t2 WHERE ` + strings.Join(there, " AND ") + `)`
		}
		if l.Mode == step.Merge {
			continue // its keys are told apart already
		}
		cases = append(cases, `WHEN `+condition+` THEN '`+strings.ReplaceAll(strings.Join(columns, ", "), "'", "''")+`'`)
	}
	if len(cases) == 0 {
		return "NULL::text", nil
	}
	return "CASE " + strings.Join(cases, " ") + " END", nil
}

// countDeleted counts the rows of the target that would go.
func (l *load) countDeleted(ctx context.Context, out *step.LoadPreview, whole bool) error {
	var n int64
	switch {
	case l.Exists == nil || l.Mode == step.Append || l.Mode == step.Merge && !l.Delete:
	case l.Mode == step.Replace:
		if err := l.tx.QueryRow(ctx, `SELECT count(*) FROM `+l.target()).Scan(&n); err != nil {
			return err
		}
	case !whole:
		return nil // rows that a sample has not may still come
	default:
		if err := l.tx.QueryRow(ctx, `SELECT count(*) FROM `+l.target()+` t WHERE NOT EXISTS (SELECT 1 FROM welkin_stage s WHERE `+l.sameKey()+`)`).Scan(&n); err != nil {
			return err
		}
	}
	out.Deleted = &n
	return nil
}
