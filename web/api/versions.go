package api

import (
	"context"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"welkin/core/sheet"
	"welkin/core/step"
)

// versionView is one saved version of a pipeline.
type versionView struct {
	Version     int                `json:"version"`
	SavedAt     time.Time          `json:"saved_at"`
	SavedBy     string             `json:"saved_by"`
	Differences []sheet.Difference `json:"differences" doc:"Against the version before, in words; nothing for the first."`
}

type versionsInput struct {
	ByID
	Limit int `query:"limit" minimum:"1" maximum:"200" default:"20"`
}

type versionInput struct {
	ByID
	Version int `path:"version" minimum:"1"`
}

type versionText struct {
	YAML string       `json:"yaml"`
	Doc  *sheet.Sheet `json:"doc"`
}

type differencesInput struct {
	Body struct {
		Before SheetInput `json:"before"`
		After  SheetInput `json:"after"`
	}
}

func (s *Server) versionRoutes() {
	route(s, "reader", http.MethodGet, "/api/pipelines/{id}/versions", "pipeline-versions", "The latest versions of a pipeline, each with what it changed", func(ctx context.Context, in *versionsInput) (*body[[]versionView], error) {
		list, err := s.Store.SheetVersions(ctx, in.ID, in.Limit+1) // one more, to compare the last with
		if err != nil {
			return nil, s.fault(ctx, "the versions", err)
		}
		out := []versionView{}
		for i, v := range list[:min(len(list), in.Limit)] {
			view := versionView{Version: v.Version, SavedAt: v.SavedAt, SavedBy: v.SavedBy, Differences: []sheet.Difference{}}
			if i+1 < len(list) {
				before, _ := sheet.Parse(list[i+1].Sheet, step.Kinds{})
				after, _ := sheet.Parse(v.Sheet, step.Kinds{})
				view.Differences = orNone(sheet.Differences(before, after))
			}
			out = append(out, view)
		}
		return answer(out), nil
	})
	route(s, "reader", http.MethodGet, "/api/pipelines/{id}/versions/{version}", "pipeline-version", "One version of a pipeline's sheet", func(ctx context.Context, in *versionInput) (*body[versionText], error) {
		text, err := s.Store.SheetVersion(ctx, in.ID, in.Version)
		if err != nil {
			return nil, s.fault(ctx, "the version", err)
		}
		doc, problems := sheet.Parse(text, step.Kinds{})
		if len(doc.Examples) > 0 && !seesPersonal(ctx) {
			doc = s.bind(ctx, doc, problems, nil).HideExamples()
			if text, err = sheet.Format(doc); err != nil {
				return nil, s.fault(ctx, "the version", err)
			}
		}
		return answer(versionText{text, doc}), nil
	})
	route(s, "reader", http.MethodPost, "/api/sheets/differences", "sheet-differences", "Say in words what differs between two sheets", func(_ context.Context, in *differencesInput) (*body[[]sheet.Difference], error) {
		before, _, err := in.Body.Before.read()
		if err != nil {
			return nil, huma.Error422UnprocessableEntity(err.Error())
		}
		after, _, err := in.Body.After.read()
		if err != nil {
			return nil, huma.Error422UnprocessableEntity(err.Error())
		}
		return answer(orNone(sheet.Differences(before, after))), nil
	})
}

// orNone makes an empty list of none.
func orNone(list []sheet.Difference) []sheet.Difference {
	if list == nil {
		return []sheet.Difference{}
	}
	return list
}
