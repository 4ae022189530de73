package api_test

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"welkin/core/batch"
	"welkin/core/engine"
	"welkin/core/step"
)

// TestPersonalValuesAreHiddenByRole asks for everything that Welkin keeps of a
// guest's address, as each role.
func TestPersonalValuesAreHiddenByRole(t *testing.T) {
	address, s := serve(t)
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "guests.csv"), []byte("id,email,town\n1,orla@fell.example,Larkfell\n"), 0o644))
	builder := as(t, address, "builder")
	get[any](builder, "POST", "/api/connections", map[string]any{"name": "incoming", "kind": "folder", "settings": map[string]any{"path": dir}})
	const text = `welkin: 1
name: Guests
steps:
  - step: guests
    does: read files
    personal: [email]
    connection: incoming
    files: guests.csv
    columns: [{name: id, type: int}, {name: email, type: text}, {name: town, type: text}]
  - step: near
    does: keep rows
    from: guests
    where: town = 'Larkfell'
examples:
  - name: one guest
    given:
      - step: guests
        rows: |
          id,email,town
          1,orla@fell.example,Larkfell
`
	get[any](builder, "POST", "/api/pipelines", map[string]any{"yaml": text})
	run := get[struct{ ID int64 }](builder, "POST", "/api/pipelines/1/runs", map[string]any{})
	value := func(v string) *string { return &v }
	require.NoError(t, s.AddSetAside(context.Background(), run.ID, []engine.SetAsideRow{{Step: "near", Personal: []string{"email"}, Refused: step.Refused{
		Fault: &batch.Fault{Code: "pattern", Sentence: `"orla@fell.example" is no address here`}, Column: "email", Value: "orla@fell.example",
		Key: "email=orla@fell.example", Names: []string{"id", "email", "town"}, Cells: []*string{value("1"), value("orla@fell.example"), value("Larkfell")}, Raw: "1,orla@fell.example,Larkfell"}}}))

	places := []struct{ what, path string }{
		{"rows set aside", "/api/runs/1/set-aside"}, {"their export", "/api/runs/1/set-aside.csv"}, {"their reasons", "/api/runs/1/reasons"},
		{"the sheet", "/api/pipelines/1"}, {"a version", "/api/pipelines/1/versions/1"}, {"a sample of the file", "/api/connections/1/sample?path=guests.csv"},
	}
	for role, sees := range map[string]bool{"reader": false, "operator": false, "builder": true, "admin": true} {
		c := as(t, address, role)
		for _, place := range places {
			status, said := c.do("GET", place.path, nil)
			if status == 403 {
				assert.False(t, sees, "%s is refused %s", role, place.what)
				continue
			}
			require.Equal(t, 200, status, "%s: %s", place.what, said)
			assert.Equal(t, sees, strings.Contains(said, "orla@fell.example"), "%s: %s: %s", role, place.what, said)
			assert.Equal(t, !sees, strings.Contains(said, engine.Hidden), "%s: %s", role, place.what)
		}
	}
}

func TestAPersonalColumnMustBeThere(t *testing.T) {
	c, _ := folder(t)
	type checked struct {
		Ready    bool
		Problems []problem
	}
	text := "welkin: 1\nname: n\nsteps:\n  - {step: stays, does: read files, connection: incoming, files: stays.csv, personal: [huts], columns: [{name: hut, type: text}]}\n"
	got := get[checked](c, "POST", "/api/sheets/check", map[string]any{"yaml": text})
	require.NotEmpty(t, got.Problems)
	assert.Equal(t, `no column "huts" comes out of this step, so it can't be personal; did you mean "hut"?`, got.Problems[0].Sentence)
	assert.Equal(t, 4, got.Problems[0].Line)
}
