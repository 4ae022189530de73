package api_test

import (
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"welkin/connect"
	"welkin/store"
)

type layoutAnswer struct {
	ID, Version int64
	Name        string
}

func TestLayoutsAreKeptWithTheirVersionsAndDrawnOnRecords(t *testing.T) {
	c, dir := folder(t)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "radio.dat"), []byte("WH010125-snow \nWH020031+fair \nWH030040-snow \nCH02Ada       \nCH03Bo        \nCH01Ada       \nCH02Bo        \nWH010001+fair \n"), 0o644))
	type seen struct {
		Lines, Bytes []string
		Proposal     struct {
			Layout struct {
				Records []struct {
					Code   string
					Fields []any
				}
			}
			Why []string
		}
		Read []struct {
			Type   string
			Values map[string]*string
			Fault  string
		}
		Problem string
	}
	look := get[seen](c, "POST", "/api/layouts/records", map[string]any{"connection": "incoming", "file": "radio.dat"})
	assert.Equal(t, "WH010125-snow ", look.Lines[0])
	assert.Equal(t, "574830313031", look.Bytes[0][:12])
	assert.Len(t, look.Proposal.Layout.Records, 2)
	assert.Empty(t, look.Read)

	field := func(name string, start, length int, typ string) map[string]any {
		return map[string]any{"name": name, "start": start, "length": length, "type": typ}
	}
	layout := map[string]any{"code": map[string]any{"start": 1, "length": 1}, "records": []any{
		map[string]any{"name": "weather", "code": "W", "fields": []any{field("hut", 2, 3, "text"), map[string]any{"name": "degrees", "start": 5, "length": 5, "type": "decimal(4,1)", "scale": 1, "sign": "trailing"}}},
		map[string]any{"name": "call", "code": "C", "fields": []any{field("hut", 2, 3, "text"), field("number", 5, 3, "int")}}}}
	look = get[seen](c, "POST", "/api/layouts/records", map[string]any{"connection": "incoming", "file": "radio.dat", "layout": layout})
	require.Len(t, look.Read, 8)
	assert.Equal(t, "weather", look.Read[0].Type)
	assert.Equal(t, "-12.5", *look.Read[0].Values["degrees"])
	assert.Equal(t, `"Ada" is not a whole number`, look.Read[3].Fault)

	saved := get[layoutAnswer](c, "POST", "/api/layouts", map[string]any{"name": "radio", "layout": layout})
	assert.EqualValues(t, 1, saved.Version)
	at := fmt.Sprintf("/api/layouts/%d", saved.ID)
	saved = get[layoutAnswer](c, "PUT", at, map[string]any{"name": "radio", "layout": layout, "version": 1})
	assert.EqualValues(t, 2, saved.Version)
	status, said := c.do("PUT", at, map[string]any{"name": "radio", "layout": layout, "version": 1})
	assert.Equal(t, 409, status, said)
	status, said = c.do("POST", "/api/layouts", map[string]any{"name": "radio", "layout": layout})
	assert.Equal(t, 409, status)
	assert.Contains(t, said, "already")
	status, said = c.do("POST", "/api/layouts", map[string]any{"name": "none", "layout": map[string]any{"records": []any{}}})
	assert.Equal(t, 422, status)
	assert.Contains(t, said, "no record type yet")

	type converted struct {
		YAML  string
		Notes []string
	}
	text := get[converted](c, "POST", "/api/layouts/convert", map[string]any{"layout": layout})
	assert.Contains(t, text.YAML, "sign: trailing")
	again := get[converted](c, "POST", "/api/layouts/convert", map[string]any{"yaml": text.YAML})
	assert.Equal(t, text.YAML, again.YAML)
	book := get[converted](c, "POST", "/api/layouts/convert", map[string]any{"copybook": "01 A.\n 05 HUT PIC X(3).\n 05 WATTS PIC S9(5) COMP-3.\n"})
	assert.Contains(t, book.YAML, "store: packed")
	assert.NotEmpty(t, book.Notes)
	status, said = c.do("POST", "/api/layouts/convert", map[string]any{"yaml": "colour: red"})
	assert.Equal(t, 422, status)
	assert.Contains(t, said, "colour")

	sheet := "welkin: 1\nname: r\nsteps:\n  - {step: r, does: read files, connection: incoming, files: radio.dat, layout: %s, record: weather}\n"
	type checked struct {
		Ready    bool
		Problems []problem
	}
	assert.True(t, get[checked](c, "POST", "/api/sheets/check", map[string]any{"yaml": fmt.Sprintf(sheet, "radio")}).Ready)
	bad := get[checked](c, "POST", "/api/sheets/check", map[string]any{"yaml": fmt.Sprintf(sheet, "moon")})
	assert.Contains(t, bad.Problems[0].Sentence, `no layout "moon"`)
	status, _ = c.do("DELETE", at, nil)
	assert.Equal(t, 204, status)
	assert.Empty(t, get[[]any](c, "GET", "/api/layouts", nil))
}

func TestPositionsAreShownAndSetBack(t *testing.T) {
	address, s := serve(t)
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "stays.csv"), []byte("id\n1\n"), 0o644))
	c := as(t, address, "builder")
	get[any](c, "POST", "/api/connections", map[string]any{"name": "incoming", "kind": "folder", "settings": map[string]any{"path": dir}})
	get[any](c, "POST", "/api/pipelines", map[string]any{"yaml": "welkin: 1\nname: new files\nsteps:\n  - {step: r, does: read files, connection: incoming, files: '*.csv', take: new}\n  - {step: all, does: read files, connection: incoming, files: stays.csv}\n"})
	require.NoError(t, s.SetPosition(context.Background(), 1, "r", json.RawMessage(`{"files":[]}`), "somebody"))
	type position struct {
		Step      string
		Position  json.RawMessage
		ChangedBy string `json:"changed_by"`
	}
	list := get[[]position](c, "GET", "/api/pipelines/1/positions", nil)
	require.Len(t, list, 1)
	assert.Equal(t, "somebody", list[0].ChangedBy)
	list = get[[]position](c, "PUT", "/api/pipelines/1/positions/r", map[string]any{"position": map[string]any{"files": []any{map[string]any{"name": "stays.csv", "size": 5, "changed": "2026-11-23T00:00:00Z", "sha256": "x"}}}})
	assert.Equal(t, "builder", list[0].ChangedBy)
	for at, body := range map[string]any{"r": map[string]any{"position": map[string]any{"files": 7}}, "all": map[string]any{}, "moon": map[string]any{}} {
		status, said := c.do("PUT", "/api/pipelines/1/positions/"+at, body)
		assert.Equal(t, 422, status, said)
	}
	assert.Empty(t, get[[]position](c, "PUT", "/api/pipelines/1/positions/r", map[string]any{}))
	status, _ := as(t, address, "reader").do("PUT", "/api/pipelines/1/positions/r", map[string]any{})
	assert.Equal(t, 403, status)
}

func TestProfilesAreKeptAndCompared(t *testing.T) {
	c, dir := folder(t)
	type profiled struct {
		Rows    int64
		Whole   bool
		Before  *time.Time
		Changes []struct{ Column, Sentence string }
		Columns []struct{ Name string }
	}
	assert.Nil(t, get[*profiled](c, "GET", "/api/connections/1/profile?path=stays.csv", nil))
	first := get[*profiled](c, "POST", "/api/connections/1/profile?path=stays.csv", nil)
	assert.EqualValues(t, 4, first.Rows)
	assert.True(t, first.Whole)
	assert.Nil(t, first.Before)
	assert.Len(t, first.Columns, 3)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "stays.csv"), []byte("id,hut\n1,H1\n2,H2\n"), 0o644))
	second := get[*profiled](c, "POST", "/api/connections/1/profile?path=stays.csv&all=true", nil)
	require.NotNil(t, second.Before)
	assert.Equal(t, "2 rows, where there were 4", second.Changes[0].Sentence)
	assert.Contains(t, fmt.Sprint(second.Changes), "nights is gone")
	status, said := c.do("POST", "/api/connections/1/profile?path=gone.csv", nil)
	assert.Equal(t, 422, status)
	assert.Contains(t, said, "no file fits")
}

// TestManyTablesAreBrowsedAndSearchedAtOnce keeps a catalogue of 100,000 tables.
func TestManyTablesAreBrowsedAndSearchedAtOnce(t *testing.T) {
	address, s := serve(t)
	path := filepath.Join(t.TempDir(), "stores.db")
	db, err := sql.Open("sqlite", "file:"+path)
	require.NoError(t, err)
	_, err = db.Exec("CREATE TABLE articles (id int); CREATE TABLE deliveries (id int)")
	require.NoError(t, err)
	require.NoError(t, db.Close())
	c := as(t, address, "builder")
	get[any](c, "POST", "/api/connections", map[string]any{"name": "stores", "kind": "sqlite", "settings": map[string]any{"path": path}})
	type entry struct{ Path, Name string }
	browse := func(query string) []entry {
		return get[[]entry](c, "GET", "/api/connections/1/browse"+query, nil)
	}
	assert.Len(t, browse(""), 2)
	type state struct{ Entries int64 }
	assert.EqualValues(t, 2, get[*state](c, "POST", "/api/connections/1/catalogue", nil).Entries)

	kept, err := s.Connection(context.Background(), 1)
	require.NoError(t, err)
	entries := []store.CatalogueEntry{{Entry: connect.Entry{Path: "office", Name: "office", Type: "schema", Opens: true}}}
	for i := range 100_000 {
		entries = append(entries, store.CatalogueEntry{Parent: "office", Entry: connect.Entry{Path: fmt.Sprintf("office.table_%06d", i), Name: fmt.Sprintf("table_%06d", i), Type: "table"}})
	}
	require.NoError(t, s.KeepCatalogue(context.Background(), kept, entries, time.Second))
	timed := func(query string) (out []entry) {
		began := time.Now()
		out = browse(query)
		t.Logf("%-22s %s", query, time.Since(began).Round(time.Millisecond))
		return out
	}
	assert.Equal(t, []entry{{"office", "office"}}, timed(""))
	assert.Len(t, timed("?path=office"), 5000)
	found := timed("?search=TABLE_0777")
	timed("?search=table")
	timed("?search=nothing")
	assert.Len(t, found, 100)
	assert.Equal(t, "office.table_077700", found[0].Path)
	require.NoError(t, s.CatalogueFailed(context.Background(), kept, "the file is away"))
	assert.Equal(t, "the file is away", get[struct{ Failed string }](c, "GET", "/api/connections/1/catalogue", nil).Failed)
	assert.Len(t, browse("?search=table_0777"), 100, "what was listed before stays")
}
