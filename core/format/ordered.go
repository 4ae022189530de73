package format

import (
	"context"
	"errors"
	"io"
	"runtime"

	"golang.org/x/sync/errgroup"
)

// Ordered is a Reader that cuts a file into portions, one after the other, and makes
// rows of them on several cores; they come out in the order of the file.
type Ordered struct {
	out   chan chan result
	group *errgroup.Group
	stop  context.CancelFunc
	left  int64 // rows still wanted, -1 for all
}

type result struct {
	chunk Chunk
	err   error
}

// ReadOrdered begins to read. next gives a portion, with io.EOF the last one; parse
// makes rows of it and is called by several goroutines. limit is the number of
// rows wanted, 0 for all.
func ReadOrdered[T any](ctx context.Context, limit int64, next func() (T, error), parse func(T) Chunk) *Ordered {
	ctx, stop := context.WithCancel(ctx)
	workers := runtime.GOMAXPROCS(0)
	rd := &Ordered{out: make(chan chan result, workers), stop: stop, left: -1}
	if limit > 0 {
		rd.left = limit
	}
	rd.group, ctx = errgroup.WithContext(ctx)
	slots := make(chan struct{}, workers)
	rd.group.Go(func() error {
		defer close(rd.out)
		for {
			portion, err := next()
			slot := make(chan result, 1)
			select {
			case rd.out <- slot:
			case <-ctx.Done():
				return ctx.Err()
			}
			if err != nil && !errors.Is(err, io.EOF) {
				slot <- result{err: err}
				return nil
			}
			slots <- struct{}{}
			rd.group.Go(func() error {
				slot <- result{chunk: parse(portion)}
				<-slots
				return nil
			})
			if err != nil {
				return nil
			}
		}
	})
	return rd
}

// Next implements Reader.
func (r *Ordered) Next(ctx context.Context) (Chunk, error) {
	if r.left == 0 {
		return Chunk{}, io.EOF
	}
	select {
	case slot, ok := <-r.out:
		if !ok {
			return Chunk{}, io.EOF
		}
		res := <-slot
		if r.left > 0 && res.chunk.Batch != nil {
			n := int64(res.chunk.Batch.N)
			if n > r.left {
				res.chunk.Seen -= n - r.left
				res.chunk.Batch = res.chunk.Batch.Slice(0, int(r.left))
				n = r.left
			}
			r.left -= n
		}
		return res.chunk, res.err
	case <-ctx.Done():
		return Chunk{}, ctx.Err()
	}
}

// Close implements Reader; it may come before the end.
func (r *Ordered) Close() error {
	r.stop()
	_ = r.group.Wait()
	return nil
}
