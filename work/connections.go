package work

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"time"

	"welkin/connect"
	"welkin/connect/kinds"
	"welkin/store"
)

// openConnection opens a kept connection.
func openConnection(ctx context.Context, s *store.Store, c store.Connection) (connect.Connection, error) {
	kind, ok := kinds.Find(c.Kind)
	if !ok {
		return nil, fmt.Errorf("connection %s is of a kind %q that this program has not", c.Name, c.Kind)
	}
	secrets, err := s.Secrets(c)
	if err != nil {
		return nil, err
	}
	settings, err := kind.Decode(c.Settings, secrets)
	if err != nil {
		return nil, err
	}
	return kind.Open(WithInbox(ctx, s, c.ID), settings)
}

// Shared keeps connections open between requests. A connection that was changed
// is opened anew; the old one is closed when requests that use it have ended.
type Shared struct {
	store    *store.Store
	programs map[string][]string
	rules    connect.Rules
	mu       sync.Mutex
	open     map[int64]sharedConnection
}

type sharedConnection struct {
	connect.Connection
	changed time.Time
}

// NewShared makes an empty set of open connections.
func NewShared(s *store.Store, programs map[string][]string, rules connect.Rules) *Shared {
	return &Shared{store: s, programs: programs, rules: rules, open: map[int64]sharedConnection{}}
}

// longestRequest is how long an old connection stays usable.
const longestRequest = 2 * time.Minute

// Get gives the open connection of a kept one.
func (s *Shared) Get(ctx context.Context, c store.Connection) (connect.Connection, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	have, ok := s.open[c.ID]
	if ok && have.changed.Equal(c.ChangedAt) {
		return have.Connection, nil
	}
	fresh, err := openConnection(connect.WithRules(context.WithoutCancel(ctx), s.rules), s.store, c)
	if err != nil {
		return nil, err
	}
	if ok {
		time.AfterFunc(longestRequest, func() { _ = have.Close() })
	}
	s.open[c.ID] = sharedConnection{fresh, c.ChangedAt}
	return fresh, nil
}

// World gives steps these connections. It must not be closed.
func (s *Shared) World() *connect.World {
	return &connect.World{Allowed: s.programs, FindLayout: s.layout, Open: func(ctx context.Context, name string) (connect.Connection, error) {
		c, err := s.store.ConnectionByName(ctx, name)
		if errors.Is(err, store.ErrNotFound) {
			return nil, fmt.Errorf("there is no connection %q; it may have been renamed or removed", name)
		}
		if err != nil {
			return nil, err
		}
		return s.Get(ctx, c)
	}}
}

// Close closes all.
func (s *Shared) Close() {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, c := range s.open {
		_ = c.Close()
	}
}
