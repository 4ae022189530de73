package avro

import (
	"encoding/json"
	"math"
	"strconv"

	"github.com/hamba/avro/v2"

	"welkin/core/schema"
)

// nameProperty is the property of a field that holds its column's name where that is
// no name in Avro.
const nameProperty = "column"

func columnName(f *avro.Field) string {
	if name, ok := f.Prop(nameProperty).(string); ok && name != "" {
		return name
	}
	return f.Name()
}

func jsonNumber(text string) json.Number { return json.Number(text) }

// floatText keeps the values that JSON has no numbers for.
func floatText(v float64, bits int) any {
	if math.IsNaN(v) || math.IsInf(v, 0) {
		return strconv.FormatFloat(v, 'g', -1, bits)
	}
	return json.Number(strconv.FormatFloat(v, 'g', -1, bits))
}

// deref gives the schema that a name stands for, and the one beside null.
func deref(s avro.Schema) avro.Schema {
	for range 50 {
		switch t := s.(type) {
		case *avro.RefSchema:
			s = t.Schema()
			continue
		case *avro.UnionSchema:
			if len(t.Types()) == 2 && t.Nullable() {
				for _, one := range t.Types() {
					if one.Type() != avro.Null {
						s = one
					}
				}
				continue
			}
		}
		break
	}
	return s
}

func logicalOf(s avro.Schema) avro.LogicalType {
	if l, ok := s.(avro.LogicalTypeSchema); ok && l.Logical() != nil {
		return l.Logical().Type()
	}
	return ""
}

func scaleOf(s avro.Schema) int {
	if l, ok := s.(avro.LogicalTypeSchema); ok {
		if d, ok := l.Logical().(*avro.DecimalLogicalSchema); ok {
			return d.Scale()
		}
	}
	return 0
}

// typeName is how a decoded union calls one of its types.
func typeName(s avro.Schema) string {
	s = deref(s)
	if n, ok := s.(avro.NamedSchema); ok {
		return n.FullName()
	}
	name := string(s.Type())
	if l := logicalOf(s); l != "" {
		name += "." + string(l)
	}
	return name
}

// typeOf gives the type of Avro's values, and whether they may be null. What nests
// deeper than others do, and unions of several types, is JSON.
func typeOf(s avro.Schema, depth int) (t schema.Type, nullable bool) {
	if u, ok := s.(*avro.UnionSchema); ok {
		nullable = u.Nullable()
	}
	s = deref(s)
	switch logicalOf(s) {
	case avro.Decimal:
		d := s.(avro.LogicalTypeSchema).Logical().(*avro.DecimalLogicalSchema)
		if d.Precision() > schema.MaxPrecision {
			return schema.Of(schema.Text), nullable
		}
		return schema.DecimalOf(d.Precision(), d.Scale()), nullable
	case avro.Date:
		return schema.Of(schema.Date), nullable
	case avro.TimeMillis, avro.TimeMicros:
		return schema.Of(schema.Time), nullable
	case avro.TimestampMillis, avro.TimestampMicros:
		return schema.Of(schema.TimestampTZ), nullable
	case avro.LocalTimestampMillis, avro.LocalTimestampMicros:
		return schema.Of(schema.Timestamp), nullable
	case avro.UUID:
		return schema.Of(schema.UUID), nullable
	}
	if depth > 20 {
		return schema.Of(schema.JSON), nullable
	}
	switch s := s.(type) {
	case *avro.ArraySchema:
		item, _ := typeOf(s.Items(), depth+1)
		return schema.ListOf(item), nullable
	case *avro.RecordSchema:
		if len(s.Fields()) == 0 {
			return schema.Of(schema.JSON), nullable
		}
		var fields []schema.Field
		for _, f := range s.Fields() {
			t, _ := typeOf(f.Type(), depth+1)
			fields = append(fields, schema.Field{Name: columnName(f), Type: t})
		}
		return schema.RecordOf(fields...), nullable
	}
	kinds := map[avro.Type]schema.Kind{avro.Boolean: schema.Bool, avro.Int: schema.Int, avro.Long: schema.Int, avro.Float: schema.Float, avro.Double: schema.Float,
		avro.Bytes: schema.Bytes, avro.Fixed: schema.Bytes, avro.String: schema.Text, avro.Enum: schema.Text, avro.Null: schema.Text}
	if k, ok := kinds[s.Type()]; ok {
		return schema.Of(k), nullable
	}
	return schema.Of(schema.JSON), nullable
}
