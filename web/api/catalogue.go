package api

import (
	"context"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"welkin/connect"
	"welkin/connect/kinds"
	"welkin/store"
	"welkin/work"
)

// shownEntries is how many entries of a path, or found by a search, are shown.
const (
	shownEntries = 5000
	shownFound   = 200
)

// inside lists what lies in a path of a connection, or what a search finds. What a
// database holds comes from the catalogue that is kept, which is listed anew behind the
// scenes when it is old; files are listed as they are.
func (s *Server) inside(ctx context.Context, id int64, path, search string) ([]connect.Entry, error) {
	c, err := s.Store.Connection(ctx, id)
	if err != nil {
		return nil, s.fault(ctx, "the connection", err)
	}
	if kind, ok := kinds.Find(c.Kind); ok && kind.Holds == connect.HoldsTables {
		state, err := s.Store.CatalogueState(ctx, id)
		if err != nil {
			return nil, s.fault(ctx, "the catalogue", err)
		}
		stale, usable := work.Stale(state, c, s.Clock())
		if stale {
			s.listBehind(c)
		}
		if usable {
			list, err := s.Store.SearchCatalogue(ctx, id, search, shownFound)
			if search == "" {
				list, err = s.Store.Browse(ctx, id, path, shownEntries)
			}
			if err != nil {
				return nil, s.fault(ctx, "the catalogue", err)
			}
			if search != "" || len(list) > 0 {
				return list, nil
			}
		}
	}
	open, err := s.shared.Get(ctx, c)
	if err != nil {
		return nil, huma.Error422UnprocessableEntity(err.Error())
	}
	var list []connect.Entry
	if search != "" {
		list, err = open.Search(ctx, search, shownFound)
	} else {
		list, err = open.Browse(ctx, path)
	}
	if err != nil {
		return nil, huma.Error422UnprocessableEntity(err.Error())
	}
	return list[:min(len(list), shownEntries)], nil
}

// longestListing is how long one listing may take.
const longestListing = 5 * time.Minute

// listBehind lists a connection anew without anybody waiting for it, once at a time.
func (s *Server) listBehind(c store.Connection) {
	if _, runs := s.listing.LoadOrStore(c.ID, true); runs {
		return
	}
	go func() {
		defer s.listing.Delete(c.ID)
		ctx, cancel := context.WithTimeout(context.Background(), longestListing)
		defer cancel()
		if err := s.list(ctx, c); err != nil {
			s.Log.Warn("listing a connection", "connection", c.Name, "error", err)
		}
	}()
}

func (s *Server) list(ctx context.Context, c store.Connection) error {
	open, err := s.shared.Get(ctx, c)
	if err != nil {
		return err
	}
	return work.ListCatalogue(ctx, s.Store, c, open)
}

func (s *Server) catalogueRoutes() {
	route(s, "reader", http.MethodGet, "/api/connections/{id}/catalogue", "catalogue-state", "How old what is kept of a connection's tables is", func(ctx context.Context, in *ByID) (*body[*store.CatalogueState], error) {
		state, err := s.Store.CatalogueState(ctx, in.ID)
		if err != nil {
			return nil, s.fault(ctx, "the catalogue", err)
		}
		return answer(state), nil
	})
	route(s, "reader", http.MethodPost, "/api/connections/{id}/catalogue", "list-catalogue", "List a connection's tables anew", func(ctx context.Context, in *ByID) (*body[*store.CatalogueState], error) {
		c, err := s.Store.Connection(ctx, in.ID)
		if err != nil {
			return nil, s.fault(ctx, "the connection", err)
		}
		if err := s.list(ctx, c); err != nil {
			return nil, huma.Error422UnprocessableEntity(err.Error())
		}
		state, err := s.Store.CatalogueState(ctx, in.ID)
		if err != nil {
			return nil, s.fault(ctx, "the catalogue", err)
		}
		return answer(state), nil
	})
}
