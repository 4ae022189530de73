package batch_test

import (
	"strings"
	"testing"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"welkin/core/batch"
	"welkin/core/batch/batchtest"
	"welkin/core/schema"
)

// TestRowsAreNumberedByTheirKeys compares with a map of AppendKey's forms.
func TestRowsAreNumberedByTheirKeys(t *testing.T) {
	values := map[string][]string{
		"int": {"1", "2", "-5", "9000000000"}, "text": {"hut", "", "hut ", "Høyt", "hut\x00", "Eight by", "Eight byt", "fifteen letters", "sixteen letters!", "fifteen lettert"}, "date": {"2026-11-23", "1969-12-31"}, "bool": {"true", "false"},
		"float": {"0", "-0", "NaN", "2.5"}, "decimal(20,2)": {"1.50", "12345678901234567.25", "-1.50"}, "timestamp": {"2026-11-23 10:00:00", "1960-01-01 00:00:00"},
		"list<int>": {"[1, 2]", "[]", "[null]"}, "time": {"10:00:00", "00:00:00"},
	}
	var types []string
	for typ := range values {
		types = append(types, typ)
	}
	rapid.Check(t, func(rt *rapid.T) {
		n := rapid.IntRange(0, 300).Draw(rt, "rows")
		var cols []arrow.Array
		for range rapid.IntRange(0, 3).Draw(rt, "columns") {
			typ := rapid.SampledFrom(types).Draw(rt, "type")
			cells := make([][]string, n)
			for i := range cells {
				cells[i] = []string{rapid.SampledFrom(append(values[typ], "∅")).Draw(rt, "value")}
			}
			col := batchtest.Cells(rt, batchtest.Columns(rt, "x:"+typ), cells...).Cols[0]
			if n > 4 && rapid.Bool().Draw(rt, "slice") { // a column that begins inside of its memory
				wide := batchtest.Cells(rt, batchtest.Columns(rt, "x:"+typ), append([][]string{{"∅"}, {values[typ][0]}}, cells...)...).Cols[0]
				col = batch.SliceColumn(wide, 2, n+2)
			}
			cols = append(cols, col)
		}
		ids, firsts := batch.Number(cols, n)
		require.Len(rt, ids, n)
		seen := map[string]int32{}
		for i := range n {
			var key []byte
			for _, c := range cols {
				key = batch.AppendKey(key, c, i)
			}
			want, ok := seen[string(key)]
			if !ok {
				want = int32(len(seen))
				seen[string(key)] = want
				require.EqualValues(rt, i, firsts[want])
			}
			require.Equal(rt, want, ids[i])
		}
		require.Len(rt, firsts, len(seen))
	})
}

func TestManyDifferentRowsAreNumbered(t *testing.T) {
	const n = 20_000
	lines := make([]string, n)
	for i := range lines {
		lines[i] = strings.Repeat("x", i%7) + "|" + []string{"1", "2", "∅"}[i%3]
	}
	for i := range lines {
		lines[i] = lines[i] + "|" + strings.TrimLeft(strings.Repeat("0", 6)+string(rune('a'+i%26)), "0") + string(rune('a'+i/26%26)) + string(rune('a'+i/676))
	}
	b := batchtest.Rows(t, "a:text b:int c:text", lines...)
	ids, firsts := batch.Number(b.Cols, n)
	assert.Len(t, firsts, n)
	assert.EqualValues(t, n-1, ids[n-1])
}

func TestGatheringKeepsNullsAndSlices(t *testing.T) {
	b := batchtest.Rows(t, "i:int s:text f:float b:bool d:decimal(8,2) day:date y:bytes l:list<int> u:uuid",
		"1|hut|2.5|true|1.25|2026-11-23|\\x00ff|[1]|00112233-4455-6677-8899-aabbccddeeff", "∅|∅|∅|∅|∅|∅|∅|∅|∅", "3||0|false|-1.00|1969-12-31|\\x|[]|10112233-4455-6677-8899-aabbccddeeff")
	slice := b.Slice(1, 3)
	rows := []int32{1, 0, -1, 1}
	for c := range b.Cols {
		for _, from := range []*batch.Batch{b, slice} {
			got := &batch.Batch{Schema: batchtest.Columns(t, "x:"+b.Schema.Columns[c].Type.String()), N: len(rows), Cols: []arrow.Array{batch.Take(from.Cols[c], rows)}}
			for k, r := range rows {
				if r < 0 {
					assert.Nil(t, got.Row(k)[0])
				} else {
					assert.Equal(t, from.Row(int(r))[c], got.Row(k)[0])
				}
			}
		}
		many := batch.GatherColumn([]arrow.Array{b.Cols[c], slice.Cols[c]}, []int32{0, 1, 1, 0}, []int32{0, 0, 1, 2})
		got := &batch.Batch{Schema: batchtest.Columns(t, "x:"+b.Schema.Columns[c].Type.String()), N: 4, Cols: []arrow.Array{many}}
		for k, want := range []*string{b.Row(0)[c], b.Row(1)[c], b.Row(2)[c], b.Row(2)[c]} {
			assert.Equal(t, want, got.Row(k)[0], b.Schema.Columns[c].Name)
		}
	}
}

func TestTextColumnsReadAsAppendTextDoes(t *testing.T) {
	texts := []string{"1", "-0", "+7", "007", " 12 ", "1.5", "-.5", "5.", ".", "", "-", "1e3", "123456789012345678", "9223372036854775807", "9223372036854775808", "0.1", "NaN", "Infinity", "0x10", "1_000",
		"true", "TRUE", "t", "yes", "false", "0", "maybe", "2026-11-23", "2026-02-29", "2024-02-29", "23.11.2026", "2026-11-23 10:00:00", "2026-11-23T10:00:00.123456", "2026-11-23 10:00:00+02", "2026-11-23 25:00:00", "10:30:00", "∞",
		"99999.99", "1234567.891", "0.004", "0.005", "-0.005"}
	for _, typ := range []string{"int", "float", "decimal(8,2)", "decimal(38,4)", "bool", "date", "timestamp", "timestamptz", "time", "text", "json", "uuid", "bytes", "list<int>"} {
		s := batchtest.Columns(t, "x:"+typ)
		fast, slow := batch.NewTextColumn(s.Columns[0].Type, len(texts)+2), batch.NewBuilder(s.Columns[0].Type)
		filled, faults := batch.NewTextColumn(s.Columns[0].Type, len(texts)+2), map[int]string{}
		var data []byte
		spans := make([]batch.Span, len(texts), len(texts)+1)
		for i, text := range texts {
			spans[i] = batch.Span{From: uint32(len(data)), To: uint32(len(data) + len(text))}
			data = append(data, text...)
		}
		filled.Fill(data, append(spans, batch.NullSpan), func(row int, text string, fault *batch.Fault) {
			assert.Equal(t, texts[row], text)
			faults[row] = fault.Sentence
		})
		for i, text := range texts {
			got, want := fast.Set(i, text), batch.AppendText(slow, s.Columns[0].Type, text)
			if want != nil {
				assert.Equal(t, want.Sentence, faults[i], "%s as %s", text, typ)
				delete(faults, i)
				slow.AppendNull()
				require.NotNil(t, got, "%s as %s", text, typ)
				assert.Equal(t, want.Sentence, got.Sentence)
				continue
			}
			require.Nil(t, got, "%s as %s", text, typ)
		}
		assert.Empty(t, faults)
		slow.AppendNulls(2)
		c := &batch.Batch{Schema: s, N: len(texts) + 2, Cols: []arrow.Array{filled.Column()}}
		a := &batch.Batch{Schema: s, N: len(texts) + 2, Cols: []arrow.Array{fast.Column()}}
		b := &batch.Batch{Schema: s, N: len(texts) + 2, Cols: []arrow.Array{slow.NewArray()}}
		for i := range a.N {
			assert.Equal(t, b.Row(i), a.Row(i), "row %d as %s", i, typ)
			assert.Equal(t, b.Row(i), c.Row(i), "row %d as %s", i, typ)
		}
	}
}

func TestPlainLettersAreChangedAtOnce(t *testing.T) {
	up := func(c byte) byte {
		if c >= 'a' && c <= 'z' {
			return c - 'a' + 'A'
		}
		return c
	}
	to := batch.NewBuilder(schema.Of(schema.Text)).(*array.StringBuilder)
	to.AppendValues([]string{"hütte", "hut_01", "", "L4 b", "x"}, []bool{true, true, true, true, false})
	all := to.NewArray().(*array.String)
	_, ok := batch.MapASCII(all, up)
	assert.False(t, ok, "ü takes two bytes")
	out, ok := batch.MapASCII(batch.SliceColumn(all, 1, 5).(*array.String), up)
	require.True(t, ok)
	got := out.(*array.String)
	assert.Equal(t, []string{"HUT_01", "", "L4 B"}, []string{got.Value(0), got.Value(1), got.Value(2)})
	assert.True(t, got.IsNull(3))
	out, ok = batch.MapASCII(batch.SliceColumn(all, 2, 2).(*array.String), up)
	assert.True(t, ok)
	assert.Zero(t, out.Len())
}
