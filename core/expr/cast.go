package expr

import (
	"encoding/json"
	"math"
	"math/big"
	"strings"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/decimal128"

	"welkin/core/batch"
	"welkin/core/schema"
)

const dayMicros = int64(86_400_000_000)

// castNode gives n as type t; the binder has checked that the cast exists.
func castNode(n node, t schema.Type) node {
	if n.typ() == t {
		return n
	}
	from := n.typ()
	if c, ok := n.(*constNode); ok { // once, not for every row
		f := &frame{env: &Env{}, n: 1, faults: &faults{}}
		if v := castArray(f, c.value, from, t); len(f.faults.byRow) == 0 {
			return &constNode{t: t, value: v}
		}
	}
	return &callNode{t, []node{n}, func(f *frame, args []arrow.Array) arrow.Array { return castArray(f, args[0], from, t) }}
}

// castable tells whether an explicit cast exists.
func castable(from, to schema.Type) bool {
	f, t := from.Kind, to.Kind
	switch {
	case from == to || f == schema.Unknown || t == schema.Text || f == schema.Text:
		return true
	case from.Numeric() && to.Numeric(), from.Temporal() && to.Temporal():
		return true
	case f == schema.Bool && t == schema.Int, f == schema.Int && t == schema.Bool:
		return true
	case (f == schema.Timestamp || f == schema.TimestampTZ || f == schema.Interval) && t == schema.Time, f == schema.Time && t == schema.Interval:
		return true
	case f == schema.List && t == schema.List:
		return castable(from.Elem(), to.Elem())
	case from.Nested() && t == schema.JSON, f == schema.JSON && to.Nested():
		return true
	case f == schema.JSON:
		return t == schema.Bool || to.Numeric()
	case f == schema.Record && t == schema.Record:
		return len(from.Fields()) == len(to.Fields())
	}
	return false
}

func castArray(f *frame, a arrow.Array, from, to schema.Type) arrow.Array {
	switch {
	case from == to || from.Kind == schema.Unknown && to.Kind == schema.Text:
		return a
	case to.Kind == schema.Text:
		out := batch.NewBuilder(to).(*array.StringBuilder)
		for i := range f.n {
			if a.IsNull(i) {
				out.AppendNull()
			} else {
				out.Append(sqlText(a, from, i))
			}
		}
		return out.NewArray()
	case to.Kind == schema.Interval && (from.Kind == schema.Text || from.Kind == schema.Unknown):
		return map1(f, a, to, func(s string) (interval, *batch.Fault) { return parseInterval(s, "") })
	case from.Kind == schema.List && to.Kind == schema.List:
		return castList(f, a.(*array.List), from.Elem(), to)
	case from.Nested() || from.Kind == schema.JSON:
		return castNested(f, a, from, to)
	case from.Kind == schema.Text || from.Kind == schema.Unknown:
		out, in := batch.NewTextColumn(to, f.n), a.(*array.String)
		for i := range f.n {
			if in.IsNull(i) {
				continue
			}
			if fault := out.Set(i, in.Value(i)); fault != nil {
				f.fail(i, fault)
			}
		}
		return out.Column()
	}
	switch from.Kind {
	case schema.Bool:
		return map1(f, a, to, func(v bool) (int64, *batch.Fault) {
			if v {
				return 1, nil
			}
			return 0, nil
		})
	case schema.Int:
		switch to.Kind {
		case schema.Bool:
			return map1(f, a, to, func(v int64) (bool, *batch.Fault) { return v != 0, nil })
		case schema.Float:
			return map1(f, a, to, func(v int64) (float64, *batch.Fault) { return float64(v), nil })
		case schema.Decimal:
			return map1(f, a, to, func(v int64) (decimal128.Num, *batch.Fault) {
				return batch.Rescale(v, 0, to)
			})
		}
	case schema.Decimal:
		switch to.Kind {
		case schema.Int:
			return map1(f, a, to, func(v decimal128.Num) (int64, *batch.Fault) {
				if small, ok := batch.Small(v); ok && from.Scale == 0 {
					return small, nil
				}
				n := batch.DivideRounded(v.BigInt(), batch.PowerOfTen(from.Scale))
				if !n.IsInt64() {
					return 0, batch.Faultf("number too large", "%s is larger than a whole number can be", n)
				}
				return n.Int64(), nil
			})
		case schema.Float:
			return map1(f, a, to, func(v decimal128.Num) (float64, *batch.Fault) { return decimalFloat(v, from.Scale), nil })
		case schema.Decimal:
			return map1(f, a, to, func(v decimal128.Num) (decimal128.Num, *batch.Fault) {
				if n, ok := batch.Small(v); ok && to.Scale >= from.Scale {
					return batch.Rescale(n, from.Scale, to)
				}
				return batch.FitDecimal(v.BigInt(), from.Scale, to)
			})
		}
	case schema.Float:
		switch to.Kind {
		case schema.Int:
			return map1(f, a, to, func(v float64) (int64, *batch.Fault) {
				r := math.RoundToEven(v)
				if !(r >= -9223372036854775808 && r < 9223372036854775808) {
					return 0, batch.Faultf("number too large", "%s can't be a whole number", batch.FormatFloat(v))
				}
				return int64(r), nil
			})
		case schema.Decimal:
			return map1(f, a, to, func(v float64) (decimal128.Num, *batch.Fault) {
				return batch.ParseDecimal(batch.FormatFloat(v), to)
			})
		}
	case schema.Time:
		return map1(f, a, to, func(v arrow.Time64) (interval, *batch.Fault) {
			return interval{Nanoseconds: int64(v) * 1000}, nil
		})
	case schema.Interval:
		return map1(f, a, to, func(v interval) (arrow.Time64, *batch.Fault) {
			micros := v.Nanoseconds / 1000 % dayMicros
			if micros < 0 {
				micros += dayMicros
			}
			return arrow.Time64(micros), nil
		})
	case schema.Date:
		return map1(f, a, to, func(v arrow.Date32) (arrow.Timestamp, *batch.Fault) {
			return arrow.Timestamp(int64(v) * dayMicros), nil
		})
	case schema.Timestamp, schema.TimestampTZ:
		switch to.Kind {
		case schema.Date:
			return map1(f, a, to, func(v arrow.Timestamp) (arrow.Date32, *batch.Fault) {
				return arrow.Date32(floorDiv(int64(v), dayMicros)), nil
			})
		case schema.Time:
			return map1(f, a, to, func(v arrow.Timestamp) (arrow.Time64, *batch.Fault) {
				return arrow.Time64(int64(v) - floorDiv(int64(v), dayMicros)*dayMicros), nil
			})
		default:
			return map1(f, a, to, func(v arrow.Timestamp) (arrow.Timestamp, *batch.Fault) { return v, nil })
		}
	}
	panic("expr: unbound cast from " + from.String() + " to " + to.String())
}

// castList casts the values of lists; a value that fails makes its row fail.
func castList(f *frame, a *array.List, from, to schema.Type) arrow.Array {
	if from.Kind == schema.Unknown {
		from = textType
	}
	inner := &frame{env: f.env, n: a.ListValues().Len(), faults: &faults{}}
	values := castArray(inner, a.ListValues(), from, to.Elem())
	out := batch.NewBuilder(to).(*array.ListBuilder)
	for i := range f.n {
		if a.IsNull(i) {
			out.AppendNull()
			continue
		}
		l := listAt(a, i)
		out.Append(true)
		for k := l.start; k < l.end; k++ {
			if fault := inner.faults.byRow[int32(k)]; fault != nil {
				f.fail(i, fault)
			}
			batch.AppendFrom(out.ValueBuilder(), values, int(k))
		}
	}
	return out.NewArray()
}

// castNested brings a list, record or JSON to another type by way of JSON.
func castNested(f *frame, a arrow.Array, from, to schema.Type) arrow.Array {
	out := batch.NewBuilder(to)
	var text []byte
	for i := range f.n {
		if a.IsNull(i) {
			out.AppendNull()
			continue
		}
		text = batch.AppendJSONText(text[:0], a, from, i)
		v, fault := batch.ParseJSON(string(text))
		if from.Kind == schema.Record && to.Kind == schema.Record {
			v = renamed(v, from, to)
		}
		if _, isText := v.(string); fault == nil && isText && from.Kind == schema.JSON {
			fault = batch.Faultf("not a number", "a JSON text can't become %s; take it as text first with ->>", to)
		}
		if n, isNumber := v.(json.Number); fault == nil && from.Kind == schema.JSON && isNumber {
			fault = appendJSONNumber(out, to, n.String())
		} else if fault == nil {
			fault = batch.AppendJSON(out, to, v)
		}
		if fault != nil {
			f.fail(i, fault)
			out.AppendNull()
		}
	}
	return out.NewArray()
}

// appendJSONNumber rounds a JSON number to the type, as PostgreSQL does.
func appendJSONNumber(out array.Builder, to schema.Type, text string) *batch.Fault {
	if to.Kind == schema.Bool {
		return batch.Faultf("not true or false", "the JSON number %s is neither true nor false", text)
	}
	if to.Kind == schema.Int {
		n, fault := batch.ParseDecimal(text, schema.DecimalOf(schema.MaxPrecision, 0))
		if fault != nil {
			return fault
		}
		text = batch.FormatDecimal(n, 0)
	}
	return batch.AppendText(out, to, text)
}

// renamed gives the fields of a record the names of another, by place.
func renamed(v any, from, to schema.Type) any {
	object, out := v.(map[string]any), map[string]any{}
	for i, field := range from.Fields() {
		out[to.Fields()[i].Name] = object[field.Name]
	}
	return out
}

// sqlText is batch.Text with lists and records in PostgreSQL's own forms, {a,b}
// and (a,b).
func sqlText(a arrow.Array, t schema.Type, i int) string {
	switch t.Kind {
	case schema.List:
		l := listAt(a, i)
		parts := make([]string, 0, l.len())
		for k := l.start; k < l.end; k++ {
			if l.values.IsNull(int(k)) {
				parts = append(parts, "NULL")
				continue
			}
			text := outText(l.values, t.Elem(), int(k))
			if t.Elem().Kind != schema.List && (text == "" || strings.EqualFold(text, "null") || strings.ContainsAny(text, "{},\"\\ \t\n\r\v\f")) {
				text = `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(text) + `"`
			}
			parts = append(parts, text)
		}
		return "{" + strings.Join(parts, ",") + "}"
	case schema.Record:
		record := a.(*array.Struct)
		parts := make([]string, record.NumField())
		for k, field := range t.Fields() {
			if record.Field(k).IsNull(i) {
				continue
			}
			text := outText(record.Field(k), field.Type, i)
			if text == "" || strings.ContainsAny(text, "(),\"\\ \t\n\r\v\f") {
				text = `"` + strings.NewReplacer(`\`, `\\`, `"`, `""`).Replace(text) + `"`
			}
			parts[k] = text
		}
		return "(" + strings.Join(parts, ",") + ")"
	}
	return batch.Text(a, t, i)
}

// outText is sqlText as PostgreSQL puts values into a longer text: t and f for
// true and false.
func outText(a arrow.Array, t schema.Type, i int) string {
	if t.Kind == schema.Bool && a.IsValid(i) {
		return sqlText(a, t, i)[:1]
	}
	return sqlText(a, t, i)
}

// decimalFloat gives the float nearest to a decimal.
func decimalFloat(v decimal128.Num, scale int) float64 {
	if n, ok := batch.Small(v); ok {
		if f, exact := batch.ExactQuotient(n, scale); exact {
			return f
		}
	}
	r, _ := new(big.Rat).SetFrac(v.BigInt(), batch.PowerOfTen(scale)).Float64()
	return r
}

func floorDiv(a, b int64) int64 {
	q := a / b
	if a%b < 0 {
		q--
	}
	return q
}

// Cast gives column a, of type from, as type to, by the rules of SQL's CAST.
// ok is false when there is no such cast.
func Cast(b *batch.Batch, column int, to schema.Type) (out arrow.Array, problems []Problem, ok bool) {
	from := b.Schema.Columns[column].Type
	if !castable(from, to) {
		return nil, nil, false
	}
	p := Program{root: castNode(&columnNode{column, from}, to)}
	out, problems = p.Eval(&Env{}, b)
	return out, problems, true
}

// Castable tells whether SQL has a cast between two types.
func Castable(from, to schema.Type) bool { return castable(from, to) }
