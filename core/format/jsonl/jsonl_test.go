package jsonl_test

import (
	"bytes"
	"io"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"welkin/core/format/jsonl"
	"welkin/core/schema"
)

func columns(t testing.TB) *schema.Schema {
	t.Helper()
	s := &schema.Schema{}
	for _, c := range [][2]string{{"hut", "text"}, {"beds", "int"}, {"level", "decimal(6,2)"}, {"at", "timestamptz"}, {"l", "list<int>"}, {"r", "record{a text, b bool}"}, {"j", "json"}} {
		typ, err := schema.ParseType(c[1])
		require.NoError(t, err)
		s.Columns = append(s.Columns, schema.Column{Name: c[0], Type: typ, Nullable: true})
	}
	return s
}

func TestRowsComeBackAsTheyWere(t *testing.T) {
	s := columns(t)
	text := `{"hut":"Ravens \"Seat\"\n","beds":12,"level":3.45,"at":"2026-11-23T10:00:00+00:00","l":[1, null],"r":{"a": "x", "b": true},"j":{"k": [1, 2]}}
{"hut":null,"beds":null,"level":null,"at":null,"l":null,"r":null,"j":null}
`
	c, err := jsonl.Open(t.Context(), strings.NewReader(text), jsonl.Options{Schema: s}).Next(t.Context())
	require.NoError(t, err)
	b := c.Batch
	assert.Empty(t, c.Refused)
	require.Equal(t, 2, b.N)
	var out bytes.Buffer
	require.NoError(t, jsonl.NewWriter(&out, s).Write(b))
	assert.Equal(t, text, out.String())
}

func TestLinesThatDoNotFitAreRefusedWithTheirPlace(t *testing.T) {
	text := "{\"beds\": 1, \"more\": 2}\n\nnonsense\n[1]\n{\"beds\": \"many\"}\n{\"beds\": 4}\n"
	r := jsonl.Open(t.Context(), strings.NewReader(text), jsonl.Options{Schema: columns(t)})
	c, err := r.Next(t.Context())
	require.NoError(t, err)
	b, refused := c.Batch, c.Refused
	assert.Equal(t, []int64{1, 6}, b.Origin.Row)
	assert.Equal(t, "4", *b.Row(1)[1])
	require.Len(t, refused, 3)
	assert.EqualValues(t, 3, refused[0].Line)
	assert.Equal(t, "beds", refused[2].Column)
	_, err = r.Next(t.Context())
	assert.ErrorIs(t, err, io.EOF)
}

func TestAnEndlessLineIsRefused(t *testing.T) {
	_, err := jsonl.Open(t.Context(), strings.NewReader(strings.Repeat("x", jsonl.MaxLine+5<<20)), jsonl.Options{Schema: columns(t)}).Next(t.Context())
	assert.ErrorContains(t, err, "line 1 is longer than")
}

func FuzzReader(f *testing.F) {
	f.Add("{\"hut\": \"a\", \"r\": {\"a\": 1}}\n{}\n[")
	f.Fuzz(func(t *testing.T, text string) {
		r := jsonl.Open(t.Context(), strings.NewReader(text), jsonl.Options{Schema: columns(t)})
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
