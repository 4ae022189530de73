package jsondoc_test

import (
	"bytes"
	"fmt"
	"io"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"welkin/core/batch/batchtest"
	"welkin/core/format/formattest"
	"welkin/core/format/jsondoc"
	"welkin/core/format/jsonl"
	"welkin/core/schema"
)

func TestWhatIsWrittenComesBack(t *testing.T) {
	for seed := range uint64(60) {
		formattest.RoundTrip(t, formattest.Format{
			Write: func(w io.Writer, s *schema.Schema) (formattest.Writer, error) { return jsondoc.NewWriter(w, s), nil },
			Read: func(data []byte, s *schema.Schema) (formattest.Reader, error) {
				return jsondoc.Open(bytes.NewReader(data), jsondoc.Options{Schema: s}), nil
			},
		}, seed)
		formattest.RoundTrip(t, formattest.Format{
			Write: func(w io.Writer, s *schema.Schema) (formattest.Writer, error) { return jsonl.NewWriter(w, s), nil },
			Read: func(data []byte, s *schema.Schema) (formattest.Reader, error) {
				return jsonl.Open(t.Context(), bytes.NewReader(data), jsonl.Options{Schema: s}), nil
			},
		}, seed)
	}
}

func TestRecordsAreFoundWhereTheyStand(t *testing.T) {
	for text, want := range map[string]string{
		`[{"hut":1},{"hut":2}]`: "",
		`{"hut":1}`:             "",
		`{"total":2,"items":[{"hut":1},{"hut":2}]}`:                                "items",
		`{"data":{"page":1,"rows":[{"hut":1},{"hut":2}]},"e":[]}`:                  "data.rows",
		`{"warnings":[{"t":1}],"huts":[{"a":[{"x":1},{"x":2},{"x":3}]},{"a":[]}]}`: "huts",
		`{"items":[{"hut":1},{"hut"`:                                               "items",
	} {
		path, _ := jsondoc.FindRecords([]byte(text))
		assert.Equal(t, want, path, text)
	}
	assert.True(t, jsondoc.Lines([]byte("{\"a\":1}\n{\"a\":2}\n"), true))
	assert.False(t, jsondoc.Lines([]byte("{\n\"a\":1}\n"), true))
	assert.False(t, jsondoc.Lines([]byte("[1]\n"), true))
}

func TestTypesAreThoseOfAllRecords(t *testing.T) {
	text := `{"huts":[{"code":"H1","beds":12,"open":true,"at":"2026-11-23T10:00:00Z","day":"2026-11-23","level":1.5,"big":1e40,"mixed":1,"tags":["a"],"place":{"x":1}},
		{"code":"H2","beds":null,"level":2,"mixed":"two","tags":[],"place":{"x":2,"y":"n"},"extra":{"a":[1,{"b":2}]}}]}`
	s, n, err := jsondoc.Infer([]byte(text), "huts")
	require.NoError(t, err)
	assert.Equal(t, 2, n)
	var columns []string
	for _, c := range s.Columns {
		columns = append(columns, c.Name+" "+c.Type.String())
	}
	assert.Equal(t, []string{"code text", "beds int", "open bool", "at timestamptz", "day date", "level decimal(18,1)", "big float", "mixed text", "tags list<text>", "place record{x int, y text}", "extra record{a list<json>}"}, columns)
}

func TestAPathLeadsThroughArraysAndBadRecordsAreRefused(t *testing.T) {
	text := `{"note":{"deep":[1,[2]]},"huts":[{"stays":[{"n":1},{"n":"x"}]},{"stays":[]},{"stays":[7,{"n":3}]}]}`
	rows, refused := formattest.Read(t, jsondoc.Open(strings.NewReader(text), jsondoc.Options{Records: "$.huts[*].stays[*]", Schema: batchtest.Columns(t, "n:int")}))
	assert.Equal(t, [][]string{{"1"}, {"3"}}, rows)
	require.Len(t, refused, 2)
	assert.Equal(t, `{"n":"x"}`, refused[0].Raw)
	assert.EqualValues(t, 3, refused[1].Line)
}

func TestBrokenDocumentsAreSaid(t *testing.T) {
	for text, want := range map[string]string{`[{"n":1},{"n":`: "ends too early", `[{"n":1} {"n":2}]`: "broken at byte", `[{"n":1}`: "ends too early"} {
		r := jsondoc.Open(strings.NewReader(text), jsondoc.Options{Schema: batchtest.Columns(t, "n:int")})
		_, err := r.Next(t.Context())
		assert.ErrorContains(t, err, want)
		require.NoError(t, r.Close())
	}
}

// TestALongDocumentIsReadInLittleMemory reads from a stream that has no end in sight.
func TestALongDocumentIsReadInLittleMemory(t *testing.T) {
	in, out := io.Pipe()
	go func() {
		_, _ = io.WriteString(out, `{"rows":[`)
		for i := 0; ; i++ {
			if _, err := fmt.Fprintf(out, `{"n":%d},`, i); err != nil {
				return
			}
		}
	}()
	r := jsondoc.Open(in, jsondoc.Options{Records: "rows", Schema: batchtest.Columns(t, "n:int"), Limit: 100_000})
	rows, _ := formattest.Read(t, r)
	assert.Len(t, rows, 100_000)
	_ = in.Close()
}

func FuzzReader(f *testing.F) {
	f.Add(`{"huts":[{"n":1},{"n":[2]}]}`, "huts")
	f.Add(`[1,{"n":null}`, "")
	f.Fuzz(func(t *testing.T, text, path string) {
		_, _ = jsondoc.FindRecords([]byte(text))
		_, _, _ = jsondoc.Infer([]byte(text), path)
		r := jsondoc.Open(strings.NewReader(text), jsondoc.Options{Records: path, Schema: batchtest.Columns(t, "n:int")})
		defer r.Close()
		for {
			c, err := r.Next(t.Context())
			if err != nil {
				return
			}
			for _, col := range c.Batch.Cols {
				require.Equal(t, c.Batch.N, col.Len())
			}
		}
	})
}
