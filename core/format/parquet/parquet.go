// Package parquet writes and reads Apache Parquet files, each column in the type
// that the table of types gives it in Arrow.
package parquet

import (
	"context"
	"fmt"
	"io"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/memory"
	"github.com/apache/arrow-go/v18/parquet"
	"github.com/apache/arrow-go/v18/parquet/compress"
	"github.com/apache/arrow-go/v18/parquet/file"
	"github.com/apache/arrow-go/v18/parquet/pqarrow"

	"welkin/core/batch"
	"welkin/core/schema"
)

// RowGroup is how many rows are written as one group: a reader skips groups, and
// holds one.
const RowGroup = 262_144

// Writer writes rows, compressed with zstd.
type Writer struct {
	w      *pqarrow.FileWriter
	schema *arrow.Schema
	rows   int64
}

// NewWriter makes a writer of rows of a schema.
func NewWriter(w io.Writer, s *schema.Schema) (*Writer, error) {
	for _, c := range s.Columns {
		if c.Type.Kind == schema.Interval || c.Type.Kind == schema.Unknown {
			return nil, fmt.Errorf("column %q is %s, which Parquet has no place for", c.Name, c.Type)
		}
	}
	options := []parquet.WriterProperty{parquet.WithCompression(compress.Codecs.Zstd), parquet.WithCompressionLevel(1), parquet.WithDictionaryDefault(false),
		parquet.WithMaxRowGroupLength(RowGroup), parquet.WithStats(true)}
	for _, c := range s.Columns {
		if c.Type.Kind == schema.Text { // texts come again; numbers are as small without
			options = append(options, parquet.WithDictionaryFor(c.Name, true))
		}
	}
	props := parquet.NewWriterProperties(options...)
	out := &Writer{schema: batch.ArrowSchema(s)}
	var err error
	// The file is closed by whoever opened it.
	out.w, err = pqarrow.NewFileWriter(out.schema, struct{ io.Writer }{w}, props, pqarrow.NewArrowWriterProperties(pqarrow.WithStoreSchema()))
	if err != nil {
		return nil, fmt.Errorf("beginning a Parquet file: %w", err)
	}
	return out, nil
}

// Write adds rows.
func (w *Writer) Write(b *batch.Batch) error {
	if w.rows += int64(b.N); w.rows > RowGroup {
		w.w.NewBufferedRowGroup()
		w.rows = int64(b.N)
	}
	if err := w.w.WriteBuffered(array.NewRecordBatch(w.schema, b.Cols, int64(b.N))); err != nil {
		return fmt.Errorf("writing Parquet: %w", err)
	}
	return nil
}

// Flush ends the file.
func (w *Writer) Flush() error {
	if err := w.w.Close(); err != nil {
		return fmt.Errorf("ending a Parquet file: %w", err)
	}
	return nil
}

// Reader reads rows, all columns or some.
type Reader struct {
	file    *file.Reader
	records pqarrow.RecordReader
	schema  *schema.Schema
}

// Source is what a Parquet file is read from: it is read from its end.
type Source interface {
	io.ReaderAt
	io.Seeker
}

// Open begins to read; columns picks by name, nil for all.
func Open(ctx context.Context, r Source, columns []string) (*Reader, error) {
	f, err := file.NewParquetReader(r)
	if err != nil {
		return nil, fmt.Errorf("this is no Parquet file: %w", err)
	}
	reader, err := pqarrow.NewFileReader(f, pqarrow.ArrowReadProperties{BatchSize: batch.Rows, Parallel: true}, memory.DefaultAllocator)
	if err != nil {
		return nil, err
	}
	have, err := reader.Schema()
	if err != nil {
		return nil, err
	}
	out := &Reader{file: f, schema: &schema.Schema{}}
	var leaves []int
	for i, field := range have.Fields() {
		if columns != nil && !contains(columns, field.Name) {
			continue
		}
		t, ok := schema.FromArrow(field.Type)
		if !ok {
			return nil, fmt.Errorf("column %q is %s, which Welkin has no type for", field.Name, field.Type)
		}
		out.schema.Columns = append(out.schema.Columns, schema.Column{Name: field.Name, Type: t, Nullable: field.Nullable})
		leaves = append(leaves, leavesOf(reader.Manifest, i)...)
	}
	if out.records, err = reader.GetRecordReader(ctx, leaves, nil); err != nil {
		return nil, fmt.Errorf("reading Parquet: %w", err)
	}
	return out, nil
}

func contains(list []string, name string) bool {
	for _, n := range list {
		if n == name {
			return true
		}
	}
	return false
}

// leavesOf lists the stored columns of a field.
func leavesOf(m *pqarrow.SchemaManifest, field int) []int {
	var out []int
	var walk func(f *pqarrow.SchemaField)
	walk = func(f *pqarrow.SchemaField) {
		if f.ColIndex >= 0 {
			out = append(out, f.ColIndex)
		}
		for i := range f.Children {
			walk(&f.Children[i])
		}
	}
	walk(&m.Fields[field])
	return out
}

// Schema gives the columns read.
func (r *Reader) Schema() *schema.Schema { return r.schema }

// Next gives the following rows, io.EOF after the last.
func (r *Reader) Next() (*batch.Batch, error) {
	if !r.records.Next() {
		if err := r.records.Err(); err != nil && err != io.EOF {
			return nil, fmt.Errorf("reading Parquet: %w", err)
		}
		return nil, io.EOF
	}
	record := r.records.RecordBatch()
	b := &batch.Batch{Schema: r.schema, N: int(record.NumRows())}
	for _, c := range record.Columns() {
		c.Retain() // the reader lets go of its record at the next call
		c.NullN()  // counted here, not by several goroutines at once
		b.Cols = append(b.Cols, c)
	}
	return b, nil
}

// Close lets go of the file.
func (r *Reader) Close() error {
	r.records.Release()
	return r.file.Close()
}
