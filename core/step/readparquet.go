package step

import (
	"context"
	"fmt"
	"io"
	"slices"
	"strings"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"

	"welkin/core/batch"
	"welkin/core/format/parquet"
	"welkin/core/schema"
)

// parquetFiles binds files that are Parquet: their columns are in the first of
// them, and none is found by looking.
func (s *ReadFiles) parquetFiles(c *Context, files Files, matched []FileInfo) *Bound {
	if s.Dialect != nil || len(s.Nulls) > 0 {
		c.Problem("dialect", "a dialect and null texts are for delimited text; %s is Parquet", matched[0].Name)
		return nil
	}
	var names []string
	for _, col := range s.Columns {
		names = append(names, col.Name)
	}
	p := &parquetSource{files: files, matched: matched, fileAs: s.FileAs}
	r, err := p.open(c, matched[0].Name, names)
	if err != nil {
		c.Problem("files", "%s: %s", matched[0].Name, err)
		return nil
	}
	have := r.Schema()
	_ = r.Close()
	for i, col := range s.Columns {
		at := c.column(fmt.Sprintf("columns[%d].name", i), have, col.Name)
		if at >= 0 && have.Columns[at].Type != col.Type {
			c.Problem(fmt.Sprintf("columns[%d].type", i), "%s is %s in the file; retype it in a step behind", col.Name, have.Columns[at].Type)
		}
	}
	p.wanted, p.schema = have, &schema.Schema{Columns: slices.Clone(have.Columns)}
	if s.FileAs != "" {
		p.schema.Columns = append(p.schema.Columns, schema.Column{Name: s.FileAs, Type: schema.Of(schema.Text), Description: "name of the file"})
	}
	c.distinctNames(p.schema, func(int) string { return "file_as" })
	return &Bound{Schema: p.schema, Source: p, Hint: func() map[string]any {
		return map[string]any{"files": matched[:min(len(matched), 50)], "count": len(matched)}
	}}
}

func isParquet(name string) bool { return strings.HasSuffix(strings.ToLower(name), ".parquet") }

type parquetSource struct {
	files   Files
	matched []FileInfo
	wanted  *schema.Schema
	schema  *schema.Schema
	fileAs  string
}

// openParquet is a reader with the file it reads.
type openParquet struct {
	*parquet.Reader
	file io.Closer
}

func (o *openParquet) Close() error {
	_ = o.Reader.Close()
	return o.file.Close()
}

func (p *parquetSource) open(ctx context.Context, name string, columns []string) (*openParquet, error) {
	f, err := p.files.Open(ctx, name)
	if err != nil {
		return nil, err
	}
	source, ok := f.(parquet.Source)
	if !ok {
		_ = f.Close()
		return nil, fmt.Errorf("a Parquet file is read from its end, which this connection can't do")
	}
	r, err := parquet.Open(ctx, source, columns)
	if err != nil {
		_ = f.Close()
		return nil, err
	}
	return &openParquet{r, f}, nil
}

// Version implements Versioned.
func (p *parquetSource) Version() string { return versionOf(p.matched) }

// Project implements Projecting.
func (p *parquetSource) Project(wanted []bool) Source {
	if p.fileAs != "" { // the name of the file is no column of it
		wanted = wanted[:p.wanted.Len()]
	}
	some, places := *p, placesWanted(wanted)
	some.wanted = columnsAt(p.wanted, places)
	if some.schema = some.wanted; p.fileAs != "" {
		places = append(places, p.wanted.Len())
		some.schema = columnsAt(p.schema, places)
	}
	return &projected{&some, p.schema, places}
}

// Open implements Source.
func (p *parquetSource) Open(_ context.Context, limit int64) (Reader, error) {
	return &parquetReader{parquetSource: p, limit: limit}, nil
}

type parquetReader struct {
	*parquetSource
	limit, rows int64
	at          int
	current     *openParquet
	row         int64 // of the current file
}

// Next implements Reader.
func (r *parquetReader) Next(ctx context.Context) (Chunk, error) {
	for {
		if r.limit > 0 && r.rows >= r.limit {
			return Chunk{}, io.EOF
		}
		if r.current == nil {
			if r.at == len(r.matched) {
				return Chunk{}, io.EOF
			}
			name := r.matched[r.at].Name
			r.at++
			var err error
			if r.current, err = r.open(ctx, name, r.wanted.Names()); err != nil {
				return Chunk{}, fmt.Errorf("%s: %w", name, err)
			}
			if !r.current.Schema().Equal(r.wanted) {
				return Chunk{}, fmt.Errorf("%s: its columns differ from those of %s", name, r.matched[0].Name)
			}
			r.row = 0
		}
		b, err := r.current.Next()
		if err == io.EOF {
			_ = r.current.Close()
			r.current = nil
			continue
		}
		name := r.matched[r.at-1].Name
		if err != nil {
			return Chunk{}, fmt.Errorf("reading %s: %w", name, err)
		}
		if left := r.limit - r.rows; r.limit > 0 && int64(b.N) > left {
			b = b.Slice(0, int(left))
		}
		r.rows += int64(b.N)
		return Chunk{Batch: r.complete(b, name), Seen: int64(b.N)}, nil
	}
}

// complete adds the file's name and the place of each row.
func (r *parquetReader) complete(b *batch.Batch, name string) *batch.Batch {
	out := &batch.Batch{Schema: r.schema, N: b.N, Cols: b.Cols}
	out.Origin.All, out.Origin.Row = name, make([]int64, b.N)
	for i := range b.N {
		r.row++
		out.Origin.Row[i] = r.row
	}
	if r.fileAs != "" {
		names := batch.NewBuilder(schema.Of(schema.Text)).(*array.StringBuilder)
		for range b.N {
			names.Append(name)
		}
		out.Cols = append(append([]arrow.Array{}, b.Cols...), names.NewArray())
	}
	return out
}

// Close implements Reader.
func (r *parquetReader) Close() error {
	if r.current == nil {
		return nil
	}
	return r.current.Close()
}
