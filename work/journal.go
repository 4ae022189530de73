package work

import (
	"context"

	"welkin/core/engine"
	"welkin/store"
)

// journal writes a run's epoch down in the store.
type journal struct {
	store *store.Store
	epoch *store.Epoch
}

var _ engine.Journal = (*journal)(nil)

// Restart implements engine.Journal.
func (j *journal) Restart(ctx context.Context) error { return j.store.ClearSetAside(ctx, j.epoch.Run) }

// SetAside implements engine.Journal.
func (j *journal) SetAside(ctx context.Context, rows []engine.SetAsideRow) error {
	return j.store.AddSetAside(ctx, j.epoch.Run, rows)
}

// Prepared implements engine.Journal.
func (j *journal) Prepared(ctx context.Context, s engine.Summary) error {
	return j.store.PrepareEpoch(ctx, j.epoch, s)
}

// Committed implements engine.Journal.
func (j *journal) Committed(ctx context.Context, s engine.Summary) error {
	return j.store.CommitEpoch(ctx, j.epoch, s)
}
