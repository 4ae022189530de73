package work

import (
	"context"
	"errors"
	"fmt"

	"welkin/core/format/fixed"
	"welkin/store"
)

// layout finds a saved layout for the steps of a sheet.
func (s *Shared) layout(ctx context.Context, name string) (*fixed.Layout, error) {
	l, err := s.store.LayoutByName(ctx, name)
	if errors.Is(err, store.ErrNotFound) {
		return nil, fmt.Errorf("there is no layout %q; it may have been renamed or removed", name)
	}
	return &l.Layout, err
}
