package api

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strconv"

	"github.com/go-chi/chi/v5"

	"welkin/connect/webhook"
)

// mostMessages is how many objects one call may send.
const mostMessages = 100_000

// receive takes JSON that others send to an inbound address: an object, or a list of
// them. It answers once they are kept, all or none.
func (s *Server) receive(w http.ResponseWriter, r *http.Request) {
	say := func(status int, said string) {
		w.Header().Set("Content-Type", "application/json")
		w.WriteHeader(status)
		_ = json.NewEncoder(w).Encode(map[string]string{"said": said})
	}
	number, err := strconv.ParseInt(chi.URLParam(r, "number"), 10, 64)
	if err != nil {
		say(http.StatusNotFound, "there is no such address")
		return
	}
	settings := s.hookSettings(r, number)
	if settings == nil || !settings.Signed(number, chi.URLParam(r, "sign")) {
		say(http.StatusNotFound, "there is no such address")
		return
	}
	text, err := io.ReadAll(http.MaxBytesReader(w, r.Body, settings.Most()))
	var large *http.MaxBytesError
	switch {
	case errors.As(err, &large):
		say(http.StatusRequestEntityTooLarge, fmt.Sprintf("one call may send %d bytes; send less at once", settings.Most()))
		return
	case err != nil:
		say(http.StatusBadRequest, "the message did not come whole")
		return
	}
	bodies, err := objects(text)
	if err != nil {
		say(http.StatusUnprocessableEntity, err.Error())
		return
	}
	if err := s.Store.Receive(r.Context(), number, bodies); err != nil {
		s.Log.ErrorContext(r.Context(), "keeping what came to an address", "connection", number, "error", err)
		say(http.StatusServiceUnavailable, "it could not be kept; send it again")
		return
	}
	say(http.StatusAccepted, fmt.Sprintf("%d kept", len(bodies)))
}

func (s *Server) hookSettings(r *http.Request, number int64) *webhook.Settings {
	c, err := s.Store.Connection(r.Context(), number)
	if err != nil || c.Kind != webhook.Kind.Name {
		return nil
	}
	secrets, err := s.Store.Secrets(c)
	if err != nil {
		return nil
	}
	settings, err := webhook.Kind.Decode(c.Settings, secrets)
	if err != nil {
		return nil
	}
	return settings.(*webhook.Settings)
}

// objects reads an object or a list of objects.
func objects(text []byte) ([]json.RawMessage, error) {
	text = bytes.TrimSpace(text)
	var out []json.RawMessage
	if len(text) > 0 && text[0] == '[' {
		if err := json.Unmarshal(text, &out); err != nil {
			return nil, errors.New("this is not valid JSON")
		}
	} else {
		out = []json.RawMessage{text}
	}
	if len(out) == 0 || len(out) > mostMessages {
		return nil, fmt.Errorf("a call sends 1 to %d objects", mostMessages)
	}
	for i, o := range out {
		var object map[string]any
		if err := json.Unmarshal(o, &object); err != nil || object == nil || bytes.Contains(o, []byte(`\u0000`)) {
			return nil, fmt.Errorf("object %d is no JSON object such as {\"hut\": 7}; nothing was kept", i+1)
		}
	}
	return out, nil
}
