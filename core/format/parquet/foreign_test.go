package parquet_test

import (
	"bytes"
	"io"
	"strings"
	"testing"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/memory"
	parquetfile "github.com/apache/arrow-go/v18/parquet"
	"github.com/apache/arrow-go/v18/parquet/pqarrow"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"welkin/core/format/formattest"
	"welkin/core/format/parquet"
)

func TestTypesOfOtherProgramsAreTakenOver(t *testing.T) {
	p := arrow.PrimitiveTypes
	for _, c := range []struct {
		name   string
		stored arrow.DataType
		values string // JSON of the column
		own    string
		want   []string
	}{
		{"a byte", p.Int8, `[-128, null]`, "int", []string{"-128", "∅"}},
		{"a short number", p.Int16, `[7]`, "int", []string{"7"}},
		{"a number of four bytes", p.Int32, `[-2147483648]`, "int", []string{"-2147483648"}},
		{"a number without a sign", p.Uint32, `[4294967295]`, "int", []string{"4294967295"}},
		{"the largest number without a sign", p.Uint64, `[18446744073709551615]`, "decimal(20,0)", []string{"18446744073709551615"}},
		{"a short float", p.Float32, `[1.5]`, "float", []string{"1.5"}},
		{"a large text", arrow.BinaryTypes.LargeString, `["Wolkenhöhe", null]`, "text", []string{"Wolkenhöhe", "∅"}},
		{"a moment to the millisecond", &arrow.TimestampType{Unit: arrow.Millisecond, TimeZone: "UTC"}, `["2026-11-23T18:30:00.125Z"]`, "timestamptz", []string{"2026-11-23 18:30:00.125+00"}},
		{"a moment to the nanosecond, before the epoch", &arrow.TimestampType{Unit: arrow.Nanosecond}, `["1969-12-31 23:59:59.123456789"]`, "timestamp", []string{"1969-12-31 23:59:59.123457"}},
		{"a time to the millisecond", arrow.FixedWidthTypes.Time32ms, `["18:30:00.125"]`, "time", []string{"18:30:00.125"}},
		{"texts by place", &arrow.DictionaryType{IndexType: p.Int32, ValueType: arrow.BinaryTypes.String}, `["a", "b", null, "a"]`, "text", []string{"a", "b", "∅", "a"}},
		{"a list of short numbers", arrow.ListOf(p.Int32), `[[1, 2], [], null]`, "list<int>", []string{"[1, 2]", "[]", "∅"}},
		{"a record of short numbers", arrow.StructOf(arrow.Field{Name: "x", Type: p.Float32, Nullable: true}), `[{"x": 1.5}, {"x": null}]`, "record{x float}", []string{`{"x": 1.5}`, `{"x": null}`}},
		{"a list of large offsets", arrow.LargeListOf(p.Int32), `[[1], null, [2, 3]]`, "list<int>", []string{"[1]", "∅", "[2, 3]"}},
		{"a list of two", arrow.FixedSizeListOf(2, p.Int32), `[[1, 2], [3, 4]]`, "list<int>", []string{"[1, 2]", "[3, 4]"}},
		{"a list of records", arrow.ListOf(arrow.StructOf(arrow.Field{Name: "n", Type: p.Int16, Nullable: true})), `[[{"n": 3}], []]`, "list<record{n int}>", []string{`[{"n": 3}]`, "[]"}},
		{"a map", arrow.MapOf(arrow.BinaryTypes.String, p.Int32), `[[{"key": "beds", "value": 12}], null]`, "list<record{key text, value int}>", []string{`[{"key": "beds", "value": 12}]`, "∅"}},
	} {
		t.Run(c.name, func(t *testing.T) {
			col, _, err := array.FromJSON(memory.DefaultAllocator, c.stored, strings.NewReader(c.values))
			require.NoError(t, err)
			have := arrow.NewSchema([]arrow.Field{{Name: "kept", Type: c.stored, Nullable: true}}, nil)
			var out bytes.Buffer
			w, err := pqarrow.NewFileWriter(have, &out, parquetfile.NewWriterProperties(), pqarrow.NewArrowWriterProperties(pqarrow.WithStoreSchema()))
			require.NoError(t, err)
			require.NoError(t, w.Write(array.NewRecordBatch(have, []arrow.Array{col}, int64(col.Len()))))
			require.NoError(t, w.Close())
			r, err := parquet.Open(t.Context(), bytes.NewReader(out.Bytes()), nil)
			require.NoError(t, err)
			assert.Equal(t, c.own, r.Schema().Columns[0].Type.String())
			b, err := r.Next()
			require.NoError(t, err)
			var got []string
			for i := range b.N {
				got = append(got, formattest.Cells(b, i)[0])
			}
			assert.Equal(t, c.want, got)
			_, err = r.Next()
			assert.Equal(t, io.EOF, err)
			require.NoError(t, r.Close())
		})
	}
}
