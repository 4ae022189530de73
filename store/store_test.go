package store_test

import (
	"context"
	"encoding/base64"
	"os"
	"path/filepath"
	"testing"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"welkin/core/batch"
	"welkin/core/engine"
	"welkin/core/step"
	"welkin/localpg/pgtest"
	"welkin/store"
)

func TestMain(m *testing.M) { pgtest.Main(m) }

func open(t *testing.T) *store.Store {
	_, address := pgtest.Database(t)
	seal, err := store.NewSeal(base64.StdEncoding.EncodeToString([]byte("a key of thirty-two bytes, truly")))
	require.NoError(t, err)
	s, err := store.Open(context.Background(), address, seal)
	require.NoError(t, err)
	t.Cleanup(s.Close)
	again, err := store.Open(context.Background(), address, seal) // migrating twice changes nothing
	require.NoError(t, err)
	again.Close()
	return s
}

func TestSecretsOpenWithTheirKeyAlone(t *testing.T) {
	ctx := context.Background()
	s := open(t)
	c, err := s.SaveConnection(ctx, store.Connection{Name: "booking", Kind: "postgresql", Settings: []byte(`{}`), ChangedBy: "t"}, map[string]string{"password": "larch"})
	require.NoError(t, err)
	secrets, err := s.Secrets(c)
	require.NoError(t, err)
	assert.Equal(t, "larch", secrets["password"])
	c.Sealed[len(c.Sealed)-1] ^= 1
	_, err = s.Secrets(c)
	assert.ErrorContains(t, err, "can't be opened with this key")
	_, err = s.SaveConnection(ctx, store.Connection{Name: "booking", Kind: "folder", Settings: []byte(`{}`)}, nil)
	assert.ErrorIs(t, err, store.ErrConflict)
}

func TestKeyFilesAreMadeAndMustBePrivate(t *testing.T) {
	file := filepath.Join(t.TempDir(), "key")
	_, err := store.SealFromFile(file, false)
	assert.Error(t, err)
	_, err = store.SealFromFile(file, true)
	require.NoError(t, err)
	_, err = store.SealFromFile(file, false)
	require.NoError(t, err)
	require.NoError(t, os.Chmod(file, 0o644))
	_, err = store.SealFromFile(file, false)
	assert.ErrorContains(t, err, "can be read by others")
	_, err = store.NewSeal("short")
	assert.ErrorContains(t, err, "32 bytes in base64")
}

func TestVersionsAreKeptAndConflictsSeen(t *testing.T) {
	ctx := context.Background()
	s := open(t)
	p, err := s.AddPipeline(ctx, "Nights", "one", "t")
	require.NoError(t, err)
	_, err = s.AddPipeline(ctx, "Nights", "other", "t")
	assert.ErrorIs(t, err, store.ErrConflict)
	two, err := s.SavePipeline(ctx, p.ID, 1, "Nights", "two", "t")
	require.NoError(t, err)
	assert.Equal(t, 2, two.Version)
	_, err = s.SavePipeline(ctx, p.ID, 1, "Nights", "three", "t")
	assert.ErrorIs(t, err, store.ErrConflict)
	text, err := s.SheetVersion(ctx, p.ID, 1)
	require.NoError(t, err)
	assert.Equal(t, "one", text)
	_, err = s.SheetVersion(ctx, p.ID, 9)
	assert.ErrorIs(t, err, store.ErrNotFound)
	require.NoError(t, s.DeletePipeline(ctx, p.ID))
	assert.ErrorIs(t, s.DeletePipeline(ctx, p.ID), store.ErrNotFound)
}

func TestRunsAreFilteredAndPaged(t *testing.T) {
	ctx := context.Background()
	s := open(t)
	nights, err := s.AddPipeline(ctx, "Stays by night", "x", "t")
	require.NoError(t, err)
	logs, err := s.AddPipeline(ctx, "Warden logs", "x", "t")
	require.NoError(t, err)
	add := func(pipeline int64, state string, aside int64) (id int64) {
		require.NoError(t, pgx.BeginFunc(ctx, s.Pool, func(tx pgx.Tx) error {
			id, err = s.AddRun(ctx, tx, pipeline, map[string]string{"p": "1"}, "t", nil)
			return err
		}))
		if state != store.Waiting {
			require.NoError(t, s.EndRun(ctx, id, state, "", &engine.Summary{Epoch: 1, Read: 9, Loaded: 5, SetAside: aside}))
		}
		return id
	}
	one, two, three, four := add(nights.ID, store.Done, 0), add(logs.ID, store.Done, 4), add(logs.ID, store.Failed, 1), add(nights.ID, store.Waiting, 0)
	for name, c := range map[string]struct {
		f    store.RunFilter
		want []int64
	}{
		"all":       {store.RunFilter{}, []int64{four, three, two, one}},
		"failed":    {store.RunFilter{State: store.Failed}, []int64{three}},
		"set aside": {store.RunFilter{State: "set aside"}, []int64{three, two}},
		"by name":   {store.RunFilter{Text: "NIGHT"}, []int64{four, one}},
		"pipeline":  {store.RunFilter{Pipeline: logs.ID}, []int64{three, two}},
		"older":     {store.RunFilter{Before: three}, []int64{two, one}},
	} {
		c.f.Limit = 10
		list, err := s.Runs(ctx, c.f)
		require.NoError(t, err)
		var got []int64
		for _, r := range list {
			got = append(got, r.ID)
		}
		assert.Equal(t, c.want, got, name)
	}
	failed, err := s.Run(ctx, three)
	require.NoError(t, err)
	assert.Zero(t, failed.Loaded, "a failed run loaded nothing")
	assert.Equal(t, map[string]string{"p": "1"}, failed.Params)
}

func TestAnEpochIsOpenUntilItIsCommittedOrGivenUp(t *testing.T) {
	ctx := context.Background()
	s := open(t)
	p, err := s.AddPipeline(ctx, "Nights", "x", "t")
	require.NoError(t, err)
	var run int64
	require.NoError(t, pgx.BeginFunc(ctx, s.Pool, func(tx pgx.Tx) error { run, err = s.AddRun(ctx, tx, p.ID, nil, "t", nil); return err }))
	e, err := s.BeginEpoch(ctx, p.ID, run, p.ChangedAt)
	require.NoError(t, err)
	require.NoError(t, s.PrepareEpoch(ctx, e, engine.Summary{Epoch: e.Number, Read: 3}))
	found, err := s.OpenEpoch(ctx, p.ID)
	require.NoError(t, err)
	assert.EqualValues(t, 3, found.Prepared.Read)
	require.NoError(t, s.CommitEpoch(ctx, found, *found.Prepared))
	found, err = s.OpenEpoch(ctx, p.ID)
	require.NoError(t, err)
	assert.Nil(t, found)
	ended, err := s.Run(ctx, run)
	require.NoError(t, err)
	assert.Equal(t, store.Done, ended.State)
	next, err := s.BeginEpoch(ctx, p.ID, run, p.ChangedAt)
	require.NoError(t, err)
	assert.EqualValues(t, 2, next.Number)
	require.NoError(t, s.AbandonEpoch(ctx, next))
}

func TestSetAsideRowsKeepWhateverStoodInThem(t *testing.T) {
	ctx := context.Background()
	s := open(t)
	p, err := s.AddPipeline(ctx, "Nights", "x", "t")
	require.NoError(t, err)
	var run int64
	require.NoError(t, pgx.BeginFunc(ctx, s.Pool, func(tx pgx.Tx) error { run, err = s.AddRun(ctx, tx, p.ID, nil, "t", nil); return err }))
	v := "a \"b\"\n,{c}"
	require.NoError(t, s.AddSetAside(ctx, run, []engine.SetAsideRow{
		{Step: "a", Refused: step.Refused{Fault: batch.Faultf("x", "why"), Raw: "nul \x00 inside", Names: []string{"n", "m"}, Cells: []*string{&v, nil}}},
		{Step: "b", Refused: step.Refused{Fault: batch.Faultf("y", "why")}},
	}))
	rows, err := s.SetAsideRows(ctx, run, store.SetAsideFilter{Step: "a", Limit: 10})
	require.NoError(t, err)
	require.Len(t, rows, 1)
	assert.Equal(t, "nul  inside", rows[0].Raw)
	assert.Equal(t, v, *rows[0].Cells[0])
	assert.Nil(t, rows[0].Cells[1])
	require.NoError(t, s.ClearSetAside(ctx, run))
}
