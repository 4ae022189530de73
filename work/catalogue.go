package work

import (
	"context"
	"fmt"
	"time"

	"welkin/connect"
	"welkin/store"
)

// catalogueAge is how old a catalogue may be before it is listed anew behind the
// scenes.
const catalogueAge = 10 * time.Minute

// mostListed bounds the entries of one catalogue.
const mostListed = 2_000_000

// ListCatalogue lists anew what a connection with tables holds. An attempt that fails
// leaves what was listed before.
func ListCatalogue(ctx context.Context, s *store.Store, c store.Connection, open connect.Connection) error {
	began := time.Now()
	var entries []store.CatalogueEntry
	var walk func(path string) error
	walk = func(path string) error {
		list, err := open.Browse(ctx, path)
		if err != nil {
			return err
		}
		for _, e := range list {
			if len(entries) == mostListed {
				return fmt.Errorf("there are more than %d tables", mostListed)
			}
			entries = append(entries, store.CatalogueEntry{Parent: path, Entry: e})
			if e.Opens {
				if err := walk(e.Path); err != nil {
					return err
				}
			}
		}
		return nil
	}
	if err := walk(""); err != nil {
		_ = s.CatalogueFailed(context.WithoutCancel(ctx), c, err.Error())
		return err
	}
	return s.KeepCatalogue(ctx, c, entries, time.Since(began))
}

// Stale tells whether a catalogue should be listed anew: it is old, or the connection
// was changed since.
func Stale(state *store.CatalogueState, c store.Connection, now time.Time) (stale, usable bool) {
	if state == nil || !state.ConnectionChanged.Equal(c.ChangedAt) {
		return true, false
	}
	return now.Sub(state.ListedAt) > catalogueAge, true
}
