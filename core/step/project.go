package step

import (
	"context"

	"github.com/apache/arrow-go/v18/arrow"

	"welkin/core/batch"
	"welkin/core/schema"
)

// projected is a source that reads some columns and leaves the others empty.
type projected struct {
	Source                // reads the columns at places alone
	schema *schema.Schema // all columns
	places []int
}

// places gives the places of the columns wanted, of at least one: rows are to be
// counted at any rate.
func placesWanted(wanted []bool) []int {
	var out []int
	for i, w := range wanted {
		if w {
			out = append(out, i)
		}
	}
	if len(out) == 0 {
		return []int{0}
	}
	return out
}

// columnsAt gives the schema of some columns.
func columnsAt(s *schema.Schema, places []int) *schema.Schema {
	out := &schema.Schema{}
	for _, at := range places {
		out.Columns = append(out.Columns, s.Columns[at])
	}
	return out
}

// Open implements Source.
func (p *projected) Open(ctx context.Context, limit int64) (Reader, error) {
	r, err := p.Source.Open(ctx, limit)
	return &projectedReader{r, p}, err
}

type projectedReader struct {
	Reader
	*projected
}

// Next implements Reader.
func (r *projectedReader) Next(ctx context.Context) (Chunk, error) {
	c, err := r.Reader.Next(ctx)
	if err != nil {
		return c, err
	}
	b := &batch.Batch{Schema: r.schema, N: c.Batch.N, Origin: c.Batch.Origin, Cols: make([]arrow.Array, r.schema.Len())}
	for i := range b.Cols {
		b.Cols[i] = batch.Empty(b.N)
	}
	for i, at := range r.places {
		b.Cols[at] = c.Batch.Cols[i]
	}
	c.Batch = b
	return c, nil
}

// Close implements Reader.
func (r *projectedReader) Close() error { return r.Reader.Close() }
