package api

import (
	"context"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"welkin/core/engine"
)

type countInput struct {
	Body struct {
		SheetInput
		Step   string            `json:"step"`
		Params map[string]string `json:"params,omitempty"`
	}
}

// counted is what came out of a step when everything was read.
type counted struct {
	Step     string           `json:"step"`
	Rows     int64            `json:"rows"`
	Branches map[string]int64 `json:"branches,omitempty" doc:"By output, for a step with several."`
	SetAside int64            `json:"set_aside" doc:"At this step and those before it."`
	Seconds  float64          `json:"seconds"`
}

// count reads everything a step depends on, only the columns that matter.
func (s *Server) count(ctx context.Context, in *countInput) (*body[counted], error) {
	plan, err := s.tryable(ctx, in.Body.SheetInput, in.Body.Params, in.Body.Step)
	if err != nil {
		return nil, err
	}
	t, err := engine.Try(ctx, plan, engine.Trial{Step: in.Body.Step, Show: 1, Lean: true, Clock: time.Now})
	if err != nil {
		return nil, huma.Error422UnprocessableEntity(err.Error())
	}
	out := counted{Step: in.Body.Step, Rows: t.After.Total, Seconds: t.Seconds}
	for _, b := range t.Branches {
		if out.Branches == nil {
			out.Branches = map[string]int64{}
		}
		out.Branches[b.Name] = b.Total
	}
	for _, a := range t.Steps {
		out.SetAside += a.SetAside
	}
	return answer(out), nil
}
