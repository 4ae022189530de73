package formattest

import (
	"bytes"
	"fmt"
	"io"
	"math/rand/v2"
	"slices"
	"strings"

	"github.com/stretchr/testify/require"

	"welkin/core/batch"
	"welkin/core/schema"
)

// Format is one format's writer and reader, for the suite.
type Format struct {
	Write func(w io.Writer, s *schema.Schema) (Writer, error)
	Read  func(data []byte, s *schema.Schema) (Reader, error)
	// Lacks are types whose values the format does not keep as they are.
	Lacks []schema.Kind
	// Blank says that an empty text comes back as null.
	Blank bool
	// Plain says that control characters and the like don't come back.
	Plain bool
}

// Writer writes rows.
type Writer interface {
	Write(b *batch.Batch) error
	Flush() error
}

// RoundTrip writes random rows of random columns and reads them back; seed makes them.
func RoundTrip(t require.TestingT, f Format, seed uint64) {
	r := rand.New(rand.NewPCG(seed, 7))
	s := randomSchema(r, f.Lacks)
	n := []int{0, 1, 7, 300, batch.Rows + 5}[r.IntN(5)]
	if n > 300 && (s.Len() > 3 || seed%4 > 0) {
		n = 1000
	}
	b := f.rows(t, r, s, n)
	var out bytes.Buffer
	w, err := f.Write(&out, s)
	require.NoError(t, err)
	cut := r.IntN(n + 1)
	require.NoError(t, w.Write(b.Slice(0, cut)))
	require.NoError(t, w.Write(b.Slice(cut, n)))
	require.NoError(t, w.Flush())
	reader, err := f.Read(out.Bytes(), s)
	require.NoError(t, err, "seed %d: %v", seed, s.Columns)
	got, refused := Read(t, reader)
	require.Empty(t, refused, "seed %d: %v", seed, s.Columns)
	require.Len(t, got, n, "seed %d", seed)
	for i := range n {
		require.Equal(t, Cells(b, i), got[i], "seed %d, row %d of %v", seed, i, s.Columns)
	}
}

// Cells gives a row's texts, a null as ∅.
func Cells(b *batch.Batch, i int) []string {
	var out []string
	for _, c := range b.Row(i) {
		if c == nil {
			out = append(out, "∅")
		} else {
			out = append(out, *c)
		}
	}
	return out
}

var types = []string{"bool", "int", "decimal(18,2)", "decimal(38,9)", "float", "text", "bytes", "date", "time", "timestamp", "timestamptz", "uuid", "json",
	"list<int>", "list<text>", "record{a text, b int}", "list<record{a text, b list<decimal(10,2)>}>"}

func randomSchema(r *rand.Rand, lacks []schema.Kind) *schema.Schema {
	s := &schema.Schema{}
	for i := range 1 + r.IntN(8) {
		for {
			typ, err := schema.ParseType(types[r.IntN(len(types))])
			if err != nil {
				panic(err)
			}
			if slices.Contains(lacks, typ.Kind) {
				continue
			}
			name := []string{"hut", "water level", "Høyde (m)", "2026", "a,b", "select"}[r.IntN(6)]
			s.Columns = append(s.Columns, schema.Column{Name: fmt.Sprintf("%s %d", name, i), Type: typ, Nullable: true})
			break
		}
	}
	return s
}

func (f Format) rows(t require.TestingT, r *rand.Rand, s *schema.Schema, n int) *batch.Batch {
	b := &batch.Batch{Schema: s, N: n}
	nulls := r.IntN(4)
	for at, c := range s.Columns {
		to := batch.NewBuilder(c.Type)
		for range n {
			if r.IntN(10) < nulls && at > 0 { // a row of nulls alone is none in some formats
				to.AppendNull()
				continue
			}
			text := f.value(r, c.Type)
			require.Nil(t, batch.AppendText(to, c.Type, text), "%s as %s", text, c.Type)
		}
		b.Cols = append(b.Cols, to.NewArray())
	}
	return b
}

func (f Format) value(r *rand.Rand, t schema.Type) string {
	switch t.Kind {
	case schema.Bool:
		return []string{"true", "false"}[r.IntN(2)]
	case schema.Int:
		return []string{"0", "-1", "7", "123456", "9223372036854775807", "-9223372036854775808", fmt.Sprint(r.IntN(1e6))}[r.IntN(7)]
	case schema.Decimal:
		return fmt.Sprintf("%d.%02d", r.IntN(2_000_000)-1_000_000, r.IntN(100))
	case schema.Float:
		return []string{"0.1", "-2.5", "1e300", "5e-324", fmt.Sprint(r.Float64())}[r.IntN(5)]
	case schema.Bytes:
		return fmt.Sprintf(`\x%02x%02x`, r.IntN(256), r.IntN(256))
	case schema.Date:
		return fmt.Sprintf("%04d-%02d-%02d", 1902+r.IntN(200), 1+r.IntN(12), 1+r.IntN(28))
	case schema.Time:
		return fmt.Sprintf("%02d:%02d:%02d.%03d", r.IntN(24), r.IntN(60), r.IntN(60), r.IntN(1000))
	case schema.Timestamp, schema.TimestampTZ:
		return fmt.Sprintf("%04d-%02d-%02d %02d:%02d:%02d.%03d", 1902+r.IntN(200), 1+r.IntN(12), 1+r.IntN(28), r.IntN(24), r.IntN(60), r.IntN(60), r.IntN(1000))
	case schema.UUID:
		return fmt.Sprintf("00112233-4455-6677-8899-%012x", r.Uint64()>>16)
	case schema.JSON:
		return []string{`{"k": [1, 2.50, null]}`, `"x"`, `[]`, `{}`, `true`}[r.IntN(5)]
	case schema.List:
		items := []string{}
		for range r.IntN(4) {
			if r.IntN(5) == 0 {
				items = append(items, "null")
			} else {
				items = append(items, f.quoted(r, t.Elem()))
			}
		}
		return "[" + strings.Join(items, ", ") + "]"
	case schema.Record:
		var fields []string
		for _, field := range t.Fields() {
			fields = append(fields, fmt.Sprintf("%q: %s", field.Name, f.quoted(r, field.Type)))
		}
		return "{" + strings.Join(fields, ", ") + "}"
	}
	words := []string{"Ravens \"Seat\"", "a,b;c\td", "Høyt", "'", "x", " blank ", "007", "null", "<fell> & so", "日本"}
	if !f.Plain {
		words = append(words, "two\nlines", "\\", "return\r\nand feed")
	}
	if !f.Blank {
		words = append(words, "")
	}
	return words[r.IntN(len(words))]
}

// quoted gives a value as it stands in JSON.
func (f Format) quoted(r *rand.Rand, t schema.Type) string {
	v := f.value(r, t)
	if t.Kind == schema.Text {
		return string(batch.AppendJSONString(nil, v))
	}
	return v
}
