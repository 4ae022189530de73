package api

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"welkin/core/sheet"
	"welkin/core/step"
	"welkin/store"
)

// positionRoutes are how far the reads of a pipeline came.
func (s *Server) positionRoutes() {
	route(s, "reader", http.MethodGet, "/api/pipelines/{id}/positions", "positions", "How far reads came that go on from where the last run ended", func(ctx context.Context, in *ByID) (*body[[]store.Position], error) {
		list, err := s.Store.Positions(ctx, in.ID)
		if err != nil {
			return nil, s.fault(ctx, "the positions", err)
		}
		return answer(list), nil
	})
	route(s, "operator", http.MethodPut, "/api/pipelines/{id}/positions/{step}", "set-position", "Set a position by hand; without one the next run begins at the start", func(ctx context.Context, in *struct {
		ID   int64  `path:"id"`
		Step string `path:"step"`
		Body struct {
			Position json.RawMessage `json:"position,omitempty" doc:"As it is shown; left out for the start."`
		}
	}) (*body[[]store.Position], error) {
		p, err := s.Store.Pipeline(ctx, in.ID)
		if err != nil {
			return nil, s.fault(ctx, "the pipeline", err)
		}
		doc, problems := sheet.Parse(p.Sheet, step.Kinds{})
		planned := s.bind(ctx, doc, problems, nil).Step(in.Step)
		if planned == nil || planned.Bound == nil {
			return nil, huma.Error422UnprocessableEntity(fmt.Sprintf("the sheet has no step %q that can be read", in.Step))
		}
		source, ok := planned.Bound.Source.(step.Positioned)
		if !ok {
			return nil, huma.Error422UnprocessableEntity(fmt.Sprintf("the step %q has no position: it reads everything each time", in.Step))
		}
		position := in.Body.Position
		if string(position) == "null" {
			position = nil
		}
		if position != nil { // one that can't be gone on from is refused now and not by the next run
			if _, _, err := source.From(ctx, step.Slice{After: position, Now: s.Clock()}); err != nil {
				return nil, huma.Error422UnprocessableEntity(err.Error())
			}
		}
		if err := s.Store.SetPosition(ctx, in.ID, in.Step, position, personOf(ctx).Name); err != nil {
			return nil, s.fault(ctx, "the position", err)
		}
		list, err := s.Store.Positions(ctx, in.ID)
		if err != nil {
			return nil, s.fault(ctx, "the positions", err)
		}
		return answer(list), nil
	})
}
