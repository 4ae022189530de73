package connecttest

import (
	"context"
	"encoding/json"
	"io"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"welkin/connect"
	"welkin/core/step"
)

// RunGrowing is the suite of reads of what is new. The table has the columns id, a
// whole number, and changed, a time stamp, and holds 1 of 10 o'clock and 2 of 11
// o'clock of 2026-11-23; do runs a statement on it.
func RunGrowing(t *testing.T, c connect.Connection, table string, do func(statement string)) {
	bind := func(g step.Growing) step.Positioned {
		t.Helper()
		ctx := &step.Context{Context: context.Background(), World: worldOf(c)}
		b := (&step.ReadTable{Connection: "x", Table: table, Growing: &g}).Bind(ctx, nil)
		require.NotNil(t, b, "%v", ctx.Problems())
		require.NotNil(t, b.Source, "%v", ctx.Problems())
		return b.Source.(step.Positioned)
	}
	read := func(p step.Positioned, s step.Slice) (string, json.RawMessage) {
		t.Helper()
		source, reached, err := p.From(t.Context(), s)
		require.NoError(t, err)
		r, err := source.Open(t.Context(), 0)
		require.NoError(t, err)
		defer r.Close()
		var ids []string
		for {
			chunk, err := r.Next(t.Context())
			if err == io.EOF {
				break
			}
			require.NoError(t, err)
			for i := range chunk.Batch.N {
				ids = append(ids, *chunk.Batch.Row(i)[0])
			}
		}
		slices.Sort(ids)
		position, err := reached()
		require.NoError(t, err)
		return strings.Join(ids, " "), position
	}
	byID := bind(step.Growing{Column: "id"})
	ids, first := read(byID, step.Slice{})
	assert.Equal(t, "1 2", ids)
	do("INSERT INTO " + table + " VALUES (3, '2026-11-23 12:00:00'), (4, '2026-11-23 12:30:00')")
	ids, _ = read(byID, step.Slice{UpTo: first})
	assert.Equal(t, "1 2", ids, "an attempt done again reads the same slice")
	ids, second := read(byID, step.Slice{After: first})
	assert.Equal(t, "3 4", ids)
	ids, third := read(byID, step.Slice{After: second})
	assert.Empty(t, ids)
	assert.JSONEq(t, string(second), string(third))

	byTime := bind(step.Growing{Column: "changed", LookBack: "45m"})
	_, position := read(byTime, step.Slice{})
	assert.Contains(t, string(position), "2026-11-23 12:30:00")
	do("INSERT INTO " + table + " VALUES (5, '2026-11-23 11:50:00')")
	ids, _ = read(byTime, step.Slice{After: position})
	assert.Equal(t, "3 4 5", ids, "what was committed late lies within the look-back")

	ids, _ = read(bind(step.Growing{Column: "id", First: step.FromNow}), step.Slice{})
	assert.Empty(t, ids)
	ids, _ = read(bind(step.Growing{Column: "id", First: "3"}), step.Slice{})
	assert.Equal(t, "4 5", ids)
	_, _, err := byTime.From(t.Context(), step.Slice{After: second})
	assert.ErrorContains(t, err, `one of the column "id"`)

	do("DELETE FROM " + table)
	ids, last := read(byID, step.Slice{After: second})
	assert.Empty(t, ids)
	assert.JSONEq(t, string(second), string(last), "an empty table moves no position")

	for want, g := range map[string]step.Growing{"no column": {Column: "nights"}, "no duration": {Column: "changed", LookBack: "soon"}, "no number of 0 or more": {Column: "id", LookBack: "-1"}, "a first run begins": {Column: "id", First: "x"}} {
		ctx := &step.Context{Context: context.Background(), World: worldOf(c)}
		(&step.ReadTable{Connection: "x", Table: table, Growing: &g}).Bind(ctx, nil)
		require.NotEmpty(t, ctx.Problems(), want)
		assert.Contains(t, ctx.Problems()[0].Sentence, want)
	}
}
