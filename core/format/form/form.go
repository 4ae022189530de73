// Package form finds out which format a file has, and opens it: form.go says what a
// form is and opens, find.go finds what is not said. It is the one place that knows
// all formats.
package form

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"os"
	"strings"

	"welkin/core/batch"
	"welkin/core/format"
	"welkin/core/format/avro"
	"welkin/core/format/csv"
	"welkin/core/format/excel"
	"welkin/core/format/fixed"
	"welkin/core/format/jsondoc"
	"welkin/core/format/jsonl"
	"welkin/core/format/parquet"
	"welkin/core/format/xml"
	"welkin/core/schema"
)

// The formats by name.
const (
	CSV       = "csv"
	JSON      = "json"
	JSONLines = "json lines"
	XML       = "xml"
	Parquet   = "parquet"
	Avro      = "avro"
	Excel     = "excel"
	Fixed     = "fixed width"
)

// Names lists the formats.
func Names() []string { return []string{CSV, JSON, JSONLines, XML, Parquet, Avro, Excel, Fixed} }

// Form says how the rows of a file are stored. What is left out is found by looking.
type Form struct {
	Format  string
	Dialect *csv.Dialect  // of CSV; of text of fixed width, encoding and header alone
	Records string        // where the records stand: a path in JSON, an element in XML
	Place   excel.Place   // in a workbook
	Layout  *fixed.Layout // of fixed width
	Record  string        // the type of records wanted, of a layout with several
	Whole   bool          // of fixed width: the fields are all of a line
	Nulls   []string      // texts that mean null
}

// Open opens a file anew from its start. What it gives may be a format.Random.
type Open func(ctx context.Context) (io.ReadCloser, error)

// Options say which rows are wanted.
type Options struct {
	Schema  *schema.Schema // columns wanted, by name
	Origin  string         // what the origin of rows says
	Limit   int64          // rows wanted, 0 for all
	Missing bool           // columns that the file lacks are null; an error otherwise
}

// Read begins to read a file of a form that is known.
func (f Form) Read(ctx context.Context, open Open, o Options) (format.Reader, error) {
	file, err := open(ctx)
	if err != nil {
		return nil, err
	}
	r, err := f.read(ctx, file, o)
	if err != nil {
		_ = file.Close()
		return nil, err
	}
	return r, nil
}

func (f Form) read(ctx context.Context, file io.ReadCloser, o Options) (format.Reader, error) {
	if f.Format == Parquet {
		random, err := randomly(file)
		if err != nil {
			return nil, err
		}
		r, err := openParquet(ctx, random, o)
		if err != nil {
			_ = random.Close()
			return nil, err
		}
		return &closing{r, []io.Closer{random, file}}, nil
	}
	plain, _, err := format.Decompressed(file)
	if err != nil {
		return nil, err
	}
	r, err := f.stream(ctx, plain, o)
	if err != nil {
		_ = plain.Close()
		return nil, err
	}
	return &closing{r, []io.Closer{plain, file}}, nil
}

// stream reads formats that are read from their start.
func (f Form) stream(ctx context.Context, r io.Reader, o Options) (format.Reader, error) {
	dialect := csv.Default()
	if f.Dialect != nil {
		dialect = *f.Dialect
	}
	switch f.Format {
	case CSV:
		return csv.Open(ctx, r, csv.Options{Dialect: dialect, Schema: o.Schema, Nulls: f.Nulls, Place: o.Origin, Limit: o.Limit, Missing: o.Missing})
	case JSONLines:
		text, err := format.Decoded(r, "utf-8")
		if err != nil {
			return nil, err
		}
		return jsonl.Open(ctx, text, jsonl.Options{Schema: o.Schema, Nulls: f.Nulls, Place: o.Origin, Limit: o.Limit}), nil
	case JSON:
		text, err := format.Decoded(r, "utf-8")
		if err != nil {
			return nil, err
		}
		return jsondoc.Open(text, jsondoc.Options{Records: f.Records, Schema: o.Schema, Nulls: f.Nulls, Place: o.Origin, Limit: o.Limit}), nil
	case XML:
		return xml.Open(r, xml.Options{Records: f.Records, Schema: o.Schema, Nulls: f.Nulls, Place: o.Origin, Limit: o.Limit}), nil
	case Avro:
		return avro.Open(bufio.NewReaderSize(r, 256<<10), avro.Options{Schema: o.Schema, Nulls: f.Nulls, Place: o.Origin, Limit: o.Limit})
	case Excel:
		return excel.Open(r, excel.Options{Place: f.Place, Schema: o.Schema, Nulls: f.Nulls, Origin: o.Origin, Limit: o.Limit, Missing: o.Missing})
	case Fixed:
		if f.Layout == nil {
			return nil, fmt.Errorf("text of fixed width needs a layout")
		}
		return fixed.Open(r, fixed.Options{Layout: *f.Layout, Record: f.Record, Schema: o.Schema, Nulls: f.Nulls, Header: f.Dialect != nil && f.Dialect.Header, Whole: f.Whole, Place: o.Origin, Limit: o.Limit})
	}
	return nil, fmt.Errorf("there is no format %q; there are %s", f.Format, strings.Join(Names(), ", "))
}

// closing closes what a reader reads from.
type closing struct {
	format.Reader
	also []io.Closer
}

func (c *closing) Close() error {
	err := c.Reader.Close()
	for _, a := range c.also {
		_ = a.Close()
	}
	return err
}

// randomFile is a file that can be read at any place.
type randomFile interface {
	format.Random
	io.Closer
}

// randomly gives a file that can be read at any place: itself, or a copy on disk that
// goes when it is closed.
func randomly(file io.ReadCloser) (randomFile, error) {
	head := make([]byte, 4)
	if random, ok := file.(randomFile); ok {
		if n, _ := random.ReadAt(head, 0); format.Compression(head[:n]) == "" {
			return random, nil
		}
	}
	return Spool(file)
}

// Spool copies the content of a file, decompressed, to a file on disk that goes when
// it is closed.
func Spool(r io.Reader) (*os.File, error) {
	plain, _, err := format.Decompressed(r)
	if err != nil {
		return nil, err
	}
	copied, err := os.CreateTemp("", "welkin-file-*")
	if err != nil {
		return nil, fmt.Errorf("keeping a copy to read: %w", err)
	}
	_ = os.Remove(copied.Name()) // its content stays until it is closed
	if _, err = io.Copy(copied, plain); err == nil {
		_, err = copied.Seek(0, io.SeekStart)
	}
	if err != nil {
		_ = copied.Close()
		return nil, err
	}
	return copied, nil
}

// parquetReader reads the columns wanted of a Parquet file.
type parquetReader struct {
	*parquet.Reader
	o      Options
	places []int // of the columns wanted in the file's, -1 for none
	row    int64
}

func openParquet(ctx context.Context, file format.Random, o Options) (*parquetReader, error) {
	r, err := parquet.Open(ctx, file, o.Schema.Names())
	if err != nil {
		return nil, err
	}
	out := &parquetReader{Reader: r, o: o}
	for _, c := range o.Schema.Columns {
		at := r.Schema().Index(c.Name)
		switch {
		case at < 0 && !o.Missing:
			_ = r.Close()
			return nil, fmt.Errorf("the file has no column %q", c.Name)
		case at >= 0 && r.Schema().Columns[at].Type != c.Type:
			_ = r.Close()
			return nil, fmt.Errorf("the column %q is %s here and %s elsewhere; read the files in steps of their own and retype it", c.Name, r.Schema().Columns[at].Type, c.Type)
		}
		out.places = append(out.places, at)
	}
	return out, nil
}

// Next implements format.Reader.
func (r *parquetReader) Next(context.Context) (format.Chunk, error) {
	left := r.o.Limit - r.row
	if r.o.Limit > 0 && left <= 0 {
		return format.Chunk{}, io.EOF
	}
	b, err := r.Reader.Next()
	if err != nil {
		return format.Chunk{}, err
	}
	if r.o.Limit > 0 && int64(b.N) > left {
		b = b.Slice(0, int(left))
	}
	out := &batch.Batch{Schema: r.o.Schema, N: b.N, Origin: batch.Origin{All: r.o.Origin, Row: make([]int64, b.N)}}
	for i := range b.N {
		r.row++
		out.Origin.Row[i] = r.row
	}
	for i, at := range r.places {
		if at >= 0 {
			out.Cols = append(out.Cols, b.Cols[at])
		} else {
			out.Cols = append(out.Cols, batch.Nulls(r.o.Schema.Columns[i].Type, b.N))
		}
	}
	return format.Chunk{Batch: out, Seen: int64(b.N)}, nil
}

// Close implements format.Reader.
func (r *parquetReader) Close() error { return r.Reader.Close() }
