package form_test

import (
	"bytes"
	"context"
	"io"
	"testing"
	"time"

	"github.com/linkedin/goavro/v2"
	parquetgo "github.com/parquet-go/parquet-go"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"welkin/core/batch/batchtest"
	"welkin/core/format/avro"
	"welkin/core/format/form"
	"welkin/core/format/formattest"
	"welkin/core/format/parquet"
)

// read finds out what data are and reads them.
func read(t *testing.T, name string, data []byte) (columns []string, rows [][]string) {
	t.Helper()
	open := func(context.Context) (io.ReadCloser, error) {
		return struct {
			*bytes.Reader
			io.Closer
		}{bytes.NewReader(data), io.NopCloser(nil)}, nil
	}
	found, err := form.Find(t.Context(), name, open, form.Form{}, false)
	require.NoError(t, err)
	for _, c := range found.Schema.Columns {
		columns = append(columns, c.Name+" "+c.Type.String())
	}
	r, err := found.Form.Read(t.Context(), open, form.Options{Schema: found.Schema})
	require.NoError(t, err)
	rows, refused := formattest.Read(t, r)
	require.Empty(t, refused)
	return columns, rows
}

// TestFilesOfAnotherParquetLibraryAreRead reads what parquet-go writes, and lets it read
// what Welkin writes.
func TestFilesOfAnotherParquetLibraryAreRead(t *testing.T) {
	type place struct {
		X float64 `parquet:"x"`
		Y *string `parquet:"y,optional"`
	}
	type hut struct {
		Code  string    `parquet:"code,dict"`
		Beds  int64     `parquet:"beds,delta"`
		Floor *int32    `parquet:"floor,optional"`
		Open  bool      `parquet:"open"`
		Seen  time.Time `parquet:"seen,timestamp(microsecond)"`
		Day   int32     `parquet:"day,date"`
		Tags  []string  `parquet:"tags,list"`
		Place place     `parquet:"place"`
	}
	floor, west := int32(2), "west"
	huts := []hut{{"H01", 12, &floor, true, time.Date(2026, 11, 23, 18, 30, 0, 0, time.UTC), 20780, []string{"a", "b"}, place{1.5, &west}}, {"H02", 8, nil, false, time.Date(2026, 11, 24, 6, 0, 0, 0, time.UTC), 20781, []string{}, place{2, nil}}}
	for name, codec := range map[string]parquetgo.WriterOption{"zstd": parquetgo.Compression(&parquetgo.Zstd), "snappy": parquetgo.Compression(&parquetgo.Snappy), "gzip": parquetgo.Compression(&parquetgo.Gzip), "none": parquetgo.Compression(&parquetgo.Uncompressed)} {
		var out bytes.Buffer
		w := parquetgo.NewGenericWriter[hut](&out, codec)
		_, err := w.Write(huts)
		require.NoError(t, err)
		require.NoError(t, w.Close())
		columns, rows := read(t, "huts.parquet", out.Bytes())
		assert.Equal(t, []string{"code text", "beds int", "floor int", "open bool", "seen timestamptz", "day date", "tags list<text>", "place record{x float, y text}"}, columns, name)
		assert.Equal(t, [][]string{{"H01", "12", "2", "true", "2026-11-23 18:30:00+00", "2026-11-23", `["a", "b"]`, `{"x": 1.5, "y": "west"}`}, {"H02", "8", "∅", "false", "2026-11-24 06:00:00+00", "2026-11-24", "[]", `{"x": 2, "y": null}`}}, rows, name)
	}
	b := batchtest.Rows(t, "code:text beds:int level:decimal(9,2)", "H01|12|-1.25", "∅|∅|∅", "H03|9223372036854775807|7.00")
	var out bytes.Buffer
	w, err := parquet.NewWriter(&out, b.Schema)
	require.NoError(t, err)
	require.NoError(t, w.Write(b))
	require.NoError(t, w.Flush())
	got, err := parquetgo.Read[struct {
		Code *string `parquet:"code,optional"`
		Beds *int64  `parquet:"beds,optional"`
	}](bytes.NewReader(out.Bytes()), int64(out.Len()))
	require.NoError(t, err)
	require.Len(t, got, 3)
	assert.Equal(t, "H01", *got[0].Code)
	assert.Nil(t, got[1].Beds)
	assert.EqualValues(t, 9223372036854775807, *got[2].Beds)
}

// TestFilesOfAnotherAvroLibraryAreRead reads what goavro writes, and lets it read what
// Welkin writes.
func TestFilesOfAnotherAvroLibraryAreRead(t *testing.T) {
	const described = `{"type":"record","name":"hut","fields":[{"name":"code","type":"string"},{"name":"beds","type":["null","long"],"default":null},{"name":"tags","type":{"type":"array","items":"string"}},
		{"name":"seen","type":{"type":"long","logicalType":"timestamp-millis"}},{"name":"place","type":{"type":"record","name":"place","fields":[{"name":"x","type":"double"}]}}]}`
	for _, codec := range []string{"null", "deflate", "snappy"} {
		var out bytes.Buffer
		w, err := goavro.NewOCFWriter(goavro.OCFConfig{W: &out, Schema: described, CompressionName: codec})
		require.NoError(t, err)
		require.NoError(t, w.Append([]any{
			map[string]any{"code": "H01", "beds": goavro.Union("long", 12), "tags": []any{"a"}, "seen": time.Date(2026, 11, 23, 18, 30, 0, 0, time.UTC), "place": map[string]any{"x": 1.5}},
			map[string]any{"code": "H02", "beds": nil, "tags": []any{}, "seen": time.Date(2026, 11, 24, 6, 0, 0, 0, time.UTC), "place": map[string]any{"x": 2.0}}}))
		columns, rows := read(t, "huts.avro", out.Bytes())
		assert.Equal(t, []string{"code text", "beds int", "tags list<text>", "seen timestamptz", "place record{x float}"}, columns)
		assert.Equal(t, [][]string{{"H01", "12", `["a"]`, "2026-11-23 18:30:00+00", `{"x": 1.5}`}, {"H02", "∅", "[]", "2026-11-24 06:00:00+00", `{"x": 2}`}}, rows, codec)
	}
	b := batchtest.Rows(t, "code:text beds:int day:date", "H01|12|2026-11-23", "∅|∅|∅")
	var out bytes.Buffer
	w, err := avro.NewWriter(&out, b.Schema, "")
	require.NoError(t, err)
	require.NoError(t, w.Write(b))
	require.NoError(t, w.Flush())
	r, err := goavro.NewOCFReader(bytes.NewReader(out.Bytes()))
	require.NoError(t, err)
	require.True(t, r.Scan())
	first, err := r.Read()
	require.NoError(t, err)
	assert.Equal(t, map[string]any{"string": "H01"}, first.(map[string]any)["code"])
	assert.Equal(t, map[string]any{"long": int64(12)}, first.(map[string]any)["beds"])
	require.True(t, r.Scan())
	second, err := r.Read()
	require.NoError(t, err)
	assert.Nil(t, second.(map[string]any)["beds"])
	require.False(t, r.Scan())
}
