package engine

import (
	"context"

	"golang.org/x/sync/errgroup"

	"welkin/core/batch"
	"welkin/core/step"
)

// loading writes a target behind the steps: a few batches may wait, then the
// steps wait.
type loading struct {
	node    *node
	load    step.Load
	held    *step.Result // not nil when the target has this epoch already
	batches chan *batch.Batch
	ctx     context.Context
}

func newLoading(n *node, l step.Load) *loading {
	return &loading{node: n, load: l, held: l.Held()}
}

func (l *loading) start(ctx context.Context, group *errgroup.Group, cancel context.CancelCauseFunc) {
	l.ctx, l.batches = ctx, make(chan *batch.Batch, 3)
	group.Go(func() error {
		for b := range l.batches {
			if err := l.load.Write(ctx, b); err != nil {
				err = l.node.wrap(err)
				cancel(err) // the sources must not go on
				return err
			}
		}
		return nil
	})
}

func (l *loading) write(b *batch.Batch) error {
	if l.held != nil {
		return nil
	}
	select {
	case l.batches <- b:
		return nil
	case <-l.ctx.Done():
		return context.Cause(l.ctx)
	}
}

func (l *loading) close() {
	if l.batches != nil {
		close(l.batches)
	}
}
