// Package connecttest is the suite that every kind of connection passes: its
// check list, browsing, searching, sampling, reading, cancelling, errors as
// sentences without secrets, and loads that are all or nothing and count.
package connecttest

import (
	"context"
	"io"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"welkin/connect"
	"welkin/core/batch"
	"welkin/core/schema"
	"welkin/core/step"
)

// Harness is what a kind hands in. Each connection it opens holds the same
// three rows under Path: 1,Ravenseat,2.50  2,Larkfell,null  3,null,-1.00 in the
// columns id (int), name (text), level (decimal).
type Harness struct {
	Kind   connect.Kind
	Good   connect.Settings
	Bad    map[string]connect.Settings // settings with one mistake, by the check line that must fail
	Secret string                      // never to be seen in anything that is told
	Path   string                      // of the three rows
	Folder string                      // the path that Browse must list Path in
	Read   func(ctx context.Context, c connect.Connection) (step.Reader, error)
	// Load begins a load of the three rows into a new place; Count counts rows
	// there, 0 when the place is not there. A kind that is only read has neither.
	Load  func(ctx context.Context, c connect.Connection, e step.Epoch) (step.Load, error)
	Count func(ctx context.Context, c connect.Connection) int64
}

// Rows gives the three rows.
func Rows(t testing.TB) *batch.Batch {
	t.Helper()
	s := schema.New(schema.Column{Name: "id", Type: schema.Of(schema.Int)}, schema.Column{Name: "name", Type: schema.Of(schema.Text), Nullable: true},
		schema.Column{Name: "level", Type: schema.DecimalOf(18, 2), Nullable: true})
	b := &batch.Batch{Schema: s, N: 3}
	for c, cells := range [][]string{{"1", "2", "3"}, {"Ravenseat", "Larkfell", ""}, {"2.50", "", "-1.00"}} {
		builder := batch.NewBuilder(s.Columns[c].Type)
		for _, v := range cells {
			if v == "" {
				builder.AppendNull()
				continue
			}
			require.Nil(t, batch.AppendText(builder, s.Columns[c].Type, v))
		}
		b.Cols = append(b.Cols, builder.NewArray())
	}
	return b
}

var cells = []string{"1|Ravenseat|2.50", "2|Larkfell|∅", "3|∅|-1.00"}

func lines(rows [][]*string) []string {
	var out []string
	for _, row := range rows {
		var texts []string
		for _, v := range row {
			if v == nil {
				texts = append(texts, "∅")
			} else {
				texts = append(texts, *v)
			}
		}
		out = append(out, strings.Join(texts, "|"))
	}
	slices.Sort(out)
	return out
}

// Run runs the suite.
func Run(t *testing.T, h Harness) {
	ctx := context.Background()
	open := func(t *testing.T, s connect.Settings) connect.Connection {
		c, err := h.Kind.Open(ctx, s)
		require.NoError(t, err)
		t.Cleanup(func() { assert.NoError(t, c.Close()) })
		return c
	}
	quiet := func(t *testing.T, said string) {
		if h.Secret != "" {
			assert.NotContains(t, said, h.Secret, "a secret is told")
		}
	}

	t.Run("good settings pass every line of the check list", func(t *testing.T) {
		for _, l := range open(t, h.Good).Check(ctx) {
			assert.Equal(t, connect.Good, l.State, "%s: %s", l.What, l.Found)
			assert.NotEmpty(t, l.Found)
			quiet(t, l.Found)
		}
	})
	t.Run("bad settings fail at their line, with a remedy", func(t *testing.T) {
		for what, s := range h.Bad {
			failed := 0
			for _, l := range open(t, s).Check(ctx) {
				quiet(t, l.Found+l.Remedy)
				if l.State != connect.Bad {
					continue
				}
				failed++
				assert.Equal(t, what, l.What)
				assert.NotEmpty(t, l.Found)
				assert.NotEmpty(t, l.Remedy)
			}
			assert.Equal(t, 1, failed, what)
		}
	})
	t.Run("settings that lack something are refused", func(t *testing.T) {
		assert.Error(t, h.Kind.New().Validate())
		_, err := h.Kind.Decode([]byte(`{"colour":"red"}`), nil)
		assert.ErrorContains(t, err, "colour")
	})
	t.Run("browsing finds what is there", func(t *testing.T) {
		list, err := open(t, h.Good).Browse(ctx, h.Folder)
		require.NoError(t, err)
		assert.True(t, slices.ContainsFunc(list, func(e connect.Entry) bool { return e.Path == h.Path && !e.Opens }), "%v", list)
	})
	t.Run("searching finds a part of a name, in any case, and no more than asked for", func(t *testing.T) {
		c := open(t, h.Good)
		list, err := c.Search(ctx, strings.ToUpper(h.Path[len(h.Path)/2:]), 10)
		require.NoError(t, err)
		assert.True(t, slices.ContainsFunc(list, func(e connect.Entry) bool { return e.Path == h.Path }), "%v", list)
		list, err = c.Search(ctx, "nothing is called this", 10)
		require.NoError(t, err)
		assert.NotNil(t, list)
		assert.Empty(t, list)
	})
	t.Run("a description names the columns and a sample shows the rows", func(t *testing.T) {
		c := open(t, h.Good)
		d, err := c.Describe(ctx, h.Path)
		require.NoError(t, err)
		require.Len(t, d.Columns, 3)
		assert.Equal(t, []string{"id", "name", "level"}, []string{d.Columns[0].Name, d.Columns[1].Name, d.Columns[2].Name})
		w, err := c.Sample(ctx, h.Path, 200)
		require.NoError(t, err)
		assert.Equal(t, cells, lines(w.Rows))
		w, err = c.Sample(ctx, h.Path, 2)
		require.NoError(t, err)
		assert.Len(t, w.Rows, 2)
		_, err = c.Describe(ctx, "nothing.here")
		require.Error(t, err)
		quiet(t, err.Error())
	})
	t.Run("reading gives every row with its origin", func(t *testing.T) {
		r, err := h.Read(ctx, open(t, h.Good))
		require.NoError(t, err)
		defer r.Close()
		var all [][]*string
		for {
			c, err := r.Next(ctx)
			if err == io.EOF {
				break
			}
			require.NoError(t, err)
			assert.EqualValues(t, c.Batch.N, c.Seen)
			for i := range c.Batch.N {
				all = append(all, c.Batch.Row(i))
				place, row, _ := c.Batch.Origin.At(i)
				assert.NotEmpty(t, place)
				assert.Positive(t, row)
			}
		}
		assert.Equal(t, cells, lines(all))
	})
	t.Run("a read that is given up ends", func(t *testing.T) {
		given, cancel := context.WithCancel(ctx)
		r, err := h.Read(given, open(t, h.Good))
		require.NoError(t, err)
		cancel()
		for err == nil {
			_, err = r.Next(given)
		}
		assert.NoError(t, r.Close())
	})

	if h.Load == nil { // a kind that is only read
		return
	}
	rows := Rows(t)
	epoch := func(n int64) step.Epoch { return step.Epoch{Pipeline: "p", Number: n, Run: "r"} }
	t.Run("a load is not seen before its commit, and then is whole", func(t *testing.T) {
		c := open(t, h.Good)
		l, err := h.Load(ctx, c, epoch(1))
		require.NoError(t, err)
		assert.Nil(t, l.Held())
		require.NoError(t, l.Write(ctx, rows))
		result, refused, err := l.Prepare(ctx)
		require.NoError(t, err)
		assert.Empty(t, refused)
		assert.EqualValues(t, 3, result.Inserted)
		assert.EqualValues(t, 3, result.After)
		assert.Zero(t, h.Count(ctx, c))
		require.NoError(t, l.Commit(ctx))
		assert.EqualValues(t, 3, h.Count(ctx, c))
		assert.NoError(t, l.Abort(ctx), "after a commit it does nothing")
		assert.EqualValues(t, 3, h.Count(ctx, c))
	})
	t.Run("the same epoch again is found held and not loaded twice", func(t *testing.T) {
		c := open(t, h.Good)
		l, err := h.Load(ctx, c, epoch(1))
		require.NoError(t, err)
		require.NotNil(t, l.Held())
		assert.EqualValues(t, 3, l.Held().Inserted)
		assert.NoError(t, l.Abort(ctx))
		assert.EqualValues(t, 3, h.Count(ctx, c))
	})
	t.Run("a load that is given up leaves the target as it was, at every stage", func(t *testing.T) {
		c := open(t, h.Good)
		for stage := range 3 {
			l, err := h.Load(ctx, c, epoch(2))
			require.NoError(t, err)
			require.Nil(t, l.Held())
			if stage > 0 {
				require.NoError(t, l.Write(ctx, rows))
			}
			if stage > 1 {
				_, _, err = l.Prepare(ctx)
				require.NoError(t, err)
			}
			require.NoError(t, l.Abort(ctx))
			assert.EqualValues(t, 3, h.Count(ctx, c))
		}
	})
}
