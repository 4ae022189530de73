// Package expr reads, types and evaluates SQL scalar expressions over batches.
//
// The grammar is PostgreSQL's own (its parser is linked in); the meaning is
// PostgreSQL's too: precedence, three-valued logic, implicit casts and
// functions. Read parse.go (text to tree), bind.go (names and types), node.go
// (evaluation by column), then functions*.go, where the catalogue of functions
// is kept as data.
//
// What differs on purpose:
//   - A row-level failure (a cast, an overflow, a division by zero) is a
//     Problem of that row. The others are evaluated.
//   - CASE, COALESCE, AND and OR evaluate an argument only for the rows that
//     need it, always from left to right.
//   - Whole numbers have 64 bits. EXTRACT gives whole fields as int.
//   - to_date and to_timestamp read strictly; to_number takes digits, point and
//     sign alone. json is kept in the form of jsonb. There are no endless dates.
//   - Text is ordered by bytes. Decimals hold 38 digits; a quotient of decimals
//     has at least 16 of them behind the point. A timestamp without a zone that
//     meets one with a zone is taken as UTC.
//   - Regular expressions are those of Go's regexp package.
package expr

import (
	"time"

	"github.com/apache/arrow-go/v18/arrow"
	pg "github.com/pganalyze/pg_query_go/v6"

	"welkin/core/batch"
	"welkin/core/schema"
)

// Program is a bound expression, ready to run over batches of one schema. It
// may be used by several goroutines at once.
type Program struct {
	Type    schema.Type
	Columns []int // places of the columns it reads, each once
	root    node
	Text    string
	tree    *pg.Node // with columns and parameters resolved, for SQL
	own     string   // a function that PostgreSQL has not, or ""
}

// Problem is a failure at one row.
type Problem struct {
	Row int32
	*batch.Fault
}

// Env is what an evaluation gets handed in.
type Env struct {
	Now time.Time // what now() gives: the start of the epoch
}

// Eval computes the expression for every row of b. Rows with a problem hold
// null; problems come in row order, the first of each row alone.
func (p *Program) Eval(env *Env, b *batch.Batch) (arrow.Array, []Problem) {
	f := &frame{env: env, base: b, n: b.N, faults: &faults{}}
	out := p.root.eval(f)
	return out, f.faults.sorted()
}

// Column tells whether the expression is nothing but a column, and which.
func (p *Program) Column() (index int, ok bool) {
	c, ok := p.root.(*columnNode)
	if !ok {
		return 0, false
	}
	return c.index, true
}

// Error is a mistake in an expression's text.
type Error struct {
	Offset   int    // bytes from the start of the text
	Sentence string // what is wrong and what would fit
}

func (e *Error) Error() string { return e.Sentence }
