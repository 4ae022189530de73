package connect

import (
	"context"
	"fmt"
	"sync"

	"welkin/core/format/fixed"
	"welkin/core/step"
)

// World gives steps their connections by name. Connections are opened when
// first asked for and stay open until Close.
type World struct {
	// Open finds and opens a connection; an error says what is wrong with it.
	Open func(ctx context.Context, name string) (Connection, error)
	// FindLayout finds a saved record layout; nil where there are none.
	FindLayout func(ctx context.Context, name string) (*fixed.Layout, error)
	// Allowed are external programs by name: the command and its arguments.
	Allowed map[string][]string

	mu   sync.Mutex
	open map[string]Connection
}

var (
	_ step.World = (*World)(nil)
	_ step.APIs  = (*World)(nil)
)

func (w *World) get(ctx context.Context, name string) (Connection, error) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if c, ok := w.open[name]; ok {
		return c, nil
	}
	c, err := w.Open(ctx, name)
	if err != nil {
		return nil, err
	}
	if w.open == nil {
		w.open = map[string]Connection{}
	}
	w.open[name] = c
	return c, nil
}

// Files implements step.World.
func (w *World) Files(ctx context.Context, name string) (step.Files, error) {
	c, err := w.get(ctx, name)
	if err != nil {
		return nil, err
	}
	f, ok := c.(step.Files)
	if !ok {
		return nil, fmt.Errorf("the connection %q holds no files; choose one that does", name)
	}
	return f, nil
}

// Tables implements step.World.
func (w *World) Tables(ctx context.Context, name string) (step.Tables, error) {
	c, err := w.get(ctx, name)
	if err != nil {
		return nil, err
	}
	t, ok := c.(step.Tables)
	if !ok {
		return nil, fmt.Errorf("the connection %q holds no tables; choose one that does", name)
	}
	return t, nil
}

// Layout implements step.Layouts.
func (w *World) Layout(ctx context.Context, name string) (*fixed.Layout, error) {
	if w.FindLayout == nil {
		return nil, fmt.Errorf("there are no saved layouts here; give the fields in the step")
	}
	return w.FindLayout(ctx, name)
}

// API implements step.APIs.
func (w *World) API(ctx context.Context, name string) (step.API, error) {
	c, err := w.get(ctx, name)
	if err != nil {
		return nil, err
	}
	a, ok := c.(step.API)
	if !ok {
		return nil, fmt.Errorf("the connection %q is not one to an HTTP API; choose one that is", name)
	}
	return a, nil
}

// Close closes what was opened.
func (w *World) Close() {
	w.mu.Lock()
	defer w.mu.Unlock()
	for _, c := range w.open {
		_ = c.Close()
	}
	w.open = nil
}
