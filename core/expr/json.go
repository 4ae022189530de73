package expr

import (
	"encoding/json"
	"slices"
	"strconv"
	"strings"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"

	"welkin/core/batch"
	"welkin/core/schema"
)

var jsonType = schema.Of(schema.JSON)

// jsonOperator is an operator with JSON on its left; ok is false for one that
// JSON has not.
func (b *binder) jsonOperator(op string, left, right node, at int32) (n node, ok bool, err error) {
	if left.typ().Kind != schema.JSON {
		if right.typ().Kind != schema.JSON || op != "<@" && op != "||" && op != "@>" {
			return nil, false, nil
		}
		if left, err = b.fit(left, jsonType, at); err != nil {
			return nil, true, err
		}
	}
	texts := schema.ListOf(textType)
	call := func(t schema.Type, want schema.Type, fn func(f *frame, i int, v any, arg arrow.Array, out array.Builder)) (node, bool, error) {
		if right.typ() != want {
			if right.typ().Kind != schema.Unknown {
				return nil, true, b.errf(at, "behind %s a %s is expected, not %s", op, want, right.typ())
			}
			if right, err = b.fit(right, want, at); err != nil {
				return nil, true, err
			}
		}
		return &callNode{t, []node{left, right}, func(f *frame, args []arrow.Array) arrow.Array {
			out, in := batch.NewBuilder(t), args[0].(*array.String)
			for i := range f.n {
				if anyNull(args, i) {
					out.AppendNull()
					continue
				}
				v, _ := batch.ParseJSON(in.Value(i)) // a JSON value is checked when it is made
				fn(f, i, v, args[1], out)
			}
			return out.NewArray()
		}}, true, nil
	}
	// give appends a value found in JSON, as JSON or as text.
	give := func(out array.Builder, v any, found, asText bool) {
		text, isNull := jsonText(v, asText)
		if !found || isNull {
			out.AppendNull()
		} else {
			out.(*array.StringBuilder).Append(text)
		}
	}
	result := jsonType
	switch op {
	case "->>", "#>>":
		result = textType
	}
	switch op {
	case "->", "->>":
		if right.typ().Kind == schema.Int {
			return call(result, intType, func(_ *frame, i int, v any, arg arrow.Array, out array.Builder) {
				e, found := jsonIndex(v, arg.(*array.Int64).Value(i))
				give(out, e, found, op == "->>")
			})
		}
		return call(result, textType, func(_ *frame, i int, v any, arg arrow.Array, out array.Builder) {
			object, _ := v.(map[string]any)
			e, found := object[arg.(*array.String).Value(i)]
			give(out, e, found, op == "->>")
		})
	case "#>", "#>>":
		return call(result, texts, func(_ *frame, i int, v any, arg arrow.Array, out array.Builder) {
			e, found := jsonPath(v, textsOf(arg, i))
			give(out, e, found, op == "#>>")
		})
	case "?":
		return call(boolType, textType, func(_ *frame, i int, v any, arg arrow.Array, out array.Builder) {
			out.(*array.BooleanBuilder).Append(jsonHas(v, arg.(*array.String).Value(i)))
		})
	case "?|", "?&":
		return call(boolType, texts, func(_ *frame, i int, v any, arg arrow.Array, out array.Builder) {
			has := op == "?&"
			for _, key := range textsOf(arg, i) {
				if jsonHas(v, key) != has {
					has = !has
					break
				}
			}
			out.(*array.BooleanBuilder).Append(has)
		})
	case "@>", "<@":
		return call(boolType, jsonType, func(_ *frame, i int, v any, arg arrow.Array, out array.Builder) {
			other, _ := batch.ParseJSON(arg.(*array.String).Value(i))
			if op == "<@" {
				v, other = other, v
			}
			out.(*array.BooleanBuilder).Append(jsonContains(v, other, true))
		})
	case "||":
		return call(jsonType, jsonType, func(_ *frame, i int, v any, arg arrow.Array, out array.Builder) {
			other, _ := batch.ParseJSON(arg.(*array.String).Value(i))
			give(out, jsonConcat(v, other), true, false)
		})
	case "-":
		if right.typ().Kind == schema.Int {
			return call(jsonType, intType, func(f *frame, i int, v any, arg arrow.Array, out array.Builder) {
				items, isList := v.([]any)
				if !isList {
					f.fail(i, batch.Faultf("bad argument", "a place can be taken out of a JSON list only"))
					out.AppendNull()
					return
				}
				at := arg.(*array.Int64).Value(i)
				if at < 0 {
					at += int64(len(items))
				}
				if at >= 0 && at < int64(len(items)) {
					items = slices.Delete(items, int(at), int(at)+1)
				}
				give(out, items, true, false)
			})
		}
		return call(jsonType, textType, func(f *frame, i int, v any, arg arrow.Array, out array.Builder) {
			key := arg.(*array.String).Value(i)
			switch v := v.(type) {
			case map[string]any:
				delete(v, key)
				give(out, v, true, false)
			case []any:
				give(out, slices.DeleteFunc(v, func(e any) bool { return e == key }), true, false)
			default:
				f.fail(i, batch.Faultf("bad argument", "a key can be taken out of a JSON object or list only"))
				out.AppendNull()
			}
		})
	case "#-":
		return call(jsonType, texts, func(f *frame, i int, v any, arg arrow.Array, out array.Builder) {
			changed, fault := jsonChange(v, textsOf(arg, i), func(any, bool) (any, bool, bool) { return nil, false, true })
			if fault != nil {
				f.fail(i, fault)
				out.AppendNull()
				return
			}
			give(out, changed, true, false)
		})
	}
	return nil, false, nil
}

// jsonText writes a JSON value as JSON, or as the text it stands for, where a
// JSON null is no text at all.
func jsonText(v any, asText bool) (text string, isNull bool) {
	if asText {
		switch v := v.(type) {
		case nil:
			return "", true
		case string:
			return v, false
		}
	}
	out, _ := batch.AppendNormalJSON(nil, v)
	return string(out), false
}

func textsOf(a arrow.Array, i int) []string {
	l := listAt(a, i)
	out := make([]string, 0, l.len())
	for k := l.start; k < l.end; k++ {
		out = append(out, l.values.(*array.String).Value(int(k)))
	}
	return out
}

func jsonIndex(v any, at int64) (any, bool) {
	items, ok := v.([]any)
	if at < 0 {
		at += int64(len(items))
	}
	if !ok || at < 0 || at >= int64(len(items)) {
		return nil, false
	}
	return items[at], true
}

func jsonPath(v any, path []string) (any, bool) {
	for _, key := range path {
		found := false
		switch at := v.(type) {
		case map[string]any:
			v, found = at[key]
		case []any:
			if n, err := strconv.ParseInt(key, 10, 32); err == nil {
				v, found = jsonIndex(at, n)
			}
		}
		if !found {
			return nil, false
		}
	}
	return v, true
}

func jsonHas(v any, key string) bool {
	switch v := v.(type) {
	case map[string]any:
		_, ok := v[key]
		return ok
	case []any:
		return slices.Contains(v, any(key))
	case string:
		return v == key
	}
	return false
}

// jsonContains is @>: every part of b is found in a. A list contains a plain
// value at the top.
func jsonContains(a, b any, top bool) bool {
	switch y := b.(type) {
	case map[string]any:
		x, ok := a.(map[string]any)
		if !ok {
			return false
		}
		for k, v := range y {
			if e, there := x[k]; !there || !jsonContains(e, v, false) {
				return false
			}
		}
		return true
	case []any:
		x, ok := a.([]any)
		if !ok {
			return false
		}
		for _, v := range y {
			if !slices.ContainsFunc(x, func(e any) bool { return jsonContains(e, v, false) }) {
				return false
			}
		}
		return true
	}
	if x, ok := a.([]any); ok && top {
		return slices.ContainsFunc(x, func(e any) bool { return jsonEqual(e, b) })
	}
	return jsonEqual(a, b)
}

// jsonEqual compares plain values, numbers by what they are worth.
func jsonEqual(a, b any) bool {
	x, ok := a.(json.Number)
	y, also := b.(json.Number)
	if ok && also {
		p, f1 := batch.ParseDecimal(x.String(), schema.DecimalOf(38, 12))
		q, f2 := batch.ParseDecimal(y.String(), schema.DecimalOf(38, 12))
		if f1 == nil && f2 == nil {
			return p == q
		}
		return x == y
	}
	switch a.(type) {
	case []any, map[string]any:
		return false
	}
	switch b.(type) {
	case []any, map[string]any:
		return false
	}
	return a == b
}

func jsonConcat(a, b any) any {
	x, isObject := a.(map[string]any)
	y, also := b.(map[string]any)
	if isObject && also {
		for k, v := range y {
			x[k] = v
		}
		return x
	}
	list := func(v any) []any {
		if items, ok := v.([]any); ok {
			return items
		}
		return []any{v}
	}
	return append(slices.Clone(list(a)), list(b)...)
}

// jsonChange changes what stands at a path. change gets the value there, if any,
// and gives the new one, whether there shall be one, and whether anything changes.
func jsonChange(v any, path []string, change func(old any, there bool) (next any, keep, do bool)) (any, *batch.Fault) {
	if len(path) == 0 {
		return v, nil
	}
	switch at := v.(type) {
	case map[string]any:
		old, there := at[path[0]]
		if len(path) > 1 {
			if !there {
				return v, nil
			}
			next, fault := jsonChange(old, path[1:], change)
			at[path[0]] = next
			return at, fault
		}
		if next, keep, do := change(old, there); do && keep {
			at[path[0]] = next
		} else if do {
			delete(at, path[0])
		}
		return at, nil
	case []any:
		n, err := strconv.ParseInt(strings.TrimSpace(path[0]), 10, 32)
		if err != nil {
			return nil, batch.Faultf("bad argument", "%q is not a place in a JSON list", path[0])
		}
		if n < 0 {
			n += int64(len(at))
		}
		there := n >= 0 && n < int64(len(at))
		if len(path) > 1 {
			if !there {
				return v, nil
			}
			next, fault := jsonChange(at[n], path[1:], change)
			at[n] = next
			return at, fault
		}
		var old any
		if there {
			old = at[n]
		}
		next, keep, do := change(old, there)
		switch {
		case !do:
		case there && keep:
			at[n] = next
		case there:
			at = slices.Delete(at, int(n), int(n)+1)
		case keep && n < 0:
			at = append([]any{next}, at...)
		case keep:
			at = append(at, next)
		}
		return at, nil
	}
	if len(path) == 1 {
		if _, _, do := change(nil, false); do {
			return nil, batch.Faultf("bad argument", "a plain JSON value has no parts to change")
		}
	}
	return v, nil
}
