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
	b, refused, err := jsonl.NewReader(strings.NewReader(text), s).Next()
	require.NoError(t, err)
	assert.Empty(t, refused)
	require.Equal(t, 2, b.N)
	var out bytes.Buffer
	require.NoError(t, jsonl.NewWriter(&out, s).Write(b))
	assert.Equal(t, text, out.String())
}

func TestLinesThatDoNotFitAreRefusedWithTheirPlace(t *testing.T) {
	text := "{\"beds\": 1, \"more\": 2}\n\nnonsense\n[1]\n{\"beds\": \"many\"}\n{\"beds\": 4}\n"
	r := jsonl.NewReader(strings.NewReader(text), columns(t))
	b, refused, err := r.Next()
	require.NoError(t, err)
	assert.Equal(t, []int64{1, 6}, b.Origin.Row)
	assert.Equal(t, "4", *b.Row(1)[1])
	require.Len(t, refused, 3)
	assert.EqualValues(t, 3, refused[0].Line)
	assert.Equal(t, "beds", refused[2].Column)
	_, _, err = r.Next()
	assert.ErrorIs(t, err, io.EOF)
}

func TestAnEndlessLineIsRefused(t *testing.T) {
	_, _, err := jsonl.NewReader(strings.NewReader(strings.Repeat("x", jsonl.MaxLine+1)), columns(t)).Next()
	assert.ErrorContains(t, err, "line 1 is longer than")
}

func FuzzReader(f *testing.F) {
	f.Add("{\"hut\": \"a\", \"r\": {\"a\": 1}}\n{}\n[")
	f.Fuzz(func(t *testing.T, text string) {
		r := jsonl.NewReader(strings.NewReader(text), columns(t))
		for {
			b, _, err := r.Next()
			if err != nil {
				return
			}
			for _, c := range b.Cols {
				require.Equal(t, b.N, c.Len())
			}
		}
	})
}
