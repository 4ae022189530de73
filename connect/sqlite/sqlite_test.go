package sqlite_test

import (
	"context"
	"database/sql"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"welkin/connect"
	"welkin/connect/connecttest"
	"welkin/connect/sqlite"
	"welkin/core/schema"
	"welkin/core/step"
)

// file makes a file with some tables.
func file(t *testing.T, statements ...string) (string, *sql.DB) {
	path := filepath.Join(t.TempDir(), "stores of Larkfell.db")
	db, err := sql.Open("sqlite", "file:"+path)
	require.NoError(t, err)
	t.Cleanup(func() { _ = db.Close() })
	for _, s := range append([]string{"CREATE TABLE levels (id integer PRIMARY KEY, name text, level decimal(18,2))", "INSERT INTO levels VALUES (1, 'Ravenseat', 2.5), (2, 'Larkfell', NULL), (3, NULL, -1)"}, statements...) {
		_, err := db.Exec(s)
		require.NoError(t, err, s)
	}
	return path, db
}

func TestConformance(t *testing.T) {
	path, _ := file(t)
	text := filepath.Join(t.TempDir(), "text.db")
	require.NoError(t, os.WriteFile(text, []byte("this is a text, and long enough to be looked at, more than a hundred bytes of it so that nobody takes it for a header of a file"), 0o644))
	connecttest.Run(t, connecttest.Harness{Kind: sqlite.Kind, Good: &sqlite.Settings{Path: path}, Path: "levels",
		Bad: map[string]connect.Settings{"the file is there": &sqlite.Settings{Path: "/nowhere/at/all.db"}, "is a SQLite file": &sqlite.Settings{Path: text}},
		Read: func(ctx context.Context, c connect.Connection) (step.Reader, error) {
			return connecttest.ReadTable(ctx, c, step.ReadTable{Table: "levels"})
		}})
}

func TestValuesOfAnyTypeAreReadOrSetAside(t *testing.T) {
	path, _ := file(t, "CREATE TABLE kinds (id integer PRIMARY KEY, day date, at datetime, beds int, open boolean, level real, raw blob, anything, odd geometry)",
		"INSERT INTO kinds VALUES (1, '2026-11-23', '2026-11-23 18:30:00', 12, 1, 0.5, x'00ff', 7, 'x')", "INSERT INTO kinds VALUES (2, NULL, NULL, 'many', 0, 1, NULL, 'y', NULL)")
	c, err := sqlite.Kind.Open(t.Context(), &sqlite.Settings{Path: path})
	require.NoError(t, err)
	defer c.Close()
	table, err := c.(step.Tables).Table(t.Context(), "kinds")
	require.NoError(t, err)
	assert.Equal(t, []string{"odd"}, table.Strange)
	r, err := connecttest.ReadTable(t.Context(), c, step.ReadTable{Table: "kinds"})
	require.NoError(t, err)
	defer r.Close()
	chunk, err := r.Next(t.Context())
	require.NoError(t, err)
	var row []string
	for _, v := range chunk.Batch.Row(0) {
		row = append(row, *v)
	}
	assert.Equal(t, []string{"1", "2026-11-23", "2026-11-23 18:30:00", "12", "true", "0.5", `\x00ff`, "7", "x"}, row)
	require.Len(t, chunk.Refused, 1)
	assert.Equal(t, "beds", chunk.Refused[0].Column)
	assert.Equal(t, "id=2", chunk.Refused[0].Key)
}

func TestWhatIsNewIsReadBySlices(t *testing.T) {
	path, db := file(t, "CREATE TABLE stays (id integer PRIMARY KEY, changed timestamp)", "INSERT INTO stays VALUES (1, '2026-11-23 10:00:00'), (2, '2026-11-23 11:00:00')")
	c, err := sqlite.Kind.Open(t.Context(), &sqlite.Settings{Path: path})
	require.NoError(t, err)
	defer c.Close()
	connecttest.RunGrowing(t, c, "stays", func(statement string) {
		_, err := db.Exec(statement)
		require.NoError(t, err)
	})
}

func TestTheFileIsNeverWritten(t *testing.T) {
	path, _ := file(t)
	c, err := sqlite.Kind.Open(t.Context(), &sqlite.Settings{Path: path})
	require.NoError(t, err)
	defer c.Close()
	stepContext := &step.Context{Context: t.Context(), World: &connect.World{Open: func(context.Context, string) (connect.Connection, error) { return c, nil }}}
	rows := connecttest.Rows(t)
	(&step.WriteTable{Connection: "x", Table: "levels"}).Bind(stepContext, []*schema.Schema{rows.Schema})
	require.NotEmpty(t, stepContext.Problems())
	assert.Contains(t, stepContext.Problems()[0].Sentence, "are only read")
}
