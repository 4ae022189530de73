package api

import (
	"context"
	"errors"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"welkin/store"
)

// PersonInput is a person as an admin enters it.
type PersonInput struct{ Body personBody }

type personBody struct {
	Login    string `json:"login" minLength:"1" maxLength:"60" pattern:"^[A-Za-z0-9._@-]+$"`
	Name     string `json:"name" minLength:"1" maxLength:"100"`
	Role     string `json:"role" enum:"reader,operator,builder,admin"`
	Password string `json:"password,omitempty" maxLength:"1000" doc:"At least ten characters; left out to keep it."`
	Disabled bool   `json:"disabled,omitempty"`
}

const shortestPassword = 10

func (s *Server) peopleRoutes() {
	route(s, "admin", http.MethodGet, "/api/people", "people", "Everybody who may sign in", func(ctx context.Context, _ *struct{}) (*body[[]store.Person], error) {
		list, err := s.Store.People(ctx)
		if err != nil {
			return nil, s.fault(ctx, "the list of people", err)
		}
		return answer(list), nil
	})
	route(s, "admin", http.MethodPost, "/api/people", "add-person", "Add somebody", func(ctx context.Context, in *PersonInput) (*body[store.Person], error) {
		if len(in.Body.Password) < shortestPassword {
			return nil, huma.Error422UnprocessableEntity("the password needs at least ten characters")
		}
		p, err := s.Store.AddPerson(ctx, store.Person{Login: in.Body.Login, Name: in.Body.Name, Role: in.Body.Role, PasswordHash: HashPassword(in.Body.Password)})
		if errors.Is(err, store.ErrConflict) {
			return nil, huma.Error409Conflict("somebody signs in as " + in.Body.Login + " already; choose another name")
		}
		if err != nil {
			return nil, s.fault(ctx, "the person", err)
		}
		return answer(p), nil
	})
	type change struct {
		ByID
		PersonInput
	}
	route(s, "admin", http.MethodPut, "/api/people/{id}", "change-person", "Change somebody's role, name or password", func(ctx context.Context, in *change) (*struct{}, error) {
		p := store.Person{ID: in.ID, Name: in.Body.Name, Role: in.Body.Role, Disabled: in.Body.Disabled}
		if me := personOf(ctx); me.ID == in.ID && (p.Disabled || p.Role != "admin") {
			return nil, huma.Error422UnprocessableEntity("you can't take your own rights away; another admin can")
		}
		if in.Body.Password != "" {
			if len(in.Body.Password) < shortestPassword {
				return nil, huma.Error422UnprocessableEntity("the password needs at least ten characters")
			}
			p.PasswordHash = HashPassword(in.Body.Password)
		}
		if err := s.Store.ChangePerson(ctx, p); err != nil {
			return nil, s.fault(ctx, "the person", err)
		}
		return nil, nil
	})
}
