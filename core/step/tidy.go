package step

import (
	"fmt"
	"slices"

	"welkin/core/batch"
	"welkin/core/expr"
	"welkin/core/match"
	"welkin/core/schema"
)

var tidyNames = Kind{
	Name: "tidy names", Role: Work, Ports: []string{"rows"}, New: func() Settings { return &TidyNames{} },
	Help: "Gives columns plain names: small letters, no accents, one underscore for blanks and punctuation.", Example: "\"Guest Name\" becomes guest_name",
	Words: "rename clean headers columns snake case",
}

// TidyNames renames columns: lower case, blanks and punctuation to one
// underscore, accents folded, a leading digit prefixed, collisions numbered.
type TidyNames struct {
	Columns []string `json:"columns,omitempty" jsonschema:"title=columns,description=Those to be renamed; all when left out"`
}

// Sentence implements Settings.
func (s *TidyNames) Sentence() string {
	if len(s.Columns) == 0 {
		return "tidy all names"
	}
	return "tidy the names of " + list(s.Columns, 4)
}

// Bind implements Settings.
func (s *TidyNames) Bind(c *Context, in []*schema.Schema) *Bound {
	chosen := placesAll(in[0])
	if len(s.Columns) > 0 {
		chosen = c.pick("columns", in[0], s.Columns)
	}
	out := &schema.Schema{Columns: slices.Clone(in[0].Columns)}
	used := map[string]bool{}
	for i, col := range out.Columns {
		if !slices.Contains(chosen, i) {
			used[col.Name] = true
		}
	}
	replaced := map[int]string{}
	for _, i := range chosen {
		plain := orElse(match.TidyName(out.Columns[i].Name), fmt.Sprintf("column_%d", i+1))
		name := plain
		for n := 2; used[name]; n++ {
			name = fmt.Sprintf("%s_%d", plain, n)
		}
		used[name] = true
		replaced[i] = expr.QuoteName(out.Columns[i].Name)
		out.Columns[i].Name = name
	}
	return &Bound{Schema: out, Carries: carriesAll, Operator: func() Operator { return &renameOperator{schema: out} }, SQL: oneSQL(func(from []string) (string, error) {
		return "SELECT " + columnList(out, replaced) + " FROM " + from[0], nil
	})}
}

// renameOperator gives rows other names for their columns.
type renameOperator struct {
	RowWise
	schema *schema.Schema
}

func (o *renameOperator) Push(_ int, b *batch.Batch, out Emitter) error {
	next := *b
	next.Schema = o.schema
	return out.Emit(&next)
}
