package step

import (
	"errors"
	"fmt"
	"strings"

	"welkin/core/expr"
	"welkin/core/schema"
)

// A step that has SQL gives, for the names of its inputs, one SELECT for each of
// its outputs, in their order. The names are quoted where needed and stand for
// relations whose columns are those of the input's schema. The SELECT gives the
// columns of the output, by name and in its types.
//
// What is not promised in SQL (an order of rows that no ORDER BY states) is
// promised here neither. Where a row may fail, PostgreSQL ends the statement:
// whoever runs it there falls back on the engine, which sets the row aside.

// ErrNoSQL says that a step, or a setting of it, can't run in a database.
var ErrNoSQL = errors.New("runs in Welkin's own engine")

// noSQL words why.
func noSQL(format string, args ...any) error {
	return fmt.Errorf("%w: %s", ErrNoSQL, fmt.Sprintf(format, args...))
}

// oneSQL is the SQL of a step with one output.
func oneSQL(text func(in []string) (string, error)) func([]string) ([]string, error) {
	return func(in []string) ([]string, error) {
		sql, err := text(in)
		if err != nil {
			return nil, err
		}
		return []string{sql}, nil
	}
}

// columnList writes all columns of a schema, with those in place replaced.
func columnList(s *schema.Schema, replaced map[int]string) string {
	parts := make([]string, s.Len())
	for i, c := range s.Columns {
		if parts[i] = expr.QuoteName(c.Name); replaced[i] != "" {
			parts[i] = replaced[i] + " AS " + expr.QuoteName(c.Name)
		}
	}
	if len(parts) == 0 {
		return ""
	}
	return strings.Join(parts, ", ")
}

// nameList writes some columns of a schema.
func nameList(s *schema.Schema, columns []int) string {
	parts := make([]string, len(columns))
	for i, c := range columns {
		parts[i] = expr.QuoteName(s.Columns[c].Name)
	}
	return strings.Join(parts, ", ")
}
