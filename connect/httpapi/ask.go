package httpapi

import (
	"context"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"golang.org/x/oauth2"

	"welkin/connect/way"
	"welkin/core/step"
)

// longestWait is how long one request waits for its turn at most.
const longestWait = 15 * time.Minute

// Ask implements step.API: a reply of 429 or of the 500s is asked for again after a
// pause that doubles, or as long as the header Retry-After says.
func (a *API) Ask(ctx context.Context, r step.APIRequest) (*step.APIReply, error) {
	address, err := a.address(r)
	if err != nil {
		return nil, err
	}
	attempts := a.settings.Attempts
	if attempts == 0 {
		attempts = 5
	}
	var waits []string
	pause := time.Second
	for n := 1; ; n++ {
		if err := a.turn(ctx); err != nil {
			return nil, err
		}
		reply, err := a.once(ctx, address)
		wait, again := pause/2+rand.N(pause/2+1), true
		var why string
		switch {
		case err != nil:
			why, again = a.explain(err, address).Error(), retryable(err)
			err = a.explain(err, address)
		case reply.StatusCode == http.StatusTooManyRequests || reply.StatusCode >= 500:
			why = fmt.Sprintf("%s answers %s", shown(address), reply.Status)
			if after, ok := retryAfter(reply.Header.Get("Retry-After"), a.now()); ok {
				wait = after
			}
			err = errors.New(why)
			drop(reply.Body)
		case reply.StatusCode >= 400:
			defer drop(reply.Body)
			return nil, a.refused(reply, address)
		default:
			return &step.APIReply{Status: reply.StatusCode, Address: address.String(), Header: reply.Header, Body: reply.Body, Waits: waits}, nil
		}
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		if !again || n >= attempts || wait > longestWait {
			if n > 1 {
				return nil, fmt.Errorf("%w, also after %d attempts", err, n)
			}
			return nil, err
		}
		waits = append(waits, fmt.Sprintf("%s; waited %s", why, wait.Round(time.Millisecond)))
		if err := a.sleep(ctx, wait); err != nil {
			return nil, err
		}
		pause = min(2*pause, time.Minute)
	}
}

// address gives the address of a request, without the key of a parameter.
func (a *API) address(r step.APIRequest) (*url.URL, error) {
	if r.Address != "" {
		u, err := url.Parse(r.Address)
		if err != nil || u.Host != a.base.Host {
			return nil, fmt.Errorf("the next address %q lies on another machine than %s; keys are sent to that one alone", r.Address, a.base.Host)
		}
		return u, nil
	}
	u := *a.base
	at, query, _ := strings.Cut(r.Path, "?")
	u.Path = strings.TrimRight(a.base.Path, "/") + "/" + strings.TrimLeft(at, "/")
	if at == "" || at == "/" {
		u.Path = a.base.Path
	}
	values, err := url.ParseQuery(query)
	if err != nil {
		return nil, fmt.Errorf("the parameters in the path %q can't be read; give them apart", r.Path)
	}
	for k, v := range r.Params {
		values[k] = v
	}
	u.RawQuery = values.Encode()
	return &u, nil
}

func (a *API) once(ctx context.Context, address *url.URL) (*http.Response, error) {
	r, err := http.NewRequestWithContext(ctx, http.MethodGet, address.String(), nil)
	if err != nil {
		return nil, err
	}
	r.Header.Set("Accept", "application/json, application/xml;q=0.9, text/csv;q=0.9, */*;q=0.5")
	r.Header.Set("User-Agent", "welkin")
	s := a.settings
	switch s.Auth {
	case AuthKey:
		name := s.KeyName
		if name == "" {
			name = "X-Api-Key"
		}
		r.Header.Set(name, s.Key)
	case AuthParam:
		q := r.URL.Query()
		q.Set(s.KeyName, s.Key)
		r.URL.RawQuery = q.Encode()
	case AuthBearer:
		r.Header.Set("Authorization", "Bearer "+s.Key)
	case AuthBasic:
		r.SetBasicAuth(s.User, s.Password)
	}
	for _, h := range s.Headers {
		r.Header.Set(h.Name, h.Value)
	}
	return a.client.Do(r)
}

// turn waits until a request may be made by the rate that is set.
func (a *API) turn(ctx context.Context) error {
	if a.settings.Rate == 0 {
		return nil
	}
	a.mu.Lock()
	now := a.now()
	at := a.free
	if at.Before(now) {
		at = now
	}
	a.free = at.Add(time.Minute / time.Duration(a.settings.Rate))
	a.mu.Unlock()
	return a.sleep(ctx, at.Sub(now))
}

// retryAfter reads the header: seconds, or a time.
func retryAfter(text string, now time.Time) (time.Duration, bool) {
	if text == "" {
		return 0, false
	}
	if n, err := strconv.Atoi(strings.TrimSpace(text)); err == nil && n >= 0 {
		return time.Duration(n) * time.Second, true
	}
	at, err := http.ParseTime(text)
	if err != nil {
		return 0, false
	}
	return max(at.Sub(now), 0), true
}

func drop(body io.ReadCloser) {
	_, _ = io.CopyN(io.Discard, body, 64<<10)
	_ = body.Close()
}

// shown is an address without its parameters, which may hold more than others should
// see.
func shown(u *url.URL) string { return u.Host + u.Path }

// refused makes a sentence of a reply that is a refusal.
func (a *API) refused(reply *http.Response, address *url.URL) error {
	said, _ := io.ReadAll(io.LimitReader(reply.Body, 300))
	text := strings.Join(strings.Fields(strings.ToValidUTF8(string(said), "�")), " ")
	for _, secret := range []string{a.settings.Key, a.settings.Password, a.settings.ClientSecret} {
		if secret != "" {
			text = strings.ReplaceAll(text, secret, "•••")
		}
	}
	switch reply.StatusCode {
	case http.StatusUnauthorized:
		return fmt.Errorf("%s refuses the sign-in (%s); correct the key or the way of signing in", shown(address), reply.Status)
	case http.StatusForbidden:
		return fmt.Errorf("%s does not allow it (%s): the key has no right to that, or it is wrong", shown(address), reply.Status)
	case http.StatusNotFound:
		return fmt.Errorf("%s is not there (%s); correct the path", shown(address), reply.Status)
	}
	if text != "" {
		return fmt.Errorf("%s answers %s: %s", shown(address), reply.Status, text)
	}
	return fmt.Errorf("%s answers %s", shown(address), reply.Status)
}

// retryable tells whether a failure on the way may pass.
func retryable(err error) bool {
	var private *way.PrivateError
	var token *oauth2.RetrieveError
	switch {
	case errors.Is(err, context.Canceled), errors.As(err, &private), strings.Contains(err.Error(), "certificate"), strings.Contains(err.Error(), "another machine"):
		return false
	case errors.As(err, &token):
		return token.Response != nil && token.Response.StatusCode >= 500
	}
	return true
}

// explain turns a failure on the way into a sentence without secrets.
func (a *API) explain(err error, address *url.URL) error {
	var private *way.PrivateError
	var token *oauth2.RetrieveError
	var tunnel *way.TunnelError
	switch {
	case errors.Is(err, context.Canceled):
		return err
	case errors.As(err, &private):
		return private
	case errors.As(err, &tunnel):
		return tunnel
	case errors.As(err, &token):
		return fmt.Errorf("no token is given for the client credentials: %s answers %s; correct the client's id, its secret and the token's address", a.settings.TokenURL, token.Response.Status)
	}
	var inner *url.Error
	if errors.As(err, &inner) {
		err = inner.Err
	}
	if plain := way.Explain(err, a.base.Hostname(), address.Host); plain != err {
		return plain
	}
	text := err.Error()
	if strings.Contains(text, "certificate") {
		return fmt.Errorf("%s shows a certificate that is not trusted: %w; give its authority in the settings", address.Host, err)
	}
	return fmt.Errorf("%s did not answer whole: %s", shown(address), text)
}
