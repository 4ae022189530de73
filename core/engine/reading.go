package engine

import (
	"context"
	"errors"
	"io"
	"time"

	"welkin/core/batch"
	"welkin/core/step"
)

// sources lists the reads so that what others wait for comes first.
func (r *run) sources() []*node {
	var out []*node
	seen := map[*node]bool{}
	var visit func(n *node)
	visit = func(n *node) {
		if seen[n] {
			return
		}
		seen[n] = true
		for _, in := range n.gate.First() {
			visit(r.byID[n.Inputs[in].ID])
		}
		for _, in := range n.Inputs {
			visit(r.byID[in.ID])
		}
		if n.Bound.Source != nil {
			out = append(out, n)
		}
	}
	for _, n := range r.nodes {
		if !n.read() {
			visit(n)
		}
	}
	return out
}

// pump reads every source, one after the other, and pushes its rows.
func (r *run) pump() error {
	for _, n := range r.sources() {
		if err := r.read(n, 0); err != nil {
			return err
		}
	}
	return nil
}

// read pushes one source's rows.
func (r *run) read(n *node, limit int64) error {
	if err := r.readChunks(n, n.source(), limit, func(c step.Chunk) error { return r.take(n, c) }); err != nil {
		return err
	}
	if limit > 0 && n.account.Out >= limit {
		n.account.Sample = true
	}
	return n.done()
}

// errEnough is for take to end reading without an error.
var errEnough = errors.New("enough rows were read")

// readChunks gives the chunks of a source. Reading runs ahead of take by a few.
func (r *run) readChunks(n *node, source step.Source, limit int64, take func(c step.Chunk) error) error {
	ctx, stop := context.WithCancel(r.ctx)
	defer stop()
	reader, err := source.Open(ctx, limit)
	if err != nil {
		return n.wrap(err)
	}
	defer func() { stop(); _ = reader.Close() }()
	type ahead struct {
		chunk step.Chunk
		took  time.Duration
		err   error
	}
	chunks := make(chan ahead, 3)
	go func() {
		defer close(chunks)
		for {
			began := time.Now()
			c, err := reader.Next(ctx)
			select {
			case chunks <- ahead{c, time.Since(began), err}:
			case <-ctx.Done():
				return
			}
			if err != nil {
				return
			}
		}
	}()
	n.account.Begin = r.since()
	for a := range chunks {
		if a.err == io.EOF {
			break
		}
		if a.err != nil {
			stop()
			for range chunks { // the reader is still until its goroutine ended
			}
			return n.wrap(a.err)
		}
		n.account.Seconds += a.took.Seconds()
		if err := take(a.chunk); err != nil {
			stop()
			for range chunks {
			}
			if errors.Is(err, errEnough) {
				return nil
			}
			return err
		}
	}
	return r.ctx.Err()
}

func (r *run) take(n *node, c step.Chunk) error {
	n.account.In[0] += c.Seen
	n.account.Bytes += c.Bytes
	r.summary.Read += c.Seen
	if c.Warning != "" {
		n.Warn(c.Warning)
	}
	for _, bad := range c.Refused {
		if n.again {
			break
		}
		if err := n.refuse(bad); err != nil {
			return err
		}
	}
	for from := 0; from < c.Batch.N; from += r.Rows {
		part := c.Batch
		if c.Batch.N > r.Rows*3/2 || r.Rows < batch.Rows {
			part = c.Batch.Slice(from, min(from+r.Rows, c.Batch.N))
		} else {
			from = c.Batch.N
		}
		if err := n.EmitTo(c.Output, n.blank(part)); err != nil {
			return err
		}
	}
	r.show(false)
	return r.ctx.Err()
}
