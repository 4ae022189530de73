package step

import (
	"context"
	"errors"
	"io"
	"slices"
	"strings"

	"welkin/core/batch"
	"welkin/core/format"
	"welkin/core/format/avro"
	"welkin/core/format/csv"
	"welkin/core/format/excel"
	"welkin/core/format/fixed"
	"welkin/core/format/form"
	"welkin/core/format/jsondoc"
	"welkin/core/format/jsonl"
	"welkin/core/format/parquet"
	"welkin/core/schema"
)

var writeFile = Kind{
	Name: "write file", Role: Write, Ports: []string{"rows"}, New: func() Settings { return &WriteFile{} },
	Help: "Writes rows as a CSV, JSON, Parquet, Avro, Excel or fixed-width file that appears under its name only when it is whole.", Example: "stays_{date}.csv in outgoing",
	Words: "csv target save export output",
}

// Format of Parquet files; the others are those of a program step.
const Parquet = "parquet"

// WriteFile writes a file.
type WriteFile struct {
	Connection string       `json:"connection" jsonschema:"title=connection,format=files"`
	File       string       `json:"file" jsonschema:"title=file,description=The name; {date} and {run} are filled in"`
	Format     string       `json:"format,omitempty" jsonschema:"title=format,enum=csv,enum=json lines,enum=json,enum=parquet,enum=avro,enum=excel,enum=fixed width"`
	Compress   string       `json:"compress,omitempty" jsonschema:"title=compressed with,default=nothing,enum=gzip,enum=zstd"`
	Layout     string       `json:"layout,omitempty" jsonschema:"title=layout,description=A saved record layout for text of fixed width,format=layout"`
	Record     string       `json:"record,omitempty" jsonschema:"title=record type,description=Of a layout with several; otherwise the column record names each row's"`
	Dialect    *csv.Dialect `json:"dialect,omitempty" jsonschema:"title=dialect,description=Comma and quotes in UTF-8 with a header when left out"`
	Null       string       `json:"null,omitempty" jsonschema:"title=null as,description=What stands for null; nothing when left out"`
}

// Sentence implements Settings.
func (s *WriteFile) Sentence() string {
	return "write `" + orElse(s.File, "…") + "` in " + orElse(s.Connection, "…")
}

// Bind implements Settings.
func (s *WriteFile) Bind(c *Context, in []*schema.Schema) *Bound {
	if s.Connection == "" {
		c.Problem("connection", "no connection yet; choose one that holds files")
	}
	if s.File == "" {
		c.Problem("file", "the file has no name yet")
	}
	if strings.ContainsAny(s.File, "*?") {
		c.Problem("file", "a file that is written can't have * or ? in its name")
	}
	if s.Format != "" && (!slices.Contains(form.Names(), s.Format) || s.Format == form.XML) {
		c.Problem("format", "files are written as csv, json lines, json, parquet, avro, excel or fixed width, not as %q", s.Format)
	}
	if s.Compress != "" && s.Compress != format.Gzip && s.Compress != format.Zstd {
		c.Problem("compress", "files are compressed with gzip or zstd, not with %q", s.Compress)
	}
	if s.Compress != "" && (s.Format == Parquet || s.Format == form.Avro || s.Format == form.Excel) {
		c.Problem("compress", "%s is compressed in itself", s.Format)
	}
	layout := s.layout(c, in[0])
	if s.Dialect != nil && s.Format != "" && s.Format != CSVText {
		c.Problem("dialect", "a dialect is for csv, not for %s", s.Format)
	}
	d := csv.Default()
	if s.Dialect != nil {
		d = *s.Dialect
		if err := d.Validate(); err != nil {
			c.Problem("dialect", "%s", err)
		}
		if !strings.EqualFold(orElse(d.Encoding, "utf-8"), "utf-8") {
			c.Problem("dialect.encoding", "files are written in utf-8, not in %s", d.Encoding)
		}
	}
	if c.Failed() {
		return nil
	}
	files, err := c.World.Files(c, s.Connection)
	if err != nil {
		c.Problem("connection", "%s", err)
		return nil
	}
	return &Bound{Target: &fileTarget{settings: s, files: files, dialect: d, layout: layout, schema: in[0], step: c.Step}}
}

// layout finds the layout of text of fixed width, and says which columns it lacks.
func (s *WriteFile) layout(c *Context, in *schema.Schema) *fixed.Layout {
	if s.Format != form.Fixed {
		if s.Layout != "" {
			c.Problem("layout", "a layout is for text of fixed width")
		}
		return nil
	}
	layouts, ok := c.World.(Layouts)
	if s.Layout == "" || !ok {
		c.Problem("layout", "text of fixed width is written by a saved layout; give its name")
		return nil
	}
	l, err := layouts.Layout(c, s.Layout)
	if err == nil {
		_, err = fixed.NewWriter(io.Discard, in, *l, s.Record)
	}
	if err != nil {
		c.Problem("layout", "%s", err)
	}
	return l
}

type fileTarget struct {
	settings *WriteFile
	files    Files
	dialect  csv.Dialect
	layout   *fixed.Layout // of text of fixed width
	schema   *schema.Schema
	step     string
}

func (t *fileTarget) Begin(ctx context.Context, e Epoch) (Load, error) {
	name := strings.NewReplacer("{date}", e.Started.UTC().Format("2006-01-02"), "{run}", e.Run).Replace(t.settings.File)
	draft, err := t.files.Draft(ctx, name, e, t.step)
	if err != nil {
		return nil, err
	}
	l := &fileLoad{draft: draft, name: name}
	if draft.Held() != nil {
		return l, nil
	}
	l.counts.w = draft
	if l.packed, err = format.Compressed(&l.counts, t.settings.Compress); err != nil {
		return nil, err
	}
	switch t.settings.Format {
	case JSONLines:
		l.w = jsonl.NewWriter(l.packed, t.schema)
	case form.JSON:
		l.w = jsondoc.NewWriter(l.packed, t.schema)
	case Parquet:
		l.w, err = parquet.NewWriter(l.packed, t.schema)
	case form.Avro:
		l.w, err = avro.NewWriter(l.packed, t.schema, "")
	case form.Excel:
		l.w, err = excel.NewWriter(l.packed, t.schema, "")
	case form.Fixed:
		l.w, err = fixed.NewWriter(l.packed, t.schema, *t.layout, t.settings.Record)
	default:
		l.w, err = csv.NewWriter(l.packed, t.schema, t.dialect, t.settings.Null)
	}
	return l, err
}

// rowWriterTo writes rows in a format.
type rowWriterTo interface {
	Write(b *batch.Batch) error
	Flush() error
}

type fileLoad struct {
	draft  Draft
	name   string
	w      rowWriterTo
	packed io.WriteCloser // compresses, where that is wanted
	counts countingWriter
	rows   int64
}

type countingWriter struct {
	w io.Writer
	n int64
}

func (c *countingWriter) Write(p []byte) (int, error) {
	n, err := c.w.Write(p)
	c.n += int64(n)
	return n, err
}

func (l *fileLoad) Held() *Result { return l.draft.Held() }

func (l *fileLoad) Write(_ context.Context, b *batch.Batch) error {
	l.rows += int64(b.N)
	return l.w.Write(b)
}

func (l *fileLoad) Prepare(ctx context.Context) (Result, []Refused, error) {
	if err := errors.Join(l.w.Flush(), l.packed.Close()); err != nil {
		return Result{}, nil, err
	}
	r := Result{Target: l.name, Created: true, Inserted: l.rows, After: l.rows, Bytes: l.counts.n}
	return r, nil, l.draft.Prepare(ctx, r)
}

func (l *fileLoad) Commit(ctx context.Context) error { return l.draft.Commit(ctx) }

func (l *fileLoad) Abort(ctx context.Context) error {
	if w, ok := l.w.(interface{ Abandon() }); ok { // nobody may write into a draft that is gone
		w.Abandon()
	}
	return l.draft.Abort(ctx)
}
