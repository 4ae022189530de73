package api

import (
	"context"
	"net/http"

	"welkin/store"
)

type hereInput struct {
	ByID
	Body struct {
		Step    string `json:"step,omitempty" maxLength:"200"`
		Changed bool   `json:"changed,omitempty" doc:"There are changes that are not saved."`
		Leaving bool   `json:"leaving,omitempty"`
	}
}

func (s *Server) presenceRoutes() {
	route(s, "reader", http.MethodPost, "/api/pipelines/{id}/here", "here", "Say that one has a sheet open, and learn who else has", func(ctx context.Context, in *hereInput) (*body[[]store.Present], error) {
		me := personOf(ctx).Name
		if in.Body.Leaving {
			if err := s.Store.LeavePresent(ctx, in.ID, me); err != nil {
				return nil, s.fault(ctx, "the pipeline", err)
			}
			return answer([]store.Present{}), nil
		}
		if _, err := s.Store.Pipeline(ctx, in.ID); err != nil {
			return nil, s.fault(ctx, "the pipeline", err)
		}
		others, err := s.Store.SeePresent(ctx, in.ID, store.Present{Person: me, Step: in.Body.Step, Changed: in.Body.Changed})
		if err != nil {
			return nil, s.fault(ctx, "the pipeline", err)
		}
		if others == nil {
			others = []store.Present{}
		}
		return answer(others), nil
	})
}
