package httpapi

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"path"
	"strings"
	"time"

	"welkin/connect"
	"welkin/connect/way"
	"welkin/core/batch"
	"welkin/core/format/form"
	"welkin/core/step"
)

// Check implements connect.Connection.
func (a *API) Check(ctx context.Context) []connect.CheckLine {
	c := way.Begin(append(a.settings.Tunnel.ReachLines(), "sign-in", "may read")...)
	port := a.base.Port()
	if port == "" {
		port = map[string]string{"http": "80", "https": "443"}[a.base.Scheme]
	}
	if !c.Reach(ctx, a.way, a.base.Hostname(), net.JoinHostPort(a.base.Hostname(), port)) {
		return c.Lines
	}
	ctx, cancel := context.WithTimeout(ctx, 20*time.Second)
	defer cancel()
	first := ""
	if len(a.settings.Paths) > 0 {
		first = a.settings.Paths[0]
	}
	address, err := a.address(step.APIRequest{Path: first})
	if err != nil {
		return c.Bad(err, "Correct the first of the paths.", "paths")
	}
	began := time.Now()
	reply, err := a.once(ctx, address)
	if err != nil {
		return c.Bad(a.explain(err, address), "Correct the address or the sign-in.", "url")
	}
	defer drop(reply.Body)
	switch {
	case reply.StatusCode == 401 || reply.StatusCode == 403:
		return c.Bad(a.refused(reply, address), "Correct the key, or the way of signing in.", "key")
	case reply.StatusCode == 404 && first == "", reply.StatusCode == 405:
		c.Good("the key is not refused")
		c.Note(fmt.Sprintf("nothing is at %s itself; put a path into the settings that can be tried", shown(address)), "")
	case reply.StatusCode >= 400:
		c.Good("the key is not refused")
		return c.Bad(a.refused(reply, address), "Correct the first of the paths.", "paths")
	default:
		c.Good("the key is taken")
		c.Good("%s answers %s in %s", shown(address), reply.Status, time.Since(began).Round(time.Millisecond))
	}
	return c.Lines
}

// Browse implements connect.Connection: the paths that the settings name.
func (a *API) Browse(ctx context.Context, _ string) ([]connect.Entry, error) {
	return a.Search(ctx, "", len(a.settings.Paths))
}

// Search implements connect.Connection.
func (a *API) Search(_ context.Context, text string, limit int) ([]connect.Entry, error) {
	out := []connect.Entry{}
	for _, p := range a.settings.Paths {
		if len(out) < limit && strings.Contains(strings.ToLower(p), strings.ToLower(text)) {
			out = append(out, connect.Entry{Path: p, Name: p, Type: "path"})
		}
	}
	return out, nil
}

// reply keeps the first reply of a path and finds its form.
func (a *API) reply(ctx context.Context, at string) (form.Found, form.Open, func(), error) {
	reply, err := a.Ask(ctx, step.APIRequest{Path: at})
	if err != nil {
		return form.Found{}, nil, nil, err
	}
	defer reply.Body.Close()
	kept, err := form.Spool(io.LimitReader(reply.Body, 256<<20))
	if err != nil {
		return form.Found{}, nil, nil, err
	}
	done := func() { _ = kept.Close() }
	open := func(context.Context) (io.ReadCloser, error) {
		size, err := kept.Seek(0, io.SeekEnd)
		return io.NopCloser(io.NewSectionReader(kept, 0, size)), err
	}
	found, err := form.Find(ctx, path.Base(at), open, form.Form{}, false)
	if err != nil {
		done()
		return found, nil, nil, fmt.Errorf("the reply of %s holds no records that can be read: %w", at, err)
	}
	return found, open, done, nil
}

// Describe implements connect.Connection.
func (a *API) Describe(ctx context.Context, at string) (*connect.Description, error) {
	found, _, done, err := a.reply(ctx, at)
	if err != nil {
		return nil, err
	}
	defer done()
	return &connect.Description{Path: at, Columns: found.Schema.Columns, Why: append([]string{found.Form.Format}, found.Why...)}, nil
}

// Sample implements connect.Connection.
func (a *API) Sample(ctx context.Context, at string, rows int) (batch.Wire, error) {
	found, open, done, err := a.reply(ctx, at)
	if err != nil {
		return batch.Wire{}, err
	}
	defer done()
	r, err := found.Form.Read(ctx, open, form.Options{Schema: found.Schema, Origin: at, Limit: int64(rows)})
	if err != nil {
		return batch.Wire{}, err
	}
	defer r.Close()
	var batches []*batch.Batch
	for {
		c, err := r.Next(ctx)
		if errors.Is(err, io.EOF) {
			return batch.ToWire(found.Schema, batches, rows), nil
		}
		if err != nil {
			return batch.Wire{}, err
		}
		batches = append(batches, c.Batch)
	}
}
