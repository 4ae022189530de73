package connect

import (
	"context"
	"fmt"
	"io"

	"welkin/core/batch"
	"welkin/core/step"
)

// DescribeTable gives the columns, keys and count of a table, as every kind that holds
// tables answers Connection.Describe.
func DescribeTable(ctx context.Context, tables step.Tables, name string) (*Description, error) {
	t, err := tableOf(ctx, tables, name)
	if err != nil {
		return nil, err
	}
	out := &Description{Path: name, Columns: t.Schema.Columns, Keys: t.Keys}
	for _, n := range t.Native {
		out.Native = append(out.Native, n.Type)
	}
	if t.Rows >= 0 {
		out.Rows = &t.Rows
	}
	return out, nil
}

// SampleTable gives the first rows of a table, as every kind that holds tables answers
// Connection.Sample.
func SampleTable(ctx context.Context, tables step.Tables, name string, rows int) (batch.Wire, error) {
	t, err := tableOf(ctx, tables, name)
	if err != nil {
		return batch.Wire{}, err
	}
	r, err := tables.Read(ctx, step.TableRead{Table: name, Schema: t.Schema, Columns: t.Schema.Names(), Limit: int64(rows)})
	if err != nil {
		return batch.Wire{}, err
	}
	defer r.Close()
	var batches []*batch.Batch
	for {
		c, err := r.Next(ctx)
		if err == io.EOF {
			return batch.ToWire(t.Schema, batches, rows), nil
		}
		if err != nil {
			return batch.Wire{}, err
		}
		batches = append(batches, c.Batch)
	}
}

func tableOf(ctx context.Context, tables step.Tables, name string) (*step.Table, error) {
	t, err := tables.Table(ctx, name)
	if err == nil && t == nil {
		err = fmt.Errorf("there is no table %q; it may have been renamed or dropped", name)
	}
	return t, err
}
