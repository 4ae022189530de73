// Package localpg runs a PostgreSQL server of Debian's packages for the demo
// and for tests: on loopback, on a free port, in a data folder of its own, as a
// user without rights. Real installations bring their own database.
package localpg

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"net"
	"net/url"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/jackc/pgx/v5"
)

// Server is a running PostgreSQL server.
type Server struct {
	Folder   string
	Port     int
	password string
	cmd      *exec.Cmd
	exited   chan error
}

// Options say how a server is started.
type Options struct {
	// Fast gives up safety against a crash of the machine, for tests.
	Fast bool
}

const serverUser = "postgres"

// Start makes the data folder when it is new, and starts the server. A server
// that was left running there by a killed process is taken down first; a stale
// lock file is no hindrance.
func Start(ctx context.Context, folder string, o Options) (*Server, error) {
	bin, err := binaries()
	if err != nil {
		return nil, err
	}
	folder, err = filepath.Abs(folder)
	if err != nil {
		return nil, err
	}
	s := &Server{Folder: folder, exited: make(chan error, 1)}
	if err := os.MkdirAll(folder, 0o755); err != nil {
		return nil, fmt.Errorf("making the data folder: %w", err)
	}
	run, err := s.unprivileged()
	if err != nil {
		return nil, err
	}
	data := filepath.Join(folder, "data")
	if err := s.loadPassword(); err != nil {
		return nil, err
	}
	if _, err := os.Stat(filepath.Join(data, "PG_VERSION")); errors.Is(err, os.ErrNotExist) {
		if err := s.initialise(ctx, bin, data, run); err != nil {
			return nil, err
		}
	}
	if err := stopLeftover(data); err != nil {
		return nil, err
	}
	if s.Port, err = freePort(); err != nil {
		return nil, err
	}
	args := []string{"-D", data, "-p", strconv.Itoa(s.Port), "-c", "listen_addresses=127.0.0.1", "-c", "unix_socket_directories=" + folder,
		"-c", "wal_level=logical", "-c", "max_connections=200", "-c", "logging_collector=off", "-c", "timezone=UTC"}
	if o.Fast {
		args = append(args, "-c", "fsync=off", "-c", "synchronous_commit=off", "-c", "full_page_writes=off")
	}
	log, err := os.OpenFile(filepath.Join(folder, "server.log"), os.O_CREATE|os.O_WRONLY|os.O_TRUNC, 0o644)
	if err != nil {
		return nil, err
	}
	defer log.Close()
	s.cmd = exec.Command(filepath.Join(bin, "postgres"), args...)
	s.cmd.Stdout, s.cmd.Stderr, s.cmd.Dir = log, log, folder
	s.cmd.SysProcAttr = run()
	// A group of its own keeps the terminal's Ctrl-C away from the server, which
	// must outlive the work that is being finished; the kernel ends it with us.
	s.cmd.SysProcAttr.Setpgid = true
	s.cmd.SysProcAttr.Pdeathsig = syscall.SIGINT
	if err := s.cmd.Start(); err != nil {
		return nil, fmt.Errorf("starting PostgreSQL: %w", err)
	}
	go func() { s.exited <- s.cmd.Wait() }()
	return s, s.await(ctx)
}

// binaries finds the server's programs: the newest of Debian's.
func binaries() (string, error) {
	found, _ := filepath.Glob("/usr/lib/postgresql/*/bin/postgres")
	slices.SortFunc(found, func(a, b string) int { return versionOf(b) - versionOf(a) })
	if len(found) > 0 && versionOf(found[0]) >= 15 {
		return filepath.Dir(found[0]), nil
	}
	if p, err := exec.LookPath("postgres"); err == nil {
		return filepath.Dir(p), nil
	}
	return "", errors.New("there is no PostgreSQL server of version 15 or newer here; install Debian's package postgresql (`make demo` and `make test` do)")
}

func versionOf(path string) int {
	n, _ := strconv.Atoi(strings.Split(path, "/")[4])
	return n
}

// unprivileged gives the process attributes for the server: PostgreSQL refuses
// to run as root, so root lends it the user that Debian's package makes.
func (s *Server) unprivileged() (func() *syscall.SysProcAttr, error) {
	if os.Getuid() != 0 {
		return func() *syscall.SysProcAttr { return &syscall.SysProcAttr{} }, nil
	}
	u, err := user.Lookup(serverUser)
	if err != nil {
		return nil, fmt.Errorf("PostgreSQL does not run as root, and there is no user %q to run it as", serverUser)
	}
	uid, _ := strconv.Atoi(u.Uid)
	gid, _ := strconv.Atoi(u.Gid)
	if err := os.Chown(s.Folder, uid, gid); err != nil {
		return nil, err
	}
	for dir := filepath.Dir(s.Folder); dir != "/"; dir = filepath.Dir(dir) {
		if info, err := os.Stat(dir); err == nil && info.Mode().Perm()&0o001 == 0 {
			return nil, fmt.Errorf("the user %q may not enter %s, so its database can't be kept below it; choose another data folder, such as --data /var/lib/welkin", serverUser, dir)
		}
	}
	return func() *syscall.SysProcAttr {
		return &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}}
	}, nil
}

func (s *Server) loadPassword() error {
	file := filepath.Join(s.Folder, "password")
	text, err := os.ReadFile(file)
	if err == nil {
		s.password = strings.TrimSpace(string(text))
		return nil
	}
	s.password = rand.Text()
	if err := os.WriteFile(file, []byte(s.password), 0o600); err != nil {
		return err
	}
	return chownLike(file, s.Folder)
}

func chownLike(file, model string) error {
	info, err := os.Stat(model)
	if err != nil {
		return err
	}
	st := info.Sys().(*syscall.Stat_t)
	if os.Getuid() != 0 {
		return nil
	}
	return os.Chown(file, int(st.Uid), int(st.Gid))
}

func (s *Server) initialise(ctx context.Context, bin, data string, run func() *syscall.SysProcAttr) error {
	_ = os.RemoveAll(data) // what a killed start left half made
	cmd := exec.CommandContext(ctx, filepath.Join(bin, "initdb"), "-D", data, "-U", serverUser, "--pwfile", filepath.Join(s.Folder, "password"),
		"-A", "scram-sha-256", "-E", "UTF8", "--locale=C.UTF-8", "--no-sync")
	cmd.SysProcAttr, cmd.Dir = run(), s.Folder
	if out, err := cmd.CombinedOutput(); err != nil {
		return fmt.Errorf("making the database folder: %w\n%s", err, out)
	}
	return nil
}

// stopLeftover ends a server that still runs on the data folder.
func stopLeftover(data string) error {
	text, err := os.ReadFile(filepath.Join(data, "postmaster.pid"))
	if err != nil {
		return nil
	}
	pid, err := strconv.Atoi(strings.SplitN(string(text), "\n", 2)[0])
	if err != nil || pid <= 1 {
		return nil
	}
	// The number may belong to another program by now: only a process whose
	// command line names this data folder is ended.
	line, err := os.ReadFile(fmt.Sprintf("/proc/%d/cmdline", pid))
	if err != nil || !strings.Contains(string(line), data) {
		return nil
	}
	_ = syscall.Kill(pid, syscall.SIGINT)
	for range 200 {
		if syscall.Kill(pid, 0) != nil {
			return nil
		}
		time.Sleep(50 * time.Millisecond)
	}
	return fmt.Errorf("another PostgreSQL server (process %d) uses %s and does not stop; is the demo running already?", pid, data)
}

func freePort() (int, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return 0, err
	}
	defer l.Close()
	return l.Addr().(*net.TCPAddr).Port, nil
}

func (s *Server) await(ctx context.Context) error {
	for {
		select {
		case <-s.exited:
			log, _ := os.ReadFile(filepath.Join(s.Folder, "server.log"))
			return fmt.Errorf("PostgreSQL ended at once; it said:\n%s", log[max(0, len(log)-1500):])
		case <-ctx.Done():
			s.Stop()
			return ctx.Err()
		case <-time.After(50 * time.Millisecond):
		}
		if conn, err := pgx.Connect(ctx, s.Address(serverUser)); err == nil {
			return conn.Close(ctx)
		}
	}
}

// Address gives the connection address of a database.
func (s *Server) Address(database string) string {
	u := url.URL{Scheme: "postgres", User: url.UserPassword(serverUser, s.password), Host: fmt.Sprintf("127.0.0.1:%d", s.Port), Path: "/" + database, RawQuery: "sslmode=disable"}
	return u.String()
}

// User and Password are those of the server's owner.
func (s *Server) User() string { return serverUser }

// Password gives the owner's password.
func (s *Server) Password() string { return s.password }

// Ensure makes a database when it is not there, and says whether it made it.
func (s *Server) Ensure(ctx context.Context, database string) (made bool, err error) {
	conn, err := pgx.Connect(ctx, s.Address(serverUser))
	if err != nil {
		return false, fmt.Errorf("connecting to the local database: %w", err)
	}
	defer conn.Close(ctx)
	var there bool
	if err := conn.QueryRow(ctx, `SELECT EXISTS (SELECT 1 FROM pg_database WHERE datname = $1)`, database).Scan(&there); err != nil || there {
		return false, err
	}
	_, err = conn.Exec(ctx, `CREATE DATABASE `+pgx.Identifier{database}.Sanitize())
	return err == nil, err
}

// Exited tells when the server ends by itself.
func (s *Server) Exited() <-chan error { return s.exited }

// Stop ends the server and waits until it has written everything.
func (s *Server) Stop() {
	_ = s.cmd.Process.Signal(syscall.SIGINT)
	select {
	case <-s.exited:
	case <-time.After(20 * time.Second):
		_ = s.cmd.Process.Kill()
	}
}
