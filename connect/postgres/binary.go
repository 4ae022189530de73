package postgres

import (
	"encoding/binary"
	"math"
	"math/big"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/decimal128"
	"github.com/jackc/pgx/v5/pgtype"

	"welkin/core/batch"
	"welkin/core/schema"
)

// PostgreSQL counts days and microseconds from 1 January 2000.
const (
	epochDays   = 10_957
	epochMicros = epochDays * 86_400_000_000
)

// appendBinary reads a value in PostgreSQL's binary form, which is that of the
// type t.
func appendBinary(to array.Builder, t schema.Type, raw []byte) *batch.Fault {
	switch to := to.(type) {
	case *array.BooleanBuilder:
		to.Append(raw[0] != 0)
	case *array.Int64Builder:
		to.Append(int64(binary.BigEndian.Uint64(raw)))
	case *array.Float64Builder:
		to.Append(math.Float64frombits(binary.BigEndian.Uint64(raw)))
	case *array.StringBuilder:
		if t.Kind == schema.JSON && len(raw) > 0 && raw[0] == 1 {
			raw = raw[1:] // the version of jsonb's binary form; its text form has none
		}
		to.BinaryBuilder.Append(raw)
	case *array.BinaryBuilder:
		to.Append(raw)
	case *array.FixedSizeBinaryBuilder:
		to.Append(raw)
	case *array.Date32Builder:
		days := int32(binary.BigEndian.Uint32(raw))
		if days == math.MaxInt32 || days == math.MinInt32 {
			return batch.Faultf("endless date", "infinity is not a day that can be held")
		}
		to.Append(arrow.Date32(days + epochDays))
	case *array.Time64Builder:
		to.Append(arrow.Time64(binary.BigEndian.Uint64(raw)))
	case *array.TimestampBuilder:
		micros := int64(binary.BigEndian.Uint64(raw))
		if micros == math.MaxInt64 || micros == math.MinInt64 {
			return batch.Faultf("endless date", "infinity is not a time that can be held")
		}
		to.Append(arrow.Timestamp(micros + epochMicros))
	case *array.Decimal128Builder:
		v, fault := numeric(raw, t)
		if fault != nil {
			return fault
		}
		to.Append(v)
	case *array.ListBuilder:
		return appendArray(to, t.Elem(), raw)
	case *array.StructBuilder:
		return batch.AppendText(to, t, string(raw[1:])) // jsonb behind its version
	}
	return nil
}

// appendArray reads PostgreSQL's binary form of an array of one dimension.
func appendArray(to *array.ListBuilder, elem schema.Type, raw []byte) *batch.Fault {
	be := binary.BigEndian
	dimensions := be.Uint32(raw)
	if dimensions > 1 {
		return batch.Faultf("not a list", "an array of %d dimensions can't be held as a list", dimensions)
	}
	to.Append(true)
	if dimensions == 0 {
		return nil
	}
	n := int(be.Uint32(raw[12:]))
	raw = raw[20:]
	for range n {
		size := int32(be.Uint32(raw))
		raw = raw[4:]
		if size < 0 {
			to.ValueBuilder().AppendNull()
			continue
		}
		if fault := appendBinary(to.ValueBuilder(), elem, raw[:size]); fault != nil {
			to.ValueBuilder().AppendNull() // the row is taken out by its fault
			return fault
		}
		raw = raw[size:]
	}
	return nil
}

// elementOIDs are PostgreSQL's numbers for the types that stand in arrays.
var elementOIDs = map[schema.Kind]uint32{schema.Bool: pgtype.BoolOID, schema.Int: pgtype.Int8OID, schema.Decimal: pgtype.NumericOID, schema.Float: pgtype.Float8OID,
	schema.Text: pgtype.TextOID, schema.Bytes: pgtype.ByteaOID, schema.Date: pgtype.DateOID, schema.Time: pgtype.TimeOID, schema.Timestamp: pgtype.TimestampOID,
	schema.TimestampTZ: pgtype.TimestamptzOID, schema.UUID: pgtype.UUIDOID, schema.JSON: pgtype.JSONBOID}

// copyArray appends a list as COPY wants an array.
func copyArray(dst []byte, list *array.List, elem schema.Type, i int) []byte {
	be := binary.BigEndian
	start, end := list.ValueOffsets(i)
	at := len(dst)
	dst = be.AppendUint32(dst, 0) // its length, filled in below
	if start == end {
		dst = be.AppendUint32(be.AppendUint32(be.AppendUint32(dst, 0), 0), elementOIDs[elem.Kind])
	} else {
		dst = be.AppendUint32(be.AppendUint32(be.AppendUint32(dst, 1), 1), elementOIDs[elem.Kind])
		dst = be.AppendUint32(be.AppendUint32(dst, uint32(end-start)), 1)
		for j := start; j < end; j++ {
			dst = copyValue(dst, list.ListValues(), elem, int(j))
		}
	}
	be.PutUint32(dst[at:], uint32(len(dst)-at-4))
	return dst
}

// numeric reads PostgreSQL's base 10,000 digits.
func numeric(raw []byte, t schema.Type) (decimal128.Num, *batch.Fault) {
	count, weight := int(binary.BigEndian.Uint16(raw)), int(int16(binary.BigEndian.Uint16(raw[2:])))
	sign := binary.BigEndian.Uint16(raw[4:])
	if sign != 0 && sign != 0x4000 {
		return decimal128.Num{}, batch.Faultf("not a number", "NaN and infinity can't be held as %s", t)
	}
	// The value is the digits' number times 10,000^(weight - count + 1).
	scale := (count - 1 - weight) * 4
	if count <= 4 && scale >= 0 && scale <= t.Scale+16 {
		var v int64
		for i := range count {
			v = v*10_000 + int64(binary.BigEndian.Uint16(raw[8+2*i:]))
		}
		if sign != 0 {
			v = -v
		}
		return batch.FitDecimal(big.NewInt(v), scale, t)
	}
	n := new(big.Int)
	for i := range count {
		n.Mul(n, big.NewInt(10_000)).Add(n, big.NewInt(int64(binary.BigEndian.Uint16(raw[8+2*i:]))))
	}
	if sign != 0 {
		n.Neg(n)
	}
	if scale < 0 {
		n, scale = n.Mul(n, batch.PowerOfTen(-scale)), 0
	}
	return batch.FitDecimal(n, scale, t)
}

// copyHeader begins a stream of COPY … (FORMAT binary).
var copyHeader = append([]byte("PGCOPY\n\xff\r\n\x00"), 0, 0, 0, 0, 0, 0, 0, 0)

// copyValue appends the value at row i with its length, as COPY wants it.
func copyValue(dst []byte, a arrow.Array, t schema.Type, i int) []byte {
	if a.IsNull(i) {
		return append(dst, 0xff, 0xff, 0xff, 0xff)
	}
	be := binary.BigEndian
	switch a := a.(type) {
	case *array.Boolean:
		v := byte(0)
		if a.Value(i) {
			v = 1
		}
		return append(dst, 0, 0, 0, 1, v)
	case *array.Int64:
		return be.AppendUint64(be.AppendUint32(dst, 8), uint64(a.Value(i)))
	case *array.Float64:
		return be.AppendUint64(be.AppendUint32(dst, 8), math.Float64bits(a.Value(i)))
	case *array.String:
		v := a.Value(i)
		if t.Kind == schema.JSON {
			return append(append(be.AppendUint32(dst, uint32(len(v)+1)), 1), v...)
		}
		return append(be.AppendUint32(dst, uint32(len(v))), v...)
	case *array.Binary:
		v := a.Value(i)
		return append(be.AppendUint32(dst, uint32(len(v))), v...)
	case *array.FixedSizeBinary:
		v := a.Value(i)
		return append(be.AppendUint32(dst, uint32(len(v))), v...)
	case *array.Date32:
		return be.AppendUint32(be.AppendUint32(dst, 4), uint32(int32(a.Value(i))-epochDays))
	case *array.Time64:
		return be.AppendUint64(be.AppendUint32(dst, 8), uint64(a.Value(i)))
	case *array.Timestamp:
		return be.AppendUint64(be.AppendUint32(dst, 8), uint64(int64(a.Value(i))-epochMicros))
	case *array.Decimal128:
		return copyNumeric(dst, a.Value(i), t.Scale)
	case *array.List, *array.Struct:
		if list, ok := a.(*array.List); ok && !t.Elem().Nested() {
			return copyArray(dst, list, t.Elem(), i)
		}
		v := batch.Text(a, t, i)
		return append(append(be.AppendUint32(dst, uint32(len(v)+1)), 1), v...)
	}
	panic("postgres: no wire form for " + a.DataType().String())
}

func copyNumeric(dst []byte, v decimal128.Num, scale int) []byte {
	be := binary.BigEndian
	n := v.BigInt()
	sign := uint16(0)
	if n.Sign() < 0 {
		sign = 0x4000
		n.Neg(n)
	}
	fraction := (scale + 3) / 4 // groups of four digits behind the point
	n.Mul(n, batch.PowerOfTen(fraction*4-scale))
	var groups []uint16
	base, rest := big.NewInt(10_000), new(big.Int)
	for n.Sign() > 0 {
		n.QuoRem(n, base, rest)
		groups = append(groups, uint16(rest.Int64()))
	}
	weight := len(groups) - 1 - fraction
	dst = be.AppendUint32(dst, uint32(8+2*len(groups)))
	dst = be.AppendUint16(dst, uint16(len(groups)))
	dst = be.AppendUint16(dst, uint16(int16(weight)))
	dst = be.AppendUint16(dst, sign)
	dst = be.AppendUint16(dst, uint16(scale))
	for i := len(groups) - 1; i >= 0; i-- {
		dst = be.AppendUint16(dst, groups[i])
	}
	return dst
}
