package parquet_test

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"welkin/core/batch"
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
	var out bytes.Buffer
	w, err := parquet.NewWriter(&out, b.Schema)
	require.NoError(t, err)
	require.NoError(t, w.Write(b.Slice(0, 10)))
	require.NoError(t, w.Write(b.Slice(10, 23)))
	require.NoError(t, w.Flush())
	r, err := parquet.Open(context.Background(), bytes.NewReader(out.Bytes()), nil)
	require.NoError(t, err)
	defer r.Close()
	assert.True(t, b.Schema.Equal(r.Schema()), "%v", r.Schema())
	at := 0
	for {
		got, err := r.Next()
		if err == io.EOF {
			break
		}
		require.NoError(t, err)
		for i := range got.N {
			assert.Equal(t, b.Row(at), got.Row(i))
			at++
		}
	}
	assert.Equal(t, 23, at)
}

func TestSomeColumnsAreReadAlone(t *testing.T) {
	b := rows(t, 9)
	var out bytes.Buffer
	w, err := parquet.NewWriter(&out, b.Schema)
	require.NoError(t, err)
	require.NoError(t, w.Write(b))
	require.NoError(t, w.Flush())
	r, err := parquet.Open(context.Background(), bytes.NewReader(out.Bytes()), []string{"s", "r"})
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
