package step

import (
	"fmt"

	"welkin/core/batch"
	"welkin/core/schema"
)

var limitRows = Kind{
	Name: "limit", Role: Work, Ports: []string{"rows"}, New: func() Settings { return &Limit{} },
	Help: "Keeps the first rows and drops the others.", Example: "the first 100 rows",
	Words: "head top first skip offset",
}

// Limit keeps rows by their place in the order in which they come.
type Limit struct {
	Rows int64 `json:"rows" jsonschema:"title=rows,description=How many stay"`
	Skip int64 `json:"skip,omitempty" jsonschema:"title=skip,description=How many are dropped before them"`
}

// Sentence implements Settings.
func (s *Limit) Sentence() string {
	if s.Skip > 0 {
		return fmt.Sprintf("%d rows behind the first %d", s.Rows, s.Skip)
	}
	return fmt.Sprintf("the first %d rows", s.Rows)
}

// Bind implements Settings.
func (s *Limit) Bind(c *Context, in []*schema.Schema) *Bound {
	if s.Rows < 0 || s.Skip < 0 {
		c.Problem("rows", "numbers of rows can't be negative")
	}
	return &Bound{Schema: in[0], Operator: func() Operator { return &limitOperator{Limit: s} }, Uses: passesOn(in[0]), SQL: oneSQL(func(from []string) (string, error) {
		return fmt.Sprintf("SELECT * FROM %s LIMIT %d OFFSET %d", from[0], s.Rows, s.Skip), nil
	})}
}

type limitOperator struct {
	*Limit
	seen int64
}

// Push implements Operator.
func (o *limitOperator) Push(_ int, b *batch.Batch, out Emitter) error {
	from := min(max(o.Skip-o.seen, 0), int64(b.N))
	to := min(max(o.Skip+o.Rows-o.seen, 0), int64(b.N))
	o.seen += int64(b.N)
	if to <= from {
		out.Dropped(b.N)
		return nil
	}
	out.Dropped(b.N - int(to-from))
	return out.Emit(b.Slice(int(from), int(to)))
}

// End implements Operator.
func (o *limitOperator) End(int, Emitter) error { return nil }
