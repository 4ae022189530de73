package api_test

import (
	"bytes"
	"context"
	"encoding/base64"
	"encoding/json"
	"io"
	"log/slog"
	"net/http"
	"net/http/cookiejar"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/prometheus/client_golang/prometheus"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"welkin/localpg/pgtest"
	"welkin/store"
	"welkin/web/api"
	"welkin/work"
)

func TestMain(m *testing.M) { pgtest.Main(m) }

const password = "a long enough password"

// client is somebody at the API.
type client struct {
	t   testing.TB
	url string
	*http.Client
}

func serve(t testing.TB) (url string, s *store.Store) {
	return serveWith(t, func(*api.Server) {})
}

// serveWith serves with settings of the server changed.
func serveWith(t testing.TB, change func(*api.Server)) (url string, s *store.Store) {
	ctx := context.Background()
	_, address := pgtest.Database(t)
	seal, err := store.NewSeal(base64.StdEncoding.EncodeToString([]byte("a key of thirty-two bytes, truly")))
	require.NoError(t, err)
	s, err = store.Open(ctx, address, seal)
	require.NoError(t, err)
	for _, role := range []string{"reader", "operator", "builder", "admin"} {
		_, err := s.AddPerson(ctx, store.Person{Login: role, Name: role, Role: role, PasswordHash: api.HashPassword(password)})
		require.NoError(t, err)
	}
	w, err := work.New(s, work.Options{})
	require.NoError(t, err)
	settings := api.Server{Store: s, Work: w, Log: slog.New(slog.DiscardHandler), Clock: time.Now, Metrics: prometheus.NewRegistry()}
	change(&settings)
	server := api.New(settings)
	web := httptest.NewServer(server.Handler())
	t.Cleanup(func() { web.Close(); s.Close() })
	return web.URL, s
}

func as(t testing.TB, url, login string) *client {
	jar, err := cookiejar.New(nil)
	require.NoError(t, err)
	c := &client{t, url, &http.Client{Jar: jar}}
	if login != "" {
		status, said := c.do("POST", "/api/session", map[string]string{"login": login, "password": password})
		require.Equal(t, 200, status, said)
	}
	return c
}

func (c *client) do(method, path string, body any, headers ...string) (status int, said string) {
	c.t.Helper()
	text, err := json.Marshal(body)
	require.NoError(c.t, err)
	r, err := http.NewRequest(method, c.url+path, bytes.NewReader(text))
	require.NoError(c.t, err)
	r.Header.Set("Content-Type", "application/json")
	for i := 0; i+1 < len(headers); i += 2 {
		r.Header.Set(headers[i], headers[i+1])
	}
	answer, err := c.Do(r)
	require.NoError(c.t, err)
	defer answer.Body.Close()
	out, err := io.ReadAll(answer.Body)
	require.NoError(c.t, err)
	return answer.StatusCode, string(out)
}

func TestRightsAreHeldTo(t *testing.T) {
	url, _ := serve(t)
	folder := map[string]any{"name": "incoming", "kind": "folder", "settings": map[string]any{"path": t.TempDir()}}
	for _, c := range []struct {
		login, method, path string
		body                any
		want                int
	}{
		{"", "GET", "/api/pipelines", nil, 401},
		{"", "GET", "/api/session", nil, 200},
		{"reader", "GET", "/api/pipelines", nil, 200},
		{"reader", "POST", "/api/pipelines/1/runs", map[string]any{}, 403},
		{"reader", "POST", "/api/connections", folder, 403},
		{"operator", "POST", "/api/connections", folder, 403},
		{"operator", "POST", "/api/pipelines/1/runs", map[string]any{}, 404},
		{"builder", "POST", "/api/connections", folder, 200},
		{"builder", "GET", "/api/people", nil, 403},
		{"admin", "GET", "/api/people", nil, 200},
	} {
		status, said := as(t, url, c.login).do(c.method, c.path, c.body)
		assert.Equal(t, c.want, status, "%s %s %s: %s", c.login, c.method, c.path, said)
	}
}

func TestSigningInIsLimitedAndOtherSitesAreKeptOut(t *testing.T) {
	url, _ := serve(t)
	c := as(t, url, "")
	status, said := c.do("POST", "/api/session", map[string]string{"login": "nobody", "password": "x"})
	assert.Equal(t, 401, status)
	assert.Contains(t, said, "name or password is wrong")
	for range 12 {
		status, said = c.do("POST", "/api/session", map[string]string{"login": "admin", "password": "guess"})
	}
	assert.Equal(t, 429, status)
	assert.Contains(t, said, "wait a minute")
	status, _ = as(t, url, "builder").do("POST", "/api/connections", map[string]any{}, "Origin", "https://elsewhere.example", "Sec-Fetch-Site", "cross-site")
	assert.Equal(t, 403, status)
}

func TestASessionEndsWithItsRights(t *testing.T) {
	url, s := serve(t)
	c := as(t, url, "builder")
	status, _ := c.do("GET", "/api/pipelines", nil)
	require.Equal(t, 200, status)
	p, err := s.PersonByLogin(context.Background(), "builder")
	require.NoError(t, err)
	p.Disabled, p.PasswordHash = true, ""
	require.NoError(t, s.ChangePerson(context.Background(), p))
	status, _ = c.do("GET", "/api/pipelines", nil)
	assert.Equal(t, 401, status)
}

func TestSecretsAreSealedAndNeverSentBack(t *testing.T) {
	url, s := serve(t)
	c := as(t, url, "builder")
	const secret = "the warden's password"
	settings := map[string]any{"host": "127.0.0.1", "port": 1, "database": "booking", "user": "loader", "password": secret}
	status, said := c.do("POST", "/api/connections", map[string]any{"name": "booking", "kind": "postgresql", "settings": settings})
	require.Equal(t, 200, status, said)
	assert.NotContains(t, said, secret)
	assert.Contains(t, said, `"secrets_set":["password"]`)
	var kept string
	require.NoError(t, s.Pool.QueryRow(context.Background(), `SELECT settings::text || encode(secrets, 'escape') FROM connections`).Scan(&kept))
	assert.NotContains(t, kept, secret)
	// A change that leaves the secret out keeps it; a check that fails does not tell it.
	delete(settings, "password")
	settings["user"] = "reader"
	status, said = c.do("PUT", "/api/connections/1", map[string]any{"name": "booking", "kind": "postgresql", "settings": settings})
	require.Equal(t, 200, status, said)
	one, err := s.Connection(context.Background(), 1)
	require.NoError(t, err)
	secrets, err := s.Secrets(one)
	require.NoError(t, err)
	assert.Equal(t, secret, secrets["password"])
	_, said = c.do("POST", "/api/connection-check?id=1", map[string]any{"name": "booking", "kind": "postgresql", "settings": settings})
	assert.NotContains(t, said, secret)
	assert.Contains(t, said, "nothing answers at")
	status, said = c.do("POST", "/api/connections", map[string]any{"name": "booking", "kind": "postgresql", "settings": settings})
	assert.Equal(t, 409, status)
	assert.Contains(t, said, "choose another name")
}

func TestTwoPeopleDoNotOverwriteEachOther(t *testing.T) {
	url, _ := serve(t)
	c := as(t, url, "builder")
	text := "welkin: 1\nname: Nights\nsteps: []\n"
	status, said := c.do("POST", "/api/pipelines", map[string]any{"yaml": text})
	require.Equal(t, 200, status, said)
	status, said = c.do("PUT", "/api/pipelines/1", map[string]any{"yaml": text + "# one\n", "version": 1})
	require.Equal(t, 200, status, said)
	status, said = as(t, url, "admin").do("PUT", "/api/pipelines/1", map[string]any{"yaml": text + "# two\n", "version": 1})
	assert.Equal(t, 409, status)
	assert.Contains(t, said, "builder saved version 2 meanwhile; yours was made from version 1")
	status, said = c.do("PUT", "/api/pipelines/1", map[string]any{"yaml": "steps: [", "version": 2})
	assert.Equal(t, 422, status, said)
}

func TestTheInstallationAnswersForItself(t *testing.T) {
	url, _ := serve(t)
	c := as(t, url, "")
	for path, want := range map[string]string{"/healthz": "ok", "/readyz": "ready", "/metrics": "welkin_runs_total", "/api/openapi.json": `"openapi":"3.1`, "/pipelines/7?step=x": "<div id=\"app\">"} {
		status, said := c.do("GET", path, nil)
		assert.Equal(t, 200, status, path)
		if path != "/metrics" {
			assert.Contains(t, said, want, path)
		}
	}
	for _, path := range []string{"/assets/gone.js", "/api/gone"} {
		status, _ := c.do("GET", path, nil)
		assert.Equal(t, 404, status, path)
	}
}

func TestTheDocumentIsTheSavedOne(t *testing.T) {
	doc, err := api.OpenAPI()
	require.NoError(t, err)
	saved, err := os.ReadFile(filepath.Join("..", "..", "docs", "openapi.json"))
	require.NoError(t, err)
	assert.Equal(t, strings.TrimSpace(string(saved)), string(doc), "run make generate")
}
