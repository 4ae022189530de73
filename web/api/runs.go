package api

import (
	"context"
	"encoding/csv"
	"errors"
	"fmt"
	"net/http"
	"strconv"

	"github.com/danielgtaylor/huma/v2"
	"github.com/go-chi/chi/v5"

	"welkin/core/engine"
	"welkin/core/sheet"
	"welkin/core/step"
	"welkin/store"
)

// runDetail is a run with what it did.
type runDetail struct {
	store.Run
	Summary *engine.Summary `json:"summary,omitempty"`
	Receipt *engine.Receipt `json:"receipt,omitempty"`
	Steps   []runStep       `json:"steps" doc:"The steps of the version that ran."`
	Earlier []earlierRun    `json:"earlier" doc:"The pipeline's finished runs up to this one, the oldest first."`
}

type runStep struct {
	ID       string    `json:"id"`
	Kind     string    `json:"kind"`
	Role     step.Role `json:"role"`
	Sentence string    `json:"sentence"`
	Inputs   []string  `json:"inputs"`
}

type earlierRun struct {
	ID       int64   `json:"id"`
	Read     int64   `json:"rows_read"`
	SetAside int64   `json:"rows_set_aside"`
	Seconds  float64 `json:"seconds"`
}

func (s *Server) runDetail(ctx context.Context, id int64) (*runDetail, error) {
	run, err := s.Store.Run(ctx, id)
	if err != nil {
		return nil, err
	}
	out := &runDetail{Run: run, Steps: []runStep{}, Earlier: []earlierRun{}}
	if out.Summary, err = s.Store.RunSummary(ctx, id); err != nil {
		return nil, err
	}
	text, err := s.Store.SheetVersion(ctx, run.PipelineID, run.Version)
	if err != nil {
		return nil, err
	}
	sh, _ := sheet.Parse(text, step.Kinds{})
	for _, st := range sh.Steps {
		kind, _ := step.Find(st.Kind)
		sentence := ""
		if set, ok := st.Settings.(step.Settings); ok {
			sentence = set.Sentence()
		}
		inputs := st.Inputs()
		if inputs == nil {
			inputs = []string{}
		}
		out.Steps = append(out.Steps, runStep{st.ID, st.Kind, kind.Role, sentence, inputs})
	}
	if out.Summary != nil && run.State == store.Done {
		r := out.Summary.Receipt()
		out.Receipt = &r
	}
	earlier, err := s.Store.Runs(ctx, store.RunFilter{Pipeline: run.PipelineID, State: store.Done, Before: id + 1, Limit: 30})
	if err != nil {
		return nil, err
	}
	for i := len(earlier) - 1; i >= 0; i-- {
		if r := earlier[i]; r.StartedAt != nil && r.EndedAt != nil {
			out.Earlier = append(out.Earlier, earlierRun{r.ID, r.Read, r.SetAside, r.EndedAt.Sub(*r.StartedAt).Seconds()})
		}
	}
	return out, nil
}

func (s *Server) runRoutes() {
	route(s, "reader", http.MethodGet, "/api/runs", "runs", "Runs, the newest first", func(ctx context.Context, in *struct {
		Pipeline int64  `query:"pipeline"`
		State    string `query:"state" doc:"A state, or: set aside."`
		Text     string `query:"text" doc:"Part of the pipeline's name."`
		Before   int64  `query:"before" doc:"Runs older than this one."`
		Limit    int    `query:"limit" minimum:"1" maximum:"200" default:"50"`
	}) (*body[[]store.Run], error) {
		list, err := s.Store.Runs(ctx, store.RunFilter{Pipeline: in.Pipeline, State: in.State, Text: in.Text, Before: in.Before, Limit: in.Limit})
		if err != nil {
			return nil, s.fault(ctx, "the list of runs", err)
		}
		return answer(list), nil
	})
	route(s, "reader", http.MethodGet, "/api/runs/{id}", "run", "One run with its accounts and receipt", func(ctx context.Context, in *ByID) (*body[*runDetail], error) {
		d, err := s.runDetail(ctx, in.ID)
		if err != nil {
			return nil, s.fault(ctx, "the run", err)
		}
		return answer(d), nil
	})
	route(s, "operator", http.MethodPost, "/api/pipelines/{id}/runs", "run-pipeline", "Run a pipeline now", func(ctx context.Context, in *struct {
		ByID
		Body struct {
			Params map[string]string `json:"params,omitempty"`
		}
	}) (*body[store.Run], error) {
		id, err := s.Work.AskRun(ctx, in.ID, in.Body.Params, personOf(ctx).Name)
		if errors.Is(err, store.ErrNotFound) {
			return nil, s.fault(ctx, "the pipeline", err)
		}
		if err != nil {
			return nil, huma.Error422UnprocessableEntity(err.Error())
		}
		run, err := s.Store.Run(ctx, id)
		if err != nil {
			return nil, s.fault(ctx, "the run", err)
		}
		return answer(run), nil
	})
	route(s, "operator", http.MethodPost, "/api/runs/{id}/stop", "stop-run", "Ask a run to stop; nothing of it is loaded", func(ctx context.Context, in *ByID) (*struct{}, error) {
		if err := s.Store.AskStop(ctx, in.ID, personOf(ctx).Name); errors.Is(err, store.ErrNotFound) {
			return nil, huma.Error409Conflict("the run has ended already")
		} else if err != nil {
			return nil, s.fault(ctx, "the run", err)
		}
		return nil, nil
	})
	route(s, "reader", http.MethodGet, "/api/runs/{id}/log", "run-log", "A run's log", func(ctx context.Context, in *ByID) (*body[[]store.LogLine], error) {
		list, err := s.Store.RunLog(ctx, in.ID)
		if err != nil {
			return nil, s.fault(ctx, "the run's log", err)
		}
		return answer(list), nil
	})
	route(s, "reader", http.MethodGet, "/api/runs/{id}/reasons", "run-reasons", "Set-aside rows by reason", func(ctx context.Context, in *ByID) (*body[[]store.Reason], error) {
		list, err := s.Store.Reasons(ctx, in.ID)
		if err != nil {
			return nil, s.fault(ctx, "the rows set aside", err)
		}
		for i := range list {
			if seesPersonal(ctx) {
				break
			}
			rows, err := s.Store.SetAsideRows(ctx, in.ID, store.SetAsideFilter{After: list[i].First - 1, Limit: 1})
			if err != nil || len(rows) == 0 {
				return nil, s.fault(ctx, "the rows set aside", err)
			}
			list[i].Sample = rows[0].Hidden().Sentence
		}
		return answer(list), nil
	})
	route(s, "reader", http.MethodGet, "/api/runs/{id}/set-aside", "run-set-aside", "A page of set-aside rows", func(ctx context.Context, in *struct {
		ByID
		Step  string `query:"step"`
		Code  string `query:"code"`
		After int64  `query:"after" doc:"The n of the last row of the page before."`
		Limit int    `query:"limit" minimum:"1" maximum:"500" default:"100"`
	}) (*body[[]store.SetAside], error) {
		list, err := s.setAsideRows(ctx, in.ID, store.SetAsideFilter{Step: in.Step, Code: in.Code, After: in.After, Limit: in.Limit})
		if err != nil {
			return nil, s.fault(ctx, "the rows set aside", err)
		}
		return answer(list), nil
	})
}

// exportSetAside writes set-aside rows as CSV, for whoever delivered them: where
// and why, then the row. Rows of different shapes share the file; each holds its
// columns as name=value when the shapes differ.
func (s *Server) exportSetAside(w http.ResponseWriter, r *http.Request) {
	id, err := strconv.ParseInt(chi.URLParam(r, "id"), 10, 64)
	if err != nil {
		http.NotFound(w, r)
		return
	}
	filter := store.SetAsideFilter{Step: r.URL.Query().Get("step"), Code: r.URL.Query().Get("code"), Limit: 500}
	w.Header().Set("Content-Type", "text/csv; charset=utf-8")
	w.Header().Set("Content-Disposition", fmt.Sprintf(`attachment; filename="set_aside_run_%d.csv"`, id))
	out := csv.NewWriter(w)
	defer out.Flush()
	_ = out.Write([]string{"step", "reason", "sentence", "column", "value", "place", "line", "key", "row"})
	for {
		rows, err := s.setAsideRows(r.Context(), id, filter)
		if err != nil || len(rows) == 0 {
			return
		}
		for _, row := range rows {
			_ = out.Write([]string{row.Step, row.Code, row.Sentence, row.Column, row.Value, row.Place, strconv.FormatInt(row.Line, 10), row.Key, original(row)})
			filter.After = row.N
		}
		out.Flush()
	}
}

// original words a row: the record as it stood, or its columns.
func original(r store.SetAside) string {
	if r.Raw != "" {
		return r.Raw
	}
	text := ""
	for i, name := range r.Names {
		if i > 0 {
			text += "; "
		}
		if text += name + "="; r.Cells[i] != nil {
			text += *r.Cells[i]
		}
	}
	return text
}
