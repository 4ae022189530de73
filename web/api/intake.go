package api

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"path"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/go-chi/chi/v5"

	"welkin/connect/way"
	"welkin/core/step"
)

// mostTaken is how many bytes of a file are taken in by hand; larger ones are
// put into the folder itself.
const mostTaken = 2 << 30

// taken is a file that was put into a connection's folder.
type taken struct {
	Connection string `json:"connection"`
	File       string `json:"file" doc:"Its name there; another one than asked for where that was taken."`
	Bytes      int64  `json:"bytes"`
}

// dropFile takes a file that was dropped on a page: the body is its content.
func (s *Server) dropFile(w http.ResponseWriter, r *http.Request) {
	name, err := url.PathUnescape(chi.URLParam(r, "name"))
	if err != nil {
		http.Error(w, "the file's name can't be read", http.StatusUnprocessableEntity)
		return
	}
	out, err := s.keepFile(r.Context(), chi.URLParam(r, "connection"), name, http.MaxBytesReader(w, r.Body, mostTaken))
	if err != nil {
		http.Error(w, err.Error(), http.StatusUnprocessableEntity)
		return
	}
	w.Header().Set("Content-Type", "application/json")
	_ = json.NewEncoder(w).Encode(out)
}

// keepFile puts a file into a connection that holds files; it is there whole or
// not at all.
func (s *Server) keepFile(ctx context.Context, connection, name string, content io.Reader) (taken, error) {
	name = path.Base(path.Clean("/" + strings.ReplaceAll(name, `\`, "/")))
	if name == "/" || strings.HasPrefix(name, ".") {
		return taken{}, fmt.Errorf("%q can't be a file's name", name)
	}
	files, err := s.shared.World().Files(ctx, connection)
	if err != nil {
		return taken{}, err
	}
	ext := path.Ext(name)
	free := name
	for n := 2; ; n++ {
		there, err := files.Match(ctx, free)
		if err != nil {
			return taken{}, err
		}
		if len(there) == 0 {
			break
		}
		free = fmt.Sprintf("%s_%d%s", strings.TrimSuffix(name, ext), n, ext)
	}
	now := s.Clock()
	draft, err := files.Draft(ctx, free, step.Epoch{Pipeline: "taken in by hand", Number: now.UnixNano(), Run: free, Started: now}, free)
	if err != nil {
		return taken{}, err
	}
	defer func() { _ = draft.Abort(context.WithoutCancel(ctx)) }()
	size, err := io.Copy(draft, content)
	if err != nil {
		var large *http.MaxBytesError
		if errors.As(err, &large) {
			return taken{}, fmt.Errorf("the file has more than %d GB; put it into the folder of %s itself", mostTaken>>30, connection)
		}
		return taken{}, fmt.Errorf("the file did not come whole: %w", err)
	}
	if size == 0 {
		return taken{}, fmt.Errorf("%s is empty", name)
	}
	if err := draft.Prepare(ctx, step.Result{Target: free, Inserted: 1, After: 1, Bytes: size}); err != nil {
		return taken{}, err
	}
	return taken{connection, free, size}, draft.Commit(ctx)
}

type fetchInput struct {
	Body struct {
		Connection string `json:"connection" doc:"One that holds files, where it is kept."`
		Address    string `json:"address" format:"uri" maxLength:"2000"`
	}
}

func (s *Server) intakeRoutes() {
	route(s, "builder", http.MethodPost, "/api/fetched-files", "fetch-file", "Fetch a file from an address and keep it in a connection that holds files", func(ctx context.Context, in *fetchInput) (*body[taken], error) {
		out, err := s.fetch(ctx, in.Body.Connection, in.Body.Address)
		if err != nil {
			return nil, huma.Error422UnprocessableEntity(err.Error())
		}
		return answer(out), nil
	})
}

// fetch takes a file from an address of the web.
func (s *Server) fetch(ctx context.Context, connection, address string) (taken, error) {
	u, err := url.Parse(address)
	if err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Host == "" {
		return taken{}, fmt.Errorf("%q is no address; it begins with http:// or https://", address)
	}
	dialer := &net.Dialer{Timeout: 10 * time.Second}
	if !s.PrivateAddresses {
		dialer.Control = way.PublicOnly
	}
	client := &http.Client{Timeout: 10 * time.Minute, Transport: &http.Transport{DialContext: dialer.DialContext, TLSHandshakeTimeout: 10 * time.Second, ResponseHeaderTimeout: 30 * time.Second}}
	defer client.CloseIdleConnections()
	r, err := http.NewRequestWithContext(ctx, http.MethodGet, address, nil)
	if err != nil {
		return taken{}, err
	}
	reply, err := client.Do(r)
	if err != nil {
		var inner *url.Error
		if errors.As(err, &inner) {
			err = inner.Err
		}
		return taken{}, fmt.Errorf("%s could not be fetched: %w", u.Host, err)
	}
	defer func() { _ = reply.Body.Close() }()
	if reply.StatusCode != http.StatusOK {
		return taken{}, fmt.Errorf("%s answers %s", u.Host, reply.Status)
	}
	name := path.Base(u.Path)
	if name == "/" || name == "." {
		name = u.Hostname()
	}
	if path.Ext(name) == "" {
		switch kind, _, _ := strings.Cut(reply.Header.Get("Content-Type"), ";"); kind {
		case "application/json", "application/x-ndjson":
			name += ".jsonl"
		default:
			name += ".csv"
		}
	}
	return s.keepFile(ctx, connection, name, http.MaxBytesReader(nil, reply.Body, mostTaken))
}
