package expr

import (
	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"

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
	out, in := batch.NewBuilder(t).(builder[R]), a.(values[A])
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
	out, x, y := batch.NewBuilder(t).(builder[R]), a.(values[A]), b.(values[B])
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
	holds := comparisons[op]
	return func(f *frame, args []arrow.Array) arrow.Array {
		out := batch.NewBuilder(schema.Of(schema.Bool)).(*array.BooleanBuilder)
		out.Reserve(f.n)
		a, b := args[0], args[1]
		if x, ok := a.(*array.Int64); ok { // the commonest case, without a call a value
			xs, ys := x.Int64Values(), b.(*array.Int64).Int64Values()
			for i := range f.n {
				if a.IsNull(i) || b.IsNull(i) {
					out.AppendNull()
					continue
				}
				c := 0
				if xs[i] < ys[i] {
					c = -1
				} else if xs[i] > ys[i] {
					c = 1
				}
				out.UnsafeAppend(holds(c))
			}
			return out.NewArray()
		}
		for i := range f.n {
			if a.IsNull(i) || b.IsNull(i) {
				out.AppendNull()
			} else {
				out.Append(holds(batch.Compare(a, i, b, i)))
			}
		}
		return out.NewArray()
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
