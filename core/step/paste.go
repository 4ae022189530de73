package step

import (
	"context"
	"fmt"
	"io"
	"strings"

	"welkin/core/batch"
	"welkin/core/expr"
	"welkin/core/format"
	"welkin/core/format/csv"
	"welkin/core/schema"
)

var pastedRows = Kind{
	Name: "pasted rows", Role: Read, New: func() Settings { return &PastedRows{} },
	Help: "A small table kept in the sheet itself, typed or pasted.", Example: "class, price / a, 19.50 / b, 24.00",
	Words: "literal inline table values paste constants type in",
}

// PastedRows is a small table in the sheet: text with a header line, delimited
// as it was pasted.
type PastedRows struct {
	Rows    string       `json:"rows" jsonschema:"title=rows,description=A header line and rows; commas or tabs or semicolons between,format=rows"`
	Columns []ReadColumn `json:"columns,omitempty" jsonschema:"title=columns,description=Names and types; found from the rows when left out"`
	Nulls   []string     `json:"nulls,omitempty" jsonschema:"title=null texts,description=Texts that mean null; an empty value always does"`
}

// Sentence implements Settings.
func (s *PastedRows) Sentence() string {
	n := max(len(strings.Split(strings.TrimSpace(s.Rows), "\n"))-1, 0)
	if n == 1 {
		return "1 pasted row"
	}
	return fmt.Sprintf("%d pasted rows", n)
}

// Bind implements Settings.
func (s *PastedRows) Bind(c *Context, _ []*schema.Schema) *Bound {
	if strings.TrimSpace(s.Rows) == "" {
		c.Problem("rows", "no rows yet; paste some, the first line being the names of the columns")
		return nil
	}
	text := strings.TrimRight(s.Rows, "\n") + "\n"
	dialect := csv.Sniff([]byte(text), true).Dialect
	dialect.Header = true
	wanted := &schema.Schema{}
	for _, col := range s.Columns {
		wanted.Columns = append(wanted.Columns, schema.Column{Name: col.Name, Type: col.Type, Nullable: true})
	}
	if len(s.Columns) == 0 {
		var err error
		if wanted, err = csv.Infer([]byte(text), true, dialect); err != nil {
			c.Problem("rows", "%s", err)
			return nil
		}
	}
	p := &pasted{text, wanted, csv.Options{Dialect: dialect, Schema: wanted, Nulls: s.Nulls, Place: "pasted rows"}}
	r, err := p.Open(c, 0)
	if err != nil {
		c.Problem("rows", "%s", err)
		return nil
	}
	_ = r.Close()
	return &Bound{Schema: wanted, Source: p, SQL: oneSQL(func([]string) (string, error) { return p.sql() })}
}

type pasted struct {
	text    string
	schema  *schema.Schema
	options csv.Options
}

// Version implements Versioned: the settings say it all.
func (p *pasted) Version() string { return "" }

// Open implements Source.
func (p *pasted) Open(ctx context.Context, limit int64) (Reader, error) {
	o := p.options
	o.Limit = limit
	r, err := csv.Open(ctx, strings.NewReader(p.text), o)
	if err != nil {
		return nil, err
	}
	return &pastedReader{r}, nil
}

type pastedReader struct{ *format.Ordered }

// Next implements Reader.
func (r *pastedReader) Next(ctx context.Context) (Chunk, error) {
	got, err := r.Ordered.Next(ctx)
	if err != nil {
		return Chunk{}, err
	}
	out := Chunk{Batch: got.Batch, Seen: got.Seen}
	for _, bad := range got.Refused {
		out.Refused = append(out.Refused, Refused{Fault: bad.Fault, Column: bad.Column, Value: bad.Value, Place: "pasted rows", Row: bad.Line, Raw: strings.TrimRight(bad.Raw, "\r\n")})
	}
	return out, nil
}

// sql writes the rows as a VALUES list.
func (p *pasted) sql() (string, error) {
	ctx := context.Background()
	r, err := p.Open(ctx, 0)
	if err != nil {
		return "", err
	}
	defer func() { _ = r.Close() }()
	var batches []*batch.Batch
	for {
		chunk, err := r.Next(ctx)
		if err == io.EOF {
			break
		}
		if err != nil {
			return "", err
		}
		if len(chunk.Refused) > 0 {
			return "", noSQL("pasted rows with values that don't fit are set aside here")
		}
		batches = append(batches, chunk.Batch)
	}
	return ValuesSQL(p.schema, batches)
}

// ValuesSQL writes rows as a SELECT of constants in their types.
func ValuesSQL(s *schema.Schema, batches []*batch.Batch) (string, error) {
	names := make([]string, s.Len())
	typed := make([]string, s.Len())
	for i, c := range s.Columns {
		if c.Type.Kind == schema.Record {
			return "", noSQL("a record has no type of its own in PostgreSQL")
		}
		names[i] = expr.QuoteName(c.Name)
		typed[i] = names[i] + "::" + c.Type.Postgres() + " AS " + names[i]
	}
	var rows []string
	for _, b := range batches {
		for i := range b.N {
			cells := make([]string, s.Len())
			for k, v := range b.Cols {
				switch {
				case v.IsNull(i):
					cells[k] = "NULL::text"
				default:
					cells[k] = expr.QuoteText(expr.SQLText(v, s.Columns[k].Type, i)) + "::text"
				}
			}
			rows = append(rows, "("+strings.Join(cells, ", ")+")")
		}
	}
	tail := ""
	if len(rows) == 0 {
		rows, tail = []string{"(" + strings.TrimSuffix(strings.Repeat("NULL::text, ", s.Len()), ", ") + ")"}, " WHERE false"
	}
	return "SELECT " + strings.Join(typed, ", ") + " FROM (VALUES " + strings.Join(rows, ", ") + ") AS v(" + strings.Join(names, ", ") + ")" + tail, nil
}
