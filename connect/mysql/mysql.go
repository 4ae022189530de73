// Package mysql is the connection kind for databases that speak the MySQL protocol:
// their tables are read. mysql.go has the kind, types.go its types, browse.go its
// check list and what it holds.
package mysql

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"net"
	"strconv"
	"strings"
	"time"

	driver "github.com/go-sql-driver/mysql"

	"welkin/connect"
	"welkin/connect/sqltables"
	"welkin/connect/way"
)

// Kind is the MySQL kind.
var Kind = connect.Kind{
	Name: "mysql", Holds: connect.HoldsTables, Secrets: append(append([]string{"password"}, way.TunnelSecrets...), way.CertificateSecrets...),
	Help: "Tables of a database that speaks the MySQL protocol; they are read, never written.",
	New:  func() connect.Settings { return &Settings{} },
	Open: func(_ context.Context, s connect.Settings) (connect.Connection, error) { return open(s.(*Settings)) },
}

// Settings of a database.
type Settings struct {
	Host      string `json:"host" jsonschema:"title=host,description=Name or address of the machine"`
	Port      int    `json:"port,omitempty" jsonschema:"title=port,description=3306 when left out"`
	Database  string `json:"database" jsonschema:"title=database"`
	User      string `json:"user" jsonschema:"title=user,description=The database user; give it no more rights than the pipelines need"`
	Password  string `json:"password,omitempty" jsonschema:"title=password,description=Kept encrypted and never shown again,format=password"`
	TLS       string `json:"tls,omitempty" jsonschema:"title=encryption,description=Whether the way there must be encrypted,enum=prefer,enum=require,enum=verify-full,enum=disable"`
	Isolation string `json:"isolation,omitempty" jsonschema:"title=isolation,description=What a read sees of changes that are made meanwhile; of nothing but its own moment when left out,enum=repeatable read,enum=read committed,enum=read uncommitted"`
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
	if _, ok := isolations[s.Isolation]; !ok {
		return fmt.Errorf("isolation is repeatable read, read committed or read uncommitted, not %q", s.Isolation)
	}
	return errors.Join(s.Tunnel.Validate(), s.Certificates.Validate())
}

var isolations = map[string]sql.IsolationLevel{"": sql.LevelRepeatableRead, "repeatable read": sql.LevelRepeatableRead, "read committed": sql.LevelReadCommitted, "read uncommitted": sql.LevelReadUncommitted}

func (s *Settings) address() string {
	port := s.Port
	if port == 0 {
		port = 3306
	}
	return net.JoinHostPort(s.Host, strconv.Itoa(port))
}

// Database is an open database.
type Database struct {
	*sqltables.Database
	settings *Settings
	way      *way.Way
}

func open(s *Settings) (*Database, error) {
	d := &Database{settings: s, way: &way.Way{Tunnel: s.Tunnel}}
	config := driver.NewConfig()
	config.User, config.Passwd, config.Net, config.Addr, config.DBName = s.User, s.Password, "tcp", s.address(), s.Database
	config.DialFunc = d.way.Dial
	config.Timeout, config.ReadTimeout, config.WriteTimeout = way.Patience, 10*time.Minute, time.Minute
	config.Params = map[string]string{"time_zone": "'+00:00'"}
	config.Logger = silent{}
	certificates, err := s.Certificates.Config(s.Host)
	if err != nil {
		return nil, err
	}
	switch s.TLS {
	case "disable":
	case "verify-full":
		config.TLS = certificates
	default:
		certificates.InsecureSkipVerify = s.Authority == "" // the way is encrypted, and nobody is asked who they are
		config.TLS, config.AllowFallbackToPlaintext = certificates, s.TLS != "require"
	}
	connector, err := driver.NewConnector(config)
	if err != nil {
		return nil, errors.New("the settings don't make a database address; check host and port")
	}
	db := sql.OpenDB(connector)
	db.SetMaxOpenConns(8)
	db.SetConnMaxIdleTime(time.Minute)
	d.Database = &sqltables.Database{DB: db, Dialect: sqltables.Dialect{Quote: quote, Split: split, Type: typeOf, Plain: plain,
		Tx: &sql.TxOptions{Isolation: isolations[s.Isolation], ReadOnly: true}, Explain: d.explain, Describe: d.describe}}
	return d, nil
}

// silent keeps the driver from writing on standard error.
type silent struct{}

func (silent) Print(...any) {}

func quote(name string) string { return "`" + strings.ReplaceAll(name, "`", "``") + "`" }

// split cuts database.table into two.
func split(name string) []string { return strings.SplitN(name, ".", 2) }

// explain turns the driver's error into a sentence without secrets.
func (d *Database) explain(err error) error {
	var said *driver.MySQLError
	var tunnel *way.TunnelError
	switch {
	case err == nil, errors.Is(err, context.Canceled):
		return err
	case errors.As(err, &tunnel):
		return tunnel
	case errors.As(err, &said):
		switch said.Number {
		case 1045, 1044, 1698:
			return fmt.Errorf("the database refused user %q: wrong password, or no right to sign in; correct the password in the connection", d.settings.User)
		case 1049:
			return fmt.Errorf("there is no database %q on %s", d.settings.Database, d.settings.address())
		case 1142, 1143, 1227:
			return fmt.Errorf("user %q is not allowed to: %s", d.settings.User, said.Message)
		}
		return fmt.Errorf("the database said: %s", said.Message)
	case errors.Is(err, driver.ErrInvalidConn), strings.Contains(err.Error(), "invalid connection"), strings.Contains(err.Error(), "unexpected EOF"), strings.Contains(err.Error(), "connection reset"), strings.Contains(err.Error(), "bad connection"), strings.HasSuffix(err.Error(), "EOF"):
		return fmt.Errorf("the connection to %s was lost", d.settings.address())
	}
	return way.Explain(err, d.settings.Host, d.settings.address())
}

// Close implements connect.Connection.
func (d *Database) Close() error { return errors.Join(d.DB.Close(), d.way.Close()) }
