package parquet_test

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"maps"
	"math"
	"slices"
	"testing"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/decimal128"
	"github.com/apache/arrow-go/v18/arrow/memory"
	"github.com/apache/arrow-go/v18/parquet/file"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"welkin/core/batch"
	"welkin/core/batch/batchtest"
	"welkin/core/format/parquet"
	"welkin/core/schema"
)

func rows(t testing.TB, n int) *batch.Batch {
	t.Helper()
	b := &batch.Batch{Schema: &schema.Schema{}, N: n}
	for _, c := range [][2]string{{"i", "int"}, {"d", "decimal(20,4)"}, {"f", "float"}, {"s", "text"}, {"b", "bool"}, {"day", "date"}, {"at", "time"}, {"ts", "timestamp"}, {"tz", "timestamptz"},
		{"y", "bytes"}, {"u", "uuid"}, {"l", "list<int>"}, {"r", "record{a text, n list<text>}"}} {
		typ, err := schema.ParseType(c[1])
		require.NoError(t, err)
		b.Schema.Columns = append(b.Schema.Columns, schema.Column{Name: c[0], Type: typ, Nullable: true})
		to := batch.NewBuilder(typ)
		for i := range n {
			text := map[string]string{"i": fmt.Sprint(i - 5), "d": fmt.Sprintf("%d.25", i), "f": fmt.Sprintf("%d.5", i), "s": fmt.Sprintf("hut %d", i%7), "b": fmt.Sprint(i%2 == 0), "day": "2026-11-23", "at": "18:30:15.25",
				"ts": "2026-03-29 02:30:00", "tz": "2026-10-25 02:30:00+00", "y": `\x00ff`, "u": "00112233-4455-6677-8899-aabbccddeeff", "l": "[1, null, 3]", "r": `{"a": "x", "n": ["y", null]}`}[c[0]]
			if i%5 == 4 {
				to.AppendNull()
			} else {
				require.Nil(t, batch.AppendText(to, typ, text), text)
			}
		}
		b.Cols = append(b.Cols, to.NewArray())
	}
	return b
}

func TestEveryTypeComesBackAsItWas(t *testing.T) {
	b := rows(t, 23)
	data := written(t, b.Schema, b.Slice(0, 10), b.Slice(10, 23))
	r, err := parquet.Open(context.Background(), bytes.NewReader(data), nil)
	require.NoError(t, err)
	defer r.Close()
	assert.True(t, b.Schema.Equal(r.Schema()), "%v", r.Schema())
	at := 0
	each(t, data, func(got *batch.Batch) {
		for i := range got.N {
			assert.Equal(t, b.Row(at), got.Row(i))
			at++
		}
	})
	assert.Equal(t, 23, at)
}

// written gives a file of batches.
func written(t require.TestingT, s *schema.Schema, batches ...*batch.Batch) []byte {
	var out bytes.Buffer
	w, err := parquet.NewWriter(&out, s)
	require.NoError(t, err)
	for _, b := range batches {
		require.NoError(t, w.Write(b))
	}
	require.NoError(t, w.Flush())
	return out.Bytes()
}

// each reads a file's rows, batch by batch.
func each(t require.TestingT, data []byte, take func(b *batch.Batch)) {
	r, err := parquet.Open(context.Background(), bytes.NewReader(data), nil)
	require.NoError(t, err)
	defer r.Close()
	for {
		b, err := r.Next()
		if err == io.EOF {
			return
		}
		require.NoError(t, err)
		take(b)
	}
}

func TestColumnsOfAnyValuesComeBackAsTheyWere(t *testing.T) {
	ways := map[string]func(t *rapid.T, i int) int64{
		"the same": func(*rapid.T, int) int64 { return 7 },
		"rising":   func(_ *rapid.T, i int) int64 { return int64(i) },
		"small":    func(t *rapid.T, _ int) int64 { return rapid.Int64Range(-5, 40).Draw(t, "small") },
		"any":      func(t *rapid.T, _ int) int64 { return rapid.Int64().Draw(t, "any") },
		"the edges": func(t *rapid.T, _ int) int64 {
			return rapid.SampledFrom([]int64{math.MinInt64, math.MaxInt64, 0, -1}).Draw(t, "edge")
		},
	}
	names := slices.Sorted(maps.Keys(ways))
	s := batchtest.Columns(t, "i:int d:date p:decimal(9,2) q:decimal(18,0) r:decimal(30,4) f:float b:bool ts:timestamp s:text")
	rapid.Check(t, func(t *rapid.T) {
		n := rapid.IntRange(0, 300).Draw(t, "rows")
		b := &batch.Batch{Schema: s, N: n}
		for _, c := range s.Columns {
			way, nulls := ways[rapid.SampledFrom(names).Draw(t, "way")], rapid.SampledFrom([]int{0, 0, 3, 10}).Draw(t, "nulls")
			to := batch.NewBuilder(c.Type)
			for i := range n {
				if rapid.IntRange(0, 9).Draw(t, "null") < nulls {
					to.AppendNull()
					continue
				}
				v := way(t, i)
				switch to := to.(type) {
				case *array.Int64Builder:
					to.Append(v)
				case *array.Date32Builder:
					to.Append(arrow.Date32(v))
				case *array.Decimal128Builder:
					to.Append(decimal128.FromI64(v % map[int]int64{9: 1e9, 18: 1e18, 30: math.MaxInt64}[c.Type.Precision]))
				case *array.Float64Builder:
					to.Append(float64(v) / 8)
				case *array.BooleanBuilder:
					to.Append(v%2 == 0)
				case *array.TimestampBuilder:
					to.Append(arrow.Timestamp(v))
				case *array.StringBuilder:
					to.Append(fmt.Sprintf("hut %d", v))
				}
			}
			b.Cols = append(b.Cols, to.NewArray())
		}
		cut := rapid.IntRange(0, n).Draw(t, "cut")
		at := 0
		each(t, written(t, s, b.Slice(0, cut), b.Slice(cut, n)), func(got *batch.Batch) {
			for c := range s.Columns {
				require.Truef(t, array.SliceEqual(b.Cols[c], int64(at), int64(at+got.N), got.Cols[c], 0, int64(got.N)), "%s: %v instead of %v", s.Columns[c].Name, got.Cols[c], b.Cols[c])
			}
			at += got.N
		})
		require.Equal(t, n, at)
	})
}

func TestManyRowsAreWrittenInGroups(t *testing.T) {
	s := batchtest.Columns(t, "id:int hut:text remark:text")
	var batches []*batch.Batch
	const n = 2*parquet.RowGroup + 1000
	for from := 0; from < n; from += batch.Rows {
		id, hut, remark := array.NewInt64Builder(memory.DefaultAllocator), array.NewStringBuilder(memory.DefaultAllocator), array.NewStringBuilder(memory.DefaultAllocator)
		for i := from; i < min(from+batch.Rows, n); i++ {
			id.Append(int64(i))
			hut.Append(fmt.Sprintf("hut %d", i%48))
			if i < parquet.RowGroup { // few texts at first, each another later
				remark.Append([]string{"late", "two beds"}[i%2])
			} else {
				remark.Append(fmt.Sprint("remark ", i))
			}
		}
		b := &batch.Batch{Schema: s, N: id.Len(), Cols: []arrow.Array{id.NewArray(), hut.NewArray(), remark.NewArray()}}
		batches = append(batches, b)
	}
	data := written(t, s, batches...)
	f, err := file.NewParquetReader(bytes.NewReader(data))
	require.NoError(t, err)
	assert.Equal(t, 3, f.NumRowGroups())
	stats, err := f.MetaData().RowGroup(1).ColumnChunk(1)
	require.NoError(t, err)
	found, err := stats.Statistics()
	require.NoError(t, err)
	assert.Equal(t, "hut 0", string(found.EncodeMin()))
	assert.Equal(t, "hut 9", string(found.EncodeMax()))
	at := 0
	each(t, data, func(b *batch.Batch) {
		want := batches[at/batch.Rows]
		from := int64(at % batch.Rows)
		for c := range 3 {
			require.True(t, array.SliceEqual(want.Cols[c], from, from+int64(b.N), b.Cols[c], 0, int64(b.N)), "column %d from row %d", c, at)
		}
		at += b.N
	})
	assert.Equal(t, n, at)
}

func TestNothingIsWrittenToAFileThatIsAbandoned(t *testing.T) {
	b := rows(t, 50)
	flat := b.Schema.Columns[:3]
	part := &batch.Batch{Schema: &schema.Schema{Columns: flat}, Cols: b.Cols[:3], N: b.N}
	var out bytes.Buffer
	w, err := parquet.NewWriter(&out, part.Schema)
	require.NoError(t, err)
	for range parquet.RowGroup/part.N + 2 { // the first group is written by then, or about to be
		require.NoError(t, w.Write(part))
	}
	w.Abandon()
	size := out.Len() // with -race a writer that goes on is seen here
	assert.NotZero(t, size)
	w.Abandon()
	assert.Equal(t, size, out.Len())
}

func TestAFileWithoutRowsHasItsColumns(t *testing.T) {
	s := batchtest.Columns(t, "id:int hut:text")
	r, err := parquet.Open(context.Background(), bytes.NewReader(written(t, s)), nil)
	require.NoError(t, err)
	defer r.Close()
	assert.Equal(t, []string{"id", "hut"}, r.Schema().Names())
	_, err = r.Next()
	assert.Equal(t, io.EOF, err)
}

func TestSomeColumnsAreReadAlone(t *testing.T) {
	b := rows(t, 9)
	r, err := parquet.Open(context.Background(), bytes.NewReader(written(t, b.Schema, b)), []string{"s", "r"})
	require.NoError(t, err)
	defer r.Close()
	assert.Equal(t, []string{"s", "r"}, r.Schema().Names())
	got, err := r.Next()
	require.NoError(t, err)
	assert.Equal(t, "hut 3", *got.Row(3)[0])
}

func TestWhatIsNoParquetIsSaid(t *testing.T) {
	_, err := parquet.Open(context.Background(), bytes.NewReader([]byte("id,hut\n1,2\n")), nil)
	assert.ErrorContains(t, err, "this is no Parquet file")
}
