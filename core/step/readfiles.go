package step

import (
	"context"
	"errors"
	"fmt"
	"io"
	"strings"
	"sync/atomic"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"

	"welkin/core/batch"
	"welkin/core/format"
	"welkin/core/format/csv"
	"welkin/core/format/fixed"
	"welkin/core/schema"
)

var readFiles = Kind{
	Name: "read files", Role: Read, New: func() Settings { return &ReadFiles{} },
	Help: "Reads delimited text (CSV and its relatives), text of fixed width, or Parquet; one file or many of a pattern.", Example: "warden_log_*.csv from incoming",
	Words: "csv source import file folder open fixed width",
}

// ReadFiles reads text files or Parquet. What is left out is found by looking at the
// first file.
type ReadFiles struct {
	Connection string       `json:"connection" jsonschema:"title=connection,format=files"`
	Files      string       `json:"files" jsonschema:"title=files,description=A name or a pattern; * stands for anything"`
	Dialect    *csv.Dialect `json:"dialect,omitempty" jsonschema:"title=dialect,description=How the files are written; found by itself when left out"`
	Columns    []FileColumn `json:"columns,omitempty" jsonschema:"title=columns,description=Names and types; found from a sample when left out"`
	Nulls      []string     `json:"nulls,omitempty" jsonschema:"title=null texts,description=Texts that mean null such as n/a; an empty value always does"`
	FileAs     string       `json:"file_as,omitempty" jsonschema:"title=file name as,description=A column that holds the file's name"`
}

// FileColumn is a column wanted from files.
type FileColumn struct {
	Name  string      `json:"name" jsonschema:"title=name"`
	Type  schema.Type `json:"type" jsonschema:"title=type,type=string"`
	Width int         `json:"width,omitempty" jsonschema:"title=width,description=Characters the column takes in each line; for text of fixed width and then for every column"`
}

// ReadColumn is a column by its name and type.
type ReadColumn struct {
	Name string      `json:"name" jsonschema:"title=name"`
	Type schema.Type `json:"type" jsonschema:"title=type,type=string"`
}

// Sentence implements Settings.
func (s *ReadFiles) Sentence() string {
	return "read `" + orElse(s.Files, "…") + "` from " + orElse(s.Connection, "…")
}

// Bind implements Settings.
func (s *ReadFiles) Bind(c *Context, _ []*schema.Schema) *Bound {
	if s.Connection == "" {
		c.Problem("connection", "no connection yet; choose one that holds files")
		return nil
	}
	if s.Files == "" {
		c.Problem("files", "no files yet; give a name or a pattern such as warden_log_*.csv")
		return nil
	}
	if s.Dialect != nil {
		if err := s.Dialect.Validate(); err != nil {
			c.Problem("dialect", "%s", err)
			return nil
		}
	}
	files, err := c.World.Files(c, s.Connection)
	if err != nil {
		c.Problem("connection", "%s", err)
		return nil
	}
	matched, err := files.Match(c, s.Files)
	if err != nil {
		c.Problem("files", "%s", err)
		return nil
	}
	if len(matched) == 0 {
		c.Problem("files", "no file fits %q in %s", s.Files, s.Connection)
		return nil
	}
	if isParquet(matched[0].Name) {
		return s.parquetFiles(c, files, matched)
	}
	widths := s.widths(c)
	if c.Failed() {
		return nil
	}
	found, wanted, err := s.look(c, files, matched)
	if err != nil {
		c.Problem("files", "%s: %s", matched[0].Name, err)
		return nil
	}
	if widths != nil {
		found.Why = []string{"values at the characters that the columns' widths say"}
		if s.Dialect == nil {
			found.Dialect = csv.Dialect{Encoding: "utf-8"}
		}
	}
	out := &schema.Schema{Columns: append([]schema.Column{}, wanted.Columns...)}
	for i := range out.Columns {
		out.Columns[i].From = s.Files + "." + out.Columns[i].Name
	}
	if s.FileAs != "" {
		out.Columns = append(out.Columns, schema.Column{Name: s.FileAs, Type: schema.Of(schema.Text), Description: "name of the file"})
	}
	c.distinctNames(out, func(i int) string {
		if i < len(s.Columns) {
			return fmt.Sprintf("columns[%d].name", i)
		}
		return "file_as"
	})
	return &Bound{
		Schema: out,
		Source: &fileSource{settings: s, dialect: found.Dialect, widths: widths, wanted: wanted, schema: out, files: files, matched: matched},
		Hint: func() map[string]any {
			return map[string]any{"found": found, "files": matched[:min(len(matched), 50)], "count": len(matched)}
		},
	}
}

// widths gives the characters of each column of text of fixed width; nil for
// delimited text.
func (s *ReadFiles) widths(c *Context) []int {
	out, some := make([]int, len(s.Columns)), false
	for i, col := range s.Columns {
		out[i], some = col.Width, some || col.Width != 0
	}
	if !some {
		return nil
	}
	for i, w := range out {
		if w < 1 || w > fixed.MaxLine {
			c.Problem(fmt.Sprintf("columns[%d].width", i), "in text of fixed width every column has a width of at least 1; %q has %d", s.Columns[i].Name, w)
		}
	}
	return out
}

// look finds what the settings leave open from the first file that holds
// something.
func (s *ReadFiles) look(ctx context.Context, files Files, matched []FileInfo) (csv.Found, *schema.Schema, error) {
	var head []byte
	var whole bool
	for _, f := range matched {
		r, err := files.Open(ctx, f.Name)
		if err != nil {
			return csv.Found{}, nil, err
		}
		head, whole, err = csv.Head(r)
		_ = r.Close()
		if err != nil {
			return csv.Found{}, nil, err
		}
		if len(head) > 0 {
			break
		}
	}
	if len(head) == 0 {
		return csv.Found{}, nil, format.ErrEmpty
	}
	found := csv.Sniff(head, whole)
	if s.Dialect != nil {
		found = csv.Found{Dialect: *s.Dialect, Why: []string{"as set in the step"}}
	}
	if len(s.Columns) > 0 {
		wanted := &schema.Schema{}
		for _, col := range s.Columns {
			wanted.Columns = append(wanted.Columns, schema.Column{Name: col.Name, Type: col.Type, Nullable: true})
		}
		return found, wanted, nil
	}
	wanted, err := csv.Infer(head, whole, found.Dialect)
	return found, wanted, err
}

type fileSource struct {
	settings *ReadFiles
	dialect  csv.Dialect
	widths   []int // of text of fixed width; nil for delimited text
	wanted   *schema.Schema
	schema   *schema.Schema
	files    Files
	matched  []FileInfo
}

// Version implements Versioned.
func (s *fileSource) Version() string { return versionOf(s.matched) }

// versionOf tells files apart from the same ones changed.
func versionOf(files []FileInfo) string {
	var text strings.Builder
	for _, f := range files {
		fmt.Fprintf(&text, "%q %d %d\n", f.Name, f.Size, f.Changed.UnixNano())
	}
	return text.String()
}

func (s *fileSource) Open(_ context.Context, limit int64) (Reader, error) {
	return &fileReader{fileSource: s, limit: limit}, nil
}

// recordReader reads the records of one file.
type recordReader interface {
	Next(ctx context.Context) (format.Chunk, error)
	Close() error
}

// fileReader reads one file after the other.
type fileReader struct {
	*fileSource
	limit  int64
	at     int
	file   io.ReadCloser
	open   recordReader // of file; nil before it is opened
	counts *countingReader
	rows   int64
}

type countingReader struct {
	io.Reader
	n    atomic.Int64 // the parser reads ahead in a goroutine of its own
	told int64
}

func (c *countingReader) Read(p []byte) (int, error) {
	n, err := c.Reader.Read(p)
	c.n.Add(int64(n))
	return n, err
}

func (r *fileReader) Next(ctx context.Context) (Chunk, error) {
	for {
		if r.limit > 0 && r.rows >= r.limit {
			return Chunk{}, io.EOF
		}
		if r.open == nil {
			if r.at == len(r.matched) {
				return Chunk{}, io.EOF
			}
			if err := r.openNext(ctx); err != nil {
				if errors.Is(err, format.ErrEmpty) { // a file without a line gives no rows
					r.closeFile()
					continue
				}
				return Chunk{}, fmt.Errorf("%s: %w", r.matched[r.at-1].Name, err)
			}
		}
		name := r.matched[r.at-1].Name
		got, err := r.open.Next(ctx)
		if err == io.EOF {
			r.closeFile()
			continue
		}
		if err != nil {
			return Chunk{}, fmt.Errorf("reading %s: %w", name, err)
		}
		r.rows += int64(got.Batch.N)
		return r.chunk(name, got), nil
	}
}

func (r *fileReader) openNext(ctx context.Context) (err error) {
	f := r.matched[r.at]
	r.at++
	if r.file, err = r.files.Open(ctx, f.Name); err != nil {
		return err
	}
	r.counts = &countingReader{Reader: r.file}
	limit := int64(0)
	if r.limit > 0 {
		limit = r.limit - r.rows
	}
	if r.widths != nil {
		r.open, err = fixed.Open(r.counts, fixed.Options{Schema: r.wanted, Widths: r.widths, Nulls: r.settings.Nulls, Encoding: r.dialect.Encoding, Header: r.dialect.Header, Place: f.Name, Limit: limit})
	} else {
		r.open, err = csv.Open(ctx, r.counts, csv.Options{Dialect: r.dialect, Schema: r.wanted, Nulls: r.settings.Nulls, Place: f.Name, Limit: limit})
	}
	if err != nil {
		r.open = nil // not a reader that is nil
	}
	return err
}

func (r *fileReader) chunk(name string, got format.Chunk) Chunk {
	read := r.counts.n.Load()
	out := Chunk{Batch: got.Batch, Seen: got.Seen, Bytes: read - r.counts.told}
	r.counts.told = read
	b := *got.Batch
	b.Schema = r.schema
	if r.settings.FileAs != "" {
		names := batch.NewBuilder(schema.Of(schema.Text)).(*array.StringBuilder)
		for range b.N {
			names.Append(name)
		}
		b.Cols = append(append([]arrow.Array{}, b.Cols...), names.NewArray())
	}
	out.Batch = &b
	for _, bad := range got.Refused {
		out.Refused = append(out.Refused, Refused{Fault: bad.Fault, Column: bad.Column, Value: bad.Value, Place: name, Row: bad.Line, Raw: strings.TrimRight(bad.Raw, "\r\n")})
	}
	return out
}

func (r *fileReader) closeFile() {
	if r.open != nil {
		_ = r.open.Close()
		r.open = nil
	}
	if r.file != nil {
		_ = r.file.Close()
		r.file = nil
	}
}

func (r *fileReader) Close() error {
	r.closeFile()
	return nil
}
