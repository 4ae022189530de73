// Package postgres is the connection kind for PostgreSQL databases.
// postgres.go has the kind and how a database is reached, check.go the check
// list, browse.go what a database holds, read.go reading, binary.go the wire
// forms of values, load.go and merge.go loading.
package postgres

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"net"
	"net/url"
	"strconv"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgxpool"

	"welkin/connect"
	"welkin/connect/way"
	"welkin/core/step"
)

// Kind is the PostgreSQL kind.
var Kind = connect.Kind{
	Name: "postgresql", Holds: connect.HoldsTables, Secrets: append(append([]string{"password"}, way.TunnelSecrets...), way.CertificateSecrets...),
	Help: "Tables and queries of a PostgreSQL database, version 12 or newer.",
	New:  func() connect.Settings { return &Settings{} },
	Open: func(ctx context.Context, s connect.Settings) (connect.Connection, error) {
		return open(ctx, s.(*Settings))
	},
}

// Settings of a PostgreSQL database.
type Settings struct {
	Host     string `json:"host" jsonschema:"title=host,description=Name or address of the machine"`
	Port     int    `json:"port,omitempty" jsonschema:"title=port,description=5432 when left out"`
	Database string `json:"database" jsonschema:"title=database"`
	User     string `json:"user" jsonschema:"title=user,description=The database user; give it no more rights than the pipelines need"`
	Password string `json:"password,omitempty" jsonschema:"title=password,description=Kept encrypted and never shown again,format=password"`
	TLS      string `json:"tls,omitempty" jsonschema:"title=encryption,description=Whether the way there must be encrypted,enum=prefer,enum=require,enum=verify-full,enum=disable"`
	way.Tunnel
	way.Certificates
}

// Validate implements connect.Settings.
func (s *Settings) Validate() error {
	switch {
	case s.Host == "":
		return errors.New("host is missing; give the machine's name or address")
	case s.Database == "":
		return errors.New("database is missing; give its name")
	case s.User == "":
		return errors.New("user is missing; give the database user's name")
	case s.Port < 0 || s.Port > 65535:
		return fmt.Errorf("port %d can't be; ports go from 1 to 65535", s.Port)
	}
	return errors.Join(s.Tunnel.Validate(), s.Certificates.Validate())
}

func (s *Settings) port() int {
	if s.Port == 0 {
		return 5432
	}
	return s.Port
}

func (s *Settings) address() string {
	u := url.URL{Scheme: "postgres", User: url.UserPassword(s.User, s.Password),
		Host: net.JoinHostPort(s.Host, strconv.Itoa(s.port())), Path: "/" + s.Database}
	q := url.Values{"connect_timeout": {"8"}, "application_name": {"welkin"}}
	if s.TLS != "" {
		q.Set("sslmode", s.TLS)
	}
	u.RawQuery = q.Encode()
	return u.String()
}

// Database is an open database.
type Database struct {
	settings *Settings
	way      *way.Way
	pool     *pgxpool.Pool
}

var (
	_ connect.Connection = (*Database)(nil)
	_ step.Tables        = (*Database)(nil)
)

func open(ctx context.Context, s *Settings) (*Database, error) {
	cfg, err := pgxpool.ParseConfig(s.address())
	if err != nil {
		return nil, errors.New("the settings don't make a database address; check host and port")
	}
	cfg.MaxConns = 8
	cfg.MaxConnIdleTime = time.Minute
	cfg.ConnConfig.RuntimeParams["timezone"] = "UTC"
	w := &way.Way{Tunnel: s.Tunnel}
	cfg.ConnConfig.DialFunc = w.Dial
	if s.Tunnel.Used() { // names are known behind the tunnel
		cfg.ConnConfig.LookupFunc = func(_ context.Context, host string) ([]string, error) { return []string{host}, nil }
	}
	if err := s.certify(cfg.ConnConfig); err != nil {
		return nil, err
	}
	pool, err := pgxpool.NewWithConfig(ctx, cfg)
	if err != nil {
		return nil, err
	}
	return &Database{s, w, pool}, nil
}

// certify lets encrypted ways use the settings' own certificates.
func (s *Settings) certify(c *pgx.ConnConfig) error {
	own, err := s.Certificates.Config(s.Host)
	if err != nil {
		return err
	}
	configs := []*tls.Config{c.TLSConfig}
	for _, f := range c.Fallbacks {
		configs = append(configs, f.TLSConfig)
	}
	for _, config := range configs {
		if config == nil {
			continue
		}
		if s.Authority != "" {
			config.RootCAs = own.RootCAs
			if s.TLS != "verify-full" { // the authority is checked, the name is not
				config.InsecureSkipVerify = true
				config.VerifyConnection = func(state tls.ConnectionState) error {
					o := x509.VerifyOptions{Roots: own.RootCAs, Intermediates: x509.NewCertPool()}
					for _, c := range state.PeerCertificates[1:] {
						o.Intermediates.AddCert(c)
					}
					_, err := state.PeerCertificates[0].Verify(o)
					return err
				}
			}
		}
		config.Certificates = own.Certificates
	}
	return nil
}

// Close implements connect.Connection.
func (d *Database) Close() error {
	d.pool.Close()
	return d.way.Close()
}

// explain turns a driver's error into a sentence without secrets.
func (d *Database) explain(err error) error {
	var pg *pgconn.PgError
	var connecting *pgconn.ConnectError
	var dns *net.DNSError
	var tunnel *way.TunnelError
	place := net.JoinHostPort(d.settings.Host, strconv.Itoa(d.settings.port()))
	switch {
	case err == nil, errors.Is(err, context.Canceled):
		return err
	case errors.As(err, &pg):
		switch pg.Code {
		case "28P01", "28000":
			return fmt.Errorf("the database refused user %q: wrong password, or no right to sign in; correct the password in the connection", d.settings.User)
		case "3D000":
			return fmt.Errorf("there is no database %q on %s", d.settings.Database, place)
		case "42501":
			return fmt.Errorf("user %q is not allowed to: %s", d.settings.User, pg.Message)
		}
		if pg.Detail != "" {
			return fmt.Errorf("the database said: %s (%s)", pg.Message, pg.Detail)
		}
		return fmt.Errorf("the database said: %s", pg.Message)
	case errors.As(err, &tunnel):
		return tunnel
	case errors.As(err, &dns):
		return fmt.Errorf("the name %q is not known; correct the host", d.settings.Host)
	case errors.Is(err, context.DeadlineExceeded):
		return fmt.Errorf("%s did not answer in time", place)
	case errors.As(err, &connecting):
		return fmt.Errorf("no database answers at %s; is it running, and does a firewall let Welkin through?", place)
	}
	return err
}

// quote writes an identifier, or schema.table, so that it means just that.
func quote(name string) string { return pgx.Identifier(parts(name)).Sanitize() }

// parts cuts schema.table into two; a name in double quotes may hold points.
func parts(name string) []string {
	if strings.HasPrefix(name, `"`) {
		var out []string
		for _, p := range strings.Split(strings.TrimSuffix(strings.TrimPrefix(name, `"`), `"`), `"."`) {
			out = append(out, strings.ReplaceAll(p, `""`, `"`))
		}
		return out
	}
	return strings.SplitN(name, ".", 2)
}

// schemaOf gives the schema and table of a name; without one it is public.
func schemaOf(name string) (schema, table string) {
	p := parts(name)
	if len(p) == 1 {
		return "public", p[0]
	}
	return p[0], p[1]
}

func quoteAll(names []string) []string {
	out := make([]string, len(names))
	for i, n := range names {
		out[i] = pgx.Identifier{n}.Sanitize()
	}
	return out
}
