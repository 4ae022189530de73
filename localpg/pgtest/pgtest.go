// Package pgtest gives tests a real PostgreSQL server. Each test binary starts
// one when a test first asks, and Main takes it down.
package pgtest

import (
	"context"
	"fmt"
	"os"
	"sync"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/require"

	"welkin/localpg"
)

var (
	once   sync.Once
	server *localpg.Server
	folder string
	failed error
	number atomic.Int64
)

// Main runs a package's tests and then stops the server: call it from TestMain.
func Main(m *testing.M) {
	code := m.Run()
	if server != nil {
		server.Stop()
	}
	if folder != "" {
		_ = os.RemoveAll(folder)
	}
	os.Exit(code)
}

// Server gives the test binary's server.
func Server(t testing.TB) *localpg.Server {
	t.Helper()
	once.Do(func() {
		if folder, failed = os.MkdirTemp("", "welkin-pg-"); failed != nil {
			return
		}
		if failed = os.Chmod(folder, 0o755); failed == nil {
			server, failed = localpg.Start(context.Background(), folder, localpg.Options{Fast: true})
		}
	})
	require.NoError(t, failed, "starting PostgreSQL for the tests")
	return server
}

// Database makes a fresh database and gives its name and address.
func Database(t testing.TB) (name, address string) {
	t.Helper()
	s := Server(t)
	name = fmt.Sprintf("test_%d", number.Add(1))
	_, err := s.Ensure(context.Background(), name)
	require.NoError(t, err)
	return name, s.Address(name)
}
