// Package parquet writes and reads Apache Parquet files, each column in the type
// that the table of types gives it in Arrow: parquet.go reads, foreign.go takes over what
// other programs wrote in types of their own, write.go writes.
package parquet

import (
	"context"
	"fmt"
	"io"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/memory"
	"github.com/apache/arrow-go/v18/parquet/file"
	"github.com/apache/arrow-go/v18/parquet/pqarrow"

	"welkin/core/batch"
	"welkin/core/schema"
)

// Reader reads rows, all columns or some.
type Reader struct {
	file    *file.Reader
	records pqarrow.RecordReader
	schema  *schema.Schema
	ctx     context.Context
	foreign bool // some column has to be converted
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
	out := &Reader{file: f, schema: &schema.Schema{}, ctx: ctx}
	var leaves []int
	for i, field := range have.Fields() {
		if columns != nil && !contains(columns, field.Name) {
			continue
		}
		own, ok := ownType(field.Type)
		if !ok {
			return nil, fmt.Errorf("column %q is %s, which Welkin has no type for", field.Name, field.Type)
		}
		t, _ := schema.FromArrow(own)
		out.foreign = out.foreign || !arrow.TypeEqual(own, field.Type)
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
	for i, c := range record.Columns() {
		if !r.foreign {
			c.Retain() // the reader lets go of its record at the next call
		} else {
			own, err := convert(r.ctx, c, r.schema.Columns[i].Type.Arrow())
			if err != nil {
				return nil, fmt.Errorf("column %q of the Parquet file, kept as %s, as %s: %w", r.schema.Columns[i].Name, c.DataType(), r.schema.Columns[i].Type, err)
			}
			c = own
		}
		c.NullN() // counted here, not by several goroutines at once
		b.Cols = append(b.Cols, c)
	}
	return b, nil
}

// Close lets go of the file.
func (r *Reader) Close() error {
	r.records.Release()
	return r.file.Close()
}
