package api_test

import (
	"context"
	"fmt"
	"net/http"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestWhatIsSentToAnAddressIsKeptAndRead sends messages as another system does, and reads
// them by a sheet.
func TestWhatIsSentToAnAddressIsKeptAndRead(t *testing.T) {
	address, s := serve(t)
	c := as(t, address, "builder")
	get[any](c, "POST", "/api/connections", map[string]any{"name": "doors", "kind": "webhook", "settings": map[string]any{"secret": "a secret of the doors", "most_kib": 2}})
	type line struct{ What, State, Found string }
	lines := get[[]line](c, "POST", "/api/connection-check?id=1", map[string]any{"name": "doors", "kind": "webhook", "settings": map[string]any{}})
	require.Equal(t, "good", lines[0].State, "%v", lines)
	at := address + strings.Fields(lines[0].Found[strings.Index(lines[0].Found, "/hooks/"):])[0]

	send := func(to, body string) int {
		r, err := http.Post(to, "application/json", strings.NewReader(body))
		require.NoError(t, err)
		defer r.Body.Close()
		return r.StatusCode
	}
	assert.Equal(t, 202, send(at, `{"hut": "H01", "open": true}`))
	assert.Equal(t, 202, send(at, `[{"hut": "H02", "open": false}, {"hut": "H03"}]`))
	for status, body := range map[int]string{422: `[{"hut": "H04"}, 7]`, 413: `{"x": "` + strings.Repeat("x", 3000) + `"}`} {
		assert.Equal(t, status, send(at, body))
	}
	assert.Equal(t, 422, send(at, "hut=H04"))
	assert.Equal(t, 422, send(at, "[]"))
	assert.Equal(t, 404, send(at[:len(at)-1]+"_", `{}`))
	assert.Equal(t, 404, send(address+"/hooks/2/x", `{}`))
	var sent sync.WaitGroup
	for i := range 20 {
		sent.Go(func() { assert.Equal(t, 202, send(at, fmt.Sprintf(`{"hut": "H%02d"}`, i+10))) })
	}
	sent.Wait()
	_, count, err := s.InboxNewest(context.Background(), 1)
	require.NoError(t, err)
	assert.EqualValues(t, 23, count, "what was refused left nothing behind")
	text := "welkin: 1\nname: d\nsteps:\n  - {step: doors, does: read table, connection: doors, table: inbox, growing: {column: n}}\n  - {step: open, does: keep rows, from: doors, where: open}\n"
	tried := get[trial](c, "POST", "/api/sheets/try", map[string]any{"yaml": text, "step": "open"})
	assert.EqualValues(t, 1, tried.After.Total)
}
