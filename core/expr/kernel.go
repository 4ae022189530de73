package expr

import (
	"cmp"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/decimal128"

	"welkin/core/batch"
	"welkin/core/schema"
)

// values and builder are the parts of an Arrow array and builder that kernels
// over the Go type T need.
type values[T any] interface {
	Value(int) T
	IsNull(int) bool
}
type builder[T any] interface {
	Append(T)
	AppendNull()
	Reserve(int)
	NewArray() arrow.Array
}

// map1 applies fn to each value of a that is not null.
func map1[A, R any](f *frame, a arrow.Array, t schema.Type, fn func(A) (R, *batch.Fault)) arrow.Array {
	if xs, ok := batch.Raw[A](a); ok && batch.Makes[R]() {
		return mapRaw(f, t, batch.Valid(f.n, a), func(i int) (R, *batch.Fault) { return fn(xs[i]) })
	}
	in := a.(values[A])
	if text, ok := any(fn).(func(A) (string, *batch.Fault)); ok {
		return mapText(f, t, batch.Valid(f.n, a), func(i int) (string, *batch.Fault) { return text(in.Value(i)) })
	}
	out := batch.NewBuilder(t).(builder[R])
	out.Reserve(f.n)
	for i := range f.n {
		if in.IsNull(i) {
			out.AppendNull()
			continue
		}
		v, fault := fn(in.Value(i))
		if fault != nil {
			f.fail(i, fault)
			out.AppendNull()
			continue
		}
		out.Append(v)
	}
	return out.NewArray()
}

// map2 applies fn to each pair of values of which none is null.
func map2[A, B, R any](f *frame, a, b arrow.Array, t schema.Type, fn func(A, B) (R, *batch.Fault)) arrow.Array {
	if xs, ok := batch.Raw[A](a); ok && batch.Makes[R]() {
		if ys, ok := batch.Raw[B](b); ok {
			return mapRaw(f, t, batch.Valid(f.n, a, b), func(i int) (R, *batch.Fault) { return fn(xs[i], ys[i]) })
		}
	}
	x, y := a.(values[A]), b.(values[B])
	if text, ok := any(fn).(func(A, B) (string, *batch.Fault)); ok {
		return mapText(f, t, batch.Valid(f.n, a, b), func(i int) (string, *batch.Fault) { return text(x.Value(i), y.Value(i)) })
	}
	out := batch.NewBuilder(t).(builder[R])
	out.Reserve(f.n)
	for i := range f.n {
		if x.IsNull(i) || y.IsNull(i) {
			out.AppendNull()
			continue
		}
		v, fault := fn(x.Value(i), y.Value(i))
		if fault != nil {
			f.fail(i, fault)
			out.AppendNull()
			continue
		}
		out.Append(v)
	}
	return out.NewArray()
}

// mapText computes the texts of the rows that valid names.
func mapText(f *frame, t schema.Type, valid *batch.Validity, value func(i int) (string, *batch.Fault)) arrow.Array {
	out := batch.NewTextColumn(schema.Of(schema.Text), f.n)
	for i := range f.n {
		if !valid.At(i) {
			continue
		}
		v, fault := value(i)
		if fault != nil {
			f.fail(i, fault)
			continue
		}
		out.Set(i, v) // a text is always a text
	}
	return out.Column()
}

// mapRaw computes the values of the rows that valid names, into a plain slice.
func mapRaw[R any](f *frame, t schema.Type, valid *batch.Validity, value func(i int) (R, *batch.Fault)) arrow.Array {
	out := make([]R, f.n)
	for i := range out {
		if !valid.At(i) {
			continue
		}
		v, fault := value(i)
		if fault != nil {
			f.fail(i, fault)
			if valid == nil {
				valid = batch.AllValid(f.n)
			}
			valid.SetNull(i)
			continue
		}
		out[i] = v
	}
	return batch.NewColumn(t.Arrow(), out, valid)
}

// map3 is map2 for three arguments.
func map3[A, B, C, R any](f *frame, a, b, c arrow.Array, t schema.Type, fn func(A, B, C) (R, *batch.Fault)) arrow.Array {
	out, x, y, z := batch.NewBuilder(t).(builder[R]), a.(values[A]), b.(values[B]), c.(values[C])
	out.Reserve(f.n)
	for i := range f.n {
		if x.IsNull(i) || y.IsNull(i) || z.IsNull(i) {
			out.AppendNull()
			continue
		}
		v, fault := fn(x.Value(i), y.Value(i), z.Value(i))
		if fault != nil {
			f.fail(i, fault)
			out.AppendNull()
			continue
		}
		out.Append(v)
	}
	return out.NewArray()
}

// comparisons tell by batch.Compare's answer whether an operator holds.
var comparisons = map[string]func(int) bool{
	"=": func(c int) bool { return c == 0 }, "<>": func(c int) bool { return c != 0 },
	"<": func(c int) bool { return c < 0 }, "<=": func(c int) bool { return c <= 0 },
	">": func(c int) bool { return c > 0 }, ">=": func(c int) bool { return c >= 0 },
}

// compareKernel makes a comparison of two columns of one type.
func compareKernel(op string, t schema.Type) func(f *frame, args []arrow.Array) arrow.Array {
	switch t.Kind { // numbers and times, without a call a value
	case schema.Int:
		return compareRaw[int64](op)
	case schema.Date:
		return compareRaw[arrow.Date32](op)
	case schema.Timestamp, schema.TimestampTZ:
		return compareRaw[arrow.Timestamp](op)
	case schema.Time:
		return compareRaw[arrow.Time64](op)
	}
	holds := comparisons[op]
	if t.Kind == schema.Decimal {
		return func(f *frame, args []arrow.Array) arrow.Array {
			return map2(f, args[0], args[1], boolType, func(x, y decimal128.Num) (bool, *batch.Fault) { return holds(x.Cmp(y)), nil })
		}
	}
	return func(f *frame, args []arrow.Array) arrow.Array {
		a, b := args[0], args[1]
		valid := batch.Valid(f.n, a, b)
		out := make([]bool, f.n)
		for i := range out {
			if valid.At(i) {
				out[i] = holds(batch.Compare(a, i, b, i))
			}
		}
		return batch.NewColumn(boolType.Arrow(), out, valid)
	}
}

func compareRaw[T cmp.Ordered](op string) func(f *frame, args []arrow.Array) arrow.Array {
	return func(f *frame, args []arrow.Array) arrow.Array {
		xs, _ := batch.Raw[T](args[0])
		ys, _ := batch.Raw[T](args[1])
		out := make([]bool, f.n)
		switch op { // what stands for a null is compared too, and not looked at
		case "=":
			for i := range out {
				out[i] = xs[i] == ys[i]
			}
		case "<>":
			for i := range out {
				out[i] = xs[i] != ys[i]
			}
		case "<":
			for i := range out {
				out[i] = xs[i] < ys[i]
			}
		case "<=":
			for i := range out {
				out[i] = xs[i] <= ys[i]
			}
		case ">":
			for i := range out {
				out[i] = xs[i] > ys[i]
			}
		case ">=":
			for i := range out {
				out[i] = xs[i] >= ys[i]
			}
		}
		return batch.NewColumn(boolType.Arrow(), out, batch.Valid(f.n, args[0], args[1]))
	}
}

// distinctKernel is IS [NOT] DISTINCT FROM: nulls are equal, never unknown.
func distinctKernel(same bool) func(f *frame, args []arrow.Array) arrow.Array {
	return func(f *frame, args []arrow.Array) arrow.Array {
		out := batch.NewBuilder(schema.Of(schema.Bool)).(*array.BooleanBuilder)
		a, b := args[0], args[1]
		for i := range f.n {
			equal := a.IsNull(i) && b.IsNull(i) || a.IsValid(i) && b.IsValid(i) && batch.Compare(a, i, b, i) == 0
			out.Append(equal == same)
		}
		return out.NewArray()
	}
}
