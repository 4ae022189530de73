package store

import (
	"context"

	"github.com/jackc/pgx/v5"

	"welkin/core/batch"
	"welkin/core/engine"
	"welkin/core/step"
)

// SetAside is a row that could not be used.
type SetAside struct {
	N        int64     `db:"n" json:"n"`
	Step     string    `db:"step" json:"step"`
	Code     string    `db:"code" json:"code" doc:"The reason, the same for like cases."`
	Sentence string    `db:"sentence" json:"sentence"`
	Column   string    `db:"column_name" json:"column"`
	Value    string    `db:"value" json:"value"`
	Place    string    `db:"place" json:"place" doc:"File or table."`
	Line     int64     `db:"line" json:"line"`
	Key      string    `db:"row_key" json:"key"`
	Names    []string  `db:"names" json:"names"`
	Cells    []*string `db:"cells" json:"cells" doc:"The row as it entered the step; null is an absent value."`
	Raw      string    `db:"raw" json:"raw" doc:"The record as it stood in its file."`
	Personal []string  `db:"personal" json:"personal,omitempty" doc:"Columns whose values are personal; hidden from people below the role builder."`
}

// SetAsideOf gives the n-th row set aside as it is kept.
func SetAsideOf(n int64, r engine.SetAsideRow) SetAside {
	return SetAside{N: n, Step: r.Step, Code: r.Code, Sentence: r.Sentence, Column: r.Column, Value: r.Value,
		Place: r.Place, Line: r.Row, Key: r.Key, Names: r.Names, Cells: r.Cells, Raw: r.Raw, Personal: r.Personal}
}

// Hidden gives the row without its personal values.
func (r SetAside) Hidden() SetAside {
	return SetAsideOf(r.N, engine.SetAsideRow{Step: r.Step, Personal: r.Personal, Refused: step.Refused{Fault: &batch.Fault{Code: r.Code, Sentence: r.Sentence},
		Column: r.Column, Value: r.Value, Place: r.Place, Row: r.Line, Key: r.Key, Names: r.Names, Cells: r.Cells, Raw: r.Raw}}.Hidden())
}

const setAsideColumns = `n, step, code, sentence, column_name, value, place, line, row_key, names, cells, raw, personal`

// AddSetAside keeps rows.
func (s *Store) AddSetAside(ctx context.Context, run int64, rows []engine.SetAsideRow) error {
	_, err := s.Pool.CopyFrom(ctx, pgx.Identifier{"set_aside"},
		[]string{"run_id", "step", "code", "sentence", "column_name", "value", "place", "line", "row_key", "names", "cells", "raw", "personal"},
		pgx.CopyFromSlice(len(rows), func(i int) ([]any, error) {
			r := rows[i]
			values := []any{run, r.Step, r.Code, r.Sentence, r.Column, r.Value, r.Place, r.Row, r.Key, r.Names, r.Cells, r.Raw, r.Personal}
			for k, v := range values {
				if text, ok := v.(string); ok {
					values[k] = withoutNul(text)
				}
			}
			return values, nil
		}))
	return err
}

// withoutNul leaves out the one character that PostgreSQL can't hold in text.
func withoutNul(s string) string {
	for i := range len(s) {
		if s[i] == 0 {
			clean := make([]byte, 0, len(s))
			for _, c := range []byte(s) {
				if c != 0 {
					clean = append(clean, c)
				}
			}
			return string(clean)
		}
	}
	return s
}

// ClearSetAside forgets the rows of an attempt that is made again.
func (s *Store) ClearSetAside(ctx context.Context, run int64) error {
	_, err := s.Pool.Exec(ctx, `DELETE FROM set_aside WHERE run_id = $1`, run)
	return err
}

// SetAsideFilter picks rows of a run.
type SetAsideFilter struct {
	Step  string
	Code  string
	After int64
	Limit int
}

// SetAsideRows gives a page of rows in the order in which they were set aside.
func (s *Store) SetAsideRows(ctx context.Context, run int64, f SetAsideFilter) ([]SetAside, error) {
	return many[SetAside](s.Pool.Query(ctx, `SELECT `+setAsideColumns+` FROM set_aside WHERE run_id = $1 AND n > $2
		AND ($3 = '' OR step = $3) AND ($4 = '' OR code = $4) ORDER BY n LIMIT $5`, run, f.After, f.Step, f.Code, f.Limit))
}

// Reason counts rows of a step with the same reason.
type Reason struct {
	Step   string `db:"step" json:"step"`
	Code   string `db:"code" json:"code"`
	Column string `db:"column_name" json:"column"`
	Rows   int64  `db:"rows" json:"rows"`
	Sample string `db:"sample" json:"sample" doc:"The sentence of one of them."`
	First  int64  `db:"first" json:"-"` // the n of that one
}

// Reasons groups a run's rows, the most frequent first.
func (s *Store) Reasons(ctx context.Context, run int64) ([]Reason, error) {
	return many[Reason](s.Pool.Query(ctx, `SELECT step, code, column_name, count(*) AS rows, min(n) AS first, (array_agg(sentence ORDER BY n))[1] AS sample
		FROM set_aside WHERE run_id = $1 GROUP BY 1, 2, 3 ORDER BY 4 DESC, 1, 2`, run))
}
