package api

import (
	"context"
	"net/http"
	"time"

	"welkin/core/calendar"
	"welkin/store"
)

// today is what somebody wants to know when the day begins.
type today struct {
	Now   time.Time   `json:"now"`
	Runs  []store.Run `json:"runs" doc:"Of the last 24 hours, the newest first."`
	Needs []store.Run `json:"needs" doc:"Of each pipeline the last run, where it failed, was stopped or set rows aside."`
	Next  []coming    `json:"next"`
}

type coming struct {
	At         time.Time `json:"at"`
	PipelineID int64     `json:"pipeline_id"`
	Pipeline   string    `json:"pipeline"`
	Zone       string    `json:"zone"`
	Usual      float64   `json:"usual_seconds" doc:"How long the last run took; 0 when there was none."`
}

func (s *Server) todayRoutes() {
	route(s, "reader", http.MethodGet, "/api/today", "today", "What ran, what failed, what comes next", func(ctx context.Context, _ *struct{}) (*body[today], error) {
		out := today{Now: s.Clock(), Runs: []store.Run{}, Needs: []store.Run{}, Next: []coming{}}
		runs, err := s.Store.Runs(ctx, store.RunFilter{Limit: 500})
		if err != nil {
			return nil, s.fault(ctx, "the list of runs", err)
		}
		seen, usual := map[int64]bool{}, map[int64]float64{}
		for _, r := range runs {
			if r.AskedAt.After(out.Now.Add(-24 * time.Hour)) {
				out.Runs = append(out.Runs, r)
			}
			ended := r.State != store.Waiting && r.State != store.Running
			if ended && !seen[r.PipelineID] {
				seen[r.PipelineID] = true
				if r.State != store.Done || r.SetAside > 0 {
					out.Needs = append(out.Needs, r)
				}
			}
			if _, ok := usual[r.PipelineID]; !ok && r.State == store.Done && r.StartedAt != nil && r.EndedAt != nil {
				usual[r.PipelineID] = r.EndedAt.Sub(*r.StartedAt).Seconds()
			}
		}
		schedules, err := s.Store.Schedules(ctx)
		if err != nil {
			return nil, s.fault(ctx, "the timetable", err)
		}
		for _, c := range schedules {
			if !c.Enabled || c.NextAt == nil {
				continue
			}
			if _, err := calendar.Parse(c.Cron, c.Zone); err == nil {
				out.Next = append(out.Next, coming{*c.NextAt, c.PipelineID, c.Pipeline, c.Zone, usual[c.PipelineID]})
			}
		}
		return answer(out), nil
	})
}
