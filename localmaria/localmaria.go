// Package localmaria runs a MariaDB server of Debian's packages for the demo and for
// tests: on loopback, on a free port, in a data folder of its own, as a user without
// rights. It stands for a source system that speaks the MySQL protocol.
package localmaria

import (
	"context"
	"crypto/rand"
	"database/sql"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"time"

	driver "github.com/go-sql-driver/mysql"
)

// Server is a running server.
type Server struct {
	Folder   string
	Port     int
	password string
	cmd      *exec.Cmd
	exited   chan struct{}
}

const (
	program    = "/usr/sbin/mariadbd"
	serverUser = "mysql"
	// Owner is the database user that may do everything.
	Owner = "larkfell"
)

// Installed tells whether there is a server on this machine.
func Installed() bool {
	_, err := os.Stat(program)
	return err == nil
}

// Start makes the data folder when it is new, and starts the server.
func Start(ctx context.Context, folder string) (*Server, error) {
	if !Installed() {
		return nil, errors.New("there is no MariaDB server here; install Debian's package mariadb-server (`make demo` and `make test` do)")
	}
	folder, err := filepath.Abs(folder)
	if err != nil {
		return nil, err
	}
	s := &Server{Folder: folder, exited: make(chan struct{})}
	if err := os.MkdirAll(folder, 0o755); err != nil {
		return nil, fmt.Errorf("making the data folder: %w", err)
	}
	attributes, err := s.unprivileged()
	if err != nil {
		return nil, err
	}
	data, first := filepath.Join(folder, "data"), filepath.Join(folder, "first.sql")
	args := []string{"--no-defaults", "--datadir=" + data, "--bind-address=127.0.0.1", "--socket=" + filepath.Join(folder, "s"), "--pid-file=" + filepath.Join(folder, "pid"),
		"--skip-log-bin", "--innodb-buffer-pool-size=64M", "--innodb-flush-log-at-trx-commit=0", "--character-set-server=utf8mb4", "--skip-name-resolve"}
	if err := s.owner(first); err != nil {
		return nil, err
	}
	if _, err := os.Stat(filepath.Join(data, "mysql")); errors.Is(err, fs.ErrNotExist) {
		_ = os.RemoveAll(data)
		make := exec.CommandContext(ctx, "/usr/bin/mariadb-install-db", "--no-defaults", "--datadir="+data, "--auth-root-authentication-method=normal", "--skip-test-db")
		make.SysProcAttr, make.Dir = attributes(), folder
		if out, err := make.CombinedOutput(); err != nil {
			return nil, fmt.Errorf("making the database folder: %w\n%s", err, out)
		}
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	s.Port = l.Addr().(*net.TCPAddr).Port
	_ = l.Close()
	log, err := os.Create(filepath.Join(folder, "server.log"))
	if err != nil {
		return nil, err
	}
	defer log.Close()
	s.cmd = exec.Command(program, append(args, "--port="+strconv.Itoa(s.Port), "--init-file="+first)...)
	s.cmd.Stdout, s.cmd.Stderr, s.cmd.Dir = log, log, folder
	s.cmd.SysProcAttr = attributes()
	s.cmd.SysProcAttr.Setpgid = true
	s.cmd.SysProcAttr.Pdeathsig = syscall.SIGTERM
	if err := s.cmd.Start(); err != nil {
		return nil, fmt.Errorf("starting MariaDB: %w", err)
	}
	go func() { _ = s.cmd.Wait(); close(s.exited) }()
	return s, s.await(ctx)
}

// unprivileged gives the process attributes for the server, which does not run as
// root: root lends it the user that Debian's package makes.
func (s *Server) unprivileged() (func() *syscall.SysProcAttr, error) {
	if os.Getuid() != 0 {
		return func() *syscall.SysProcAttr { return &syscall.SysProcAttr{} }, nil
	}
	u, err := user.Lookup(serverUser)
	if err != nil {
		return nil, fmt.Errorf("MariaDB does not run as root, and there is no user %q to run it as", serverUser)
	}
	uid, _ := strconv.Atoi(u.Uid)
	gid, _ := strconv.Atoi(u.Gid)
	if err := os.Chown(s.Folder, uid, gid); err != nil {
		return nil, err
	}
	return func() *syscall.SysProcAttr {
		return &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}}
	}, nil
}

// owner writes what the server does first: it makes the owner.
func (s *Server) owner(first string) error {
	file := filepath.Join(s.Folder, "password")
	text, err := os.ReadFile(file)
	if err != nil {
		text = []byte(rand.Text())
		if err := os.WriteFile(file, text, 0o600); err != nil {
			return err
		}
	}
	s.password = strings.TrimSpace(string(text))
	statement := fmt.Sprintf("CREATE OR REPLACE USER '%s'@'127.0.0.1' IDENTIFIED BY '%s'; GRANT ALL ON *.* TO '%s'@'127.0.0.1' WITH GRANT OPTION;\n", Owner, s.password, Owner)
	statement = strings.ReplaceAll(statement, "; ", ";\n")
	if err := os.WriteFile(first, []byte(statement), 0o600); err != nil {
		return err
	}
	if os.Getuid() != 0 {
		return nil
	}
	info, err := os.Stat(s.Folder)
	if err != nil {
		return err
	}
	st := info.Sys().(*syscall.Stat_t)
	return os.Chown(first, int(st.Uid), int(st.Gid))
}

func (s *Server) await(ctx context.Context) error {
	for {
		select {
		case <-s.exited:
			log, _ := os.ReadFile(filepath.Join(s.Folder, "server.log"))
			return fmt.Errorf("MariaDB ended at once; it said:\n%s", log[max(0, len(log)-1500):])
		case <-ctx.Done():
			s.Stop()
			return ctx.Err()
		case <-time.After(50 * time.Millisecond):
		}
		db, err := s.Open("")
		if err != nil {
			return err
		}
		err = db.PingContext(ctx)
		_ = db.Close()
		if err == nil {
			return nil
		}
	}
}

// Open opens a database as its owner, "" for none.
func (s *Server) Open(database string) (*sql.DB, error) {
	config := driver.NewConfig()
	config.User, config.Passwd, config.Net, config.Addr, config.DBName = Owner, s.password, "tcp", fmt.Sprintf("127.0.0.1:%d", s.Port), database
	config.MultiStatements = true
	config.Logger = quiet{}
	connector, err := driver.NewConnector(config)
	if err != nil {
		return nil, err
	}
	return sql.OpenDB(connector), nil
}

// quiet keeps the driver from telling of each attempt while the server starts.
type quiet struct{}

func (quiet) Print(...any) {}

// Ensure makes a database when it is not there, and says whether it made it.
func (s *Server) Ensure(ctx context.Context, database string) (made bool, err error) {
	db, err := s.Open("")
	if err != nil {
		return false, err
	}
	defer db.Close()
	var there int
	if err := db.QueryRowContext(ctx, `SELECT count(*) FROM information_schema.schemata WHERE schema_name = ?`, database).Scan(&there); err != nil || there > 0 {
		return false, err
	}
	_, err = db.ExecContext(ctx, "CREATE DATABASE `"+strings.ReplaceAll(database, "`", "``")+"`")
	return err == nil, err
}

// Password is the owner's.
func (s *Server) Password() string { return s.password }

// Stop ends the server and waits until it has written everything.
func (s *Server) Stop() {
	_ = s.cmd.Process.Signal(syscall.SIGTERM)
	select {
	case <-s.exited:
	case <-time.After(20 * time.Second):
		_ = s.cmd.Process.Kill()
		<-s.exited
	}
}
