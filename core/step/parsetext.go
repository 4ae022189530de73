package step

import (
	"slices"

	"github.com/apache/arrow-go/v18/arrow/array"

	"welkin/core/batch"
	"welkin/core/expr"
	"welkin/core/format/csv"
	"welkin/core/schema"
)

var parseText = Kind{
	Name: "parse text", Role: Work, Ports: []string{"rows"}, New: func() Settings { return &ParseText{} },
	Help: "Reads JSON or delimited text that stands in a column.", Example: "payload as record{box text, watts int}",
	Words: "json csv decode deserialize payload message body",
}

// ParseText reads a text column as JSON of a type, or as one line of delimited
// text into columns.
type ParseText struct {
	Column    string       `json:"column" jsonschema:"title=column"`
	As        string       `json:"as,omitempty" jsonschema:"title=reads as,enum=json,enum=csv"`
	Type      *schema.Type `json:"type,omitempty" jsonschema:"title=type,type=string,description=For JSON: such as record{box text and watts int} or list<int>; json when left out"`
	Into      []ReadColumn `json:"into,omitempty" jsonschema:"title=into,description=For delimited text: the columns in their order"`
	Delimiter string       `json:"delimiter,omitempty" jsonschema:"title=delimiter,description=For delimited text; a comma when left out"`
	Bad       string       `json:"bad,omitempty" jsonschema:"title=where it does not fit,enum=set aside,enum=use null"`
}

// Sentence implements Settings.
func (s *ParseText) Sentence() string {
	return "read `" + orElse(s.Column, "…") + "` as " + orElse(s.As, "json")
}

// Bind implements Settings.
func (s *ParseText) Bind(c *Context, in []*schema.Schema) *Bound {
	o := &parseOperator{column: c.column("column", in[0], s.Column), useNull: s.Bad == useNull}
	if o.column < 0 {
		return nil
	}
	col := in[0].Columns[o.column]
	if col.Type.Kind != schema.Text && col.Type.Kind != schema.JSON {
		c.Problem("column", "%s is %s; only text is parsed", s.Column, col.Type)
		return nil
	}
	o.schema = &schema.Schema{Columns: slices.Clone(in[0].Columns)}
	switch orElse(s.As, "json") {
	case "json":
		o.to = schema.Of(schema.JSON)
		if s.Type != nil {
			o.to = *s.Type
		}
		col.Type, col.Nullable = o.to, true
		o.schema.Columns[o.column] = col
	case "csv":
		if len(s.Into) == 0 {
			c.Problem("into", "the columns have no names yet")
		}
		if len(s.Delimiter) > 1 || s.Delimiter == `"` {
			c.Problem("delimiter", "the delimiter is one character and no quote")
			return nil
		}
		o.delimiter = orElse(s.Delimiter, ",")[0]
		for _, into := range s.Into {
			o.into = append(o.into, schema.Column{Name: into.Name, Type: into.Type, Nullable: true})
		}
		o.schema.Columns = append(o.schema.Columns, o.into...)
		c.distinctNames(o.schema, func(int) string { return "into" })
	default:
		c.Problem("as", "text is read as json or csv, not %q", s.As)
	}
	return &Bound{Schema: o.schema, Operator: func() Operator { return o }, SQL: oneSQL(func(from []string) (string, error) {
		if o.to.Kind != schema.JSON || o.useNull {
			return "", noSQL("text is read into records, lists and columns here")
		}
		return "SELECT " + columnList(in[0], map[int]string{o.column: expr.QuoteName(col.Name) + "::jsonb"}) + " FROM " + from[0], nil
	})}
}

type parseOperator struct {
	RowWise
	column    int
	to        schema.Type // for JSON
	into      []schema.Column
	delimiter byte
	useNull   bool
	schema    *schema.Schema
}

func (o *parseOperator) Push(_ int, b *batch.Batch, out Emitter) error {
	in := b.Cols[o.column].(*array.String)
	targets := o.into
	if len(targets) == 0 {
		targets = []schema.Column{{Type: o.to}}
	}
	builders := make([]array.Builder, len(targets))
	for i, t := range targets {
		builders[i] = batch.NewBuilder(t.Type)
	}
	var bad map[int32]bool
	for i := range b.N {
		var fault *batch.Fault
		if in.IsValid(i) {
			if fault = o.read(in.Value(i), targets, builders); fault != nil && !o.useNull {
				if bad == nil {
					bad = map[int32]bool{}
				}
				bad[int32(i)] = true
				if err := out.SetAside(b, i, b.Schema.Columns[o.column].Name, in.Value(i), fault); err != nil {
					return err
				}
			}
		}
		for k, to := range builders {
			if to.Len() > i { // a line that failed half way leaves no value
				if fault != nil {
					builders[k] = dropLast(to, targets[k].Type)
					builders[k].AppendNull()
				}
				continue
			}
			to.AppendNull()
		}
	}
	next := &batch.Batch{Schema: o.schema, N: b.N, Origin: b.Origin, Cols: slices.Clone(b.Cols)}
	if len(o.into) == 0 {
		next.Cols[o.column] = builders[0].NewArray()
	} else {
		for _, to := range builders {
			next.Cols = append(next.Cols, to.NewArray())
		}
	}
	return out.Emit(without(next, bad))
}

// dropLast gives a builder of all but the last value.
func dropLast(b array.Builder, t schema.Type) array.Builder {
	a := b.NewArray()
	out := batch.NewBuilder(t)
	for i := range a.Len() - 1 {
		batch.AppendFrom(out, a, i)
	}
	return out
}

func (o *parseOperator) read(text string, targets []schema.Column, to []array.Builder) *batch.Fault {
	if len(o.into) == 0 {
		v, fault := batch.ParseJSON(text)
		if fault != nil {
			return fault
		}
		return batch.AppendJSON(to[0], o.to, v)
	}
	values, fault := csv.Line(text, o.delimiter)
	if fault != nil {
		return fault
	}
	if len(values) != len(targets) {
		return batch.Faultf("wrong number of values", "the text has %d values where %d are expected", len(values), len(targets))
	}
	for k, v := range values {
		if v == "" {
			to[k].AppendNull()
		} else if fault := batch.AppendText(to[k], targets[k].Type, v); fault != nil {
			return fault
		}
	}
	return nil
}
