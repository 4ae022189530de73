package api

import (
	"context"
	"crypto/rand"
	"crypto/subtle"
	"encoding/base64"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/go-chi/httprate"
	"golang.org/x/crypto/argon2"

	"welkin/store"
)

// roles from the least to the most rights; each may do what those before may.
var roles = []string{"reader", "operator", "builder", "admin"}

func atLeast(have, need string) bool { return slices.Index(roles, have) >= slices.Index(roles, need) }

type personKey struct{}

// personOf gives who is signed in; nil for nobody.
func personOf(ctx context.Context) *store.Person {
	p, _ := ctx.Value(personKey{}).(*store.Person)
	return p
}

// withPerson finds who is signed in, anew at each request, so that a change of
// role or a disabled person counts at once.
func (s *Server) withPerson(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if id := s.sessions.GetInt64(r.Context(), "person"); id != 0 {
			if p, err := s.Store.Person(r.Context(), id); err == nil && !p.Disabled {
				r = r.WithContext(context.WithValue(r.Context(), personKey{}, &p))
			}
		}
		next.ServeHTTP(w, r)
	})
}

// only lets people of a role through, for handlers that are not typed.
func (s *Server) only(role string) func(http.Handler) http.Handler {
	return func(next http.Handler) http.Handler {
		return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			if p := personOf(r.Context()); p == nil || !atLeast(p.Role, role) {
				http.Error(w, "sign in first", http.StatusUnauthorized)
				return
			}
			next.ServeHTTP(w, r)
		})
	}
}

// route registers an operation for people of a role; "" is for everybody.
func route[I, O any](s *Server, role, method, path, id, summary string, handle func(context.Context, *I) (*O, error)) {
	huma.Register(s.api, huma.Operation{OperationID: id, Method: method, Path: path, Summary: summary, MaxBodyBytes: 8 << 20},
		func(ctx context.Context, in *I) (*O, error) {
			if role != "" {
				p := personOf(ctx)
				if p == nil {
					return nil, huma.Error401Unauthorized("sign in first")
				}
				if !atLeast(p.Role, role) {
					return nil, huma.Error403Forbidden(fmt.Sprintf("this needs the role %s; you are %s. Ask an admin for it", role, p.Role))
				}
			}
			return handle(ctx, in)
		})
}

// Argon2id's measures, after the RFC 9106 recommendation for little memory.
const (
	argonTime, argonMemory, argonThreads = 3, 64 << 10, 2
)

// HashPassword makes the form of a password that is kept.
func HashPassword(password string) string {
	salt := make([]byte, 16)
	_, _ = rand.Read(salt)
	hash := argon2.IDKey([]byte(password), salt, argonTime, argonMemory, argonThreads, 32)
	b64 := base64.RawStdEncoding
	return fmt.Sprintf("$argon2id$v=%d$m=%d,t=%d,p=%d$%s$%s", argon2.Version, argonMemory, argonTime, argonThreads, b64.EncodeToString(salt), b64.EncodeToString(hash))
}

// passwordFits compares in constant time.
func passwordFits(password, kept string) bool {
	parts := strings.Split(kept, "$")
	if len(parts) != 6 {
		return false
	}
	var memory, passes uint32
	var threads uint8
	if _, err := fmt.Sscanf(parts[3], "m=%d,t=%d,p=%d", &memory, &passes, &threads); err != nil {
		return false
	}
	salt, err1 := base64.RawStdEncoding.DecodeString(parts[4])
	hash, err2 := base64.RawStdEncoding.DecodeString(parts[5])
	if err1 != nil || err2 != nil {
		return false
	}
	return subtle.ConstantTimeCompare(hash, argon2.IDKey([]byte(password), salt, passes, memory, threads, uint32(len(hash)))) == 1
}

// headersOnly takes what the limiter would tell a client; the answer says it in
// words.
type headersOnly struct{ http.ResponseWriter }

// Header implements http.ResponseWriter.
func (headersOnly) Header() http.Header { return http.Header{} }

type signIn struct{ Body signInBody }

type signInBody struct {
	Login    string `json:"login" minLength:"1" maxLength:"100"`
	Password string `json:"password" minLength:"1" maxLength:"1000"`
}

// nobody is compared with when a login is not known, so that the answer takes
// as long as for one that is.
var nobody = sync.OnceValue(func() string { return HashPassword("") })

func (s *Server) sessionRoutes() {
	// Argon2 is slow and large on purpose: few sign-ins at once, and few a
	// minute for each login.
	limit := httprate.NewRateLimiter(10, time.Minute)
	slots := make(chan struct{}, 4)
	route(s, "", http.MethodPost, "/api/session", "sign-in", "Sign in", func(ctx context.Context, in *signIn) (*body[store.Person], error) {
		login := strings.ToLower(strings.TrimSpace(in.Body.Login))
		if limit.OnLimit(headersOnly{}, new(http.Request), login) {
			return nil, huma.Error429TooManyRequests("too many attempts for this name; wait a minute and try again")
		}
		slots <- struct{}{}
		defer func() { <-slots }()
		p, err := s.Store.PersonByLogin(ctx, login)
		kept := p.PasswordHash
		if err != nil {
			kept = nobody()
		}
		if !passwordFits(in.Body.Password, kept) || err != nil || p.Disabled {
			return nil, huma.Error401Unauthorized("name or password is wrong")
		}
		if err := s.sessions.RenewToken(ctx); err != nil {
			return nil, s.fault(ctx, "the session", err)
		}
		s.sessions.Put(ctx, "person", p.ID)
		return answer(p), nil
	})
	route(s, "", http.MethodGet, "/api/session", "session", "Who is signed in", func(ctx context.Context, _ *struct{}) (*body[session], error) {
		return answer(session{Person: personOf(ctx)}), nil
	})
	route(s, "reader", http.MethodDelete, "/api/session", "sign-out", "Sign out", func(ctx context.Context, _ *struct{}) (*struct{}, error) {
		return nil, s.sessions.Destroy(ctx)
	})
}

type session struct {
	Person *store.Person `json:"person" doc:"Absent when nobody is signed in."`
}
