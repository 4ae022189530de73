package step

import (
	"fmt"
	"slices"
	"strings"

	"github.com/apache/arrow-go/v18/arrow"

	"welkin/core/batch"
	"welkin/core/expr"
	"welkin/core/schema"
)

var unpivotColumns = Kind{
	Name: "unpivot", Role: Work, Ports: []string{"rows"}, New: func() Settings { return &Unpivot{} },
	Help: "Makes a row of each of several columns: its header in one column, its value in another.", Example: "reading as number, header as month, value as beds",
	Words: "melt wide to long columns to rows transpose gather",
}

// Unpivot gives one row for each row and column chosen.
type Unpivot struct {
	Columns  []string     `json:"columns" jsonschema:"title=columns,description=Those that become rows; also: reading as number or reading as date for headers that are one"`
	HeaderAs string       `json:"header_as,omitempty" jsonschema:"title=header as,description=The column that holds the header; header when left out"`
	Header   *schema.Type `json:"header_type,omitempty" jsonschema:"title=header type,type=string,description=Its type; text when left out"`
	ValueAs  string       `json:"value_as,omitempty" jsonschema:"title=value as,description=The column that holds the value; value when left out"`
	Empty    string       `json:"empty,omitempty" jsonschema:"title=empty cells,enum=drop,enum=keep"`
}

// Sentence implements Settings.
func (s *Unpivot) Sentence() string {
	return fmt.Sprintf("unpivot %s: `%s`, `%s`", list(s.Columns, 4), orElse(s.HeaderAs, "header"), orElse(s.ValueAs, "value"))
}

// Bind implements Settings.
func (s *Unpivot) Bind(c *Context, in []*schema.Schema) *Bound {
	o := &unpivotOperator{columns: c.pick("columns", in[0], s.Columns), keep: s.Empty == "keep", schema: &schema.Schema{}}
	if len(s.Columns) == 0 {
		c.Problem("columns", "no column yet; name those that become rows")
	}
	if s.Empty != "" && s.Empty != "keep" && s.Empty != "drop" {
		c.Problem("empty", "empty cells are dropped or kept, not %q", s.Empty)
	}
	for i, col := range in[0].Columns {
		if !slices.Contains(o.columns, i) {
			o.schema.Columns = append(o.schema.Columns, col)
			o.kept = append(o.kept, i)
		}
	}
	header := schema.Column{Name: orElse(s.HeaderAs, "header"), Type: schema.Of(schema.Text)}
	if s.Header != nil {
		header.Type = *s.Header
	}
	value := schema.Column{Name: orElse(s.ValueAs, "value"), Nullable: o.keep}
	headers := batch.NewBuilder(header.Type)
	for _, at := range o.columns {
		col := in[0].Columns[at]
		t, ok := schema.Common(value.Type, col.Type)
		if !ok {
			c.Problem("columns", "%s is %s and others are %s; give them one type in a step before", col.Name, col.Type, value.Type)
			continue
		}
		value.Type, value.Nullable = t, value.Nullable || col.Nullable && o.keep
		if fault := batch.AppendText(headers, header.Type, strings.TrimSpace(col.Name)); fault != nil {
			c.Problem("header_type", "the header %q can't be %s: %s", col.Name, header.Type, fault.Sentence)
			headers.AppendNull()
		}
	}
	o.headers = headers.NewArray()
	o.schema.Columns = append(o.schema.Columns, header, value)
	c.distinctNames(o.schema, func(int) string { return "header_as" })
	return &Bound{Schema: o.schema, Operator: func() Operator { return o }, Uses: o.uses(in[0]), MadeOf: o.madeOf, SQL: oneSQL(func(from []string) (string, error) {
		var rows []string
		for i, at := range o.columns {
			rows = append(rows, fmt.Sprintf("(%s::%s, t.%s::%s)", expr.QuoteText(expr.SQLText(o.headers, header.Type, i)), header.Type.Postgres(), expr.QuoteName(in[0].Columns[at].Name), value.Type.Postgres()))
		}
		cols := []string{}
		for _, at := range o.kept {
			cols = append(cols, "t."+expr.QuoteName(in[0].Columns[at].Name))
		}
		cols = append(cols, "u.h AS "+expr.QuoteName(header.Name), "u.v AS "+expr.QuoteName(value.Name))
		text := fmt.Sprintf("SELECT %s FROM %s AS t CROSS JOIN LATERAL (VALUES %s) AS u(h, v)", strings.Join(cols, ", "), from[0], strings.Join(rows, ", "))
		if !o.keep {
			text += " WHERE u.v IS NOT NULL"
		}
		return text, nil
	})}
}

func (o *unpivotOperator) uses(in *schema.Schema) func(wanted []bool) [][]bool {
	return func(wanted []bool) [][]bool {
		used := marked(make([]bool, in.Len()), o.columns)
		for k, at := range o.kept {
			used[at] = wanted[k]
		}
		return [][]bool{used}
	}
}

// madeOf tells that only the last column holds values.
func (o *unpivotOperator) madeOf(column int) []int {
	if column == o.schema.Len()-1 {
		return o.columns
	}
	return nil
}

type unpivotOperator struct {
	RowWise
	columns []int
	kept    []int
	headers arrow.Array
	keep    bool
	schema  *schema.Schema
}

func (o *unpivotOperator) Push(_ int, b *batch.Batch, out Emitter) error {
	t := o.schema.Columns[o.schema.Len()-1].Type
	values := make([]arrow.Array, len(o.columns))
	bad := map[int32]bool{}
	for k, at := range o.columns {
		if values[k] = b.Cols[at]; b.Schema.Columns[at].Type == t {
			continue
		}
		col, problems, _ := expr.Cast(b, at, t)
		for _, p := range problems {
			if bad[p.Row] {
				continue
			}
			bad[p.Row] = true
			if err := out.SetAside(b, int(p.Row), b.Schema.Columns[at].Name, batch.Text(b.Cols[at], b.Schema.Columns[at].Type, int(p.Row)), p.Fault); err != nil {
				return err
			}
		}
		values[k] = col
	}
	// Rows are made in portions, so that a wide table does not become one batch.
	portion := max(batch.Rows/max(len(o.columns), 1), 1)
	for from := 0; from < b.N; from += portion {
		if err := o.portion(b, values, bad, from, min(from+portion, b.N), out); err != nil {
			return err
		}
	}
	return nil
}

func (o *unpivotOperator) portion(b *batch.Batch, values []arrow.Array, bad map[int32]bool, from, to int, out Emitter) error {
	rows := make([]int32, 0, (to-from)*len(values))
	heads := make([]int32, 0, cap(rows))
	made, dropped := 0, 0
	for i := from; i < to; i++ {
		if bad[int32(i)] {
			continue
		}
		n := 0
		for k, v := range values {
			if o.keep || v.IsValid(i) {
				rows, heads = append(rows, int32(i)), append(heads, int32(k))
				n++
			}
		}
		if n == 0 {
			dropped++
		} else {
			made += n - 1
		}
	}
	out.Made(made)
	out.Dropped(dropped)
	next := &batch.Batch{Schema: o.schema, N: len(rows), Origin: b.Origin.Take(rows)}
	for _, at := range o.kept {
		next.Cols = append(next.Cols, batch.Take(b.Cols[at], rows))
	}
	next.Cols = append(next.Cols, batch.Take(o.headers, heads), batch.GatherColumn(values, heads, rows))
	return out.Emit(next)
}
