package api

import (
	"context"
	"fmt"
	"slices"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"welkin/core/batch"
	"welkin/core/engine"
	"welkin/core/offer"
	"welkin/core/schema"
	"welkin/core/sheet"
	"welkin/core/step"
)

type atStepInput struct{ Body atStepBody }

// atStepBody is a sheet and the step that is asked about.
type atStepBody struct {
	SheetInput
	Step   string            `json:"step"`
	Sample int64             `json:"sample,omitempty" minimum:"1" maximum:"200000" default:"2000" doc:"Rows read of the main input."`
	Params map[string]string `json:"params,omitempty"`
}

// referenceRead is how many rows of a reference are looked at, to see what it
// holds.
const referenceRead = 20_000

// rowsAt tries what comes out at a place, which is a step or step.output.
func (s *Server) rowsAt(ctx context.Context, in atStepBody, place string, rows int64) (batch.Wire, error) {
	id, output := sheet.Source(place)
	plan, err := s.tryable(ctx, in.SheetInput, in.Params, id)
	if err != nil {
		return batch.Wire{}, err
	}
	t, err := engine.Try(ctx, plan, engine.Trial{Step: id, Sample: rows, Others: othersRead, Show: int(rows), Clock: time.Now, Cache: s.trials})
	if err != nil {
		return batch.Wire{}, huma.Error422UnprocessableEntity(err.Error())
	}
	if output == "" {
		return t.After.Wire, nil
	}
	for _, b := range t.Branches {
		if b.Name == output {
			return b.Wire, nil
		}
	}
	return batch.Wire{}, huma.Error422UnprocessableEntity(fmt.Sprintf("step %s has no output %q", id, output))
}

// inputsAt tries what comes into the first two inputs of a step.
func (s *Server) inputsAt(ctx context.Context, in atStepBody) (*sheet.Step, [2]batch.Wire, error) {
	var rows [2]batch.Wire
	sh, _, err := in.read()
	if err != nil {
		return nil, rows, huma.Error422UnprocessableEntity(err.Error())
	}
	st := sh.Step(in.Step)
	if st == nil {
		return nil, rows, huma.Error422UnprocessableEntity(fmt.Sprintf("there is no step %q", in.Step))
	}
	places := st.Inputs()
	if len(places) < 2 {
		return nil, rows, huma.Error422UnprocessableEntity("the step takes rows of two others; choose both first")
	}
	for i, read := range []int64{in.Sample, referenceRead} {
		if rows[i], err = s.rowsAt(ctx, in, places[i], read); err != nil {
			return nil, rows, err
		}
	}
	return st, rows, nil
}

func (s *Server) keys(ctx context.Context, in *atStepInput) (*body[[]offer.Key], error) {
	_, rows, err := s.inputsAt(ctx, in.Body)
	if err != nil {
		return nil, err
	}
	return answer(offer.Keys(rows[0], rows[1])), nil
}

func (s *Server) pairs(ctx context.Context, in *atStepInput) (*body[[]step.Pair], error) {
	st, rows, err := s.inputsAt(ctx, in.Body)
	if err != nil {
		return nil, err
	}
	set, ok := st.Settings.(*step.MatchNames)
	if !ok {
		return nil, huma.Error422UnprocessableEntity(fmt.Sprintf("step %s matches no names", st.ID))
	}
	values, err := textsOf(rows[0], set.Column)
	if err != nil {
		return nil, err
	}
	names, err := textsOf(rows[1], set.Name)
	if err != nil {
		return nil, err
	}
	pairs, err := set.Pairs(values, names)
	if err != nil {
		return nil, huma.Error422UnprocessableEntity(err.Error())
	}
	return answer(pairs), nil
}

// textsOf gives the values of a column that are there.
func textsOf(rows batch.Wire, column string) ([]string, error) {
	at := slices.IndexFunc(rows.Columns, func(c schema.Column) bool { return c.Name == column })
	if at < 0 {
		return nil, huma.Error422UnprocessableEntity(fmt.Sprintf("there is no column %q", column))
	}
	var out []string
	for _, row := range rows.Rows {
		if row[at] != nil {
			out = append(out, *row[at])
		}
	}
	return out, nil
}
