package avro_test

import (
	"bytes"
	"io"
	"strings"
	"testing"

	"github.com/hamba/avro/v2/ocf"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"welkin/core/batch/batchtest"
	"welkin/core/format/avro"
	"welkin/core/format/formattest"
	"welkin/core/schema"
)

func TestWhatIsWrittenComesBack(t *testing.T) {
	for seed := range uint64(60) {
		codec := []string{"", "snappy", "zstd", "none"}[seed%4]
		formattest.RoundTrip(t, formattest.Format{
			Write: func(w io.Writer, s *schema.Schema) (formattest.Writer, error) { return avro.NewWriter(w, s, codec) },
			Read: func(data []byte, s *schema.Schema) (formattest.Reader, error) {
				r, err := avro.Open(bytes.NewReader(data), avro.Options{})
				if err == nil {
					for i, c := range r.Schema().Columns {
						want := s.Columns[i].Type
						if want.Kind == schema.JSON {
							want = schema.Of(schema.Text)
						}
						require.Equal(t, s.Columns[i].Name, c.Name)
						require.Equal(t, want, c.Type)
					}
				}
				return r, err
			},
		}, seed)
	}
}

// TestTypesOfOthersAreRead reads a file whose schema Welkin would not write.
func TestTypesOfOthersAreRead(t *testing.T) {
	const described = `{"type":"record","name":"reading","fields":[
		{"name":"hut","type":{"type":"enum","name":"huts","symbols":["H1","H2"]}},
		{"name":"at","type":{"type":"long","logicalType":"timestamp-millis"}},
		{"name":"watts","type":["int","string"]},
		{"name":"labels","type":{"type":"map","values":"string"}},
		{"name":"code","type":{"type":"fixed","name":"two","size":2}},
		{"name":"short","type":"int"},
		{"name":"level","type":"float"}]}`
	var out bytes.Buffer
	enc, err := ocf.NewEncoder(described, &out)
	require.NoError(t, err)
	for i, watts := range []any{map[string]any{"int": 5}, map[string]any{"string": "five"}} {
		require.NoError(t, enc.Encode(map[string]any{"hut": "H2", "at": int64(1764000000123 + i), "watts": watts, "labels": map[string]any{"k": "v"}, "code": [2]byte{1, 2}, "short": 7, "level": float32(0.1)}))
	}
	require.NoError(t, enc.Close())
	r, err := avro.Open(bytes.NewReader(out.Bytes()), avro.Options{})
	require.NoError(t, err)
	var types []string
	for _, c := range r.Schema().Columns {
		types = append(types, c.Type.String())
	}
	assert.Equal(t, "text timestamptz json json bytes int float", strings.Join(types, " "))
	rows, refused := formattest.Read(t, r)
	assert.Empty(t, refused)
	assert.Equal(t, [][]string{
		{"H2", "2025-11-24 16:00:00.123+00", "5", `{"k": "v"}`, `\x0102`, "7", "0.1"},
		{"H2", "2025-11-24 16:00:00.124+00", `"five"`, `{"k": "v"}`, `\x0102`, "7", "0.1"}}, rows)
}

// TestColumnsWantedNeedNotBeThose reads by other columns than the file's.
func TestColumnsWantedNeedNotBeThose(t *testing.T) {
	var out bytes.Buffer
	b := batchtest.Rows(t, "hut:text beds:int", "H1|12", "H2|∅")
	w, err := avro.NewWriter(&out, b.Schema, "")
	require.NoError(t, err)
	require.NoError(t, w.Write(b))
	require.NoError(t, w.Flush())
	r, err := avro.Open(bytes.NewReader(out.Bytes()), avro.Options{Schema: batchtest.Columns(t, "beds:decimal(10,1) floor:int hut:text"), Limit: 1})
	require.NoError(t, err)
	rows, _ := formattest.Read(t, r)
	assert.Equal(t, [][]string{{"12.0", "∅", "H1"}}, rows)
}

func TestBrokenFilesAreSaid(t *testing.T) {
	_, err := avro.Open(strings.NewReader("hut,beds\n"), avro.Options{})
	assert.ErrorContains(t, err, "no Avro file")
	var out bytes.Buffer
	b := batchtest.Rows(t, "hut:text", "H1", "H2", "H3")
	w, err := avro.NewWriter(&out, b.Schema, "")
	require.NoError(t, err)
	require.NoError(t, w.Write(b))
	require.NoError(t, w.Flush())
	r, err := avro.Open(bytes.NewReader(out.Bytes()[:out.Len()-20]), avro.Options{})
	require.NoError(t, err)
	_, err = r.Next(t.Context())
	assert.ErrorContains(t, err, "broken")
	_, err = avro.NewWriter(io.Discard, b.Schema, "lead")
	assert.ErrorContains(t, err, "no codec")
}
