package expr

import (
	"fmt"
	"strings"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"

	"welkin/core/batch"
	"welkin/core/schema"
)

const kJSON = schema.JSON

// json1 makes a kernel of a function over one JSON value.
func json1[R any](fn func(v any) (R, bool, *batch.Fault)) kernel {
	return func(f *frame, args []arrow.Array, _ []schema.Type, t schema.Type) arrow.Array {
		out, in := batch.NewBuilder(t).(builder[R]), args[0].(*array.String)
		for i := range f.n {
			if in.IsNull(i) {
				out.AppendNull()
				continue
			}
			v, fault := batch.ParseJSON(in.Value(i))
			if fault == nil {
				var r R
				var some bool
				if r, some, fault = fn(v); fault == nil && some {
					out.Append(r)
					continue
				}
			}
			if fault != nil {
				f.fail(i, fault)
			}
			out.AppendNull()
		}
		return out.NewArray()
	}
}

func jsonTypeOf(v any) string {
	switch v.(type) {
	case nil:
		return "null"
	case bool:
		return "boolean"
	case string:
		return "string"
	case []any:
		return "array"
	case map[string]any:
		return "object"
	}
	return "number"
}

func jsonLength(v any) (int64, bool, *batch.Fault) {
	items, ok := v.([]any)
	if !ok {
		return 0, false, batch.Faultf("not a list", "a JSON %s has no length; a list is expected", jsonTypeOf(v))
	}
	return int64(len(items)), true, nil
}

func stripNulls(v any) any {
	switch v := v.(type) {
	case map[string]any:
		for k, e := range v {
			if e == nil {
				delete(v, k)
			} else {
				v[k] = stripNulls(e)
			}
		}
	case []any:
		for i, e := range v {
			v[i] = stripNulls(e)
		}
	}
	return v
}

// jsonPretty writes JSON over several lines, four blanks a level.
func jsonPretty(out *strings.Builder, v any, level int) {
	pad := func(n int) { out.WriteString("\n" + strings.Repeat("    ", n)) }
	switch v := v.(type) {
	case []any:
		out.WriteByte('[')
		for i, e := range v {
			if i > 0 {
				out.WriteByte(',')
			}
			pad(level + 1)
			jsonPretty(out, e, level+1)
		}
		pad(level)
		out.WriteByte(']')
	case map[string]any:
		out.WriteByte('{')
		for i, k := range batch.JSONKeys(v) {
			if i > 0 {
				out.WriteByte(',')
			}
			pad(level + 1)
			out.Write(batch.AppendJSONString(nil, k))
			out.WriteString(": ")
			jsonPretty(out, v[k], level+1)
		}
		pad(level)
		out.WriteByte('}')
	default:
		text, _ := jsonText(v, false)
		out.WriteString(text)
	}
}

// extractPath takes what stands at a path given as several arguments.
func extractPath(asText bool) kernel {
	return func(f *frame, args []arrow.Array, _ []schema.Type, t schema.Type) arrow.Array {
		out := batch.NewBuilder(t).(*array.StringBuilder)
		path := make([]string, len(args)-1)
		for i := range f.n {
			if anyNull(args, i) {
				out.AppendNull()
				continue
			}
			for k := range path {
				path[k] = args[k+1].(*array.String).Value(i)
			}
			v, _ := batch.ParseJSON(args[0].(*array.String).Value(i))
			e, found := jsonPath(v, path)
			if text, isNull := jsonText(e, asText); found && !isNull {
				out.Append(text)
			} else {
				out.AppendNull()
			}
		}
		return out.NewArray()
	}
}

func buildList(f *frame, args []arrow.Array, types []schema.Type, t schema.Type) arrow.Array {
	out := batch.NewBuilder(t).(*array.StringBuilder)
	for i := range f.n {
		text := []byte{'['}
		for k, a := range args {
			if k > 0 {
				text = append(text, ", "...)
			}
			text = batch.AppendJSONText(text, a, types[k], i)
		}
		appendNormal(f, out, append(text, ']'), i)
	}
	return out.NewArray()
}

func buildObject(f *frame, args []arrow.Array, types []schema.Type, t schema.Type) arrow.Array {
	out := batch.NewBuilder(t).(*array.StringBuilder)
	for i := range f.n {
		text := []byte{'{'}
		var fault *batch.Fault
		if len(args)%2 != 0 {
			fault = batch.Faultf("bad argument", "an object is built of names and values in turn; one is missing")
		}
		for k := 0; k+1 < len(args) && fault == nil; k += 2 {
			if args[k].IsNull(i) {
				fault = batch.Faultf("bad argument", "a name in an object can't be null")
				break
			}
			if k > 0 {
				text = append(text, ", "...)
			}
			text = append(batch.AppendJSONString(text, batch.Text(args[k], types[k], i)), ": "...)
			text = batch.AppendJSONText(text, args[k+1], types[k+1], i)
		}
		if fault != nil {
			f.fail(i, fault)
			out.AppendNull()
			continue
		}
		appendNormal(f, out, append(text, '}'), i)
	}
	return out.NewArray()
}

func appendNormal(f *frame, out *array.StringBuilder, text []byte, i int) {
	normal, fault := batch.NormalJSON(string(text))
	if fault != nil {
		f.fail(i, fault)
		out.AppendNull()
		return
	}
	out.Append(normal)
}

// setPath is jsonb_set and jsonb_insert.
func setPath(change func(flag bool) func(next any) func(old any, there bool) (any, bool, bool), usual bool) kernel {
	return func(f *frame, args []arrow.Array, _ []schema.Type, t schema.Type) arrow.Array {
		out := batch.NewBuilder(t).(*array.StringBuilder)
		for i := range f.n {
			if anyNull(args, i) {
				out.AppendNull()
				continue
			}
			v, _ := batch.ParseJSON(args[0].(*array.String).Value(i))
			next, _ := batch.ParseJSON(args[2].(*array.String).Value(i))
			flag := usual
			if len(args) == 4 {
				flag = args[3].(*array.Boolean).Value(i)
			}
			if items, isList := v.([]any); isList && len(items) == 0 && !flag {
				out.Append("[]") // nothing is there to be changed
				continue
			}
			if jsonTypeOf(v) != "array" && jsonTypeOf(v) != "object" {
				f.fail(i, batch.Faultf("bad argument", "a plain JSON value has no parts to change"))
				out.AppendNull()
				continue
			}
			l := listAt(args[1], i)
			path := make([]string, 0, l.len())
			for k := l.start; k < l.end; k++ {
				path = append(path, l.values.(*array.String).Value(int(k)))
			}
			changed, fault := jsonChange(v, path, change(flag)(next))
			if fault != nil {
				f.fail(i, fault)
				out.AppendNull()
				continue
			}
			text, _ := jsonText(changed, false)
			out.Append(text)
		}
		return out.NewArray()
	}
}

func replaceAt(create bool) func(any) func(any, bool) (any, bool, bool) {
	return func(next any) func(any, bool) (any, bool, bool) {
		return func(_ any, there bool) (any, bool, bool) { return next, true, there || create }
	}
}

func toJSON(f *frame, args []arrow.Array, types []schema.Type, t schema.Type) arrow.Array {
	out := batch.NewBuilder(t).(*array.StringBuilder)
	for i := range f.n {
		if args[0].IsNull(i) {
			out.AppendNull()
			continue
		}
		appendNormal(f, out, batch.AppendJSONText(nil, args[0], types[0], i), i)
	}
	return out.NewArray()
}

func keysOf(v any) ([]string, *batch.Fault) {
	object, ok := v.(map[string]any)
	if !ok {
		return nil, batch.Faultf("not an object", "a JSON %s has no keys", jsonTypeOf(v))
	}
	return batch.JSONKeys(object), nil
}

func jsonFunction(name, help, example string, args []schema.Kind, gives schema.Kind, call kernel) []Function {
	short := strings.Replace(name, "jsonb_", "json_", 1)
	return []Function{
		{Name: name, Group: "json", Args: args, Gives: gives, Help: help, Example: example, call: call},
		{Name: short, Group: "json", Args: args, Gives: gives, Help: help, Example: strings.Replace(example, name, short, 1), call: call},
	}
}

var jsonFunctions = func() []Function {
	var all []Function
	add := func(list ...Function) { all = append(all, list...) }
	add(jsonFunction("jsonb_typeof", "what a JSON value is: object, array, string, number, boolean or null", `jsonb_typeof('[1]') → array`, kinds(kJSON), kText,
		json1(func(v any) (string, bool, *batch.Fault) { return jsonTypeOf(v), true, nil }))...)
	add(jsonFunction("jsonb_array_length", "number of values in a JSON list", `jsonb_array_length('[1, 2]') → 2`, kinds(kJSON), kInt, json1(jsonLength))...)
	add(Function{Name: "jsonb_strip_nulls", Group: "json", Args: kinds(kJSON), Gives: kJSON, Help: "without fields that are null", Example: `jsonb_strip_nulls('{"a": 1, "b": null}') → {"a": 1}`,
		call: json1(func(v any) (string, bool, *batch.Fault) {
			text, _ := jsonText(stripNulls(v), false)
			return text, true, nil
		})})
	add(Function{Name: "jsonb_pretty", Group: "json", Args: kinds(kJSON), Gives: kText, Help: "JSON over several lines", Example: `replace(jsonb_pretty('[1]'), chr(10), '/') → [/    1/]`,
		call: json1(func(v any) (string, bool, *batch.Fault) {
			var out strings.Builder
			jsonPretty(&out, v, 0)
			return out.String(), true, nil
		})})
	for _, n := range []string{"jsonb_extract_path", "json_extract_path"} {
		add(Function{Name: n, Group: "json", Args: kinds(kJSON, kText), Variadic: true, Gives: kJSON, Help: "what stands at a path of keys and places", Example: n + `('{"a": [7, 8]}', 'a', '1') → 8`, call: extractPath(false)})
		add(Function{Name: n + "_text", Group: "json", Args: kinds(kJSON, kText), Variadic: true, Gives: kText, Help: "what stands at a path, as text", Example: n + `_text('{"a": "x"}', 'a') → x`, call: extractPath(true)})
	}
	for _, n := range []string{"jsonb", "json"} {
		args, object := n+"_build_array", n+"_build_object"
		if n == "json" {
			continue // PostgreSQL's json keeps its writing, which Welkin's does not
		}
		add(Function{Name: args, Group: "json", Args: kinds(anyKind), Variadic: true, Gives: kJSON, Help: "a JSON list of values", Example: args + `(1, 'a') → [1, "a"]`, call: buildList})
		add(Function{Name: object, Group: "json", Args: kinds(anyKind, anyKind), Variadic: true, Gives: kJSON, Help: "a JSON object of names and values in turn", Example: object + `('hut', 7) → {"hut": 7}`, call: buildObject})
	}
	set := kinds(kJSON, kList, kJSON)
	add(Function{Name: "jsonb_set", Group: "json", Args: set, Gives: kJSON, Help: "with another value at a path, made when it is not there", Example: `jsonb_set('{"a": 1}', '{a}', '2') → {"a": 2}`, call: setPath(replaceAt, true)})
	add(Function{Name: "jsonb_set", Group: "json", Args: append(set[:3:3], kBool), Gives: kJSON, Help: "with another value at a path; the last argument says whether it is made", Example: `jsonb_set('{"a": 1}', '{b}', '2', false) → {"a": 1}`, call: setPath(replaceAt, true)})
	add(Function{Name: "to_jsonb", Group: "json", Args: kinds(anyKind), Gives: kJSON, Help: "any value as JSON", Example: `to_jsonb(ARRAY[1, 2]) → [1, 2]`, call: toJSON})
	add(Function{Name: "jsonb_keys", Group: "json", Args: kinds(kJSON), result: textList, Help: "the keys of a JSON object as a list (Welkin's own)", Example: `jsonb_keys('{"a": 1, "b": 2}') → {a,b}`, call: func(f *frame, args []arrow.Array, _ []schema.Type, t schema.Type) arrow.Array {
		out := batch.NewBuilder(t).(*array.ListBuilder)
		for i := range f.n {
			if args[0].IsNull(i) {
				out.AppendNull()
				continue
			}
			v, fault := batch.ParseJSON(args[0].(*array.String).Value(i))
			var keys []string
			if fault == nil {
				keys, fault = keysOf(v)
			}
			if fault != nil {
				f.fail(i, fault)
				out.AppendNull()
				continue
			}
			out.Append(true)
			for _, k := range keys {
				out.ValueBuilder().(*array.StringBuilder).Append(k)
			}
		}
		return out.NewArray()
	}})
	for i := range all {
		if all[i].Help == "" {
			panic(fmt.Sprintf("expr: function %s has no help", all[i].Name))
		}
	}
	return all
}()
