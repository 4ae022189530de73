package step

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"hash"
	"io"
	"strings"
	"sync/atomic"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"

	"welkin/core/batch"
	"welkin/core/format"
	"welkin/core/format/form"
	"welkin/core/schema"
)

// fileSource reads files, one after the other.
type fileSource struct {
	files   Files
	matched []fileAt
	form    form.Form
	wanted  *schema.Schema // columns of the files
	schema  *schema.Schema // wanted, then what is known of the file: parts of its name, its name, the row's number
	fileAs  bool
	rowAs   bool
	missing bool // columns that a file lacks are null
	strict  bool // a file whose columns differ is an error
	done    *[]fileDone
}

// fileAt is a file with what its name says.
type fileAt struct {
	FileInfo
	parts  []*string      // values of the parts of its name, by column
	wanted *schema.Schema // its own columns, of several shapes; nil for the source's
	output int            // of several shapes
}

// Version implements Versioned.
func (s *fileSource) Version() string {
	var text strings.Builder
	for _, f := range s.matched {
		fmt.Fprintf(&text, "%q %d %d\n", f.Name, f.Size, f.Changed.UnixNano())
	}
	return text.String()
}

// Open implements Source.
func (s *fileSource) Open(_ context.Context, limit int64) (Reader, error) {
	return &fileReader{fileSource: s, limit: limit}, nil
}

// parquetSource is a fileSource that can leave columns unread: no value of a Parquet
// file can be wrong.
type parquetSource struct{ *fileSource }

// Project implements Projecting.
func (s *parquetSource) Project(wanted []bool) Source {
	some := *s.fileSource
	some.wanted = columnsAt(s.wanted, placesWanted(wanted[:s.wanted.Len()]))
	places := placesWanted(wanted[:s.wanted.Len()])
	some.schema = &schema.Schema{Columns: append([]schema.Column{}, some.wanted.Columns...)}
	for at := s.wanted.Len(); at < s.schema.Len(); at++ { // what is known of a file costs nothing
		places = append(places, at)
		some.schema.Columns = append(some.schema.Columns, s.schema.Columns[at])
	}
	return &projected{&some, s.schema, places}
}

// fileReader reads one file after the other.
type fileReader struct {
	*fileSource
	limit  int64
	at     int
	open   format.Reader // nil before it is opened
	counts *countingReader
	rows   int64
}

// countingReader counts and sums up what is read of a file.
type countingReader struct {
	io.ReadCloser
	n    atomic.Int64 // the parser reads ahead in a goroutine of its own
	sum  hash.Hash    // nil where it is not wanted
	told int64
}

func (c *countingReader) Read(p []byte) (int, error) {
	n, err := c.ReadCloser.Read(p)
	c.n.Add(int64(n))
	if c.sum != nil {
		c.sum.Write(p[:n])
	}
	return n, err
}

// randomCounting is a countingReader of a file that can be read at any place.
type randomCounting struct {
	*countingReader
	random format.Random
}

func (c randomCounting) ReadAt(p []byte, at int64) (int, error) {
	n, err := c.random.ReadAt(p, at)
	c.n.Add(int64(n))
	return n, err
}

func (c randomCounting) Seek(offset int64, whence int) (int64, error) {
	return c.random.Seek(offset, whence)
}

// Next implements Reader.
func (r *fileReader) Next(ctx context.Context) (Chunk, error) {
	for {
		if r.limit > 0 && r.rows >= r.limit {
			return Chunk{}, io.EOF
		}
		if r.open == nil {
			if r.at == len(r.matched) {
				return Chunk{}, io.EOF
			}
			err := r.openNext(ctx)
			if errors.Is(err, format.ErrEmpty) { // a file without a line gives no rows
				r.finish()
				continue
			}
			if err != nil {
				return Chunk{}, fmt.Errorf("%s: %w", r.matched[r.at-1].Name, err)
			}
		}
		got, err := r.open.Next(ctx)
		if err == io.EOF {
			r.finish()
			continue
		}
		if err != nil {
			return Chunk{}, fmt.Errorf("reading %s: %w", r.matched[r.at-1].Name, err)
		}
		r.rows += int64(got.Batch.N)
		return r.chunk(r.matched[r.at-1], got), nil
	}
}

func (r *fileReader) openNext(ctx context.Context) error {
	f := r.matched[r.at]
	r.at++
	limit := int64(0)
	if r.limit > 0 {
		limit = r.limit - r.rows
	}
	wanted := r.wanted
	if f.wanted != nil {
		wanted = f.wanted
	}
	open := func(ctx context.Context) (io.ReadCloser, error) {
		file, err := r.files.Open(ctx, f.Name)
		if err != nil {
			return nil, err
		}
		r.counts = &countingReader{ReadCloser: file}
		if r.done != nil {
			r.counts.sum = sha256.New()
		}
		if random, ok := file.(format.Random); ok {
			return randomCounting{r.counts, random}, nil
		}
		return r.counts, nil
	}
	if r.strict {
		found, err := formOf(ctx, r.files, f.Name, r.form)
		if err != nil {
			return err
		}
		if err := sameColumns(wanted, found.Schema); err != nil {
			return err
		}
	}
	var err error
	r.open, err = r.form.Read(ctx, open, form.Options{Schema: wanted, Origin: f.Name, Limit: limit, Missing: r.missing})
	return err
}

// sameColumns tells what differs from the columns expected.
func sameColumns(want, have *schema.Schema) error {
	for _, c := range want.Columns {
		if have.Index(c.Name) < 0 {
			return fmt.Errorf("the file has no column %q, which the others have; say in the step what becomes of files that differ", c.Name)
		}
	}
	for _, c := range have.Columns {
		if want.Index(c.Name) < 0 {
			return fmt.Errorf("the file has a column %q, which the others have not; say in the step what becomes of files that differ", c.Name)
		}
	}
	return nil
}

// chunk adds what is known of the file to the rows.
func (r *fileReader) chunk(f fileAt, got format.Chunk) Chunk {
	read := r.counts.n.Load()
	out := Chunk{Seen: got.Seen, Bytes: read - r.counts.told, Output: f.output}
	r.counts.told = read
	b := &batch.Batch{Schema: r.schema, N: got.Batch.N, Origin: got.Batch.Origin}
	b.Cols = append(make([]arrow.Array, 0, r.schema.Len()), got.Batch.Cols...)
	if f.wanted != nil {
		b.Schema = &schema.Schema{Columns: append(append([]schema.Column{}, f.wanted.Columns...), r.schema.Columns[r.wanted.Len():]...)}
	}
	for i, v := range f.parts {
		b.Cols = append(b.Cols, repeated(r.schema.Columns[r.wanted.Len()+i].Type, v, b.N))
	}
	if r.fileAs {
		b.Cols = append(b.Cols, repeated(schema.Of(schema.Text), &f.Name, b.N))
	}
	if r.rowAs {
		numbers := batch.NewBuilder(schema.Of(schema.Int)).(*array.Int64Builder)
		for i := range b.N {
			_, row, _ := b.Origin.At(i)
			numbers.Append(row)
		}
		b.Cols = append(b.Cols, numbers.NewArray())
	}
	out.Batch = b
	for _, bad := range got.Refused {
		out.Refused = append(out.Refused, Refused{Fault: bad.Fault, Column: bad.Column, Value: bad.Value, Place: f.Name, Row: bad.Line, Raw: strings.TrimRight(bad.Raw, "\r\n")})
	}
	return out
}

// repeated makes a column of one value.
func repeated(t schema.Type, v *string, n int) arrow.Array {
	if v == nil {
		return batch.Nulls(t, n)
	}
	to := batch.NewBuilder(t)
	to.Reserve(n)
	for range n {
		if fault := batch.AppendText(to, t, *v); fault != nil {
			to.AppendNull()
		}
	}
	return to.NewArray()
}

// finish ends a file that was read to its end.
func (r *fileReader) finish() {
	if r.done != nil && r.counts != nil {
		_, _ = io.Copy(io.Discard, r.counts) // so that the sum is that of all of it
		f := r.matched[r.at-1]
		*r.done = append(*r.done, fileDone{Name: f.Name, Size: f.Size, Changed: f.Changed.UTC(), Sum: hex.EncodeToString(r.counts.sum.Sum(nil))})
	}
	r.closeFile()
}

func (r *fileReader) closeFile() {
	if r.open != nil {
		_ = r.open.Close()
		r.open = nil
	}
	r.counts = nil
}

// Close implements Reader.
func (r *fileReader) Close() error {
	r.closeFile()
	return nil
}
