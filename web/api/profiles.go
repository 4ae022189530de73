package api

import (
	"context"
	"errors"
	"io"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"welkin/connect"
	"welkin/connect/kinds"
	"welkin/core/engine"
	"welkin/core/personal"
	"welkin/core/profile"
	"welkin/core/step"
	"welkin/store"
)

// profiled is a profile with what differs from the one before.
type profiled struct {
	store.KeptProfile
	Before  *time.Time       `json:"before,omitempty" doc:"When the one before was made."`
	Changes []profile.Change `json:"changes"`
}

// firstRows is how many rows are looked at where not all are wanted.
const firstRows = 100_000

func (s *Server) profileRoutes() {
	route(s, "reader", http.MethodGet, "/api/connections/{id}/profile", "profile", "The newest profile of a table or file, and what differs from the one before", func(ctx context.Context, in *AtPath) (*body[*profiled], error) {
		out, err := s.newestProfile(ctx, in.ID, in.Path)
		if err != nil {
			return nil, s.fault(ctx, "the profile", err)
		}
		return answer(out), nil
	})
	route(s, "builder", http.MethodPost, "/api/connections/{id}/profile", "make-profile", "Profile a table or file, and keep the profile", func(ctx context.Context, in *struct {
		AtPath
		All bool `query:"all" doc:"Look at all rows; otherwise at the first 100,000."`
	}) (*body[*profiled], error) {
		c, err := s.Store.Connection(ctx, in.ID)
		if err != nil {
			return nil, s.fault(ctx, "the connection", err)
		}
		made, err := s.profileOf(ctx, c, in.Path, in.All)
		if err != nil {
			return nil, huma.Error422UnprocessableEntity(err.Error())
		}
		made.MadeBy = personOf(ctx).Name
		if _, err := s.Store.KeepProfile(ctx, in.ID, made); err != nil {
			return nil, s.fault(ctx, "the profile", err)
		}
		out, err := s.newestProfile(ctx, in.ID, in.Path)
		if err != nil {
			return nil, s.fault(ctx, "the profile", err)
		}
		return answer(out), nil
	})
}

// newestProfile gives the newest profile of a path, nil for none.
func (s *Server) newestProfile(ctx context.Context, id int64, path string) (*profiled, error) {
	list, err := s.Store.Profiles(ctx, id, path, 2)
	if err != nil || len(list) == 0 {
		return nil, err
	}
	out := &profiled{KeptProfile: list[0], Changes: []profile.Change{}}
	if len(list) > 1 {
		out.Before = &list[1].MadeAt
		out.Changes = append(out.Changes, profile.Compare(list[1].Columns, list[0].Columns)...)
	}
	if !seesPersonal(ctx) {
		hideProfiles(out)
	}
	return out, nil
}

// hideProfiles takes the values of columns that are likely to be personal away.
func hideProfiles(p *profiled) {
	hidden := engine.Hidden
	for i := range p.Columns {
		c := &p.Columns[i]
		_, likely := personal.ByHeading(c.Name)
		for _, v := range c.Frequent {
			likely = likely || len(personal.Find(v.Text, nil)) > 0
		}
		if !likely {
			continue
		}
		c.Frequent, c.Quantiles, c.Histogram = nil, nil, nil
		if c.Min != nil {
			c.Min, c.Max = &hidden, &hidden
		}
		for k := range p.Changes {
			if p.Changes[k].Column == c.Name {
				p.Changes[k].Sentence = "has changed"
			}
		}
	}
}

// profileOf reads a table, file or path and profiles its rows.
func (s *Server) profileOf(ctx context.Context, c store.Connection, path string, all bool) (store.KeptProfile, error) {
	out := store.KeptProfile{Path: path, Whole: true}
	var settings step.Settings
	kind, _ := kinds.Find(c.Kind)
	switch kind.Holds {
	case connect.HoldsFiles:
		settings = &step.ReadFiles{Connection: c.Name, Files: path}
	case connect.HoldsAPI:
		settings = &step.ReadAPI{Connection: c.Name, Path: path}
	default:
		settings = &step.ReadTable{Connection: c.Name, Table: path}
	}
	stepContext := &step.Context{Context: ctx, World: s.shared.World(), Now: s.Clock()}
	bound := settings.Bind(stepContext, nil)
	if bound == nil || bound.Source == nil || bound.Schema == nil {
		for _, p := range stepContext.Problems() {
			return out, errors.New(p.Sentence)
		}
		return out, errors.New("it can't be read")
	}
	limit := int64(firstRows)
	if all {
		limit = 0
	}
	reader, err := bound.Source.Open(ctx, limit)
	if err != nil {
		return out, err
	}
	defer reader.Close()
	profiler := profile.New(bound.Schema)
	for {
		chunk, err := reader.Next(ctx)
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return out, err
		}
		out.Rows += int64(chunk.Batch.N)
		profiler.Add(chunk.Batch)
	}
	out.Whole = all || out.Rows < firstRows
	out.Columns = profiler.Result()
	return out, nil
}
