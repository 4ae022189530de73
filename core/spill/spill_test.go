package spill_test

import (
	"fmt"
	"math/rand/v2"
	"os"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/memory"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"welkin/core/batch"
	"welkin/core/schema"
	"welkin/core/spill"
)

var columns = schema.New(schema.Column{Name: "n", Type: schema.Of(schema.Int)}, schema.Column{Name: "n", Type: schema.Of(schema.Text)}, schema.Column{Name: "l", Type: schema.ListOf(schema.Of(schema.Int))})

// rows makes a batch; columns of one name do no harm.
func rows(t require.TestingT, from, n int) *batch.Batch {
	b := &batch.Batch{Schema: columns, N: n, Origin: batch.Origin{All: "log.csv"}}
	for c, col := range columns.Columns {
		to := batch.NewBuilder(col.Type)
		for i := range n {
			v := from + i
			text := []string{fmt.Sprint(v), fmt.Sprintf("hut %d", v%7), fmt.Sprintf("[%d, null]", v)}[c]
			if v%11 == 3 && c > 0 {
				to.AppendNull()
			} else {
				require.Nil(t, batch.AppendText(to, col.Type, text))
			}
			if c == 0 {
				b.Origin.Row = append(b.Origin.Row, int64(v))
			}
		}
		b.Cols = append(b.Cols, to.NewArray())
	}
	return b
}

// keysOf gives keys of texts.
func keysOf(texts ...string) batch.SortKeys {
	to := array.NewStringBuilder(memory.DefaultAllocator)
	to.AppendValues(texts, nil)
	return batch.NewSortKeys(len(texts), 1, batch.SortColumn{Values: to.NewArray()})
}

func lines(b *batch.Batch) (out []string) {
	for i := range b.N {
		place, row, key := b.Origin.At(i)
		line := fmt.Sprintf("%s %d %s", place, row, key)
		for _, c := range b.Row(i) {
			if c == nil {
				line += "|∅"
			} else {
				line += "|" + *c
			}
		}
		out = append(out, line)
	}
	return out
}

func TestRowsComeBackInOrderWithTheirOrigin(t *testing.T) {
	for _, budget := range []int64{0, 2000, 1 << 30} {
		folder := t.TempDir()
		s := spill.NewSpool(folder, budget)
		var want []string
		for i := range 9 {
			b := rows(t, i*10, 10)
			if i == 4 {
				b.Origin = batch.Origin{Place: []string{"a", "a", "b", "", "c", "c", "c", "c", "c", "d"}, Key: slices.Repeat([]string{"k"}, 10)}
			}
			want = append(want, lines(b)...)
			require.NoError(t, s.Add(b))
		}
		assert.EqualValues(t, 90, s.Rows())
		var got []string
		require.NoError(t, s.Drain(func(b *batch.Batch) error { got = append(got, lines(b)...); return nil }))
		assert.Equal(t, want, got, "budget %d", budget)
		left, err := os.ReadDir(folder)
		require.NoError(t, err)
		assert.Empty(t, left)
	}
}

func TestRowsOfOneHashAreInOnePartInOrder(t *testing.T) {
	b := rows(t, 0, 500)
	hashes := batch.Hashes([]arrow.Array{b.Cols[1]}, b.N)
	for level := range 3 {
		p := spill.NewParts(t.TempDir(), level)
		require.NoError(t, p.Add(b.Slice(0, 200), hashes[:200], nil))
		var odd []int32
		for i := int32(1); i < 300; i += 2 {
			odd = append(odd, i)
		}
		require.NoError(t, p.Add(b.Slice(200, 500), hashes[200:], odd))
		total := 0
		for k := range spill.Fan {
			part := p.Part(k)
			if part == nil {
				continue
			}
			last := int64(-1)
			require.NoError(t, part.Drain(func(got *batch.Batch) error {
				total += got.N
				for i := range got.N {
					_, row, _ := got.Origin.At(i)
					assert.Equal(t, k, p.Of(hashes[row]))
					assert.Greater(t, row, last)
					last = row
				}
				return nil
			}))
		}
		assert.Equal(t, 350, total)
		p.Close()
	}
}

// TestManyRowsAreSortedByAllCores sorts enough rows for the parallel way.
func TestManyRowsAreSortedByAllCores(t *testing.T) {
	const n = 100_000
	words := []string{"hut_01 and more", "hut_01", "hut_02", "hut_01 and less", ""}
	random := rand.New(rand.NewPCG(1, 2))
	r := spill.NewRuns(t.TempDir(), columns, nil, 1<<40)
	var want []string
	for at := 0; at < n; at += n / 4 {
		b := rows(t, at, n/4)
		keys := make([]string, 0, n/4)
		for _, line := range lines(b) {
			key := words[random.IntN(len(words))] + "\x02" + strconv.Itoa(random.IntN(3))
			keys = append(keys, key)
			want = append(want, key+"\n"+line)
		}
		require.NoError(t, r.Add(b, keysOf(keys...)))
	}
	slices.SortStableFunc(want, func(a, b string) int {
		return strings.Compare(a[:strings.IndexByte(a, '\n')], b[:strings.IndexByte(b, '\n')])
	})
	at := 0
	require.NoError(t, r.Each(func(b *batch.Batch, _ spill.KeyOf) error {
		for _, line := range lines(b) {
			require.Equal(t, want[at][strings.IndexByte(want[at], '\n')+1:], line)
			at++
		}
		return nil
	}))
	assert.Equal(t, n, at)
}

// TestSortedRunsMergeStably compares with a stable sort in memory.
func TestSortedRunsMergeStably(t *testing.T) {
	folder := t.TempDir()
	rapid.Check(t, func(rt *rapid.T) {
		budget := rapid.SampledFrom([]int64{0, 3000, 1 << 30}).Draw(rt, "budget")
		byRow := map[int64]string{}
		r := spill.NewRuns(folder, columns, func(b *batch.Batch) batch.SortKeys {
			keys := make([]string, b.N)
			for i, row := range b.Origin.Row {
				keys[i] = byRow[row]
			}
			return keysOf(keys...)
		}, budget)
		type item struct{ key, line string }
		var want []item
		at := 0
		for range rapid.IntRange(0, 12).Draw(rt, "batches") {
			n := rapid.IntRange(1, 40).Draw(rt, "rows")
			b := rows(rt, at, n)
			at += n
			keys := make([]string, n)
			all := lines(b)
			for i := range keys {
				keys[i] = rapid.SampledFrom([]string{"", "a", "ab", "b", "8 bytes!", "8 bytes! and 1", "long key of many bytes 1", "long key of many bytes 2"}).Draw(rt, "key")
				byRow[b.Origin.Row[i]] = keys[i]
				want = append(want, item{keys[i], all[i]})
			}
			require.NoError(rt, r.Add(b, keysOf(keys...)))
		}
		slices.SortStableFunc(want, func(a, b item) int { return strings.Compare(a.key, b.key) })
		var got []string
		require.NoError(rt, r.Each(func(b *batch.Batch, key spill.KeyOf) error {
			for i := range b.N {
				group, order := key(i)
				require.Empty(rt, order)
				require.Equal(rt, keysOf(want[len(got)+i].key).At(0), group)
			}
			got = append(got, lines(b)...)
			return nil
		}))
		require.Len(rt, got, len(want))
		for i := range want {
			require.Equal(rt, want[i].line, got[i])
		}
	})
	left, err := os.ReadDir(folder)
	require.NoError(t, err)
	assert.Empty(t, left)
}
