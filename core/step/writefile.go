package step

import (
	"context"
	"io"
	"strings"

	"welkin/core/batch"
	"welkin/core/format/csv"
	"welkin/core/format/jsonl"
	"welkin/core/format/parquet"
	"welkin/core/schema"
)

var writeFile = Kind{
	Name: "write file", Role: Write, Ports: []string{"rows"}, New: func() Settings { return &WriteFile{} },
	Help: "Writes rows as a CSV, JSON lines or Parquet file that appears under its name only when it is whole.", Example: "stays_{date}.csv in outgoing",
	Words: "csv target save export output",
}

// Format of Parquet files; the others are those of a program step.
const Parquet = "parquet"

// WriteFile writes a file.
type WriteFile struct {
	Connection string       `json:"connection" jsonschema:"title=connection,format=files"`
	File       string       `json:"file" jsonschema:"title=file,description=The name; {date} and {run} are filled in"`
	Format     string       `json:"format,omitempty" jsonschema:"title=format,enum=csv,enum=json lines,enum=parquet"`
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
	if s.Format != "" && s.Format != CSVText && s.Format != JSONLines && s.Format != Parquet {
		c.Problem("format", "files are written as csv, json lines or parquet, not as %q", s.Format)
	}
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
	return &Bound{Target: &fileTarget{settings: s, files: files, dialect: d, schema: in[0], step: c.Step}}
}

type fileTarget struct {
	settings *WriteFile
	files    Files
	dialect  csv.Dialect
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
	switch t.settings.Format {
	case JSONLines:
		l.w = jsonl.NewWriter(&l.counts, t.schema)
	case Parquet:
		l.w, err = parquet.NewWriter(&l.counts, t.schema)
	default:
		l.w, err = csv.NewWriter(&l.counts, t.schema, t.dialect, t.settings.Null)
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
	if err := l.w.Flush(); err != nil {
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
