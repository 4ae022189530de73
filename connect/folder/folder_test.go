package folder_test

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"welkin/connect"
	"welkin/connect/connecttest"
	"welkin/connect/folder"
	"welkin/core/schema"
	"welkin/core/step"
)

func TestConformance(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "levels.csv"), []byte("id,name,level\n1,Ravenseat,2.50\n2,Larkfell,\n3,,-1.00\n"), 0o644))
	world := func(c connect.Connection) *connect.World {
		return &connect.World{Open: func(context.Context, string) (connect.Connection, error) { return c, nil }}
	}
	connecttest.Run(t, connecttest.Harness{
		Kind: folder.Kind, Good: &folder.Settings{Path: dir}, Path: "levels.csv",
		Bad: map[string]connect.Settings{"the folder is there": &folder.Settings{Path: filepath.Join(dir, "gone")}},
		Read: func(ctx context.Context, c connect.Connection) (step.Reader, error) {
			b := (&step.ReadFiles{Connection: "x", Files: "levels.csv"}).Bind(&step.Context{Context: ctx, World: world(c)}, nil)
			return b.Source.Open(ctx, 0)
		},
		Load: func(ctx context.Context, c connect.Connection, e step.Epoch) (step.Load, error) {
			rows := connecttest.Rows(t)
			b := (&step.WriteFile{Connection: "x", File: "out/levels_copy.csv"}).Bind(&step.Context{Context: ctx, World: world(c), Step: "s"}, []*schema.Schema{rows.Schema})
			return b.Target.Begin(ctx, e)
		},
		Count: func(context.Context, connect.Connection) int64 {
			text, err := os.ReadFile(filepath.Join(dir, "out", "levels_copy.csv"))
			if err != nil {
				return 0
			}
			return int64(strings.Count(string(text), "\n") - 1)
		},
	})
}

func TestNamesNeverLeadOutOfTheFolder(t *testing.T) {
	dir := t.TempDir()
	outside := filepath.Join(dir, "secret.csv")
	require.NoError(t, os.WriteFile(outside, []byte("a\n1\n"), 0o644))
	inside := filepath.Join(dir, "in")
	require.NoError(t, os.Mkdir(inside, 0o755))
	require.NoError(t, os.Symlink(outside, filepath.Join(inside, "link.csv")))
	c, err := folder.Kind.Open(context.Background(), &folder.Settings{Path: inside})
	require.NoError(t, err)
	files := c.(step.Files)
	for _, name := range []string{"../secret.csv", "link.csv", outside} {
		_, err := files.Open(context.Background(), name)
		assert.Error(t, err, name)
	}
	_, err = files.Draft(context.Background(), "../out.csv", step.Epoch{Pipeline: "p", Number: 1}, "s")
	assert.Error(t, err)
}

func TestAKilledCommitIsFinishedByTheNextLoad(t *testing.T) {
	dir := t.TempDir()
	c, err := folder.Kind.Open(context.Background(), &folder.Settings{Path: dir})
	require.NoError(t, err)
	files, ctx := c.(step.Files), context.Background()
	e := step.Epoch{Pipeline: "p", Number: 3, Run: "r"}
	d, err := files.Draft(ctx, "out.csv", e, "s")
	require.NoError(t, err)
	_, err = d.Write([]byte("a\n1\n"))
	require.NoError(t, err)
	require.NoError(t, d.Prepare(ctx, step.Result{Inserted: 1}))
	require.NoError(t, d.Commit(ctx))
	// As if the process had died between the manifest and the rename.
	require.NoError(t, os.Rename(filepath.Join(dir, "out.csv"), filepath.Join(dir, ".welkin", "p.s.3.part")))
	d, err = files.Draft(ctx, "out.csv", e, "s")
	require.NoError(t, err)
	require.NotNil(t, d.Held())
	assert.EqualValues(t, 1, d.Held().Inserted)
	assert.FileExists(t, filepath.Join(dir, "out.csv"))
}
