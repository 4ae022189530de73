package api

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"welkin/connect"
	"welkin/connect/kinds"
	"welkin/core/batch"
	"welkin/store"
	"welkin/work"
)

// connectionView is a connection as it is shown: of its secrets only which are
// set.
type connectionView struct {
	ID         int64           `json:"id"`
	Name       string          `json:"name"`
	Kind       string          `json:"kind"`
	Holds      string          `json:"holds" enum:"files,tables"`
	Settings   json.RawMessage `json:"settings"`
	SecretsSet []string        `json:"secrets_set"`
	ChangedAt  time.Time       `json:"changed_at"`
	ChangedBy  string          `json:"changed_by"`
}

type kindView struct {
	connect.Kind
	Schema any `json:"schema" doc:"JSON Schema of the settings; the form is drawn from it."`
}

// ConnectionInput is a connection as it is entered.
type ConnectionInput struct{ Body connectionBody }

type connectionBody struct {
	Name     string          `json:"name" minLength:"1" maxLength:"60" pattern:"^[A-Za-z][A-Za-z0-9_-]*$" patternDescription:"a letter, then letters, digits, _ and -"`
	Kind     string          `json:"kind"`
	Settings json.RawMessage `json:"settings" doc:"Secrets may stand in it; those left out stay as they are."`
}

func (s *Server) view(c store.Connection) connectionView {
	kind, _ := kinds.Find(c.Kind)
	v := connectionView{ID: c.ID, Name: c.Name, Kind: c.Kind, Holds: kind.Holds, Settings: c.Settings, SecretsSet: []string{}, ChangedAt: c.ChangedAt, ChangedBy: c.ChangedBy}
	if secrets, err := s.Store.Secrets(c); err == nil {
		for name := range secrets {
			v.SecretsSet = append(v.SecretsSet, name)
		}
	}
	slices.Sort(v.SecretsSet)
	return v
}

// split parts secrets from settings; a secret left out or empty stays as kept.
func (s *Server) split(kind connect.Kind, settings json.RawMessage, kept map[string]string) (json.RawMessage, map[string]string, error) {
	all := map[string]any{}
	if err := json.Unmarshal(settings, &all); err != nil {
		return nil, nil, fmt.Errorf("the settings can't be read")
	}
	secrets := map[string]string{}
	for _, name := range kind.Secrets {
		v, _ := all[name].(string)
		delete(all, name)
		if v == "" {
			v = kept[name]
		}
		if v != "" {
			secrets[name] = v
		}
	}
	plain, err := json.Marshal(all)
	return plain, secrets, err
}

// prepare checks input and gives the connection to keep.
func (s *Server) prepare(ctx context.Context, id int64, in *ConnectionInput) (store.Connection, map[string]string, error) {
	kind, ok := kinds.Find(in.Body.Kind)
	if !ok {
		return store.Connection{}, nil, huma.Error422UnprocessableEntity(fmt.Sprintf("there is no kind of connection %q", in.Body.Kind))
	}
	kept := map[string]string{}
	if id != 0 {
		c, err := s.Store.Connection(ctx, id)
		if err != nil {
			return c, nil, s.fault(ctx, "the connection", err)
		}
		if kept, err = s.Store.Secrets(c); err != nil {
			return c, nil, s.fault(ctx, "the connection's secrets", err)
		}
	}
	plain, secrets, err := s.split(kind, in.Body.Settings, kept)
	if err == nil {
		_, err = kind.Decode(plain, secrets)
	}
	if err != nil {
		return store.Connection{}, nil, huma.Error422UnprocessableEntity(err.Error())
	}
	return store.Connection{ID: id, Name: in.Body.Name, Kind: kind.Name, Settings: plain, ChangedBy: personOf(ctx).Name}, secrets, nil
}

func (s *Server) save(ctx context.Context, id int64, in *ConnectionInput) (*body[connectionView], error) {
	c, secrets, err := s.prepare(ctx, id, in)
	if err != nil {
		return nil, err
	}
	c, err = s.Store.SaveConnection(ctx, c, secrets)
	if errors.Is(err, store.ErrConflict) {
		return nil, huma.Error409Conflict(fmt.Sprintf("there is a connection %q already; choose another name", in.Body.Name))
	}
	if err != nil {
		return nil, s.fault(ctx, "the connection", err)
	}
	return answer(s.view(c)), nil
}

func (s *Server) openByID(ctx context.Context, id int64) (connect.Connection, error) {
	c, err := s.Store.Connection(ctx, id)
	if err != nil {
		return nil, s.fault(ctx, "the connection", err)
	}
	open, err := s.shared.Get(ctx, c)
	if err != nil {
		return nil, huma.Error422UnprocessableEntity(err.Error())
	}
	return open, nil
}

// AtPath is a request for a path of a connection.
type AtPath struct {
	ByID
	Path string `query:"path"`
}

func (s *Server) connectionRoutes() {
	route(s, "reader", http.MethodGet, "/api/connection-kinds", "connection-kinds", "Kinds of connection with the schemas of their settings", func(context.Context, *struct{}) (*body[[]kindView], error) {
		out := []kindView{}
		for _, k := range kinds.All() {
			if k.Secrets == nil {
				k.Secrets = []string{}
			}
			out = append(out, kindView{k, k.JSONSchema()})
		}
		return answer(out), nil
	})
	route(s, "reader", http.MethodGet, "/api/connections", "connections", "All connections", func(ctx context.Context, _ *struct{}) (*body[[]connectionView], error) {
		list, err := s.Store.Connections(ctx)
		if err != nil {
			return nil, s.fault(ctx, "the list of connections", err)
		}
		out := make([]connectionView, len(list))
		for i, c := range list {
			out[i] = s.view(c)
		}
		return answer(out), nil
	})
	route(s, "builder", http.MethodPost, "/api/connections", "add-connection", "Add a connection", func(ctx context.Context, in *ConnectionInput) (*body[connectionView], error) {
		return s.save(ctx, 0, in)
	})
	type change struct {
		ByID
		ConnectionInput
	}
	route(s, "builder", http.MethodPut, "/api/connections/{id}", "change-connection", "Change a connection", func(ctx context.Context, in *change) (*body[connectionView], error) {
		s.trials.Forget() // rows of before the change must not come again
		return s.save(ctx, in.ID, &in.ConnectionInput)
	})
	route(s, "builder", http.MethodDelete, "/api/connections/{id}", "delete-connection", "Remove a connection", func(ctx context.Context, in *ByID) (*struct{}, error) {
		if err := s.Store.DeleteConnection(ctx, in.ID); err != nil {
			return nil, s.fault(ctx, "the connection", err)
		}
		return nil, nil
	})
	route(s, "builder", http.MethodPost, "/api/connection-check", "check-connection", "Go through the check list with settings that need not be kept", func(ctx context.Context, in *struct {
		ID int64 `query:"id" doc:"The connection whose kept secrets are used; 0 for none."`
		ConnectionInput
	}) (*body[[]connect.CheckLine], error) {
		c, secrets, err := s.prepare(ctx, in.ID, &in.ConnectionInput)
		if err != nil {
			return nil, err
		}
		kind, _ := kinds.Find(c.Kind)
		settings, err := kind.Decode(c.Settings, secrets)
		if err != nil {
			return nil, huma.Error422UnprocessableEntity(err.Error())
		}
		open, err := kind.Open(work.WithInbox(connect.WithRules(ctx, s.Work.Rules), s.Store, in.ID), settings)
		if err != nil {
			return nil, huma.Error422UnprocessableEntity(err.Error())
		}
		defer open.Close()
		return answer(open.Check(ctx)), nil
	})
	route(s, "reader", http.MethodGet, "/api/connections/{id}/browse", "browse", "What is inside a path of a connection", func(ctx context.Context, in *struct {
		AtPath
		Search string `query:"search" doc:"Look for names that hold this text, anywhere."`
	}) (*body[[]connect.Entry], error) {
		list, err := s.inside(ctx, in.ID, in.Path, strings.TrimSpace(in.Search))
		if err != nil {
			return nil, err
		}
		return answer(list), nil
	})
	route(s, "reader", http.MethodGet, "/api/connections/{id}/describe", "describe", "Columns of a table or file", func(ctx context.Context, in *AtPath) (*body[*connect.Description], error) {
		c, err := s.openByID(ctx, in.ID)
		if err != nil {
			return nil, err
		}
		d, err := c.Describe(ctx, in.Path)
		if err != nil {
			return nil, huma.Error422UnprocessableEntity(err.Error())
		}
		return answer(d), nil
	})
	route(s, "reader", http.MethodGet, "/api/connections/{id}/sample", "sample", "The first 200 rows of a table or file", func(ctx context.Context, in *AtPath) (*body[batch.Wire], error) {
		c, err := s.openByID(ctx, in.ID)
		if err != nil {
			return nil, err
		}
		w, err := c.Sample(ctx, in.Path, 200)
		if err != nil {
			return nil, huma.Error422UnprocessableEntity(err.Error())
		}
		if !seesPersonal(ctx) {
			hideLikely(&w)
		}
		return answer(w), nil
	})
}
