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

// groupBytes is how much memory the rows of a group may take; long texts make
// groups of fewer rows.
const groupBytes = 64 << 20

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
	// abandon waits until nothing is being written any more.
	abandon()
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
	properties := []parquet.WriterProperty{parquet.WithCompression(compress.Codecs.Zstd), parquet.WithCompressionLevel(1), parquet.WithDictionaryDefault(false),
		parquet.WithMaxRowGroupLength(RowGroup), parquet.WithStats(true), parquet.WithStoreDecimalAsInteger(true)}
	for _, c := range s.Columns {
		if c.Type.Kind == schema.Text { // texts come again
			properties = append(properties, parquet.WithDictionaryFor(c.Name, true))
		}
	}
	// The file is closed by whoever opened it.
	w = struct{ io.Writer }{w}
	if !nested {
		return &Writer{writer: newFlat(w, s, properties), rows: RowGroup}, nil
	}
	out, err := newNested(w, batch.ArrowSchema(s), parquet.NewWriterProperties(properties...))
	if err != nil {
		return nil, fmt.Errorf("beginning a Parquet file: %w", err)
	}
	return &Writer{writer: out, rows: RowGroup}, nil
}

// Write adds rows.
func (w *Writer) Write(b *batch.Batch) error {
	if b.N == 0 {
		return nil
	}
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

// Abandon ends writing early: the file stays a part, and nothing is written to it
// any more. After Flush it does nothing.
func (w *Writer) Abandon() { w.abandon() }

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

func (w *nestedWriter) abandon() {}

// flatWriter writes columns of which none is nested. It collects a row group and
// encodes it, several columns at once, while the next is collected.
type flatWriter struct {
	to         io.Writer
	schema     *schema.Schema
	properties []parquet.WriterProperty
	arrow      pqarrow.ArrowWriterProperties
	file       *file.Writer   // nil before the first group
	batches    []*batch.Batch // of the group that is collected
	bytes      int64          // that they take
	ending     errgroup.Group // the group before it, while it is written
	present    []int16        // definition levels of a column without null
}

func newFlat(w io.Writer, s *schema.Schema, properties []parquet.WriterProperty) *flatWriter {
	return &flatWriter{to: w, schema: s, properties: properties, arrow: pqarrow.NewArrowWriterProperties()}
}

// open begins the file: its first rows, of which there may be none, say how its
// columns are best stored.
func (w *flatWriter) open(first []*batch.Batch) error {
	for i, c := range w.schema.Columns {
		if len(first) > 0 && smallSteps(first[0].Cols[i]) {
			w.properties = append(w.properties, parquet.WithEncodingFor(c.Name, parquet.Encodings.DeltaBinaryPacked))
		}
	}
	props := parquet.NewWriterProperties(w.properties...)
	stored, err := pqarrow.ToParquet(batch.ArrowSchema(w.schema), props, w.arrow)
	if err != nil {
		return err
	}
	w.file, err = file.NewParquetWriterWithError(w.to, stored.Root(), file.WithWriterProps(props))
	return err
}

func (w *flatWriter) write(b *batch.Batch) error {
	for len(w.present) < b.N {
		w.present = append(w.present, 1)
	}
	w.batches = append(w.batches, b)
	if w.bytes += b.Bytes(); w.bytes > groupBytes {
		return w.group()
	}
	return nil
}

func (w *flatWriter) group() error {
	if err := w.ending.Wait(); err != nil || len(w.batches) == 0 {
		return err
	}
	if w.file == nil {
		if err := w.open(w.batches); err != nil {
			return err
		}
	}
	batches, present := w.batches, w.present
	w.batches, w.bytes, w.ending = nil, 0, errgroup.Group{}
	w.ending.Go(func() error { return w.encode(batches, present) })
	return nil
}

func (w *flatWriter) close() error {
	err := w.group()
	if wait := w.ending.Wait(); err == nil {
		err = wait
	}
	if err == nil && w.file == nil { // there was no row
		err = w.open(nil)
	}
	if w.file == nil {
		return err
	}
	if closing := w.file.Close(); err == nil {
		err = closing
	}
	return err
}

func (w *flatWriter) abandon() { _ = w.ending.Wait() } // why it was abandoned is told elsewhere

// encode writes a row group.
func (w *flatWriter) encode(batches []*batch.Batch, present []int16) error {
	rows, err := w.file.AppendBufferedRowGroupChecked()
	if err != nil {
		return err
	}
	var columns errgroup.Group
	columns.SetLimit(runtime.GOMAXPROCS(0))
	for i := range batches[0].Cols {
		to, err := rows.Column(i)
		if err != nil {
			return err
		}
		columns.Go(func() error {
			cols := make([]arrow.Array, len(batches))
			for k, b := range batches {
				cols[k] = b.Cols[i]
			}
			return w.encodeColumn(to, withDictionary(cols), present)
		})
	}
	if err := columns.Wait(); err != nil {
		return err
	}
	return rows.Close()
}

// encodeColumn writes a column of a row group.
func (w *flatWriter) encodeColumn(to file.ColumnChunkWriter, cols []arrow.Array, present []int16) error {
	ctx := pqarrow.NewArrowWriteContext(context.Background(), &w.arrow)
	some := false
	for _, col := range cols {
		some = some || col.NullN() < col.Len()
		if err := pqarrow.WriteArrowToColumn(ctx, to, col, levels(col, present), nil, true); err != nil {
			return err
		}
	}
	// The last page is compressed here, not with those of all columns one after the other.
	if page, ok := to.(interface {
		EstimatedBufferedValueBytes() int64
		FlushCurrentPage() error
	}); ok && some && page.EstimatedBufferedValueBytes() > 0 {
		return page.FlushCurrentPage()
	}
	return nil
}

// levels tells for each value whether it is there.
func levels(col arrow.Array, present []int16) []int16 {
	if col.NullN() == 0 {
		return present[:col.Len()]
	}
	out := make([]int16, col.Len())
	for i := range out {
		if col.IsValid(i) {
			out[i] = 1
		}
	}
	return out
}
