package api_test

import (
	"encoding/json"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"welkin/localpg/pgtest"
)

// get decodes an answer that must be 200.
func get[T any](c *client, method, path string, body any) (out T) {
	c.t.Helper()
	status, said := c.do(method, path, body)
	require.Equal(c.t, 200, status, said)
	require.NoError(c.t, json.Unmarshal([]byte(said), &out), said)
	return out
}

// folder gives a builder with a folder of two files as the connection incoming.
func folder(t *testing.T) (*client, string) {
	address, _ := serve(t)
	dir := t.TempDir()
	require.NoError(t, os.Mkdir(filepath.Join(dir, "logs"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "stays.csv"), []byte("id,hut,nights\n1,H1,3\n2,H2,0\n3,H1,x\n4,,5\n"), 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "logs", "monday.csv"), []byte("hut;level\nH1;2,5\n"), 0o644))
	c := as(t, address, "builder")
	get[any](c, "POST", "/api/connections", map[string]any{"name": "incoming", "kind": "folder", "settings": map[string]any{"path": dir}})
	return c, dir
}

const staysSheet = `welkin: 1
name: Stays
steps:
  - step: stays
    does: read files
    connection: incoming
    files: stays.csv
    columns: [{name: id, type: int}, {name: hut, type: text}, {name: nights, type: int}]
  - step: real
    does: keep rows
    from: stays
    where: nights > %s
  - step: out
    does: write file
    from: real
    connection: incoming
    file: out.csv
`

type problem struct {
	Step, Sentence string
	Line           int
	Warning        bool
}

func TestCheckingASheetSaysWhatComesOutAndWhatIsWrong(t *testing.T) {
	c, _ := folder(t)
	type checked struct {
		Ready    bool
		Problems []problem
		Steps    []struct {
			ID, Sentence string
			Columns      []struct{ Name, Type string }
		}
		Place struct {
			Able bool
			Why  string
		}
	}
	good := get[checked](c, "POST", "/api/sheets/check", map[string]any{"yaml": fmt.Sprintf(staysSheet, "0")})
	assert.True(t, good.Ready)
	assert.Empty(t, good.Problems)
	assert.Equal(t, "keep rows where `nights > 0`", good.Steps[1].Sentence)
	assert.Len(t, good.Steps[1].Columns, 3)
	assert.False(t, good.Place.Able)
	assert.Contains(t, good.Place.Why, "does not write into a database")

	bad := get[checked](c, "POST", "/api/sheets/check", map[string]any{"yaml": fmt.Sprintf(staysSheet, "beds")})
	assert.False(t, bad.Ready)
	require.Len(t, bad.Problems, 1)
	assert.Equal(t, "real", bad.Problems[0].Step)
	assert.Equal(t, 12, bad.Problems[0].Line)
	assert.Contains(t, bad.Problems[0].Sentence, `no column "beds"`)

	status, said := c.do("POST", "/api/sheets/check", map[string]any{"doc": map[string]any{"name": "x", "steps": "none"}})
	assert.Equal(t, 422, status, said)
}

type trial struct {
	Again  bool
	Before []struct{ Total int64 }
	After  struct {
		Rows    [][]*string
		Total   int64
		Profile []struct {
			Name            string
			Distinct, Nulls int64
		}
	}
	SetAside []struct{ Sentence, Raw string } `json:"set_aside"`
	Aside    int64                            `json:"set_aside_total"`
}

func try(c *client, least string, more map[string]any) trial {
	body := map[string]any{"yaml": fmt.Sprintf(staysSheet, least), "step": "real"}
	for k, v := range more {
		body[k] = v
	}
	return get[trial](c, "POST", "/api/sheets/try", body)
}

func TestATrialShowsRowsColumnsAndWhatWasSetAside(t *testing.T) {
	c, dir := folder(t)
	first := try(c, "0", nil)
	assert.EqualValues(t, 2, first.After.Total)
	assert.EqualValues(t, 1, first.Aside)
	assert.Equal(t, "3,H1,x", first.SetAside[0].Raw)
	require.Len(t, first.After.Profile, 3)
	assert.EqualValues(t, 1, first.After.Profile[1].Nulls)
	assert.False(t, first.Again)

	edited := try(c, "4", nil)
	assert.True(t, edited.Again, "only the step that was edited ran")
	assert.EqualValues(t, 1, edited.After.Total)
	assert.EqualValues(t, 1, edited.Aside, "what was set aside before is told again")
	assert.False(t, try(c, "4", map[string]any{"fresh": true}).Again)

	require.NoError(t, os.WriteFile(filepath.Join(dir, "stays.csv"), []byte("id,hut,nights\n9,H9,9\n"), 0o644))
	assert.Equal(t, "9", *try(c, "4", nil).After.Rows[0][0], "a file that changed is read")
	_, err := os.Stat(filepath.Join(dir, "out.csv"))
	assert.True(t, os.IsNotExist(err), "a trial writes nothing")
}

func TestATrialTakesRowsEditedByHand(t *testing.T) {
	c, _ := folder(t)
	rows := func(cells ...any) map[string]any {
		return map[string]any{"given": []any{map[string]any{"input": 0, "rows": []any{cells}}}}
	}
	got := try(c, "0", rows("7", nil, "70"))
	require.Len(t, got.After.Rows, 1)
	assert.Equal(t, "70", *got.After.Rows[0][2])
	assert.Nil(t, got.After.Rows[0][1])
	for want, more := range map[string]map[string]any{
		`column \"nights\": \"many\" is not a whole number`: rows("7", nil, "many"),
		"row 1 has 2 values for 3 columns":                  rows("7", nil),
		"has no input 3":                                    {"given": []any{map[string]any{"input": 2, "rows": []any{}}}},
	} {
		body := map[string]any{"yaml": fmt.Sprintf(staysSheet, "0"), "step": "real", "given": more["given"]}
		status, said := c.do("POST", "/api/sheets/try", body)
		assert.Equal(t, 422, status)
		assert.Contains(t, said, want)
	}
}

func TestARowOfATrialIsFollowedAndFewerRowsAreShown(t *testing.T) {
	c, _ := folder(t)
	seen := get[struct {
		After struct {
			Origins []string
			Rows    [][]*string
			Total   int64
		}
	}](c, "POST", "/api/sheets/try", map[string]any{"yaml": fmt.Sprintf(staysSheet, "0"), "step": "real", "show": 1})
	assert.EqualValues(t, 2, seen.After.Total)
	require.Len(t, seen.After.Rows, 1)
	passed := get[[]struct{ Step, Fate string }](c, "POST", "/api/sheets/follow", map[string]any{"yaml": fmt.Sprintf(staysSheet, "4"), "step": "real", "origin": seen.After.Origins[0]})
	require.NotEmpty(t, passed)
	assert.Equal(t, "read", passed[0].Fate)
	status, said := c.do("POST", "/api/sheets/follow", map[string]any{"yaml": fmt.Sprintf(staysSheet, "'x"), "step": "real", "origin": "a·1"})
	assert.Equal(t, 422, status)
	assert.Contains(t, said, "step real")
}

func TestTheDatabaseTellsItsPlan(t *testing.T) {
	c, _ := folder(t)
	status, said := c.do("POST", "/api/sheets/explain", map[string]any{"yaml": fmt.Sprintf(staysSheet, "0")})
	assert.Equal(t, 422, status)
	assert.Contains(t, said, "runs in Welkin's own engine")

	name, _ := pgtest.Database(t)
	server := pgtest.Server(t)
	get[any](c, "POST", "/api/connections", map[string]any{"name": "warehouse", "kind": "postgresql", "settings": map[string]any{
		"host": "127.0.0.1", "port": server.Port, "database": name, "user": server.User(), "password": server.Password(), "tls": "disable"}})
	text := `welkin: 1
name: Nights
steps:
  - {step: days, does: generate rows, column: n, from_value: "1", to_value: "10"}
  - {step: few, does: keep rows, from: days, where: n > 3}
  - {step: out, does: write table, from: few, connection: warehouse, table: nights}
`
	got := get[struct{ Database, Statement, Plan string }](c, "POST", "/api/sheets/explain", map[string]any{"yaml": text})
	assert.Equal(t, "warehouse", got.Database)
	assert.Contains(t, got.Statement, `WITH "step days" AS (`)
	assert.Contains(t, got.Plan, "rows=")
	status, said = c.do("POST", "/api/sheets/explain", map[string]any{"yaml": text + "engine: nowhere\n"})
	assert.Equal(t, 422, status)
	assert.Contains(t, said, "the sheet has mistakes")
}

func TestAConnectionIsLookedInto(t *testing.T) {
	c, _ := folder(t)
	type entry struct {
		Path  string
		Opens bool
	}
	assert.Len(t, get[[]entry](c, "GET", "/api/connections/1/browse", nil), 2)
	found := get[[]entry](c, "GET", "/api/connections/1/browse?search=monday", nil)
	require.Len(t, found, 1)
	assert.Equal(t, "logs/monday.csv", found[0].Path)
	described := get[struct{ Columns []struct{ Name, Type string } }](c, "GET", "/api/connections/1/describe?path="+url.QueryEscape("logs/monday.csv"), nil)
	assert.Equal(t, "level", described.Columns[1].Name)
	sample := get[struct{ Rows [][]*string }](c, "GET", "/api/connections/1/sample?path=stays.csv", nil)
	assert.Len(t, sample.Rows, 4)
	for _, path := range []string{"/api/connections/1/describe?path=gone.csv", "/api/connections/1/browse?path=" + url.QueryEscape("../..")} {
		status, _ := c.do("GET", path, nil)
		assert.Equal(t, 422, status, path)
	}
	status, _ := c.do("GET", "/api/connections/7/browse", nil)
	assert.Equal(t, 404, status)
}

func TestTheTimetableRefusesTimesThatCannotBe(t *testing.T) {
	c, _ := folder(t)
	get[any](c, "POST", "/api/pipelines", map[string]any{"yaml": fmt.Sprintf(staysSheet, "0")})
	assert.Len(t, get[[]string](c, "GET", "/api/schedule-times?zone=Europe/Oslo&cron="+url.QueryEscape("30 5 * * *"), nil), 10)
	made := get[struct{ ID int64 }](c, "POST", "/api/schedules", map[string]any{"pipeline_id": 1, "cron": "30 5 * * *", "zone": "Europe/Oslo", "enabled": true})
	for want, body := range map[int]map[string]any{
		422: {"pipeline_id": 1, "cron": "61 5 * * *", "zone": "Europe/Oslo", "enabled": true},
		404: {"pipeline_id": 9, "cron": "30 5 * * *", "zone": "Europe/Oslo", "enabled": true},
	} {
		status, said := c.do("PUT", fmt.Sprintf("/api/schedules/%d", made.ID), body)
		assert.Equal(t, want, status, said)
	}
	assert.Len(t, get[[]any](c, "GET", "/api/schedules", nil), 1)
	status, _ := c.do("DELETE", fmt.Sprintf("/api/schedules/%d", made.ID), nil)
	assert.Equal(t, 204, status)
	assert.Empty(t, get[[]any](c, "GET", "/api/schedules", nil))
}

func TestNobodyTakesTheirOwnRightsAway(t *testing.T) {
	address, _ := serve(t)
	c := as(t, address, "admin")
	people := get[[]struct {
		ID    int64
		Login string
	}](c, "GET", "/api/people", nil)
	require.Len(t, people, 4)
	for _, p := range people {
		status, said := c.do("PUT", fmt.Sprintf("/api/people/%d", p.ID), map[string]any{"login": p.Login, "name": p.Login, "role": "reader"})
		if p.Login == "admin" {
			assert.Equal(t, 422, status)
			assert.Contains(t, said, "another admin can")
		} else {
			assert.Equal(t, 204, status, said)
		}
	}
	for want, body := range map[string]map[string]any{
		"at least ten characters": {"login": "new", "name": "New", "role": "reader", "password": "short"},
		"choose another name":     {"login": "reader", "name": "Again", "role": "reader", "password": "long enough it is"},
	} {
		_, said := c.do("POST", "/api/people", body)
		assert.Contains(t, said, want)
	}
}

func TestARunWaitsIsSeenAndIsStopped(t *testing.T) {
	c, _ := folder(t)
	get[any](c, "POST", "/api/pipelines", map[string]any{"yaml": fmt.Sprintf(staysSheet, "0")})
	status, said := c.do("POST", "/api/pipelines/1/runs", map[string]any{"params": map[string]string{"day": "2026-11-23"}})
	assert.Equal(t, 422, status)
	assert.Contains(t, said, `no parameter \"day\"`)
	run := get[struct {
		ID    int64
		State string
	}](c, "POST", "/api/pipelines/1/runs", map[string]any{})
	assert.Equal(t, "waiting", run.State)
	assert.Len(t, get[[]any](c, "GET", "/api/runs", nil), 1)
	status, said = c.do("POST", fmt.Sprintf("/api/runs/%d/stop", run.ID), nil)
	assert.Equal(t, 204, status, said)
	get[any](c, "GET", fmt.Sprintf("/api/runs/%d/log", run.ID), nil)
	get[any](c, "GET", fmt.Sprintf("/api/runs/%d/reasons", run.ID), nil)
	get[any](c, "GET", "/api/today", nil)
	status, _ = c.do("GET", "/api/runs/77", nil)
	assert.Equal(t, 404, status)
}

func TestVersionsTellWhatTheyChanged(t *testing.T) {
	c, _ := folder(t)
	text := fmt.Sprintf(staysSheet, "0")
	type saved struct{ ID, Version int }
	p := get[saved](c, "POST", "/api/pipelines", map[string]any{"yaml": text})
	at := fmt.Sprintf("/api/pipelines/%d", p.ID)
	get[saved](c, "PUT", at, map[string]any{"yaml": fmt.Sprintf(staysSheet, "2"), "version": 1})
	versions := get[[]struct {
		Version     int
		SavedBy     string `json:"saved_by"`
		Differences []struct{ Step, What, Sentence string }
	}](c, "GET", at+"/versions", nil)
	require.Len(t, versions, 2)
	assert.Equal(t, 2, versions[0].Version)
	require.Len(t, versions[0].Differences, 1)
	assert.Equal(t, "real: where was `nights > 0`, is `nights > 2`", versions[0].Differences[0].Sentence)
	assert.Empty(t, versions[1].Differences)
	first := get[struct{ YAML string }](c, "GET", at+"/versions/1", nil)
	assert.Contains(t, first.YAML, "nights > 0")
	status, _ := c.do("GET", at+"/versions/9", nil)
	assert.Equal(t, 404, status)
	status, said := c.do("PUT", at, map[string]any{"yaml": text, "version": 1})
	assert.Equal(t, 409, status)
	assert.Contains(t, said, "saved version 2 meanwhile")
	differ := get[[]struct{ What string }](c, "POST", "/api/sheets/differences", map[string]any{"before": map[string]any{"yaml": text}, "after": map[string]any{"yaml": first.YAML}})
	assert.Empty(t, differ)
}

func TestAllRowsOfAStepAreCounted(t *testing.T) {
	at, _ := serve(t)
	c := as(t, at, "builder")
	text := "welkin: 1\nname: n\nsteps:\n  - {step: days, does: generate rows, column: n, from_value: \"1\", to_value: \"250000\"}\n  - {step: parts, does: route, from: days, branches: [{name: even, where: n % 2 = 0}]}\n"
	got := get[struct {
		Rows     int64
		Branches map[string]int64
	}](c, "POST", "/api/sheets/count", map[string]any{"yaml": text, "step": "days"})
	assert.Equal(t, int64(250_000), got.Rows, "more than any sample")
	got = get[struct {
		Rows     int64
		Branches map[string]int64
	}](c, "POST", "/api/sheets/count", map[string]any{"yaml": text, "step": "parts"})
	assert.Equal(t, map[string]int64{"even": 125_000, "rest": 125_000}, got.Branches)
	status, said := c.do("POST", "/api/sheets/count", map[string]any{"yaml": text, "step": "nowhere"})
	assert.Equal(t, 422, status)
	assert.NotEmpty(t, said)
}
