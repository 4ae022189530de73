package step

import (
	"fmt"
	"slices"
	"strings"

	"welkin/core/batch"
	"welkin/core/expr"
	"welkin/core/schema"
)

var pivotRows = Kind{
	Name: "pivot", Role: Work, Ports: []string{"rows"}, New: func() Settings { return &Pivot{} },
	Help: "Makes columns of the values of one column: one row a group, one column a value.", Example: "by hut: month becomes columns of sum(beds)",
	Words: "cross tab long to wide rows to columns spread transpose",
}

// Pivot gives one row for each combination of the key columns, with a column for
// each value listed. Values that are found by reading the rows first are for
// batches only.
type Pivot struct {
	By     []string `json:"by,omitempty" jsonschema:"title=by,description=The columns that make a row"`
	Column string   `json:"column" jsonschema:"title=column,description=Its values become columns"`
	Value  string   `json:"value" jsonschema:"title=value,description=An aggregate such as sum(beds),format=sql"`
	Values []string `json:"values,omitempty" jsonschema:"title=values,description=Those that become columns; found by reading the rows once before when left out"`
	Name   string   `json:"name,omitempty" jsonschema:"title=column names,description={value} stands for the value; the value alone when left out"`
}

// maxPivot is how many columns a pivot makes at most.
const maxPivot = 1000

// Sentence implements Settings.
func (s *Pivot) Sentence() string {
	return fmt.Sprintf("pivot `%s` to columns of `%s` by %s", orElse(s.Column, "…"), orElse(s.Value, "…"), list(s.By, 4))
}

// Bind implements Settings.
func (s *Pivot) Bind(c *Context, in []*schema.Schema) *Bound {
	at := c.column("column", in[0], s.Column)
	if at < 0 {
		return nil
	}
	col := in[0].Columns[at]
	if !batch.Orderable(col.Type) || col.Type.Nested() {
		c.Problem("column", "values of %s can't become columns", col.Type)
		return nil
	}
	values := s.Values
	if len(values) == 0 && c.Distinct != nil {
		found, whole, err := c.Distinct(0, at, maxPivot+1)
		if err != nil {
			c.Problem("values", "the values of %s were not found: %s", s.Column, err)
			return nil
		}
		if !whole {
			c.Warn("values", "the columns are those of the rows read so far, and a run finds them anew; list the values to have the same columns always")
		}
		values = found
	}
	if len(values) > maxPivot {
		c.Problem("values", "%s has more than %d values and a pivot makes at most %d columns; keep fewer rows before, or list the values wanted", s.Column, maxPivot, maxPivot)
		return nil
	}
	group := &Group{By: s.By}
	for i, v := range values {
		text := expr.QuoteText(v)
		if !expr.Literal(col.Type, v) {
			c.Problem(fmt.Sprintf("values[%d]", i), "%q can't be a value of %s, which is %s", v, s.Column, col.Type)
			continue
		}
		name := v
		if s.Name != "" {
			name = strings.ReplaceAll(s.Name, "{value}", v)
		}
		group.Values = append(group.Values, Derived{Name: name, Value: fmt.Sprintf("%s FILTER (WHERE %s = %s::%s)", s.Value, expr.QuoteName(col.Name), text, col.Type.Postgres())})
	}
	if slices.Contains(c.pick("by", in[0], s.By), at) {
		c.Problem("by", "%s becomes columns and can't make rows too", s.Column)
	}
	if s.Value == "" {
		c.Problem("value", "no value yet; give an aggregate such as sum(nights)")
	}
	if c.Failed() {
		return nil
	}
	inner := *c
	inner.problems = nil
	bound := group.Bind(&inner, in)
	for _, p := range inner.problems {
		if p.Path == "by" && len(group.Values) == 0 {
			continue // no values are known yet
		}
		c.problems = append(c.problems, Problem{Path: "value", Sentence: p.Sentence, Warning: p.Warning})
		break
	}
	return bound
}
