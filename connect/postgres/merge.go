package postgres

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"github.com/jackc/pgx/v5"

	"welkin/core/batch"
	"welkin/core/schema"
	"welkin/core/step"
)

// apply brings the staged rows into the target and writes the epoch down, all
// within the load's transaction.
func (l *load) apply(ctx context.Context) error {
	if err := l.makeTarget(ctx); err != nil {
		return err
	}
	// Others may read the table meanwhile, but not write it: the counts hold.
	if _, err := l.tx.Exec(ctx, `LOCK TABLE `+l.target()+` IN SHARE ROW EXCLUSIVE MODE`); err != nil {
		return err
	}
	if err := l.tx.QueryRow(ctx, `SELECT count(*) FROM `+l.target()).Scan(&l.result.Before); err != nil {
		return err
	}
	if _, err := l.tx.Exec(ctx, `SET CONSTRAINTS ALL IMMEDIATE; ANALYZE welkin_stage`); err != nil {
		return err
	}
	if l.Mode == step.Replace {
		tag, err := l.tx.Exec(ctx, `DELETE FROM `+l.target())
		if err != nil {
			return err
		}
		l.result.Deleted = tag.RowsAffected()
	}
	if l.Mode == step.Merge {
		if err := l.supersede(ctx); err != nil {
			return err
		}
		if l.Delete {
			tag, err := l.tx.Exec(ctx, l.deleteMissing())
			if err != nil {
				return err
			}
			l.result.Deleted = tag.RowsAffected()
		}
	}
	if l.rows > 0 {
		if err := l.applyRange(ctx, 1, l.rows); err != nil {
			return err
		}
	}
	if err := l.tx.QueryRow(ctx, `SELECT count(*) FROM `+l.target()).Scan(&l.result.After); err != nil {
		return err
	}
	return l.writeEpoch(ctx)
}

// makeTarget makes schema and table when they are not there, and the table of
// epochs.
func (l *load) makeTarget(ctx context.Context) error {
	s, _ := schemaOf(l.Table)
	if _, err := l.tx.Exec(ctx, `SELECT pg_advisory_xact_lock(hashtext('welkin_epochs'))`); err != nil {
		return err
	}
	var there bool
	if err := l.tx.QueryRow(ctx, `SELECT EXISTS (SELECT 1 FROM pg_namespace WHERE nspname = $1)`, s).Scan(&there); err != nil {
		return err
	}
	if !there {
		if _, err := l.tx.Exec(ctx, `CREATE SCHEMA `+(pgx.Identifier{s}).Sanitize()); err != nil {
			return err
		}
	}
	if l.Exists == nil {
		columns := make([]string, 0, l.Schema.Len()+1)
		for _, c := range l.Schema.Columns {
			columns = append(columns, pgx.Identifier{c.Name}.Sanitize()+" "+c.Type.Postgres())
		}
		if len(l.Keys) > 0 {
			columns = append(columns, "PRIMARY KEY ("+strings.Join(quoteAll(l.Keys), ", ")+")")
		}
		if _, err := l.tx.Exec(ctx, `CREATE TABLE `+l.target()+` (`+strings.Join(columns, ", ")+`)`); err != nil {
			return err
		}
		l.result.Created = true
	}
	if err := l.tx.QueryRow(ctx, `SELECT to_regclass($1) IS NOT NULL`, l.epochs()).Scan(&there); err != nil || there {
		return err
	}
	_, err := l.tx.Exec(ctx, `CREATE TABLE `+l.epochs()+` (pipeline text, step text, epoch bigint NOT NULL, run text NOT NULL, result jsonb NOT NULL,
		committed_at timestamptz NOT NULL DEFAULT now(), PRIMARY KEY (pipeline, step))`)
	return err
}

func (l *load) writeEpoch(ctx context.Context) error {
	l.result.Refused = int64(len(l.refused))
	text, err := json.Marshal(l.result)
	if err != nil {
		return err
	}
	_, err = l.tx.Exec(ctx, `INSERT INTO `+l.epochs()+` (pipeline, step, epoch, run, result) VALUES ($1, $2, $3, $4, $5)
		ON CONFLICT (pipeline, step) DO UPDATE SET epoch = excluded.epoch, run = excluded.run, result = excluded.result, committed_at = now()`,
		l.Epoch.Pipeline, l.Step, l.Epoch.Number, l.Epoch.Run, text)
	return err
}

// staged lists the staging columns of the given columns.
func (l *load) staged(prefix string, names []string) []string {
	out := make([]string, len(names))
	for i, n := range names {
		out[i] = fmt.Sprintf("%sc%d", prefix, l.Schema.Index(n))
	}
	return out
}

func (l *load) sameKey() string {
	var on []string
	for i, c := range l.staged("s.", l.Keys) {
		on = append(on, "t."+pgx.Identifier{l.Keys[i]}.Sanitize()+" = "+c)
	}
	return strings.Join(on, " AND ")
}

// placeInKey numbers the staged rows of one key, 1 being the one that stays.
func (l *load) placeInKey() string {
	order := "n DESC"
	if l.OrderBy != "" {
		order = fmt.Sprintf("c%d DESC NULLS LAST, n DESC", l.Schema.Index(l.OrderBy))
	}
	return `row_number() OVER (PARTITION BY ` + strings.Join(l.staged("", l.Keys), ", ") + ` ORDER BY ` + order + `)`
}

// supersede removes all but the last row of each key from the staging table.
func (l *load) supersede(ctx context.Context) error {
	tag, err := l.tx.Exec(ctx, `DELETE FROM welkin_stage WHERE n IN (SELECT n FROM (SELECT n, `+l.placeInKey()+` AS place FROM welkin_stage) x WHERE place > 1)`)
	l.result.Superseded = tag.RowsAffected()
	return err
}

// applyRange applies the staged rows from..to. When the database refuses one of
// them, the range is halved until that row is found, so that only it is set
// aside.
func (l *load) applyRange(ctx context.Context, from, to int64) error {
	before := l.result
	err := pgx.BeginFunc(ctx, l.tx, func(tx pgx.Tx) error { return l.statements(ctx, tx, from, to) })
	pg, refused := refusal(err)
	if !refused {
		return err
	}
	l.result = before
	if from == to {
		return l.refuseStaged(ctx, from, batch.Faultf("refused by the database", "%s", strings.TrimSpace(pg.Message+" "+pg.Detail)), pg.ColumnName)
	}
	if len(l.refused) > mostRefused {
		return fmt.Errorf("more than %d rows are refused by %s; is it the right table?", mostRefused, l.Table)
	}
	middle := from + (to-from)/2
	if err := l.applyRange(ctx, from, middle); err != nil {
		return err
	}
	return l.applyRange(ctx, middle+1, to)
}

func (l *load) statements(ctx context.Context, tx pgx.Tx, from, to int64) error {
	within := fmt.Sprintf("s.n BETWEEN %d AND %d", from, to)
	if l.Mode == step.Merge {
		var matched, total int64
		if err := tx.QueryRow(ctx, `SELECT count(*), count(*) FILTER (WHERE EXISTS (SELECT 1 FROM `+l.target()+` t WHERE `+l.sameKey()+`)) FROM welkin_stage s WHERE `+within).Scan(&total, &matched); err != nil {
			return err
		}
		update := l.update(within)
		switch {
		case l.Keep:
			l.result.LeftOut += matched
		case update == "":
			l.result.Unchanged += matched
		default:
			tag, err := tx.Exec(ctx, update)
			if err != nil {
				return err
			}
			l.result.Updated += tag.RowsAffected()
			l.result.Unchanged += matched - tag.RowsAffected()
		}
		if l.NoNew {
			l.result.LeftOut += total - matched
			return nil
		}
	}
	tag, err := tx.Exec(ctx, l.insert(within))
	l.result.Inserted += tag.RowsAffected()
	return err
}

// insert is the statement that adds staged rows.
func (l *load) insert(within string) string {
	names := l.Schema.Names()
	text := `INSERT INTO ` + l.target() + ` (` + strings.Join(quoteAll(names), ", ") + `) SELECT ` + strings.Join(l.staged("s.", names), ", ") + ` FROM welkin_stage s WHERE ` + within
	if l.Mode == step.Merge {
		text += ` AND NOT EXISTS (SELECT 1 FROM ` + l.target() + ` t WHERE ` + l.sameKey() + `)`
	}
	return text + ` ORDER BY s.n`
}

// update is the statement that changes rows which match and differ; "" when there
// is nothing but keys.
func (l *load) update(within string) string {
	var set []string
	for i, name := range l.Schema.Names() {
		if !slices.Contains(l.Keys, name) {
			set = append(set, fmt.Sprintf("%s = s.c%d", pgx.Identifier{name}.Sanitize(), i))
		}
	}
	if len(set) == 0 {
		return ""
	}
	return `UPDATE ` + l.target() + ` t SET ` + strings.Join(set, ", ") + ` FROM welkin_stage s WHERE ` + within + ` AND ` + l.sameKey() + ` AND (` + strings.Join(l.differs(), " OR ") + `)`
}

// differs are the conditions under which a column that is no key would change.
func (l *load) differs() []string {
	var out []string
	for i, c := range l.Schema.Columns {
		if slices.Contains(l.Keys, c.Name) {
			continue
		}
		t, s := "t."+pgx.Identifier{c.Name}.Sanitize(), fmt.Sprintf("s.c%d", i)
		if c.Type.Kind == schema.JSON {
			t, s = t+"::text", s+"::text"
		}
		out = append(out, t+" IS DISTINCT FROM "+s)
	}
	return out
}

// deleteMissing is the statement that takes out what no staged row matches.
func (l *load) deleteMissing() string {
	return `DELETE FROM ` + l.target() + ` t WHERE NOT EXISTS (SELECT 1 FROM welkin_stage s WHERE ` + l.sameKey() + `)`
}

// refuseStaged takes a row the database refused out of the staging table.
func (l *load) refuseStaged(ctx context.Context, n int64, fault *batch.Fault, column string) error {
	names := l.Schema.Names()
	list := l.staged("", names)
	for i := range list {
		list[i] += "::text"
	}
	r := step.Refused{Fault: fault, Column: column, Names: names, Cells: make([]*string, len(names))}
	to := []any{&r.Place, &r.Row, &r.Key}
	for i := range names {
		to = append(to, &r.Cells[i])
	}
	if err := l.tx.QueryRow(ctx, `DELETE FROM welkin_stage WHERE n = $1 RETURNING place, line, key, `+strings.Join(list, ", "), n).Scan(to...); err != nil {
		return err
	}
	l.refused = append(l.refused, r)
	return nil
}
