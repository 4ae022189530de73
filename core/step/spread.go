package step

import (
	"fmt"
	"slices"
	"strings"

	"github.com/apache/arrow-go/v18/arrow/array"

	"welkin/core/batch"
	"welkin/core/expr"
	"welkin/core/schema"
)

var spreadLists = Kind{
	Name: "spread list", Role: Work, Ports: []string{"rows"}, New: func() Settings { return &SpreadList{} },
	Help: "Makes a row of each value in a list.", Example: "channels, position as channel_no",
	Words: "explode unnest array rows nested repeat",
}

// SpreadList gives one row for each value of a list, the other columns repeated.
type SpreadList struct {
	Column   string `json:"column" jsonschema:"title=column,description=A list"`
	As       string `json:"as,omitempty" jsonschema:"title=as,description=The name of the value; the list's when left out"`
	Position string `json:"position_as,omitempty" jsonschema:"title=position as,description=A column that counts the values from 1"`
	Empty    string `json:"empty,omitempty" jsonschema:"title=empty lists,description=Whether a row without values stays with null,enum=drop,enum=keep"`
}

// Sentence implements Settings.
func (s *SpreadList) Sentence() string { return "spread `" + orElse(s.Column, "…") + "` to rows" }

// Bind implements Settings.
func (s *SpreadList) Bind(c *Context, in []*schema.Schema) *Bound {
	o := &spreadOperator{column: c.column("column", in[0], s.Column), position: s.Position != "", keep: s.Empty == "keep"}
	if o.column < 0 {
		return nil
	}
	list := in[0].Columns[o.column]
	if list.Type.Kind != schema.List {
		c.Problem("column", "%s is %s, not a list", s.Column, list.Type)
		return nil
	}
	if s.Empty != "" && s.Empty != "drop" && s.Empty != "keep" {
		c.Problem("empty", "empty lists are dropped or kept, not %q", s.Empty)
	}
	o.schema = &schema.Schema{Columns: slices.Clone(in[0].Columns)}
	o.schema.Columns[o.column] = schema.Column{Name: orElse(s.As, list.Name), Type: list.Type.Elem(), Nullable: true, From: list.From}
	if o.position {
		o.schema.Columns = append(o.schema.Columns, schema.Column{Name: s.Position, Type: schema.Of(schema.Int), Nullable: o.keep})
	}
	c.distinctNames(o.schema, func(int) string { return "as" })
	return &Bound{Schema: o.schema, Operator: func() Operator { return o }, SQL: oneSQL(func(from []string) (string, error) {
		if list.Type.Elem().Nested() {
			return "", noSQL("lists of lists or records are spread here")
		}
		kind := "JOIN"
		if o.keep {
			kind = "LEFT JOIN"
		}
		var cols []string
		for i, col := range in[0].Columns {
			value := "t." + expr.QuoteName(col.Name)
			if i == o.column {
				value = "u.v"
			}
			cols = append(cols, value+" AS "+expr.QuoteName(o.schema.Columns[i].Name))
		}
		if o.position {
			cols = append(cols, "u.n AS "+expr.QuoteName(s.Position))
		}
		return fmt.Sprintf("SELECT %s FROM %s AS t %s LATERAL unnest(t.%s) WITH ORDINALITY AS u(v, n) ON true", strings.Join(cols, ", "), from[0], kind, expr.QuoteName(list.Name)), nil
	})}
}

type spreadOperator struct {
	RowWise
	column   int
	position bool
	keep     bool
	schema   *schema.Schema
}

func (o *spreadOperator) Push(_ int, b *batch.Batch, out Emitter) error {
	list := b.Cols[o.column].(*array.List)
	values := batch.NewBuilder(o.schema.Columns[o.column].Type)
	positions := batch.NewBuilder(schema.Of(schema.Int)).(*array.Int64Builder)
	var rows []int32
	dropped, made := 0, 0
	flush := func() error {
		if len(rows) == 0 {
			return nil
		}
		next := b.Take(rows)
		next.Schema = o.schema
		next.Cols[o.column] = values.NewArray()
		if o.position {
			next.Cols = append(next.Cols, positions.NewArray())
		}
		rows = rows[:0:0]
		return out.Emit(next)
	}
	for i := range b.N {
		start, end := list.ValueOffsets(i)
		if list.IsNull(i) || start == end {
			if !o.keep {
				dropped++
				continue
			}
			rows = append(rows, int32(i))
			values.AppendNull()
			if o.position {
				positions.AppendNull()
			}
			continue
		}
		made += int(end-start) - 1
		for k := start; k < end; k++ {
			rows = append(rows, int32(i))
			batch.AppendFrom(values, list.ListValues(), int(k))
			if o.position {
				positions.Append(k - start + 1)
			}
			if len(rows) >= batch.Rows {
				if err := flush(); err != nil {
					return err
				}
			}
		}
	}
	out.Dropped(dropped)
	out.Made(made)
	return flush()
}
