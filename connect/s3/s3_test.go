package s3_test

import (
	"context"
	"fmt"
	"net/http/httptest"
	"net/url"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"welkin/connect"
	"welkin/connect/connecttest"
	"welkin/connect/s3"
	"welkin/core/step"
	"welkin/standin/objectstore"
)

// store starts a stand-in with some files and gives the settings that reach it.
func store(t *testing.T) (*s3.Settings, string) {
	s, err := objectstore.New("incoming", "larkfell")
	require.NoError(t, err)
	require.NoError(t, s.Put("incoming", "levels.csv", []byte(connecttest.LevelsCSV)))
	require.NoError(t, s.Put("incoming", "deep/er/levels.csv", []byte("id\n9\n")))
	var many strings.Builder
	many.WriteString("id,name\n")
	for i := range 100_000 {
		fmt.Fprintf(&many, "%d,a name of some length %d\n", i, i)
	}
	require.NoError(t, s.Put("incoming", "many.csv", []byte(many.String())))
	web := httptest.NewServer(s)
	t.Cleanup(web.Close)
	u, err := url.Parse(web.URL)
	require.NoError(t, err)
	port, err := strconv.Atoi(u.Port())
	require.NoError(t, err)
	return &s3.Settings{Host: u.Hostname(), Port: port, Bucket: "incoming", Key: "larkfell", Secret: "a secret of the store", TLS: "disable"}, u.Host
}

func TestConformance(t *testing.T) {
	good, _ := store(t)
	with := func(change func(*s3.Settings)) connect.Settings {
		s := *good
		change(&s)
		return &s
	}
	connecttest.Run(t, connecttest.FilesHarness(t, connecttest.Harness{Kind: s3.Kind, Good: good, Secret: good.Secret, Bad: map[string]connect.Settings{
		"the name resolves":   with(func(s *s3.Settings) { s.Host = "no-such-machine.invalid" }),
		"the port answers":    with(func(s *s3.Settings) { s.Port = 1 }),
		"sign-in":             with(func(s *s3.Settings) { s.Key = "somebody" }),
		"the bucket is there": with(func(s *s3.Settings) { s.Bucket = "outgoing" }),
	}}))
}

func TestWhatGoesWrongOnTheWay(t *testing.T) {
	good, address := store(t)
	connecttest.RunFaults(t, connecttest.Faults{Address: address, Secret: good.Secret, Rows: 100_000,
		Open: func(ctx context.Context, port int) (connect.Connection, error) {
			s := *good
			s.Port = port
			return s3.Kind.Open(ctx, &s)
		},
		Read: func(ctx context.Context, c connect.Connection) (step.Reader, error) {
			return connecttest.ReadFile(ctx, c, "many.csv")
		}})
}

func TestFoldersOfABucketAreFound(t *testing.T) {
	good, _ := store(t)
	good.Prefix = "deep"
	c, err := s3.Kind.Open(t.Context(), good)
	require.NoError(t, err)
	list, err := c.Browse(t.Context(), "")
	require.NoError(t, err)
	require.Len(t, list, 1)
	assert.Equal(t, "er", list[0].Path)
	files := c.(step.Files)
	found, err := files.Match(t.Context(), "**/*.csv")
	require.NoError(t, err)
	require.Len(t, found, 1)
	assert.Equal(t, "er/levels.csv", found[0].Name)
	_, err = files.Open(t.Context(), "gone.csv")
	assert.ErrorContains(t, err, "gone.csv is not there")
}
