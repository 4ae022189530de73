package parquet

import (
	"context"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/bitutil"
	"github.com/apache/arrow-go/v18/arrow/compute"
	"github.com/apache/arrow-go/v18/arrow/memory"

	"welkin/core/schema"
)

// ownType gives the Arrow type in which Welkin keeps what another program wrote as
// a: numbers of every width, texts of both kinds, times of every unit, lists of both
// kinds, and maps as lists of records of key and value. known is false for a type
// there is no place for.
func ownType(a arrow.DataType) (own arrow.DataType, known bool) {
	if t, ok := schema.FromArrow(a); ok {
		return t.Arrow(), true
	}
	switch a := a.(type) {
	case *arrow.Int8Type, *arrow.Int16Type, *arrow.Int32Type, *arrow.Uint8Type, *arrow.Uint16Type, *arrow.Uint32Type:
		return schema.Of(schema.Int).Arrow(), true
	case *arrow.Uint64Type:
		return schema.DecimalOf(20, 0).Arrow(), true
	case *arrow.Float16Type, *arrow.Float32Type:
		return schema.Of(schema.Float).Arrow(), true
	case *arrow.LargeStringType:
		return schema.Of(schema.Text).Arrow(), true
	case *arrow.LargeBinaryType, *arrow.FixedSizeBinaryType:
		return schema.Of(schema.Bytes).Arrow(), true
	case *arrow.Date64Type:
		return schema.Of(schema.Date).Arrow(), true
	case *arrow.Time32Type, *arrow.Time64Type:
		return schema.Of(schema.Time).Arrow(), true
	case *arrow.TimestampType:
		if a.TimeZone == "" {
			return schema.Of(schema.Timestamp).Arrow(), true
		}
		return schema.Of(schema.TimestampTZ).Arrow(), true
	case *arrow.Decimal32Type:
		return schema.DecimalOf(int(a.Precision), int(a.Scale)).Arrow(), true
	case *arrow.Decimal64Type:
		return schema.DecimalOf(int(a.Precision), int(a.Scale)).Arrow(), true
	case *arrow.DictionaryType:
		return ownType(a.ValueType)
	case *arrow.StructType:
		fields := make([]arrow.Field, a.NumFields())
		for i, f := range a.Fields() {
			t, ok := ownType(f.Type)
			if !ok {
				return nil, false
			}
			fields[i] = arrow.Field{Name: f.Name, Type: t, Nullable: true}
		}
		return arrow.StructOf(fields...), true
	case *arrow.ListType, *arrow.LargeListType, *arrow.FixedSizeListType, *arrow.MapType:
		e, ok := ownType(a.(arrow.ListLikeType).Elem())
		if !ok {
			return nil, false
		}
		return arrow.ListOf(e), true
	}
	return nil, false
}

// convert gives col in the type that ownType gave for it. A number beyond the reach of
// its own type is an error; parts of a second below the microsecond are cut off.
func convert(ctx context.Context, col arrow.Array, own arrow.DataType) (arrow.Array, error) {
	if arrow.TypeEqual(col.DataType(), own) {
		col.Retain()
		return col, nil
	}
	switch c := col.(type) {
	case array.ListLike: // a map is stored as a list of records
		values, err := convert(ctx, c.ListValues(), own.(*arrow.ListType).Elem())
		if err != nil {
			return nil, err
		}
		offsets := make([]int32, c.Len()+1)
		for i := range c.Len() {
			start, end := c.ValueOffsets(i)
			offsets[i], offsets[i+1] = int32(start), int32(end)
		}
		buffers := []*memory.Buffer{validOf(c), memory.NewBufferBytes(arrow.Int32Traits.CastToBytes(offsets))}
		return array.NewListData(array.NewData(own, c.Len(), buffers, []arrow.ArrayData{values.Data()}, c.NullN(), 0)), nil
	case *array.Struct:
		fields := make([]arrow.ArrayData, c.NumField())
		for i, f := range own.(*arrow.StructType).Fields() {
			field, err := convert(ctx, c.Field(i), f.Type)
			if err != nil {
				return nil, err
			}
			fields[i] = field.Data()
		}
		return array.NewStructData(array.NewData(own, c.Len(), []*memory.Buffer{validOf(c)}, fields, c.NullN(), 0)), nil
	}
	options := compute.NewCastOptions(own, true)
	options.AllowTimeTruncate = true
	return compute.CastArray(ctx, col, options)
}

// validOf gives the bits of the values that are not null, from the first bit on; nil
// where none is.
func validOf(col arrow.Array) *memory.Buffer {
	if col.NullN() == 0 {
		return nil
	}
	bits := make([]byte, bitutil.BytesForBits(int64(col.Len())))
	bitutil.CopyBitmap(col.NullBitmapBytes(), col.Data().Offset(), col.Len(), bits, 0)
	return memory.NewBufferBytes(bits)
}
