// Package schema holds Welkin's column types, columns and schemas, and the one
// table that maps each type to Arrow, to PostgreSQL and to text. Read type.go
// first, then schema.go; mapping.go has the table.
package schema

import (
	"fmt"
	"regexp"
	"strconv"
	"strings"
)

// Kind names a family of types. The zero Kind is Unknown: the type of a bare
// NULL or of a quoted literal before it is bound to what stands beside it.
type Kind uint8

// The kinds of type a column or an expression may have. Interval stands only
// inside expressions; no column holds it.
const (
	Unknown Kind = iota
	Bool
	Int
	Decimal
	Float
	Text
	Bytes
	Date
	Time
	Timestamp
	TimestampTZ
	UUID
	JSON
	List
	Record
	Interval
)

var kindNames = [...]string{"unknown", "bool", "int", "decimal", "float", "text", "bytes", "date", "time",
	"timestamp", "timestamptz", "uuid", "json", "list", "record", "interval"}

func (k Kind) String() string { return kindNames[k] }

// Type is a kind with its measures. Precision and Scale count decimal digits
// and are set for Decimal alone. Inside is set for List and Record (nested.go).
// Two types are the same when they are equal with ==.
type Type struct {
	Kind      Kind
	Precision int
	Scale     int
	Inside    string // what a list or record holds, as it is written
}

// MaxPrecision is the largest number of digits a decimal holds (128 bits).
const MaxPrecision = 38

// Of returns the type of a kind without measures.
func Of(k Kind) Type { return Type{Kind: k} }

// DecimalOf returns decimal(p,s), held within MaxPrecision digits.
func DecimalOf(p, s int) Type {
	return Type{Kind: Decimal, Precision: min(p, MaxPrecision), Scale: min(s, MaxPrecision)}
}

// String gives the type as it is written in a sheet: `int`, `decimal(10,2)`.
func (t Type) String() string {
	switch t.Kind {
	case Decimal:
		return fmt.Sprintf("decimal(%d,%d)", t.Precision, t.Scale)
	case List:
		return "list<" + t.Inside + ">"
	case Record:
		return "record{" + t.Inside + "}"
	}
	return t.Kind.String()
}

// Numeric tells whether values of t can be added and averaged.
func (t Type) Numeric() bool { return t.Kind == Int || t.Kind == Decimal || t.Kind == Float }

// Temporal tells whether t holds a day or an instant.
func (t Type) Temporal() bool {
	return t.Kind == Date || t.Kind == Timestamp || t.Kind == TimestampTZ
}

// aliases are PostgreSQL's other spellings of the types.
var aliases = map[string]Kind{
	"boolean": Bool, "integer": Int, "bigint": Int, "smallint": Int, "int2": Int, "int4": Int, "int8": Int,
	"numeric": Decimal, "double precision": Float, "float8": Float, "float4": Float, "real": Float,
	"varchar": Text, "character varying": Text, "char": Text, "bpchar": Text, "string": Text, "bytea": Bytes,
	"timestamp without time zone": Timestamp, "timestamp with time zone": TimestampTZ,
	"time without time zone": Time, "jsonb": JSON,
}

var typePattern = regexp.MustCompile(`^([a-z0-9 ]+?)\s*(?:\(\s*(\d+)\s*(?:,\s*(\d+)\s*)?\))?$`)

// ParseType reads a type as written in a sheet or in a CAST. A decimal without
// measures is decimal(38,9). The error says what was found and what would fit.
func ParseType(text string) (Type, error) {
	if t, ok, err := parseNested(text); ok {
		return t, err
	}
	m := typePattern.FindStringSubmatch(strings.ToLower(strings.TrimSpace(text)))
	if m == nil {
		return Type{}, fmt.Errorf("%q is not a type; use one of %s", text, strings.Join(TypeNames(), ", "))
	}
	kind, ok := aliases[m[1]]
	for k := Bool; !ok && k <= JSON; k++ {
		if kindNames[k] == m[1] {
			kind, ok = k, true
		}
	}
	if !ok {
		return Type{}, fmt.Errorf("there is no type %q; use one of %s", text, strings.Join(TypeNames(), ", "))
	}
	if kind != Decimal {
		return Of(kind), nil
	}
	if m[2] == "" {
		return DecimalOf(MaxPrecision, 9), nil
	}
	p, _ := strconv.Atoi(m[2])
	s, _ := strconv.Atoi("0" + m[3])
	if p < 1 || p > MaxPrecision || s > p {
		return Type{}, fmt.Errorf("decimal(%d,%d) can't be held: digits go from 1 to %d and decimals up to the digits", p, s, MaxPrecision)
	}
	return DecimalOf(p, s), nil
}

// TypeNames lists the type names a sheet may use, in teaching order.
func TypeNames() []string {
	return []string{"bool", "int", "decimal(p,s)", "float", "text", "bytes", "date", "time", "timestamp", "timestamptz", "uuid", "json", "list<…>", "record{…}"}
}

// MarshalText and UnmarshalText make a Type read and write as its name.
func (t Type) MarshalText() ([]byte, error) { return []byte(t.String()), nil }

// UnmarshalText reads what MarshalText wrote.
func (t *Type) UnmarshalText(b []byte) (err error) {
	if string(b) == "unknown" {
		*t = Type{}
		return nil
	}
	*t, err = ParseType(string(b))
	return err
}

// Common returns the type that values of both a and b become when they meet in
// one column or comparison, by PostgreSQL's implicit casts; ok is false when
// they don't meet.
func Common(a, b Type) (t Type, ok bool) {
	switch {
	case a.Kind == Unknown:
		return b, true
	case b.Kind == Unknown || a == b:
		return a, true
	case a.Numeric() && b.Numeric():
		if a.Kind == Float || b.Kind == Float {
			return Of(Float), true
		}
		a, b = AsDecimal(a), AsDecimal(b)
		scale := max(a.Scale, b.Scale)
		return DecimalOf(max(a.Precision-a.Scale, b.Precision-b.Scale)+scale, scale), true
	case a.Temporal() && b.Temporal():
		return Of(max(a.Kind, b.Kind)), true
	case a.Kind == List && b.Kind == List:
		e, ok := Common(a.Elem(), b.Elem())
		return ListOf(e), ok
	}
	return Type{}, false
}

// AsDecimal widens int to the decimal that holds every int.
func AsDecimal(t Type) Type {
	if t.Kind == Int {
		return DecimalOf(19, 0)
	}
	return t
}
