// Package httpapi is the connection kind for HTTP APIs: httpapi.go has the kind,
// ask.go asks with pauses and asks again after refusals, browse.go has the check list
// and what is looked at.
package httpapi

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/url"
	"strings"
	"sync"
	"time"

	"golang.org/x/oauth2"
	"golang.org/x/oauth2/clientcredentials"

	"welkin/connect"
	"welkin/connect/way"
	"welkin/core/step"
)

// Kind is the HTTP kind.
var Kind = connect.Kind{
	Name: "http", Holds: connect.HoldsAPI, Secrets: append(append([]string{"key", "password", "client_secret"}, way.TunnelSecrets...), way.CertificateSecrets...),
	Help: "Records of an HTTP API in JSON, XML or CSV, page by page; or a file at an address.",
	New:  func() connect.Settings { return &Settings{} },
	Open: func(ctx context.Context, s connect.Settings) (connect.Connection, error) {
		return open(s.(*Settings), connect.RulesOf(ctx))
	},
}

// Ways to sign in.
const (
	AuthNone   = "none"
	AuthKey    = "key in a header"
	AuthParam  = "key in a parameter"
	AuthBearer = "bearer token"
	AuthBasic  = "user and password"
	AuthOAuth  = "client credentials"
)

// Settings of an API.
type Settings struct {
	URL          string   `json:"url" jsonschema:"title=address,description=Where all paths begin such as https://api.council.example"`
	Auth         string   `json:"auth,omitempty" jsonschema:"title=sign-in,enum=none,enum=key in a header,enum=key in a parameter,enum=bearer token,enum=user and password,enum=client credentials"`
	KeyName      string   `json:"key_name,omitempty" jsonschema:"title=header or parameter,description=Which takes the key: X-Api-Key when left out"`
	Key          string   `json:"key,omitempty" jsonschema:"title=key or token,format=password,description=Kept encrypted and never shown again"`
	User         string   `json:"user,omitempty" jsonschema:"title=user"`
	Password     string   `json:"password,omitempty" jsonschema:"title=password,format=password,description=Kept encrypted and never shown again"`
	TokenURL     string   `json:"token_url,omitempty" jsonschema:"title=token address,description=Where client credentials are changed into a token (OAuth 2)"`
	ClientID     string   `json:"client_id,omitempty" jsonschema:"title=client id"`
	ClientSecret string   `json:"client_secret,omitempty" jsonschema:"title=client secret,format=password,description=Kept encrypted and never shown again"`
	Scope        string   `json:"scope,omitempty" jsonschema:"title=scope,description=Several are parted by blanks"`
	Headers      []Header `json:"headers,omitempty" jsonschema:"title=headers"`
	Rate         int      `json:"rate,omitempty" jsonschema:"title=requests a minute,description=At most; as fast as it answers when left out"`
	Attempts     int      `json:"attempts,omitempty" jsonschema:"title=attempts,description=How often a request is made before it counts as failed: 5 when left out"`
	Paths        []string `json:"paths,omitempty" jsonschema:"title=paths,description=Those that are worth knowing such as /v1/roads; they are shown as what is inside"`
	way.Tunnel
	way.Certificates
}

// Header is sent with every request.
type Header struct {
	Name  string `json:"name" jsonschema:"title=name"`
	Value string `json:"value" jsonschema:"title=value"`
}

// Validate implements connect.Settings.
func (s *Settings) Validate() error {
	u, err := url.Parse(s.URL)
	switch {
	case s.URL == "":
		return errors.New("url is missing; give the address where all paths begin")
	case err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Host == "":
		return fmt.Errorf("url %q is no address; it begins with http:// or https://", s.URL)
	case u.User != nil:
		return errors.New("url holds a user; give it in the settings for the sign-in")
	case s.Rate < 0 || s.Attempts < 0 || s.Attempts > 20:
		return errors.New("requests a minute are 0 or more, attempts up to 20")
	}
	switch s.Auth {
	case "", AuthNone:
	case AuthKey, AuthBearer:
		if s.Key == "" {
			return errors.New("key is missing; give the key or token")
		}
	case AuthParam:
		if s.Key == "" || s.KeyName == "" {
			return errors.New("key_name is missing; give the parameter and the key")
		}
	case AuthBasic:
		if s.User == "" {
			return errors.New("user is missing; give user and password")
		}
	case AuthOAuth:
		if t, err := url.Parse(s.TokenURL); err != nil || t.Host == "" || s.ClientID == "" || s.ClientSecret == "" {
			return errors.New("token_url is missing; client credentials need the token's address, the client's id and its secret")
		}
	default:
		return fmt.Errorf("there is no sign-in %q", s.Auth)
	}
	for _, h := range s.Headers {
		if strings.TrimSpace(h.Name) == "" || strings.ContainsAny(h.Name+h.Value, "\r\n") {
			return fmt.Errorf("the header %q can't be sent", h.Name)
		}
	}
	return errors.Join(s.Tunnel.Validate(), s.Certificates.Validate())
}

// API is an open connection.
type API struct {
	settings *Settings
	base     *url.URL
	way      *way.Way
	client   *http.Client
	now      func() time.Time
	sleep    func(ctx context.Context, d time.Duration) error

	mu   sync.Mutex
	free time.Time // when the next request may be made
}

var (
	_ connect.Connection = (*API)(nil)
	_ step.API           = (*API)(nil)
)

func open(s *Settings, rules connect.Rules) (*API, error) {
	base, err := url.Parse(strings.TrimRight(s.URL, "/"))
	if err != nil {
		return nil, fmt.Errorf("url %q is no address", s.URL)
	}
	a := &API{settings: s, base: base, way: &way.Way{Tunnel: s.Tunnel}, now: time.Now, sleep: sleep}
	config, err := s.Certificates.Config("")
	if err != nil {
		return nil, err
	}
	dial := a.way.Dial
	if rules.PublicOnly && !s.Tunnel.Used() {
		dial = (&net.Dialer{Timeout: way.Patience, Control: way.PublicOnly}).DialContext
	}
	transport := &http.Transport{DialContext: dial, TLSClientConfig: config, TLSHandshakeTimeout: way.Patience, ResponseHeaderTimeout: 2 * time.Minute, MaxIdleConnsPerHost: 4, IdleConnTimeout: time.Minute}
	a.client = &http.Client{Transport: transport, CheckRedirect: a.redirect}
	if s.Auth == AuthOAuth {
		credentials := clientcredentials.Config{ClientID: s.ClientID, ClientSecret: s.ClientSecret, TokenURL: s.TokenURL, Scopes: strings.Fields(s.Scope)}
		plain := context.WithValue(context.Background(), oauth2.HTTPClient, &http.Client{Transport: transport, Timeout: time.Minute})
		a.client.Transport = &oauth2.Transport{Source: oauth2.ReuseTokenSource(nil, credentials.TokenSource(plain)), Base: transport}
	}
	return a, nil
}

// redirect follows within the API's own machine alone: keys go nowhere else.
func (a *API) redirect(r *http.Request, via []*http.Request) error {
	if len(via) > 5 {
		return errors.New("it sends one around in circles")
	}
	if r.URL.Host != a.base.Host {
		return fmt.Errorf("it sends one on to another machine, %s; put that one into the address if it is right", r.URL.Host)
	}
	return nil
}

func sleep(ctx context.Context, d time.Duration) error {
	timer := time.NewTimer(d)
	defer timer.Stop()
	select {
	case <-timer.C:
		return nil
	case <-ctx.Done():
		return ctx.Err()
	}
}

// Close implements connect.Connection.
func (a *API) Close() error {
	a.client.CloseIdleConnections()
	return a.way.Close()
}
