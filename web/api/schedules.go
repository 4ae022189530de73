package api

import (
	"context"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"welkin/core/calendar"
	"welkin/store"
)

// ScheduleInput is a schedule as it is entered.
type ScheduleInput struct{ Body scheduleBody }

type scheduleBody struct {
	PipelineID int64             `json:"pipeline_id"`
	Cron       string            `json:"cron" maxLength:"100"`
	Zone       string            `json:"zone" maxLength:"60"`
	Enabled    bool              `json:"enabled"`
	Params     map[string]string `json:"params,omitempty"`
}

func (s *Server) saveSchedule(ctx context.Context, id int64, in *ScheduleInput) (*body[store.Schedule], error) {
	if _, err := calendar.Parse(in.Body.Cron, in.Body.Zone); err != nil {
		return nil, huma.Error422UnprocessableEntity(err.Error())
	}
	if _, err := s.Store.Pipeline(ctx, in.Body.PipelineID); err != nil {
		return nil, s.fault(ctx, "the pipeline", err)
	}
	out, err := s.Work.SaveSchedule(ctx, store.Schedule{ID: id, PipelineID: in.Body.PipelineID, Cron: in.Body.Cron, Zone: in.Body.Zone,
		Enabled: in.Body.Enabled, Params: in.Body.Params, ChangedBy: personOf(ctx).Name})
	if err != nil {
		return nil, s.fault(ctx, "the schedule", err)
	}
	return answer(out), nil
}

func (s *Server) scheduleRoutes() {
	route(s, "reader", http.MethodGet, "/api/schedules", "schedules", "All schedules", func(ctx context.Context, _ *struct{}) (*body[[]store.Schedule], error) {
		list, err := s.Store.Schedules(ctx)
		if err != nil {
			return nil, s.fault(ctx, "the timetable", err)
		}
		return answer(list), nil
	})
	route(s, "reader", http.MethodGet, "/api/schedule-times", "schedule-times", "The next ten times of a cron expression", func(_ context.Context, in *struct {
		Cron string `query:"cron"`
		Zone string `query:"zone"`
	}) (*body[[]time.Time], error) {
		c, err := calendar.Parse(in.Cron, in.Zone)
		if err != nil {
			return nil, huma.Error422UnprocessableEntity(err.Error())
		}
		return answer(c.Times(s.Clock(), 10)), nil
	})
	route(s, "operator", http.MethodPost, "/api/schedules", "add-schedule", "Add a schedule", func(ctx context.Context, in *ScheduleInput) (*body[store.Schedule], error) {
		return s.saveSchedule(ctx, 0, in)
	})
	type change struct {
		ByID
		ScheduleInput
	}
	route(s, "operator", http.MethodPut, "/api/schedules/{id}", "change-schedule", "Change a schedule", func(ctx context.Context, in *change) (*body[store.Schedule], error) {
		return s.saveSchedule(ctx, in.ID, &in.ScheduleInput)
	})
	route(s, "operator", http.MethodDelete, "/api/schedules/{id}", "delete-schedule", "Remove a schedule", func(ctx context.Context, in *ByID) (*struct{}, error) {
		if err := s.Store.DeleteSchedule(ctx, in.ID); err != nil {
			return nil, s.fault(ctx, "the schedule", err)
		}
		return nil, nil
	})
}
