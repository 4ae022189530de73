package sftp_test

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"welkin/connect"
	"welkin/connect/connecttest"
	"welkin/connect/sftp"
	"welkin/core/step"
	"welkin/standin/sftpserver"
)

// machine starts a stand-in with some files and gives the settings that reach it.
func machine(t *testing.T) (*sftp.Settings, *sftpserver.Server) {
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "levels.csv"), []byte(connecttest.LevelsCSV), 0o644))
	var many strings.Builder
	many.WriteString("id,name\n")
	for i := range 100_000 {
		fmt.Fprintf(&many, "%d,a name of some length %d\n", i, i)
	}
	require.NoError(t, os.WriteFile(filepath.Join(dir, "many.csv"), []byte(many.String()), 0o644))
	server, err := sftpserver.Start("127.0.0.1:0", dir, "larkfell", "a password of the machine", [32]byte{1})
	require.NoError(t, err)
	t.Cleanup(server.Close)
	return &sftp.Settings{Host: "127.0.0.1", Port: server.Port(), User: "larkfell", Password: "a password of the machine", HostKey: server.Fingerprint()}, server
}

func TestConformance(t *testing.T) {
	good, _ := machine(t)
	with := func(change func(*sftp.Settings)) connect.Settings {
		s := *good
		change(&s)
		return &s
	}
	connecttest.Run(t, connecttest.FilesHarness(t, connecttest.Harness{Kind: sftp.Kind, Good: good, Secret: good.Password, Bad: map[string]connect.Settings{
		"the name resolves": with(func(s *sftp.Settings) { s.Host = "no-such-machine.invalid" }),
		"the port answers":  with(func(s *sftp.Settings) { s.Port = 1 }),
		"sign-in":           with(func(s *sftp.Settings) { s.Password = "another" }),
		"the host key":      with(func(s *sftp.Settings) { s.HostKey = "SHA256:AAAA" }),
		"may read":          with(func(s *sftp.Settings) { s.Path = "gone" }),
	}}))
}

func TestWhatGoesWrongOnTheWay(t *testing.T) {
	good, server := machine(t)
	connecttest.RunFaults(t, connecttest.Faults{Address: fmt.Sprintf("127.0.0.1:%d", server.Port()), Secret: good.Password, Rows: 100_000,
		Open: func(ctx context.Context, port int) (connect.Connection, error) {
			s := *good
			s.Port = port
			return sftp.Kind.Open(ctx, &s)
		},
		Read: func(ctx context.Context, c connect.Connection) (step.Reader, error) {
			return connecttest.ReadFile(ctx, c, "many.csv")
		}})
}

func TestNamesNeverLeadOutOfTheFolder(t *testing.T) {
	good, _ := machine(t)
	good.Path = "inside"
	c, err := sftp.Kind.Open(t.Context(), good)
	require.NoError(t, err)
	defer c.Close()
	_, err = c.(step.Files).Open(t.Context(), "../levels.csv")
	assert.ErrorContains(t, err, "not there")
}
