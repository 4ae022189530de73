// Package api serves the application: typed handlers over HTTP with an OpenAPI
// document (api.go), sign-in and rights (session.go, people.go), one file for
// each part of the application, live updates (events.go) and the built front
// end (static.go). It has no rules of the job.
package api

import (
	"context"
	"errors"
	"log/slog"
	"net/http"
	"strings"
	"sync"
	"time"

	"github.com/alexedwards/scs/pgxstore"
	"github.com/alexedwards/scs/v2"
	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humachi"
	"github.com/go-chi/chi/v5"
	"github.com/go-chi/chi/v5/middleware"
	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/promhttp"

	"welkin/core/engine"
	"welkin/store"
	"welkin/work"
)

// Server serves the application.
type Server struct {
	Store   *store.Store
	Work    *work.Work
	Log     *slog.Logger
	Clock   func() time.Time
	Metrics *prometheus.Registry
	Secure  bool // cookies only over TLS
	// PrivateAddresses lets files be fetched from this machine and from private
	// networks.
	PrivateAddresses bool
	sessions         *scs.SessionManager
	shared           *work.Shared
	events           *events
	trials           *engine.TrialCache
	listing          *sync.Map // connections that are being listed, by number
	api              huma.API
}

// trialRoom is how many bytes of rows are kept from trials.
const trialRoom = 128 << 20

// New prepares a server; Run must be called for live updates to flow.
func New(s Server) *Server {
	out := &s
	out.listing = &sync.Map{}
	out.sessions = scs.New()
	if s.Store != nil {
		out.sessions.Store = pgxstore.NewWithCleanupInterval(s.Store.Pool, 10*time.Minute)
		out.shared = work.NewShared(s.Store, s.Work.Programs, s.Work.Rules)
	}
	out.sessions.Lifetime = 12 * time.Hour
	out.sessions.IdleTimeout = 4 * time.Hour
	out.sessions.HashTokenInStore = true
	out.sessions.Cookie.Name = "welkin_session"
	out.sessions.Cookie.HttpOnly = true
	out.sessions.Cookie.SameSite = http.SameSiteLaxMode
	out.sessions.Cookie.Secure = s.Secure
	out.events = newEvents()
	out.trials = engine.NewTrialCache(trialRoom, time.Now)
	return out
}

// Handler gives the whole application.
func (s *Server) Handler() http.Handler {
	r := chi.NewRouter()
	r.Use(middleware.Recoverer, s.logged, secured, http.NewCrossOriginProtection().Handler)
	r.Get("/healthz", func(w http.ResponseWriter, _ *http.Request) { _, _ = w.Write([]byte("ok\n")) })
	r.Get("/readyz", s.ready)
	r.Method(http.MethodGet, "/metrics", promhttp.HandlerFor(s.Metrics, promhttp.HandlerOpts{}))
	r.Post("/hooks/{number}/{sign}", s.receive)
	r.Group(func(r chi.Router) {
		r.Use(s.sessions.LoadAndSave, s.withPerson)
		s.mount(r)
		r.With(s.only("reader")).Get("/api/events", s.serveEvents)
		r.With(s.only("reader")).Get("/api/runs/{id}/set-aside.csv", s.exportSetAside)
		r.With(s.only("builder")).Put("/api/files/{connection}/{name}", s.dropFile)
	})
	r.NotFound(static().ServeHTTP)
	return r
}

// mount registers the typed operations.
func (s *Server) mount(r chi.Router) {
	cfg := huma.DefaultConfig("Welkin", "1")
	cfg.OpenAPIPath, cfg.DocsPath, cfg.SchemasPath = "/api/openapi", "", "/api/schemas"
	cfg.CreateHooks = nil // no $schema links in bodies
	s.api = humachi.New(r, cfg)
	s.sessionRoutes()
	s.peopleRoutes()
	s.connectionRoutes()
	s.pipelineRoutes()
	s.presenceRoutes()
	s.intakeRoutes()
	s.positionRoutes()
	s.catalogueRoutes()
	s.profileRoutes()
	s.layoutRoutes()
	s.versionRoutes()
	s.runRoutes()
	s.scheduleRoutes()
	s.todayRoutes()
}

// OpenAPI gives the document of the typed operations, as JSON.
func OpenAPI() ([]byte, error) {
	s := New(Server{Metrics: prometheus.NewRegistry()})
	s.mount(chi.NewRouter())
	return s.api.OpenAPI().MarshalJSON()
}

// Run passes live updates on until ctx ends.
func (s *Server) Run(ctx context.Context) {
	s.events.listen(ctx, s.Store.Pool, s.Log)
	s.shared.Close()
}

func (s *Server) ready(w http.ResponseWriter, r *http.Request) {
	if err := s.Store.Pool.Ping(r.Context()); err != nil {
		http.Error(w, "Welkin's database does not answer", http.StatusServiceUnavailable)
		return
	}
	_, _ = w.Write([]byte("ready\n"))
}

// logged writes one line a request to the log, the quiet ones aside.
func (s *Server) logged(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		began := time.Now()
		ww := middleware.NewWrapResponseWriter(w, r.ProtoMajor)
		next.ServeHTTP(ww, r)
		level := slog.LevelDebug
		if ww.Status() >= 500 {
			level = slog.LevelError
		}
		path := r.URL.Path
		if strings.HasPrefix(path, "/hooks/") { // the rest of such an address is a secret
			path = "/hooks/…"
		}
		s.Log.Log(r.Context(), level, "request", "method", r.Method, "path", path, "status", ww.Status(), "took", time.Since(began))
	})
}

// secured sets the headers that keep other sites out. Scripts come from here
// alone; styles may also stand in elements, which the charts and grids need.
func secured(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		h := w.Header()
		h.Set("Content-Security-Policy", "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; frame-ancestors 'none'; base-uri 'self'; form-action 'self'")
		h.Set("X-Content-Type-Options", "nosniff")
		h.Set("Referrer-Policy", "same-origin")
		next.ServeHTTP(w, r)
	})
}

// fault turns an error into an answer: a sentence for people, and no more.
func (s *Server) fault(ctx context.Context, what string, err error) error {
	switch {
	case errors.Is(err, store.ErrNotFound):
		return huma.Error404NotFound(what + " is not there any more")
	case errors.Is(err, context.Canceled):
		return huma.NewError(499, "given up")
	}
	s.Log.ErrorContext(ctx, "request failed", "what", what, "error", err)
	return huma.Error500InternalServerError("Welkin could not do this: " + err.Error())
}

// body is an answer with a body.
type body[T any] struct{ Body T }

func answer[T any](v T) *body[T] { return &body[T]{v} }

// ByID is a request for one record.
type ByID struct {
	ID int64 `path:"id"`
}
