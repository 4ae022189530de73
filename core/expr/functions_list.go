package expr

import (
	"strings"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"

	"welkin/core/batch"
	"welkin/core/schema"
)

const kList = schema.List

func listOfFirst(args []schema.Type) schema.Type { return args[0] }
func listOfLast(args []schema.Type) schema.Type  { return args[len(args)-1] }
func textList([]schema.Type) schema.Type         { return schema.ListOf(textType) }

// listKernel makes lists of the list in the first argument; a null list counts
// as empty when lenient.
func listKernel(lenient bool, fn func(l values64, args []arrow.Array, out array.Builder, i int)) kernel {
	return func(f *frame, args []arrow.Array, _ []schema.Type, t schema.Type) arrow.Array {
		out := batch.NewBuilder(t).(*array.ListBuilder)
		for i := range f.n {
			if args[0].IsNull(i) && !lenient {
				out.AppendNull()
				continue
			}
			out.Append(true)
			var l values64
			if args[0].IsValid(i) {
				l = listAt(args[0], i)
			}
			fn(l, args, out.ValueBuilder(), i)
		}
		return out.NewArray()
	}
}

// countKernel makes a whole number, or null, of the list in the first argument.
func countKernel(fn func(l values64, args []arrow.Array, i int) (int64, bool)) kernel {
	return func(f *frame, args []arrow.Array, _ []schema.Type, t schema.Type) arrow.Array {
		out := batch.NewBuilder(t).(*array.Int64Builder)
		for i := range f.n {
			if args[0].IsNull(i) {
				out.AppendNull()
			} else if n, ok := fn(listAt(args[0], i), args, i); ok {
				out.Append(n)
			} else {
				out.AppendNull()
			}
		}
		return out.NewArray()
	}
}

func appendAll(out array.Builder, l values64, from, to int64) {
	for k := from; k < to; k++ {
		batch.AppendFrom(out, l.values, int(k))
	}
}

var listFunctions = []Function{
	{Name: "cardinality", Group: "list", Args: kinds(kList), Gives: kInt, Help: "number of values in a list", Example: "cardinality(ARRAY[3, 4]) → 2", call: countKernel(func(l values64, _ []arrow.Array, _ int) (int64, bool) { return l.len(), true })},
	{Name: "array_length", Group: "list", Args: kinds(kList, kInt), Gives: kInt, Help: "number of values in a list, null when it has none; the second argument is 1", Example: "array_length(ARRAY['a', 'b'], 1) → 2", call: countKernel(func(l values64, args []arrow.Array, i int) (int64, bool) {
		return l.len(), l.len() > 0 && args[1].IsValid(i) && args[1].(*array.Int64).Value(i) == 1
	})},
	{Name: "array_upper", Group: "list", Args: kinds(kList, kInt), Gives: kInt, Help: "place of the last value in a list", Example: "array_upper(ARRAY[5, 6, 7], 1) → 3", call: countKernel(func(l values64, args []arrow.Array, i int) (int64, bool) {
		return l.len(), l.len() > 0 && args[1].IsValid(i) && args[1].(*array.Int64).Value(i) == 1
	})},
	{Name: "array_lower", Group: "list", Args: kinds(kList, kInt), Gives: kInt, Help: "place of the first value in a list", Example: "array_lower(ARRAY[5, 6], 1) → 1", call: countKernel(func(l values64, args []arrow.Array, i int) (int64, bool) {
		return 1, l.len() > 0 && args[1].IsValid(i) && args[1].(*array.Int64).Value(i) == 1
	})},
	{Name: "array_ndims", Group: "list", Args: kinds(kList), Gives: kInt, Help: "1 for a list with values, null for an empty one", Example: "array_ndims(ARRAY[5, 6]) → 1", call: countKernel(func(l values64, _ []arrow.Array, _ int) (int64, bool) { return 1, l.len() > 0 })},
	{Name: "array_append", Group: "list", Args: kinds(kList, elemKind), result: listOfFirst, Help: "a list with one more value at its end", Example: "array_append(ARRAY[1, 2], 3) → {1,2,3}", call: listKernel(true, func(l values64, args []arrow.Array, out array.Builder, i int) {
		appendAll(out, l, l.start, l.end)
		batch.AppendFrom(out, args[1], i)
	})},
	{Name: "array_prepend", Group: "list", Args: kinds(elemKind, kList), result: listOfLast, Help: "a list with one more value at its start", Example: "array_prepend(1, ARRAY[2, 3]) → {1,2,3}", call: func(f *frame, args []arrow.Array, types []schema.Type, t schema.Type) arrow.Array {
		swapped := []arrow.Array{args[1], args[0]}
		return listKernel(true, func(l values64, args []arrow.Array, out array.Builder, i int) {
			batch.AppendFrom(out, args[1], i)
			appendAll(out, l, l.start, l.end)
		})(f, swapped, types, t)
	}},
	{Name: "array_cat", Group: "list", Args: kinds(kList, kList), result: listOfFirst, Help: "one list behind the other", Example: "array_cat(ARRAY[1], ARRAY[2, 3]) → {1,2,3}", call: func(f *frame, args []arrow.Array, _ []schema.Type, t schema.Type) arrow.Array {
		out := batch.NewBuilder(t).(*array.ListBuilder)
		for i := range f.n {
			if args[0].IsNull(i) && args[1].IsNull(i) {
				out.AppendNull()
				continue
			}
			out.Append(true)
			for _, a := range args {
				if a.IsValid(i) {
					l := listAt(a, i)
					appendAll(out.ValueBuilder(), l, l.start, l.end)
				}
			}
		}
		return out.NewArray()
	}},
	{Name: "array_remove", Group: "list", Args: kinds(kList, elemKind), result: listOfFirst, Help: "a list without the values equal to one", Example: "array_remove(ARRAY[1, 2, 1], 1) → {2}", call: listKernel(false, func(l values64, args []arrow.Array, out array.Builder, i int) {
		for k := l.start; k < l.end; k++ {
			if !equalAt(l, k, args[1], i) {
				batch.AppendFrom(out, l.values, int(k))
			}
		}
	})},
	{Name: "array_replace", Group: "list", Args: kinds(kList, elemKind, elemKind), result: listOfFirst, Help: "a list with values equal to one replaced by another", Example: "array_replace(ARRAY[1, 2], 2, 5) → {1,5}", call: listKernel(false, func(l values64, args []arrow.Array, out array.Builder, i int) {
		for k := l.start; k < l.end; k++ {
			if equalAt(l, k, args[1], i) {
				batch.AppendFrom(out, args[2], i)
			} else {
				batch.AppendFrom(out, l.values, int(k))
			}
		}
	})},
	{Name: "array_position", Group: "list", Args: kinds(kList, elemKind), Gives: kInt, Help: "place of the first value equal to one, null when there is none", Example: "array_position(ARRAY['a', 'b'], 'b') → 2", call: countKernel(func(l values64, args []arrow.Array, i int) (int64, bool) {
		for k := l.start; k < l.end; k++ {
			if equalAt(l, k, args[1], i) {
				return k - l.start + 1, true
			}
		}
		return 0, false
	})},
	{Name: "array_positions", Group: "list", Args: kinds(kList, elemKind), result: func([]schema.Type) schema.Type { return schema.ListOf(intType) }, Help: "places of all values equal to one", Example: "array_positions(ARRAY[7, 8, 7], 7) → {1,3}", call: listKernel(false, func(l values64, args []arrow.Array, out array.Builder, i int) {
		for k := l.start; k < l.end; k++ {
			if equalAt(l, k, args[1], i) {
				out.(*array.Int64Builder).Append(k - l.start + 1)
			}
		}
	})},
	{Name: "trim_array", Group: "list", Args: kinds(kList, kInt), result: listOfFirst, Help: "a list without its last n values", Example: "trim_array(ARRAY[1, 2, 3], 2) → {1}", call: func(f *frame, args []arrow.Array, _ []schema.Type, t schema.Type) arrow.Array {
		return mapLists(f, args, t, func(l values64, out *array.ListBuilder, i int) {
			n := args[1].(*array.Int64).Value(i)
			if n < 0 || n > l.len() {
				f.fail(i, batch.Faultf("bad argument", "%d values can't be taken off a list of %d", n, l.len()))
				return
			}
			appendAll(out.ValueBuilder(), l, l.start, l.end-n)
		})
	}},
	{Name: "array_to_string", Group: "list", Args: kinds(kList, kText), Gives: kText, Help: "the values as one text with a separator between; nulls are passed over", Example: "array_to_string(ARRAY[1, 2], '-') → 1-2", call: joinList},
	{Name: "array_to_string", Group: "list", Args: kinds(kList, kText, kText), Gives: kText, Help: "the values as one text, with a text for nulls", Example: "array_to_string(ARRAY[1, NULL], '-', '?') → 1-?", call: joinList},
	{Name: "string_to_array", Group: "list", Args: kinds(kText, kText), result: textList, Help: "the parts between separators as a list", Example: "string_to_array('a/b', '/') → {a,b}", call: splitText},
	{Name: "string_to_array", Group: "list", Args: kinds(kText, kText, kText), result: textList, Help: "the parts between separators, one text meaning null", Example: "string_to_array('a/-', '/', '-') → {a,NULL}", call: splitText},
	{Name: "array_fill", Group: "list", Args: kinds(anyKind, kList), result: func(args []schema.Type) schema.Type { return schema.ListOf(args[0]) }, Help: "a value so many times, the number being in a list of one", Example: "array_fill(7, ARRAY[2]) → {7,7}", call: func(f *frame, args []arrow.Array, _ []schema.Type, t schema.Type) arrow.Array {
		out := batch.NewBuilder(t).(*array.ListBuilder)
		for i := range f.n {
			n := int64(-1)
			if l := (values64{}); args[1].IsValid(i) {
				if l = listAt(args[1], i); l.len() == 1 && l.values.IsValid(int(l.start)) {
					if counts, ok := l.values.(*array.Int64); ok {
						n = counts.Value(int(l.start))
					}
				}
			}
			if n < 0 || n > 1<<20 {
				f.fail(i, batch.Faultf("bad argument", "array_fill needs one length, such as ARRAY[3]"))
				out.AppendNull()
				continue
			}
			out.Append(true)
			for range n {
				batch.AppendFrom(out.ValueBuilder(), args[0], i)
			}
		}
		return out.NewArray()
	}},
}

func joinList(f *frame, args []arrow.Array, types []schema.Type, t schema.Type) arrow.Array {
	out := batch.NewBuilder(t).(*array.StringBuilder)
	elem := types[0].Elem()
	for i := range f.n {
		if args[0].IsNull(i) || args[1].IsNull(i) {
			out.AppendNull()
			continue
		}
		l := listAt(args[0], i)
		var parts []string
		for k := l.start; k < l.end; k++ {
			if l.values.IsValid(int(k)) {
				parts = append(parts, outText(l.values, elem, int(k)))
			} else if len(args) == 3 && args[2].IsValid(i) {
				parts = append(parts, args[2].(*array.String).Value(i))
			}
		}
		out.Append(strings.Join(parts, args[1].(*array.String).Value(i)))
	}
	return out.NewArray()
}

// splitText is string_to_array: a null separator cuts between all characters, an
// empty one not at all.
func splitText(f *frame, args []arrow.Array, _ []schema.Type, t schema.Type) arrow.Array {
	out := batch.NewBuilder(t).(*array.ListBuilder)
	to := out.ValueBuilder().(*array.StringBuilder)
	for i := range f.n {
		if args[0].IsNull(i) {
			out.AppendNull()
			continue
		}
		out.Append(true)
		text := args[0].(*array.String).Value(i)
		var parts []string
		switch sep := args[1].(*array.String); {
		case text == "":
		case sep.IsNull(i):
			parts = strings.Split(text, "")
		case sep.Value(i) == "":
			parts = []string{text}
		default:
			parts = strings.Split(text, sep.Value(i))
		}
		for _, p := range parts {
			if len(args) == 3 && args[2].IsValid(i) && args[2].(*array.String).Value(i) == p {
				to.AppendNull()
			} else {
				to.Append(p)
			}
		}
	}
	return out.NewArray()
}

var nullFunctions = []Function{
	{Name: "num_nulls", Group: "null", Args: kinds(anyKind), Variadic: true, Gives: kInt, Help: "how many of the values are null", Example: "num_nulls(1, NULL, 'a') → 1", call: countNulls(true)},
	{Name: "num_nonnulls", Group: "null", Args: kinds(anyKind), Variadic: true, Gives: kInt, Help: "how many of the values are not null", Example: "num_nonnulls(1, NULL, 'a') → 2", call: countNulls(false)},
}

func countNulls(nulls bool) kernel {
	return func(f *frame, args []arrow.Array, _ []schema.Type, t schema.Type) arrow.Array {
		out := batch.NewBuilder(t).(*array.Int64Builder)
		for i := range f.n {
			n := int64(0)
			for _, a := range args {
				if a.IsNull(i) == nulls {
					n++
				}
			}
			out.Append(n)
		}
		return out.NewArray()
	}
}
