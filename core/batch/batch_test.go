package batch_test

import (
	"math/big"
	"strings"
	"testing"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"welkin/core/batch"
	"welkin/core/schema"
)

// column makes a column of texts; "∅" is null.
func column(t require.TestingT, typ schema.Type, cells ...string) arrow.Array {
	b := batch.NewBuilder(typ)
	for _, c := range cells {
		if c == "∅" {
			b.AppendNull()
		} else {
			require.Nil(t, batch.AppendText(b, typ, c), c)
		}
	}
	return b.NewArray()
}

var everyType = map[string][]string{
	"bool": {"false", "true"}, "int": {"-9223372036854775808", "0", "9223372036854775807"}, "decimal(38,4)": {"-0.0001", "0.0000", "9999999999999999999999999999999999.9999"},
	"float": {"-1.5", "0", "1e+300"}, "text": {"", "a", "æ"}, "bytes": {`\x`, `\x00ff`}, "date": {"0001-01-01", "1969-12-31", "9999-12-31"}, "time": {"00:00:00", "23:59:59.999999"},
	"timestamp": {"1969-12-31 23:59:59.999999", "2026-11-23 10:00:00"}, "timestamptz": {"2026-11-23 10:00:00+00"}, "uuid": {"00112233-4455-6677-8899-aabbccddeeff"},
}

func TestTextReadsBackForEveryType(t *testing.T) {
	for name, cells := range everyType {
		typ, err := schema.ParseType(name)
		require.NoError(t, err)
		col := column(t, typ, append(cells, "∅")...)
		for i, want := range cells {
			assert.Equal(t, want, batch.Text(col, typ, i), name)
		}
		assert.True(t, col.IsNull(len(cells)))
	}
}

func TestKeysAreEqualExactlyForEqualValuesAndOrderIsTotal(t *testing.T) {
	for name, cells := range everyType {
		typ, err := schema.ParseType(name)
		require.NoError(t, err)
		col := column(t, typ, append(cells, cells...)...)
		for i := range col.Len() {
			for j := range col.Len() {
				same := i%len(cells) == j%len(cells)
				assert.Equal(t, same, string(batch.AppendKey(nil, col, i)) == string(batch.AppendKey(nil, col, j)), name)
				c := batch.Compare(col, i, col, j)
				assert.Equal(t, same, c == 0, name)
				assert.Equal(t, -c, batch.Compare(col, j, col, i), name)
				if !same {
					assert.Equal(t, i%len(cells) < j%len(cells), c < 0, "%s: %d %d", name, i, j)
				}
			}
		}
	}
}

func TestTakeAndConcatKeepRowsAndOrigins(t *testing.T) {
	s := schema.New(schema.Column{Name: "n", Type: schema.Of(schema.Int)})
	b := &batch.Batch{Schema: s, Cols: []arrow.Array{column(t, schema.Of(schema.Int), "1", "∅", "3")}, N: 3, Origin: batch.Origin{Row: []int64{10, 11, 12}, Place: []string{"a", "a", "b"}}}
	got := b.Take([]int32{2, 0, 1, 2})
	assert.Equal(t, "3", batch.Text(got.Cols[0], s.Columns[0].Type, 0))
	assert.True(t, got.Cols[0].IsNull(2))
	assert.Equal(t, []int64{12, 10, 11, 12}, got.Origin.Row)
	all, err := batch.Concat([]*batch.Batch{b, got.Slice(1, 3)})
	require.NoError(t, err)
	assert.Equal(t, 5, all.N)
	place, row, _ := all.Origin.At(4)
	assert.Equal(t, "a", place)
	assert.EqualValues(t, 11, row)
}

func TestDecimalsRoundHalfAwayFromZeroAndRefuseTooManyDigits(t *testing.T) {
	typ := schema.DecimalOf(4, 1)
	for text, want := range map[string]string{"1.25": "1.3", "-1.25": "-1.3", "1.24": "1.2", "999.94": "999.9", "1e2": "100.0", "+.5": "0.5", " 7 ": "7.0"} {
		n, fault := batch.ParseDecimal(text, typ)
		require.Nil(t, fault, text)
		assert.Equal(t, want, batch.FormatDecimal(n, 1), text)
	}
	for _, text := range []string{"999.95", "10000", "1,5", "", "--1", "0x1", "1e99"} {
		_, fault := batch.ParseDecimal(text, typ)
		assert.NotNil(t, fault, text)
	}
}

func TestDecimalsReadBackWhateverTheyAre(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		scale := rapid.IntRange(0, 18).Draw(t, "scale")
		n := big.NewInt(rapid.Int64().Draw(t, "n"))
		typ := schema.DecimalOf(38, scale)
		text := batch.FormatBig(n, scale)
		v, fault := batch.ParseDecimal(text, typ)
		require.Nil(t, fault)
		require.Equal(t, text, batch.FormatDecimal(v, scale))
		require.Zero(t, n.Cmp(v.BigInt()))
	})
}

func TestJSONIsKeptInOneForm(t *testing.T) {
	for text, want := range map[string]string{
		`{"b":1,"a":{"cc":[1,2],"c":null}}`: `{"a": {"c": null, "cc": [1, 2]}, "b": 1}`, `{"a":1,"a":2}`: `{"a": 2}`, ` [ ] `: `[]`,
		`1e3`: `1000`, `1.50`: `1.50`, `-1.5e-3`: `-0.0015`, `-0`: `0`, `"\u00e9\n"`: `"é\n"`, `12345678901234567890123`: `12345678901234567890123`,
	} {
		got, fault := batch.NormalJSON(text)
		require.Nil(t, fault, text)
		assert.Equal(t, want, got)
		again, fault := batch.NormalJSON(got)
		require.Nil(t, fault)
		assert.Equal(t, got, again)
	}
	for _, text := range []string{"", "{", "[1,]", "1 2", "nan", `"\u0000"`, "1e999999", strings.Repeat("[", 5000) + strings.Repeat("]", 5000)} {
		_, fault := batch.NormalJSON(text)
		assert.NotNil(t, fault, text[:min(len(text), 20)])
	}
}

func TestNestedValuesReadWriteGatherAndCompare(t *testing.T) {
	typ, err := schema.ParseType("list<record{a int, b list<text>}>")
	require.NoError(t, err)
	texts := []string{`[]`, `[{"a": 1, "b": ["x", null]}, null]`, `[{"a": 2, "b": []}]`, `[{"a": null, "b": null}]`}
	to := batch.NewBuilder(typ)
	for _, text := range texts {
		require.Nil(t, batch.AppendText(to, typ, text))
	}
	require.NotNil(t, batch.AppendText(to, typ, `[{"a": "x"}]`))
	require.NotNil(t, batch.AppendText(to, typ, `{"a": 1}`))
	a := to.NewArray()
	require.Equal(t, len(texts), a.Len(), "a fault appends nothing")
	for i, text := range texts {
		assert.Equal(t, text, batch.Text(a, typ, i))
	}
	back := batch.Take(a, []int32{3, -1, 1})
	assert.Equal(t, texts[3], batch.Text(back, typ, 0))
	assert.True(t, back.IsNull(1))
	assert.Equal(t, texts[1], batch.Text(back, typ, 2))
	assert.Zero(t, batch.Compare(a, 1, back, 2))
	assert.Negative(t, batch.Compare(a, 0, a, 1))
	assert.Negative(t, batch.Compare(a, 1, a, 2))
	assert.Equal(t, batch.AppendKey(nil, a, 1), batch.AppendKey(nil, back, 2))
	assert.NotEqual(t, batch.AppendKey(nil, a, 1), batch.AppendKey(nil, a, 2))
}
