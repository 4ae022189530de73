package parquet

import (
	"context"
	"fmt"
	"io"
	"runtime"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/parquet"
	"github.com/apache/arrow-go/v18/parquet/compress"
	"github.com/apache/arrow-go/v18/parquet/file"
	"github.com/apache/arrow-go/v18/parquet/pqarrow"
	"golang.org/x/sync/errgroup"

	"welkin/core/batch"
	"welkin/core/schema"
)

// RowGroup is how many rows are written as one group: a reader skips groups, and
// holds one.
const RowGroup = 262_144

// Writer writes rows, compressed with zstd.
type Writer struct {
	writer
	rows int64 // of the current group
}

// writer writes row groups.
type writer interface {
	// group begins a row group.
	group() error
	write(b *batch.Batch) error
	close() error
}

// NewWriter makes a writer of rows of a schema.
func NewWriter(w io.Writer, s *schema.Schema) (*Writer, error) {
	nested := false
	for _, c := range s.Columns {
		if c.Type.Kind == schema.Interval || c.Type.Kind == schema.Unknown {
			return nil, fmt.Errorf("column %q is %s, which Parquet has no place for", c.Name, c.Type)
		}
		nested = nested || c.Type.Nested()
	}
	options := []parquet.WriterProperty{parquet.WithCompression(compress.Codecs.Zstd), parquet.WithCompressionLevel(1), parquet.WithDictionaryDefault(false),
		parquet.WithMaxRowGroupLength(RowGroup), parquet.WithStats(true)}
	for _, c := range s.Columns {
		if c.Type.Kind == schema.Text { // texts come again; numbers are as small without
			options = append(options, parquet.WithDictionaryFor(c.Name, true))
		}
	}
	props := parquet.NewWriterProperties(options...)
	// The file is closed by whoever opened it.
	open := newFlat
	if nested {
		open = newNested
	}
	out, err := open(struct{ io.Writer }{w}, batch.ArrowSchema(s), props)
	if err != nil {
		return nil, fmt.Errorf("beginning a Parquet file: %w", err)
	}
	return &Writer{writer: out, rows: RowGroup}, nil
}

// Write adds rows.
func (w *Writer) Write(b *batch.Batch) error {
	if w.rows += int64(b.N); w.rows > RowGroup {
		if err := w.group(); err != nil {
			return fmt.Errorf("writing Parquet: %w", err)
		}
		w.rows = int64(b.N)
	}
	if err := w.write(b); err != nil {
		return fmt.Errorf("writing Parquet: %w", err)
	}
	return nil
}

// Flush ends the file.
func (w *Writer) Flush() error {
	if err := w.close(); err != nil {
		return fmt.Errorf("ending a Parquet file: %w", err)
	}
	return nil
}

// nestedWriter writes columns with lists and records.
type nestedWriter struct {
	*pqarrow.FileWriter
	schema *arrow.Schema
}

func newNested(w io.Writer, s *arrow.Schema, props *parquet.WriterProperties) (writer, error) {
	out, err := pqarrow.NewFileWriter(s, w, props, pqarrow.NewArrowWriterProperties(pqarrow.WithStoreSchema()))
	return &nestedWriter{out, s}, err
}

func (w *nestedWriter) group() error {
	w.NewBufferedRowGroup()
	return nil
}

func (w *nestedWriter) write(b *batch.Batch) error {
	return w.WriteBuffered(array.NewRecordBatch(w.schema, b.Cols, int64(b.N)))
}

func (w *nestedWriter) close() error { return w.Close() }

// flatWriter writes columns of which none is nested, several at once.
type flatWriter struct {
	file    *file.Writer
	ctx     []context.Context // by column: what the encoder keeps between batches
	rows    file.BufferedRowGroupWriter
	present []int16 // definition levels of a column without null
}

func newFlat(w io.Writer, s *arrow.Schema, props *parquet.WriterProperties) (writer, error) {
	arrowProps := pqarrow.NewArrowWriterProperties()
	stored, err := pqarrow.ToParquet(s, props, arrowProps)
	if err != nil {
		return nil, err
	}
	out := &flatWriter{}
	for range s.NumFields() {
		out.ctx = append(out.ctx, pqarrow.NewArrowWriteContext(context.Background(), &arrowProps))
	}
	out.file, err = file.NewParquetWriterWithError(w, stored.Root(), file.WithWriterProps(props))
	return out, err
}

func (w *flatWriter) group() error {
	if w.rows != nil {
		if err := w.rows.Close(); err != nil {
			return err
		}
	}
	var err error
	w.rows, err = w.file.AppendBufferedRowGroupChecked()
	return err
}

func (w *flatWriter) write(b *batch.Batch) error {
	for len(w.present) < b.N {
		w.present = append(w.present, 1)
	}
	var group errgroup.Group
	group.SetLimit(runtime.GOMAXPROCS(0))
	for i, col := range b.Cols {
		to, err := w.rows.Column(i)
		if err != nil {
			return err
		}
		group.Go(func() error { return pqarrow.WriteArrowToColumn(w.ctx[i], to, col, w.levels(col), nil, true) })
	}
	return group.Wait()
}

// levels tells for each value whether it is there.
func (w *flatWriter) levels(col arrow.Array) []int16 {
	if col.NullN() == 0 {
		return w.present[:col.Len()]
	}
	out := make([]int16, col.Len())
	for i := range out {
		if col.IsValid(i) {
			out[i] = 1
		}
	}
	return out
}

func (w *flatWriter) close() error { return w.file.Close() }
