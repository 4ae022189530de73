// Package spill keeps batches of rows that don't fit into an operator's memory:
// a Spool keeps them in order until they are wanted, in memory up to a budget
// and then in a temporary file (spool.go); Parts keeps them by the hash of a
// key (parts.go); Runs keeps sorted runs and merges them (runs.go, order.go, merge.go).
//
// Files are Arrow streams with the origin of each row beside its columns. They
// lie in a folder that the run gives and are removed when they were read, or
// with Close.
package spill

import (
	"bufio"
	"fmt"
	"os"
	"strings"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/ipc"
	"github.com/apache/arrow-go/v18/arrow/memory"

	"welkin/core/batch"
	"welkin/core/schema"
)

// Spool keeps batches of one schema in order.
type Spool struct {
	folder string
	budget int64
	bytes  int64
	rows   int64
	memory []*batch.Batch
	file   *file
}

// NewSpool makes a spool that keeps up to budget bytes in memory.
func NewSpool(folder string, budget int64) *Spool { return &Spool{folder: folder, budget: budget} }

// Rows tells how many rows were added.
func (s *Spool) Rows() int64 { return s.rows }

// Bytes tells how much memory the rows kept there take.
func (s *Spool) Bytes() int64 { return s.bytes }

// Add keeps a batch.
func (s *Spool) Add(b *batch.Batch) error {
	if b.N == 0 {
		return nil
	}
	s.rows += int64(b.N)
	if s.file == nil && s.bytes+b.Bytes() <= s.budget {
		s.bytes += b.Bytes()
		s.memory = append(s.memory, b)
		return nil
	}
	if s.file == nil {
		f, err := newFile(s.folder, b.Schema)
		if err != nil {
			return err
		}
		s.file = f
	}
	return s.file.write(b)
}

// Drain gives the batches in order and forgets them.
func (s *Spool) Drain(take func(*batch.Batch) error) error {
	defer s.Close()
	for i, b := range s.memory {
		s.memory[i] = nil
		if err := take(b); err != nil {
			return err
		}
	}
	s.bytes = 0
	if s.file == nil {
		return nil
	}
	return s.file.each(take)
}

// Close removes the temporary file, if there is one.
func (s *Spool) Close() {
	if s != nil && s.file != nil {
		s.file.remove()
		s.file = nil
	}
}

// file is a temporary Arrow stream, first written and then read.
type file struct {
	schema *schema.Schema
	arrow  *arrow.Schema
	f      *os.File
	buffer *bufio.Writer
	writer *ipc.Writer
	reader *ipc.Reader
}

const fileBuffer = 256 << 10

func newFile(folder string, s *schema.Schema) (*file, error) {
	f, err := os.CreateTemp(folder, "welkin-spill-*.arrow")
	if err != nil {
		return nil, fmt.Errorf("making a temporary file for rows that don't fit into memory: %w", err)
	}
	return &file{schema: s, f: f, buffer: bufio.NewWriterSize(f, fileBuffer)}, nil
}

// begin writes the head of the file. Columns left empty have no type.
func (f *file) begin(cols []arrow.Array) {
	fields := make([]arrow.Field, len(cols))
	for i, c := range cols {
		fields[i] = arrow.Field{Name: fmt.Sprint(i), Type: c.DataType(), Nullable: true} // their own names may be strange, or twice the same
	}
	f.arrow = arrow.NewSchema(fields, nil)
	f.writer = ipc.NewWriter(f.buffer, ipc.WithSchema(f.arrow))
}

func (f *file) write(b *batch.Batch) error {
	cols := append(append([]arrow.Array{}, b.Cols...), originColumns(b)...)
	if f.writer == nil {
		f.begin(cols)
	}
	if err := f.writer.Write(array.NewRecordBatch(f.arrow, cols, int64(b.N))); err != nil {
		return fmt.Errorf("writing rows that don't fit into memory: %w", err)
	}
	return nil
}

// originColumns writes the origin of rows as columns, null where there is none.
func originColumns(b *batch.Batch) []arrow.Array {
	place, row, key := array.NewStringBuilder(memory.DefaultAllocator), array.NewInt64Builder(memory.DefaultAllocator), array.NewStringBuilder(memory.DefaultAllocator)
	switch {
	case b.Origin.Place != nil:
		place.AppendValues(b.Origin.Place, nil)
	case b.Origin.All != "": // the first row says it for all
		place.Append(b.Origin.All)
		place.AppendNulls(b.N - 1)
	default:
		place.AppendNulls(b.N)
	}
	if b.Origin.Row == nil {
		row.AppendNulls(b.N)
	} else {
		row.AppendValues(b.Origin.Row, nil)
	}
	if b.Origin.Key == nil {
		key.AppendNulls(b.N)
	} else {
		key.AppendValues(b.Origin.Key, nil)
	}
	return []arrow.Array{place.NewArray(), row.NewArray(), key.NewArray()}
}

// rewind ends writing and begins to read.
func (f *file) rewind() error {
	if err := f.writer.Close(); err != nil {
		return fmt.Errorf("writing rows that don't fit into memory: %w", err)
	}
	if err := f.buffer.Flush(); err != nil {
		return fmt.Errorf("writing rows that don't fit into memory: %w", err)
	}
	if _, err := f.f.Seek(0, 0); err != nil {
		return err
	}
	r, err := ipc.NewReader(bufio.NewReaderSize(f.f, fileBuffer))
	if err != nil {
		return fmt.Errorf("reading rows that did not fit into memory: %w", err)
	}
	f.reader = r
	return nil
}

// next gives the following batch, nil behind the last.
func (f *file) next() (*batch.Batch, error) {
	if !f.reader.Next() {
		if err := f.reader.Err(); err != nil {
			return nil, fmt.Errorf("reading rows that did not fit into memory: %w", err)
		}
		return nil, nil
	}
	record := f.reader.RecordBatch()
	n := f.schema.Len()
	b := &batch.Batch{Schema: f.schema, N: int(record.NumRows()), Cols: append([]arrow.Array{}, record.Columns()[:n]...)}
	for _, c := range b.Cols {
		c.Retain() // the reader lets go of its record at the next call
	}
	place, row, key := record.Column(n).(*array.String), record.Column(n+1).(*array.Int64), record.Column(n+2).(*array.String)
	switch {
	case place.NullN() == b.N-1 && b.N > 1 && place.IsValid(0):
		b.Origin.All = strings.Clone(place.Value(0))
	case place.NullN() < b.N:
		b.Origin.Place = make([]string, b.N)
		last := ""
		for i := range b.Origin.Place { // rows of one file share its name
			if v := place.Value(i); v != last {
				last = strings.Clone(v)
			}
			b.Origin.Place[i] = last
		}
	}
	if row.NullN() < b.N {
		b.Origin.Row = append([]int64{}, row.Int64Values()...)
	}
	if key.NullN() < b.N {
		b.Origin.Key = make([]string, b.N)
		for i := range b.Origin.Key {
			b.Origin.Key[i] = strings.Clone(key.Value(i))
		}
	}
	return b, nil
}

func (f *file) each(take func(*batch.Batch) error) error {
	if err := f.rewind(); err != nil {
		return err
	}
	for {
		b, err := f.next()
		if b == nil || err != nil {
			return err
		}
		if err := take(b); err != nil {
			return err
		}
	}
}

func (f *file) remove() {
	_ = f.f.Close()
	_ = os.Remove(f.f.Name())
}
