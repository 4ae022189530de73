package api

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"welkin/core/format"
	"welkin/core/format/fixed"
	"welkin/store"
)

// layoutInput is a layout as it is saved.
type layoutInput struct {
	Name    string       `json:"name" minLength:"1" maxLength:"100"`
	Layout  fixed.Layout `json:"layout"`
	Version int          `json:"version,omitempty" doc:"The version that was changed."`
}

// records are records of a file as they are drawn on.
type records struct {
	Lines    []string       `json:"lines" doc:"Each record's characters."`
	Bytes    []string       `json:"bytes" doc:"Each record's bytes in hexadecimal."`
	Proposal fixed.Proposal `json:"proposal"`
	Read     []readRecord   `json:"read,omitempty" doc:"The records as the layout reads them."`
	Problem  string         `json:"problem,omitempty" doc:"What is wrong with the layout."`
}

// readRecord is a record's values by field, or why it has none.
type readRecord struct {
	Type   string             `json:"type,omitempty"`
	Values map[string]*string `json:"values,omitempty"`
	Fault  string             `json:"fault,omitempty"`
	Column string             `json:"column,omitempty"`
}

const shownRecords = 60

func (s *Server) layoutRoutes() {
	route(s, "reader", http.MethodGet, "/api/layouts", "layouts", "All record layouts", func(ctx context.Context, _ *struct{}) (*body[[]store.SavedLayout], error) {
		list, err := s.Store.Layouts(ctx)
		if err != nil {
			return nil, s.fault(ctx, "the layouts", err)
		}
		return answer(list), nil
	})
	save := func(ctx context.Context, id int64, in layoutInput) (*body[store.SavedLayout], error) {
		if err := in.Layout.Validate(); err != nil {
			return nil, huma.Error422UnprocessableEntity(err.Error())
		}
		l, err := s.Store.SaveLayout(ctx, store.SavedLayout{ID: id, Name: strings.TrimSpace(in.Name), Layout: in.Layout, Version: in.Version, ChangedBy: personOf(ctx).Name})
		if errors.Is(err, store.ErrConflict) {
			if id != 0 {
				return nil, huma.Error409Conflict("somebody saved this layout meanwhile, or another one has that name; open it anew")
			}
			return nil, huma.Error409Conflict(fmt.Sprintf("there is a layout %q already; choose another name", in.Name))
		}
		if err != nil {
			return nil, s.fault(ctx, "the layout", err)
		}
		return answer(l), nil
	}
	route(s, "builder", http.MethodPost, "/api/layouts", "add-layout", "Add a record layout", func(ctx context.Context, in *struct{ Body layoutInput }) (*body[store.SavedLayout], error) {
		return save(ctx, 0, in.Body)
	})
	route(s, "builder", http.MethodPut, "/api/layouts/{id}", "save-layout", "Save a new version of a record layout", func(ctx context.Context, in *struct {
		ID   int64 `path:"id"`
		Body layoutInput
	}) (*body[store.SavedLayout], error) {
		return save(ctx, in.ID, in.Body)
	})
	route(s, "builder", http.MethodDelete, "/api/layouts/{id}", "remove-layout", "Remove a record layout", func(ctx context.Context, in *ByID) (*struct{}, error) {
		if err := s.Store.DeleteLayout(ctx, in.ID); err != nil {
			return nil, s.fault(ctx, "the layout", err)
		}
		return nil, nil
	})
	route(s, "builder", http.MethodPost, "/api/layouts/records", "layout-records", "The first records of a file, fields proposed from them, and what a layout reads of them", func(ctx context.Context, in *struct {
		Body struct {
			Connection string        `json:"connection"`
			File       string        `json:"file"`
			Layout     *fixed.Layout `json:"layout,omitempty"`
		}
	}) (*body[records], error) {
		out, err := s.records(ctx, in.Body.Connection, in.Body.File, in.Body.Layout)
		if err != nil {
			return nil, huma.Error422UnprocessableEntity(err.Error())
		}
		return answer(out), nil
	})
	route(s, "builder", http.MethodPost, "/api/layouts/convert", "convert-layout", "Read a layout from YAML or a COBOL copybook, or write one as YAML", func(_ context.Context, in *struct {
		Body struct {
			Copybook string        `json:"copybook,omitempty"`
			YAML     string        `json:"yaml,omitempty"`
			Layout   *fixed.Layout `json:"layout,omitempty"`
		}
	}) (*body[converted], error) {
		out, err := convert(in.Body.Copybook, in.Body.YAML, in.Body.Layout)
		if err != nil {
			return nil, huma.Error422UnprocessableEntity(err.Error())
		}
		return answer(out), nil
	})
}

type converted struct {
	Layout fixed.Layout `json:"layout"`
	YAML   string       `json:"yaml"`
	Notes  []string     `json:"notes,omitempty"`
}

func convert(copybook, text string, l *fixed.Layout) (out converted, err error) {
	switch {
	case copybook != "":
		out.Layout, out.Notes, err = fixed.Copybook(copybook)
	case text != "":
		if l, err = fixed.ParseLayout([]byte(text)); err == nil {
			out.Layout = *l
		}
	case l != nil:
		out.Layout = *l
	default:
		err = errors.New("there is nothing to convert")
	}
	if err == nil {
		out.YAML, err = out.Layout.YAML()
	}
	return out, err
}

// records reads the first records of a file as they stand.
func (s *Server) records(ctx context.Context, connection, file string, l *fixed.Layout) (records, error) {
	out := records{Lines: []string{}, Bytes: []string{}}
	world := s.shared.World()
	files, err := world.Files(ctx, connection)
	if err != nil {
		return out, err
	}
	f, err := files.Open(ctx, file)
	if err != nil {
		return out, err
	}
	defer f.Close()
	plain, _, err := format.Decompressed(f)
	if err != nil {
		return out, err
	}
	defer plain.Close()
	head, err := io.ReadAll(io.LimitReader(plain, 256<<10))
	if err != nil {
		return out, fmt.Errorf("reading %s: %w", file, err)
	}
	all := fixed.Records(head, l)
	for _, r := range all[:min(len(all), shownRecords)] {
		out.Lines, out.Bytes = append(out.Lines, r.Text), append(out.Bytes, fmt.Sprintf("%x", r.Raw))
	}
	texts := make([]string, len(all))
	for i, r := range all {
		texts[i] = r.Text
	}
	out.Proposal = fixed.Propose(texts)
	if l == nil {
		return out, nil
	}
	if err := l.Validate(); err != nil {
		out.Problem = err.Error()
		return out, nil
	}
	for _, r := range all[:min(len(all), shownRecords)] {
		v := fixed.ReadOne(*l, r.Raw)
		one := readRecord{Type: v.Type, Values: v.Values, Column: v.Column}
		if v.Fault != nil {
			one.Fault = v.Fault.Sentence
		}
		out.Read = append(out.Read, one)
	}
	return out, nil
}
