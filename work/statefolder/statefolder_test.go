package statefolder_test

import (
	"context"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"welkin/core/batch"
	"welkin/core/engine"
	"welkin/core/step"
	"welkin/work/statefolder"
)

func open(t *testing.T, folder string) *statefolder.State {
	s, err := statefolder.Open(folder)
	require.NoError(t, err)
	return s
}

func TestAnEpochThatWasCutOffIsGoneOnWith(t *testing.T) {
	folder, ctx := filepath.Join(t.TempDir(), "state"), context.Background()
	s := open(t, folder)
	first, before, err := s.Begin(step.Epoch{Pipeline: "p", Run: "one"})
	require.NoError(t, err)
	assert.EqualValues(t, 1, first.Number)
	assert.Nil(t, before)
	require.NoError(t, s.Prepared(ctx, engine.Summary{Epoch: 1, Read: 7}))
	require.NoError(t, s.Close()) // as if the process had died here

	s = open(t, folder)
	again, before, err := s.Begin(step.Epoch{Pipeline: "p", Run: "two"})
	require.NoError(t, err)
	assert.Equal(t, "one", again.Run, "the epoch keeps the run it was begun by")
	assert.EqualValues(t, 7, before.Read)
	require.NoError(t, s.Committed(ctx, *before))
	next, before, err := s.Begin(step.Epoch{Pipeline: "p", Run: "two"})
	require.NoError(t, err)
	assert.EqualValues(t, 2, next.Number)
	assert.Nil(t, before)
	require.NoError(t, s.Abandon())
	assert.FileExists(t, filepath.Join(folder, "receipt_1.json"))
	require.NoError(t, s.Close())
}

func TestTwoRunsDoNotShareAFolder(t *testing.T) {
	folder := t.TempDir()
	s := open(t, folder)
	_, err := statefolder.Open(folder)
	assert.ErrorContains(t, err, "another run uses the state folder")
	require.NoError(t, s.Close())
	require.NoError(t, open(t, folder).Close())
}

func TestSetAsideRowsOfAnEarlierAttemptAreForgotten(t *testing.T) {
	folder, ctx := t.TempDir(), context.Background()
	s := open(t, folder)
	defer s.Close()
	_, _, err := s.Begin(step.Epoch{Pipeline: "p", Run: "one"})
	require.NoError(t, err)
	rows := []engine.SetAsideRow{{Step: "typed", Refused: step.Refused{Fault: batch.Faultf("not a number", "no"), Place: "a.csv", Row: 3, Raw: "x,y"}}}
	require.NoError(t, s.SetAside(ctx, rows))
	require.NoError(t, s.SetAside(ctx, rows))
	file := filepath.Join(folder, "set_aside_1.jsonl")
	text, err := os.ReadFile(file)
	require.NoError(t, err)
	assert.Contains(t, string(text), `"line":3`)
	require.NoError(t, s.Restart(ctx))
	assert.NoFileExists(t, file)
	require.NoError(t, s.Restart(ctx))
}
