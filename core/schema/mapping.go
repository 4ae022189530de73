package schema

import (
	"strings"

	"github.com/apache/arrow-go/v18/arrow"
)

// mapping is one line of the table of types: how a kind stands in Arrow and in
// PostgreSQL. Text forms are in package batch, beside the values.
type mapping struct {
	arrow    arrow.DataType
	postgres string
}

var mappings = map[Kind]mapping{
	Bool:        {arrow.FixedWidthTypes.Boolean, "boolean"},
	Int:         {arrow.PrimitiveTypes.Int64, "bigint"},
	Float:       {arrow.PrimitiveTypes.Float64, "double precision"},
	Text:        {arrow.BinaryTypes.String, "text"},
	Bytes:       {arrow.BinaryTypes.Binary, "bytea"},
	Date:        {arrow.FixedWidthTypes.Date32, "date"},
	Time:        {arrow.FixedWidthTypes.Time64us, "time"},
	Timestamp:   {&arrow.TimestampType{Unit: arrow.Microsecond}, "timestamp"},
	TimestampTZ: {&arrow.TimestampType{Unit: arrow.Microsecond, TimeZone: "UTC"}, "timestamptz"},
	UUID:        {&arrow.FixedSizeBinaryType{ByteWidth: 16}, "uuid"},
	JSON:        {arrow.BinaryTypes.String, "jsonb"},
	Interval:    {arrow.FixedWidthTypes.MonthDayNanoInterval, "interval"},
	Unknown:     {arrow.BinaryTypes.String, "text"},
}

// Arrow gives the Arrow type that holds values of t.
func (t Type) Arrow() arrow.DataType {
	switch t.Kind {
	case Decimal:
		return &arrow.Decimal128Type{Precision: int32(t.Precision), Scale: int32(t.Scale)}
	case List:
		return arrow.ListOf(t.Elem().Arrow())
	case Record:
		fields := t.Fields()
		out := make([]arrow.Field, len(fields))
		for i, f := range fields {
			out[i] = arrow.Field{Name: f.Name, Type: f.Type.Arrow(), Nullable: true}
		}
		return arrow.StructOf(out...)
	}
	return mappings[t.Kind].arrow
}

// Postgres gives the PostgreSQL type that a column of t becomes. Lists of plain
// values are arrays there; records, and lists of lists or records, are jsonb.
func (t Type) Postgres() string {
	switch t.Kind {
	case Decimal:
		return strings.Replace(t.String(), "decimal", "numeric", 1)
	case List:
		if !t.Elem().Nested() {
			return t.Elem().Postgres() + "[]"
		}
		return mappings[JSON].postgres // arrays there are rectangular
	case Record:
		return mappings[JSON].postgres
	}
	return mappings[t.Kind].postgres
}

// FromPostgres gives the type that holds a PostgreSQL column, from the name
// format_type prints, such as "character varying(40)" or "numeric(10,2)".
// known is false for a type Welkin has not: its values are read as text.
func FromPostgres(formatted string) (t Type, known bool) {
	if of, ok := strings.CutSuffix(formatted, "[]"); ok {
		if e, known := FromPostgres(of); known {
			return ListOf(e), true
		}
		return Of(Text), false
	}
	base, measures, _ := strings.Cut(formatted, "(")
	base = strings.TrimSpace(base)
	if _, rest, ok := strings.Cut(measures, ")"); ok && rest != "" {
		base += rest // timestamp(3) without time zone
	}
	if base == "numeric" {
		if t, err := ParseType(formatted); err == nil {
			return t, true
		}
		return DecimalOf(MaxPrecision, 9), true
	}
	if base == "character" {
		base = "char"
	}
	t, err := ParseType(base)
	if err != nil {
		return Of(Text), false
	}
	return t, true
}

// FromArrow gives the type whose values an Arrow type holds as Welkin keeps them;
// known is false for one that would have to be converted.
func FromArrow(a arrow.DataType) (t Type, known bool) {
	switch a := a.(type) {
	case *arrow.Decimal128Type:
		return DecimalOf(int(a.Precision), int(a.Scale)), true
	case *arrow.ListType:
		e, ok := FromArrow(a.Elem())
		return ListOf(e), ok
	case *arrow.StructType:
		fields := make([]Field, a.NumFields())
		for i, f := range a.Fields() {
			e, ok := FromArrow(f.Type)
			if !ok {
				return Type{}, false
			}
			fields[i] = Field{f.Name, e}
		}
		return RecordOf(fields...), true
	}
	for k := Bool; k <= UUID; k++ {
		if m := mappings[k]; m.arrow != nil && arrow.TypeEqual(m.arrow, a) {
			return Of(k), true
		}
	}
	return Type{}, false
}
