package main

import (
	"encoding/json"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"welkin/localpg/pgtest"
)

func TestMain(m *testing.M) { pgtest.Main(m) }

// told runs the program and gives its exit code and what it printed.
func told(t *testing.T, args ...string) (code int, out, errors string) {
	t.Helper()
	restore := func(f **os.File) func() string {
		r, w, err := os.Pipe()
		require.NoError(t, err)
		before := *f
		*f = w
		read := make(chan string)
		go func() {
			text, _ := io.ReadAll(r)
			read <- string(text)
		}()
		return func() string { *f = before; _ = w.Close(); return <-read }
	}
	stdout, stderr := restore(&os.Stdout), restore(&os.Stderr)
	code = run(args)
	return code, stdout(), stderr()
}

const stays = `welkin: 1
name: Stays
parameters:
  - name: least
    type: int
    default: "1"
steps:
  - step: stays
    does: read files
    connection: here
    files: stays.csv
    columns:
      - name: id
        type: int
      - name: nights
        type: int
  - step: kept
    does: keep rows
    from: stays
    where: nights >= :least
  - step: load
    does: write file
    from: kept
    connection: here
    file: out.csv
`

func folder(t *testing.T, sheet, rows string) string {
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "s.yaml"), []byte(sheet), 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "stays.csv"), []byte("id,nights\n"+rows), 0o644))
	return dir
}

func TestExitCodesMeanSomething(t *testing.T) {
	dir := folder(t, stays, "1,2\n2,0\n")
	file, branches := filepath.Join(dir, "s.yaml"), filepath.Join(dir, "branches.yaml")
	before, _, _ := strings.Cut(stays, "  - step: load")
	require.NoError(t, os.WriteFile(branches, []byte(before+"  - {step: parts, does: route, from: stays, branches: [{name: long, where: nights > 0}], rest: short}\n"), 0o644))
	for name, c := range map[string]struct {
		args []string
		code int
		says string
	}{
		"check":           {[]string{"check", file}, exitDone, "keep rows where nights >= :least"},
		"format":          {[]string{"format", file}, exitDone, "does: keep rows"},
		"try":             {[]string{"try", file, "--step", "kept"}, exitDone, "id\tnights\n1\t2\n"},
		"try a branch":    {[]string{"try", branches}, exitDone, "\nparts.long\nid\tnights\n1\t2\n\nparts.short\nid\tnights\n2\t0\n"},
		"run":             {[]string{"run", file}, exitDone, "written"},
		"a parameter":     {[]string{"run", file, "--param", "least=0", "--json"}, exitDone, `"written": 2`},
		"a bad parameter": {[]string{"run", file, "--param", "least=few"}, exitFailed, `"few" can't be read as that`},
		"no such step":    {[]string{"try", file, "--step", "none"}, exitBadUse, `no step "none"`},
		"no such file":    {[]string{"run", filepath.Join(dir, "none.yaml")}, exitBadUse, "no such file"},
		"no such command": {[]string{"dance"}, exitBadUse, "unexpected argument dance"},
		"no connections":  {[]string{"run", file, "--connections", filepath.Join(dir, "none.yaml")}, exitBadUse, "none.yaml"},
	} {
		t.Run(name, func(t *testing.T) {
			code, out, errors := told(t, c.args...)
			assert.Equal(t, c.code, code, out+errors)
			assert.Contains(t, out+errors, c.says)
		})
	}
}

func TestRowsSetAsideAreKeptInTheStateFolderAndTold(t *testing.T) {
	dir := folder(t, stays, "1,2\nx,3\n3\n")
	code, out, _ := told(t, "run", filepath.Join(dir, "s.yaml"), "--json")
	assert.Equal(t, exitSetAside, code)
	var said struct {
		Receipt struct {
			Read     int  `json:"read"`
			SetAside int  `json:"set_aside"`
			Balances bool `json:"balances"`
		} `json:"receipt"`
	}
	require.NoError(t, json.Unmarshal([]byte(out), &said), out)
	assert.Equal(t, 3, said.Receipt.Read)
	assert.Equal(t, 2, said.Receipt.SetAside)
	assert.True(t, said.Receipt.Balances)
	text, err := os.ReadFile(filepath.Join(dir, "s.state", "set_aside_1.jsonl"))
	require.NoError(t, err)
	assert.Len(t, strings.Split(strings.TrimSpace(string(text)), "\n"), 2)
	assert.FileExists(t, filepath.Join(dir, "s.state", "receipt_1.json"))
}

func TestMistakesAreToldWithLineAndColumn(t *testing.T) {
	dir := folder(t, strings.Replace(stays, "where:", "wher:", 1), "1,2\n")
	code, _, errors := told(t, "check", filepath.Join(dir, "s.yaml"))
	assert.Equal(t, exitFailed, code)
	assert.Contains(t, errors, `line 20, column 5: step kept: there is no setting "wher" here`)
}

func TestATableIsLoadedWithASecretFromTheEnvironment(t *testing.T) {
	s := pgtest.Server(t)
	name, _ := pgtest.Database(t)
	dir := folder(t, strings.Replace(stays, "does: write file\n    from: kept\n    connection: here\n    file: out.csv", "does: write table\n    from: kept\n    connection: warehouse\n    table: nights", 1), "1,2\n2,5\n")
	connections := filepath.Join(dir, "connections.yaml")
	require.NoError(t, os.WriteFile(connections, []byte("here:\n  kind: folder\n  settings: {path: .}\nwarehouse:\n  kind: postgresql\n  settings: {host: 127.0.0.1, port: "+
		strings.Split(strings.Split(s.Address(name), "127.0.0.1:")[1], "/")[0]+", database: "+name+", user: "+s.User()+", password: \"${NIGHTS_PASSWORD}\", tls: disable}\n"), 0o644))
	code, _, errors := told(t, "run", filepath.Join(dir, "s.yaml"), "--connections", connections)
	assert.Equal(t, exitFailed, code)
	assert.Contains(t, errors, "the environment variable NIGHTS_PASSWORD, which is not set")
	t.Setenv("NIGHTS_PASSWORD", s.Password())
	for epoch := 1; epoch <= 2; epoch++ {
		code, out, errors := told(t, "run", filepath.Join(dir, "s.yaml"), "--connections", connections, "--json")
		assert.Equal(t, exitDone, code, errors)
		assert.Contains(t, out, `"inserted": 2`)
	}
}

func TestCheckShowsHowADatabaseDoesASheet(t *testing.T) {
	name, _ := pgtest.Database(t)
	server := pgtest.Server(t)
	dir := t.TempDir()
	write := func(file, text string) string {
		path := filepath.Join(dir, file)
		require.NoError(t, os.WriteFile(path, []byte(text), 0o644))
		return path
	}
	connections := write("connections.yaml", fmt.Sprintf("warehouse:\n  kind: postgresql\n  settings: {host: 127.0.0.1, port: %d, database: %s, user: %s, password: %q, tls: disable}\n", server.Port, name, server.User(), server.Password()))
	file := write("nights.yaml", `welkin: 1
name: Nights
steps:
  - {step: days, does: generate rows, column: n, from_value: "1", to_value: "10"}
  - {step: few, does: keep rows, from: days, where: n > 3}
  - {step: load, does: write table, from: few, connection: warehouse, table: nights}
`)
	code, out, _ := told(t, "check", file, "--connections", connections)
	assert.Equal(t, 0, code)
	assert.Contains(t, out, "runs in the database of warehouse; --sql shows how")
	code, out, _ = told(t, "check", file, "--connections", connections, "--sql")
	assert.Equal(t, 0, code)
	assert.Contains(t, out, `WITH "step days" AS (`)
	assert.Contains(t, out, "rows=")
	code, _, said := told(t, "run", file, "--connections", connections)
	assert.Equal(t, 0, code, said)

	own := folder(t, stays, "1,2\n")
	code, _, said = told(t, "check", filepath.Join(own, "s.yaml"), "--sql")
	assert.Equal(t, 2, code)
	assert.Contains(t, said, "runs in Welkin's own engine: step load does not write into a database")
}

func TestCheckRunsTheExamplesOfASheet(t *testing.T) {
	dir := t.TempDir()
	file := filepath.Join(dir, "s.yaml")
	sheet := func(expected string) {
		require.NoError(t, os.WriteFile(file, []byte(`welkin: 1
name: Nights
examples:
  - name: short stays go
    given:
      - step: stays
        rows: |
          hut,nights
          H01,4
          H02,1
    expect:
      - step: long
        rows: |
          hut
          `+expected+`
steps:
  - {step: stays, does: read files, connection: here, files: not_there_yet.csv}
  - {step: long, does: keep rows, from: stays, where: nights > 2}
`), 0o644))
	}
	sheet("H01")
	code, out, _ := told(t, "check", file, "--examples")
	assert.Equal(t, exitDone, code, out)
	assert.Contains(t, out, "as expected  short stays go: 1 rows at long, as expected")
	sheet("H07")
	code, out, said := told(t, "check", file, "--examples")
	assert.Equal(t, exitFailed, code)
	assert.Contains(t, out, "missing       H07")
	assert.Contains(t, out, "not expected  H01")
	assert.Contains(t, said, "1 of 1 examples differ from what they expect")
	code, out, _ = told(t, "check", file, "--examples", "--json")
	assert.Equal(t, exitFailed, code)
	assert.Contains(t, out, `"missing": [`)
}
