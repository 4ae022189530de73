package connect

import (
	"context"
	"fmt"
	"io"

	"welkin/core/batch"
	"welkin/core/format/form"
	"welkin/core/step"
)

// DescribeFile finds the columns of a file, for kinds that hold files.
func DescribeFile(ctx context.Context, files step.Files, name string) (*Description, error) {
	found, err := findForm(ctx, files, name)
	if err != nil {
		return nil, err
	}
	return &Description{Path: name, Columns: found.Schema.Columns, Why: append([]string{found.Form.Format}, found.Why...)}, nil
}

// SampleFile gives the first rows of a file. Records that don't fit the types found
// are left out of the picture here; a read step sets them aside.
func SampleFile(ctx context.Context, files step.Files, name string, rows int) (batch.Wire, error) {
	found, err := findForm(ctx, files, name)
	if err != nil {
		return batch.Wire{}, err
	}
	r, err := found.Form.Read(ctx, opens(files, name), form.Options{Schema: found.Schema, Origin: name, Limit: int64(rows)})
	if err != nil {
		return batch.Wire{}, fmt.Errorf("%s: %w", name, err)
	}
	defer r.Close()
	var batches []*batch.Batch
	for {
		c, err := r.Next(ctx)
		if err == io.EOF {
			return batch.ToWire(found.Schema, batches, rows), nil
		}
		if err != nil {
			return batch.Wire{}, fmt.Errorf("%s: %w", name, err)
		}
		batches = append(batches, c.Batch)
	}
}

func findForm(ctx context.Context, files step.Files, name string) (form.Found, error) {
	found, err := form.Find(ctx, name, opens(files, name), form.Form{}, false)
	if err != nil {
		return found, fmt.Errorf("%s: %w", name, err)
	}
	return found, nil
}

func opens(files step.Files, name string) form.Open {
	return func(ctx context.Context) (io.ReadCloser, error) { return files.Open(ctx, name) }
}
