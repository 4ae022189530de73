package demo

import (
	"context"
	"crypto/rand"
	"embed"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"time"

	"welkin/core/sheet"
	"welkin/core/step"
	"welkin/store"
	"welkin/web/api"
	"welkin/work"
)

//go:embed sheets/*.yaml
var sheets embed.FS

// by is whose name stands at what the demo puts in.
const by = "the demo"

// SignIn is how the demo's admin signs in.
type SignIn struct {
	Login    string `json:"login"`
	Password string `json:"password"`
}

// People adds somebody of each role, with a password made up once and kept in a
// file that only its owner reads.
func People(ctx context.Context, s *store.Store, file string) (SignIn, error) {
	in := SignIn{Login: "ostrander", Password: rand.Text()[:12]}
	if text, err := os.ReadFile(file); err == nil {
		if err := json.Unmarshal(text, &in); err != nil {
			return in, fmt.Errorf("reading %s: %w", file, err)
		}
	} else {
		text, _ := json.Marshal(in)
		if err := os.WriteFile(file, text, 0o600); err != nil {
			return in, err
		}
	}
	for _, p := range []store.Person{{Login: in.Login, Name: "M. Ostrander", Role: "admin"}, {Login: "builder", Name: "I. Quill", Role: "builder"},
		{Login: "operator", Name: "T. Salter", Role: "operator"}, {Login: "reader", Name: "O. Vask", Role: "reader"}} {
		if _, err := s.PersonByLogin(ctx, p.Login); err == nil {
			continue
		}
		p.PasswordHash = api.HashPassword(in.Password)
		if _, err := s.AddPerson(ctx, p); err != nil && !errors.Is(err, store.ErrConflict) {
			return in, err
		}
	}
	return in, nil
}

// Connections adds a connection, or brings it up to date where it was not
// changed by a person.
func Connections(ctx context.Context, s *store.Store, c store.Connection, secrets map[string]string) error {
	c.ChangedBy = by
	have, err := s.ConnectionByName(ctx, c.Name)
	if err == nil {
		c.ID = have.ID
	} else if !errors.Is(err, store.ErrNotFound) {
		return err
	}
	_, err = s.SaveConnection(ctx, c, secrets)
	return err
}

// Sheet gives the text of one of the demo's sheets, such as warden_logs.
func Sheet(name string) (string, error) {
	text, err := sheets.ReadFile("sheets/" + name + ".yaml")
	return string(text), err
}

// schedules by sheet: cron expressions in the association's zone.
var schedules = map[string]string{"warden_logs": "10 5 * * *", "stays_by_night": "30 2 * * *"}

const zone = "Europe/Oslo"

// Pipelines adds the demo's pipelines with their schedules, once: what a person
// changed or removed stays so.
func Pipelines(ctx context.Context, s *store.Store) error {
	if list, err := s.Pipelines(ctx); err != nil || len(list) > 0 {
		return err
	}
	return addSheets(ctx, s, "warden_logs", "stays_by_night")
}

// Sources adds a pipeline for each kind of source, once, and the layout that one of
// them uses.
func Sources(ctx context.Context, s *store.Store) error {
	if _, err := s.LayoutByName(ctx, RadioLayoutName); err == nil {
		return nil
	} else if !errors.Is(err, store.ErrNotFound) {
		return err
	}
	if _, err := s.SaveLayout(ctx, store.SavedLayout{Name: RadioLayoutName, Layout: RadioLayout, ChangedBy: by}); err != nil {
		return err
	}
	return addSheets(ctx, s, "radio_weather", "payments_by_item", "club_members", "recent_stays", "provisions", "deliveries", "inventory")
}

// RadioLayoutName is what the layout of the radio's log is called.
const RadioLayoutName = "mountain radio"

func addSheets(ctx context.Context, s *store.Store, names ...string) error {
	w, err := work.New(s, work.Options{Clock: time.Now})
	if err != nil {
		return err
	}
	for _, name := range names {
		text, err := Sheet(name)
		if err != nil {
			return err
		}
		sh, _ := sheet.Parse(text, step.Kinds{})
		p, err := s.AddPipeline(ctx, sh.Name, text, by)
		if err != nil {
			return err
		}
		if schedules[name] == "" {
			continue
		}
		if _, err := w.SaveSchedule(ctx, store.Schedule{PipelineID: p.ID, Cron: schedules[name], Zone: zone, Enabled: true, ChangedBy: by}); err != nil {
			return err
		}
	}
	return nil
}
