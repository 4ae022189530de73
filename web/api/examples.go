package api

import (
	"context"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"welkin/core/engine"
)

func (s *Server) examples(ctx context.Context, in *struct{ Body SheetInput }) (*body[[]engine.Outcome], error) {
	sh, _, err := in.Body.read()
	if err != nil {
		return nil, huma.Error422UnprocessableEntity(err.Error())
	}
	out := []engine.Outcome{}
	for _, e := range sh.Examples {
		out = append(out, engine.CheckExample(ctx, sh, e, engine.Binding{World: s.shared.World(), Now: time.Now(), Reach: othersRead})...)
	}
	return answer(out), nil
}
