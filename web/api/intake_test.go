package api_test

import (
	"bytes"
	"encoding/json"
	"io"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"welkin/web/api"
)

// drop puts a file into a connection as the page does.
func (c *client) drop(connection, name, content string) (status int, said string) {
	c.t.Helper()
	r, err := http.NewRequest(http.MethodPut, c.url+"/api/files/"+connection+"/"+url.PathEscape(name), strings.NewReader(content))
	require.NoError(c.t, err)
	answer, err := c.Do(r)
	require.NoError(c.t, err)
	defer answer.Body.Close()
	text, err := io.ReadAll(answer.Body)
	require.NoError(c.t, err)
	return answer.StatusCode, strings.TrimSpace(string(text))
}

func TestAFileThatIsDroppedIsKeptWholeAndOverwritesNothing(t *testing.T) {
	at, _ := serve(t)
	c := as(t, at, "builder")
	folder := t.TempDir()
	get[map[string]any](c, "POST", "/api/connections", map[string]any{"name": "incoming", "kind": "folder", "settings": map[string]any{"path": folder}})
	for _, d := range []struct{ name, want string }{
		{"towns.csv", "towns.csv"},
		{"towns.csv", "towns_2.csv"},
		{`..\..\towns of the council.csv`, "towns of the council.csv"},
	} {
		status, said := c.drop("incoming", d.name, "name\nSaltmere\n")
		require.Equal(t, 200, status, said)
		var got struct{ File string }
		require.NoError(t, json.Unmarshal([]byte(said), &got))
		assert.Equal(t, d.want, got.File)
		content, err := os.ReadFile(filepath.Join(folder, d.want))
		require.NoError(t, err)
		assert.Equal(t, "name\nSaltmere\n", string(content))
	}
	for name, d := range map[string]struct{ connection, file, content, says string }{
		"nothing in it": {"incoming", "empty.csv", "", "empty.csv is empty"},
		"no name":       {"incoming", ".hidden", "a", `".hidden" can't be a file's name`},
		"no connection": {"nowhere", "a.csv", "a", "nowhere"},
	} {
		status, said := c.drop(d.connection, d.file, d.content)
		assert.Equal(t, 422, status, name)
		assert.Contains(t, said, d.says, name)
	}
	status, _ := as(t, at, "reader").drop("incoming", "a.csv", "a")
	assert.Equal(t, 401, status)
}

func TestAFileIsFetchedFromPublicAddressesAlone(t *testing.T) {
	web := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path != "/lists/towns" {
			http.NotFound(w, r)
			return
		}
		w.Header().Set("Content-Type", "text/csv; charset=utf-8")
		_, _ = w.Write([]byte("name\nSaltmere\n"))
	}))
	t.Cleanup(web.Close)
	for _, private := range []bool{false, true} {
		at, _ := serveWith(t, func(s *api.Server) { s.PrivateAddresses = private })
		c := as(t, at, "builder")
		folder := t.TempDir()
		get[map[string]any](c, "POST", "/api/connections", map[string]any{"name": "incoming", "kind": "folder", "settings": map[string]any{"path": folder}})
		status, said := c.do("POST", "/api/fetched-files", map[string]any{"connection": "incoming", "address": web.URL + "/lists/towns"})
		if !private {
			assert.Equal(t, 422, status)
			assert.Contains(t, said, "is a private address")
			continue
		}
		require.Equal(t, 200, status, said)
		content, err := os.ReadFile(filepath.Join(folder, "towns.csv"))
		require.NoError(t, err)
		assert.True(t, bytes.HasPrefix(content, []byte("name\n")))
		status, said = c.do("POST", "/api/fetched-files", map[string]any{"connection": "incoming", "address": web.URL + "/gone"})
		assert.Equal(t, 422, status)
		assert.Contains(t, said, "answers 404")
		status, said = c.do("POST", "/api/fetched-files", map[string]any{"connection": "incoming", "address": "file:///etc/hostname"})
		assert.Equal(t, 422, status)
		assert.Contains(t, said, "is no address")
	}
}

func TestPeopleSeeWhoElseHasASheetOpen(t *testing.T) {
	at, _ := serve(t)
	c, other := as(t, at, "builder"), as(t, at, "admin")
	p := get[struct{ ID int64 }](c, "POST", "/api/pipelines", map[string]any{"yaml": "welkin: 1\nname: x\nsteps: []\n"})
	require.Positive(t, p.ID)
	type present struct {
		Person, Step string
		Changed      bool
	}
	assert.Empty(t, get[[]present](c, "POST", "/api/pipelines/1/here", map[string]any{"step": "real", "changed": true}))
	assert.Equal(t, []present{{"builder", "real", true}}, get[[]present](other, "POST", "/api/pipelines/1/here", map[string]any{}))
	get[[]present](c, "POST", "/api/pipelines/1/here", map[string]any{"leaving": true})
	assert.Empty(t, get[[]present](other, "POST", "/api/pipelines/1/here", map[string]any{}))
	status, _ := c.do("POST", "/api/pipelines/99/here", map[string]any{})
	assert.Equal(t, 404, status)
}
