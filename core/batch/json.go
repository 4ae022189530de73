package batch

import (
	"bytes"
	"cmp"
	"encoding/json"
	"io"
	"math"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"

	"welkin/core/schema"
)

// maxDepth is how deep JSON may nest.
const maxDepth = 1000

// ParseJSON reads one JSON value: nil, bool, json.Number, string, []any or
// map[string]any.
func ParseJSON(text string) (any, *Fault) {
	dec := json.NewDecoder(strings.NewReader(text))
	dec.UseNumber()
	var v any
	err := dec.Decode(&v)
	if err == nil {
		if _, more := dec.Token(); more != io.EOF {
			err = more
			return nil, Faultf("not JSON", "%q is not valid JSON: something stands behind its end", shorten(text))
		}
	}
	if err != nil || !utf8.ValidString(text) {
		return nil, Faultf("not JSON", "%q is not valid JSON", shorten(text))
	}
	if depth(v) > maxDepth {
		return nil, Faultf("not JSON", "the JSON nests deeper than %d levels", maxDepth)
	}
	return v, nil
}

func depth(v any) int {
	deepest := 0
	switch v := v.(type) {
	case []any:
		for _, e := range v {
			deepest = max(deepest, depth(e))
		}
	case map[string]any:
		for _, e := range v {
			deepest = max(deepest, depth(e))
		}
	default:
		return 0
	}
	return deepest + 1
}

// shorten cuts a long text for a message.
func shorten(text string) string {
	if len(text) <= 80 {
		return text
	}
	return strings.ToValidUTF8(text[:77], "") + "…"
}

// NormalJSON brings JSON to the form in which Welkin keeps it, which is that of
// PostgreSQL's jsonb: keys once, ordered by length and then by bytes, one blank
// behind each comma and colon.
func NormalJSON(text string) (string, *Fault) {
	v, fault := ParseJSON(text)
	if fault != nil {
		return "", fault
	}
	out, fault := AppendNormalJSON(nil, v)
	return string(out), fault
}

// AppendNormalJSON writes a value as ParseJSON gives it in normal form.
func AppendNormalJSON(dst []byte, v any) ([]byte, *Fault) {
	switch v := v.(type) {
	case nil:
		return append(dst, "null"...), nil
	case bool:
		return strconv.AppendBool(dst, v), nil
	case json.Number:
		n, fault := plainNumber(v.String())
		return append(dst, n...), fault
	case string:
		if strings.ContainsRune(v, 0) {
			return dst, Faultf("not JSON", "a zero character can't be kept in a text")
		}
		return AppendJSONString(dst, v), nil
	case []any:
		dst = append(dst, '[')
		for i, e := range v {
			if i > 0 {
				dst = append(dst, ", "...)
			}
			var fault *Fault
			if dst, fault = AppendNormalJSON(dst, e); fault != nil {
				return dst, fault
			}
		}
		return append(dst, ']'), nil
	case map[string]any:
		dst = append(dst, '{')
		for i, k := range JSONKeys(v) {
			if i > 0 {
				dst = append(dst, ", "...)
			}
			dst = append(AppendJSONString(dst, k), ": "...)
			var fault *Fault
			if dst, fault = AppendNormalJSON(dst, v[k]); fault != nil {
				return dst, fault
			}
		}
		return append(dst, '}'), nil
	}
	return dst, Faultf("not JSON", "%T can't be JSON", v)
}

// JSONKeys lists an object's keys in normal order.
func JSONKeys(object map[string]any) []string {
	keys := make([]string, 0, len(object))
	for k := range object {
		keys = append(keys, k)
	}
	slices.SortFunc(keys, func(a, b string) int { return cmp.Or(cmp.Compare(len(a), len(b)), strings.Compare(a, b)) })
	return keys
}

// plainNumber writes a JSON number without exponent, keeping its decimals.
func plainNumber(s string) (string, *Fault) {
	if !strings.ContainsAny(s, "eE") {
		if s == "-0" {
			return "0", nil
		}
		return s, nil
	}
	mantissa, exp, _ := strings.Cut(strings.ToLower(s), "e")
	e, err := strconv.Atoi(exp)
	if err != nil || e > 4000 || e < -4000 {
		return "", Faultf("number too large", "%s has too many digits", shorten(s))
	}
	sign := ""
	if rest, ok := strings.CutPrefix(mantissa, "-"); ok {
		sign, mantissa = "-", rest
	}
	whole, fraction, _ := strings.Cut(mantissa, ".")
	digits, scale := whole+fraction, len(fraction)-e
	if scale <= 0 {
		digits, scale = digits+strings.Repeat("0", -scale), 0
	}
	for len(digits) <= scale {
		digits = "0" + digits
	}
	whole, fraction = strings.TrimLeft(digits[:len(digits)-scale], "0"), digits[len(digits)-scale:]
	if whole == "" {
		whole = "0"
	}
	if strings.Trim(whole+fraction, "0") == "" {
		sign = ""
	}
	if fraction != "" {
		return sign + whole + "." + fraction, nil
	}
	return sign + whole, nil
}

// AppendJSONString writes a text as a JSON string, escaping no more than needed.
func AppendJSONString(dst []byte, s string) []byte {
	const digits = "0123456789abcdef"
	dst = append(dst, '"')
	for i := range len(s) {
		switch c := s[i]; {
		case c == '"' || c == '\\':
			dst = append(dst, '\\', c)
		case c == '\n':
			dst = append(dst, `\n`...)
		case c == '\r':
			dst = append(dst, `\r`...)
		case c == '\t':
			dst = append(dst, `\t`...)
		case c == '\b':
			dst = append(dst, `\b`...)
		case c == '\f':
			dst = append(dst, `\f`...)
		case c < 0x20:
			dst = append(dst, '\\', 'u', '0', '0', digits[c>>4], digits[c&15])
		default:
			dst = append(dst, c)
		}
	}
	return append(dst, '"')
}

// AppendJSONText writes the value at row i as JSON: numbers and truth values
// bare, records as objects in their own order, all else as strings.
func AppendJSONText(dst []byte, a arrow.Array, t schema.Type, i int) []byte {
	if a.IsNull(i) {
		return append(dst, "null"...)
	}
	switch t.Kind {
	case schema.Bool, schema.Int, schema.Decimal, schema.JSON:
		return append(dst, Text(a, t, i)...)
	case schema.Float:
		text := Text(a, t, i)
		if v := a.(*array.Float64).Value(i); math.IsNaN(v) || math.IsInf(v, 0) {
			return AppendJSONString(dst, text)
		}
		return append(dst, text...)
	case schema.Timestamp, schema.TimestampTZ:
		text := []byte(Text(a, t, i))
		text[bytes.IndexByte(text, ' ')] = 'T'
		dst = append(append(dst, '"'), text...)
		if t.Kind == schema.TimestampTZ {
			dst = append(dst, ":00"...)
		}
		return append(dst, '"')
	case schema.List:
		list, e := a.(*array.List), t.Elem()
		start, end := list.ValueOffsets(i)
		dst = append(dst, '[')
		for j := start; j < end; j++ {
			if j > start {
				dst = append(dst, ", "...)
			}
			dst = AppendJSONText(dst, list.ListValues(), e, int(j))
		}
		return append(dst, ']')
	case schema.Record:
		record := a.(*array.Struct)
		dst = append(dst, '{')
		for f, field := range t.Fields() {
			if f > 0 {
				dst = append(dst, ", "...)
			}
			dst = append(AppendJSONString(dst, field.Name), ": "...)
			dst = AppendJSONText(dst, record.Field(f), field.Type, i)
		}
		return append(dst, '}')
	}
	return AppendJSONString(dst, Text(a, t, i))
}

// AppendJSON appends a value that ParseJSON gave, as type t. A record's missing
// fields are null and fields it has not are passed over. On a fault nothing is
// appended.
func AppendJSON(to array.Builder, t schema.Type, v any) *Fault {
	if v == nil && t.Kind != schema.JSON {
		to.AppendNull()
		return nil
	}
	switch t.Kind {
	case schema.List:
		items, ok := v.([]any)
		if !ok {
			return Faultf("not a list", "%s is not a list", shortJSON(v))
		}
		scratch := NewBuilder(t.Elem())
		for _, item := range items {
			if fault := AppendJSON(scratch, t.Elem(), item); fault != nil {
				return fault
			}
		}
		values := scratch.NewArray()
		list := to.(*array.ListBuilder)
		list.Append(true)
		for i := range values.Len() {
			AppendFrom(list.ValueBuilder(), values, i)
		}
		return nil
	case schema.Record:
		object, ok := v.(map[string]any)
		if !ok {
			return Faultf("not a record", "%s is not a record", shortJSON(v))
		}
		fields := t.Fields()
		values := make([]arrow.Array, len(fields))
		for i, f := range fields {
			scratch := NewBuilder(f.Type)
			if field, there := object[f.Name]; !there {
				scratch.AppendNull()
			} else if fault := AppendJSON(scratch, f.Type, field); fault != nil {
				return fault
			}
			values[i] = scratch.NewArray()
		}
		record := to.(*array.StructBuilder)
		record.Append(true)
		for i := range fields {
			AppendFrom(record.FieldBuilder(i), values[i], 0)
		}
		return nil
	case schema.JSON:
		text, fault := AppendNormalJSON(nil, v)
		if fault == nil {
			to.(*array.StringBuilder).Append(string(text))
		}
		return fault
	}
	switch v := v.(type) {
	case string:
		return AppendText(to, t, v)
	case json.Number:
		return AppendText(to, t, v.String())
	case bool:
		return AppendText(to, t, strconv.FormatBool(v))
	}
	if t.Kind == schema.Text {
		text, fault := AppendNormalJSON(nil, v)
		if fault == nil {
			to.(*array.StringBuilder).Append(string(text))
		}
		return fault
	}
	return Faultf("not a plain value", "%s can't become %s", shortJSON(v), t)
}

func shortJSON(v any) string {
	text, _ := AppendNormalJSON(nil, v)
	return shorten(string(text))
}

// appendNestedText reads a list or record from JSON, or a list in PostgreSQL's
// form {a,b}.
func appendNestedText(to array.Builder, t schema.Type, text string) *Fault {
	if trimmed := strings.TrimSpace(text); t.Kind == schema.List && strings.HasPrefix(trimmed, "{") {
		items, ok := splitBraces(trimmed)
		if !ok {
			return Faultf("not a list", "%q is not a list; write it as [1, 2] or {1,2}", shorten(text))
		}
		return AppendJSON(to, t, items)
	}
	v, fault := ParseJSON(text)
	if fault != nil {
		return fault
	}
	return AppendJSON(to, t, v)
}

// splitBraces reads {a,"b c",NULL} into texts and nils.
func splitBraces(text string) ([]any, bool) {
	if len(text) < 2 || text[len(text)-1] != '}' {
		return nil, false
	}
	items := []any{}
	body := text[1 : len(text)-1]
	if strings.TrimSpace(body) == "" {
		return items, true
	}
	for i := 0; ; i++ {
		var item strings.Builder
		quoted := false
		for i < len(body) && body[i] == ' ' {
			i++
		}
		if i < len(body) && body[i] == '"' {
			quoted = true
			for i++; i < len(body) && body[i] != '"'; i++ {
				if body[i] == '\\' {
					i++
				}
				if i < len(body) {
					item.WriteByte(body[i])
				}
			}
			if i++; i > len(body) {
				return nil, false
			}
		}
		for ; i < len(body) && body[i] != ','; i++ {
			if body[i] == '{' || body[i] == '}' || quoted && body[i] != ' ' {
				return nil, false
			}
			if !quoted {
				item.WriteByte(body[i])
			}
		}
		switch plain := strings.TrimSpace(item.String()); {
		case quoted:
			items = append(items, item.String())
		case plain == "":
			return nil, false
		case strings.EqualFold(plain, "null"):
			items = append(items, nil)
		default:
			items = append(items, plain)
		}
		if i >= len(body) {
			return items, true
		}
	}
}
