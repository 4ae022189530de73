package expr

import (
	"strconv"
	"strings"
	"unicode"
	"unicode/utf8"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"golang.org/x/text/unicode/norm"

	"welkin/core/batch"
	"welkin/core/schema"
)

type kernel = func(f *frame, args []arrow.Array, types []schema.Type, t schema.Type) arrow.Array

// fn1, fn2 and fn3 make kernels of functions that can't fail.
func fn1[A, R any](fn func(A) R) kernel {
	return func(f *frame, args []arrow.Array, _ []schema.Type, t schema.Type) arrow.Array {
		return map1(f, args[0], t, func(a A) (R, *batch.Fault) { return fn(a), nil })
	}
}
func fn2[A, B, R any](fn func(A, B) R) kernel {
	return func(f *frame, args []arrow.Array, _ []schema.Type, t schema.Type) arrow.Array {
		return map2(f, args[0], args[1], t, func(a A, b B) (R, *batch.Fault) { return fn(a, b), nil })
	}
}
func fn3[A, B, C, R any](fn func(A, B, C) R) kernel {
	return func(f *frame, args []arrow.Array, _ []schema.Type, t schema.Type) arrow.Array {
		return map3(f, args[0], args[1], args[2], t, func(a A, b B, c C) (R, *batch.Fault) { return fn(a, b, c), nil })
	}
}

// letters makes a kernel that turns letters between two into the others of their
// pairs: plain ones at once, texts with others by fn.
func letters(from, to byte, fn func(string) string) kernel {
	slow := fn1(fn)
	return func(f *frame, args []arrow.Array, types []schema.Type, t schema.Type) arrow.Array {
		out, ok := batch.MapASCII(args[0].(*array.String), func(c byte) byte {
			if c >= from && c <= to {
				return c ^ 0x20
			}
			return c
		})
		if !ok {
			return slow(f, args, types, t)
		}
		return out
	}
}

// try1, try2 and try3 make kernels of functions that may refuse a value.
func try1[A, R any](fn func(A) (R, *batch.Fault)) kernel {
	return func(f *frame, args []arrow.Array, _ []schema.Type, t schema.Type) arrow.Array {
		return map1(f, args[0], t, fn)
	}
}
func try2[A, B, R any](fn func(A, B) (R, *batch.Fault)) kernel {
	return func(f *frame, args []arrow.Array, _ []schema.Type, t schema.Type) arrow.Array {
		return map2(f, args[0], args[1], t, fn)
	}
}
func try3[A, B, C, R any](fn func(A, B, C) (R, *batch.Fault)) kernel {
	return func(f *frame, args []arrow.Array, _ []schema.Type, t schema.Type) arrow.Array {
		return map3(f, args[0], args[1], args[2], t, fn)
	}
}

const (
	kText  = schema.Text
	kInt   = schema.Int
	kDec   = schema.Decimal
	kFloat = schema.Float
	kBool  = schema.Bool
	kDate  = schema.Date
	kTS    = schema.Timestamp
	kTZ    = schema.TimestampTZ
)

func kinds(k ...schema.Kind) []schema.Kind { return k }

var textFunctions = []Function{
	{Name: "lower", Group: "text", Args: kinds(kText), Gives: kText, Help: "all letters small", Example: "lower('Hut 7') → hut 7", call: letters('A', 'Z', strings.ToLower)},
	{Name: "upper", Group: "text", Args: kinds(kText), Gives: kText, Help: "all letters large", Example: "upper('l4') → L4", call: letters('a', 'z', strings.ToUpper)},
	{Name: "initcap", Group: "text", Args: kinds(kText), Gives: kText, Help: "each word's first letter large", Example: "initcap('ravens seat') → Ravens Seat", call: fn1(initcap)},
	{Name: "length", Group: "text", Args: kinds(kText), Gives: kInt, Help: "number of characters", Example: "length('hut') → 3", call: fn1(func(s string) int64 { return int64(utf8.RuneCountInString(s)) })},
	{Name: "char_length", Group: "text", Args: kinds(kText), Gives: kInt, Help: "number of characters", Example: "char_length('hut') → 3", call: fn1(func(s string) int64 { return int64(utf8.RuneCountInString(s)) })},
	{Name: "btrim", Group: "text", Args: kinds(kText), Gives: kText, Help: "without blanks at both ends", Example: "trim('  hut ') → hut", call: fn1(func(s string) string { return strings.Trim(s, " ") })},
	{Name: "btrim", Group: "text", Args: kinds(kText, kText), Gives: kText, Help: "without the given characters at both ends", Example: "btrim('--hut-', '-') → hut", call: fn2(strings.Trim)},
	{Name: "ltrim", Group: "text", Args: kinds(kText), Gives: kText, Help: "without blanks at the start", Example: "ltrim('  hut') → hut", call: fn1(func(s string) string { return strings.TrimLeft(s, " ") })},
	{Name: "ltrim", Group: "text", Args: kinds(kText, kText), Gives: kText, Help: "without the given characters at the start", Example: "ltrim('007', '0') → 7", call: fn2(strings.TrimLeft)},
	{Name: "rtrim", Group: "text", Args: kinds(kText), Gives: kText, Help: "without blanks at the end", Example: "rtrim('hut  ') → hut", call: fn1(func(s string) string { return strings.TrimRight(s, " ") })},
	{Name: "rtrim", Group: "text", Args: kinds(kText, kText), Gives: kText, Help: "without the given characters at the end", Example: "rtrim('hut...', '.') → hut", call: fn2(strings.TrimRight)},
	{Name: "substring", Group: "text", Args: kinds(kText, kInt), Gives: kText, Help: "from a character on, counted from 1", Example: "substring('L4-snow', 4) → snow", call: fn2(func(s string, from int64) string { return substring(s, from, 1<<40) })},
	{Name: "substring", Group: "text", Args: kinds(kText, kInt, kInt), Gives: kText, Help: "so many characters from one on", Example: "substring('L4-snow', 1, 2) → L4", call: try3(substringChecked)},
	{Name: "substr", Group: "text", Args: kinds(kText, kInt), Gives: kText, Help: "from a character on, counted from 1", Example: "substr('L4-snow', 4) → snow", call: fn2(func(s string, from int64) string { return substring(s, from, 1<<40) })},
	{Name: "substr", Group: "text", Args: kinds(kText, kInt, kInt), Gives: kText, Help: "so many characters from one on", Example: "substr('L4-snow', 1, 2) → L4", call: try3(substringChecked)},
	{Name: "left", Group: "text", Args: kinds(kText, kInt), Gives: kText, Help: "the first n characters; minus n leaves out the last n", Example: "left('larkfell', 4) → lark", call: fn2(left)},
	{Name: "right", Group: "text", Args: kinds(kText, kInt), Gives: kText, Help: "the last n characters; minus n leaves out the first n", Example: "right('larkfell', 4) → fell", call: fn2(right)},
	{Name: "replace", Group: "text", Args: kinds(kText, kText, kText), Gives: kText, Help: "every occurrence of one text replaced by another", Example: "replace('3,5', ',', '.') → 3.5", call: fn3(func(s, from, to string) string {
		if from == "" {
			return s
		}
		return strings.ReplaceAll(s, from, to)
	})},
	{Name: "split_part", Group: "text", Args: kinds(kText, kText, kInt), Gives: kText, Help: "the nth part between separators; minus n counts from the end", Example: "split_part('a/b/c', '/', 2) → b", call: try3(splitPart)},
	{Name: "position", Group: "text", Args: kinds(kText, kText), Gives: kInt, Help: "where a text first stands in another, 0 when it doesn't", Example: "strpos('larkfell', 'fell') → 5", call: fn2(strpos)},
	{Name: "strpos", Group: "text", Args: kinds(kText, kText), Gives: kInt, Help: "where a text first stands in another, 0 when it doesn't", Example: "strpos('larkfell', 'fell') → 5", call: fn2(strpos)},
	{Name: "starts_with", Group: "text", Args: kinds(kText, kText), Gives: kBool, Help: "whether a text begins with another", Example: "starts_with('hut_07', 'hut') → true", call: fn2(strings.HasPrefix)},
	{Name: "lpad", Group: "text", Args: kinds(kText, kInt, kText), Gives: kText, Help: "filled at the start up to a length", Example: "lpad('7', 2, '0') → 07", call: fn3(func(s string, n int64, fill string) string { return pad(s, n, fill, true) })},
	{Name: "rpad", Group: "text", Args: kinds(kText, kInt, kText), Gives: kText, Help: "filled at the end up to a length", Example: "rpad('7', 3, '.') → 7..", call: fn3(func(s string, n int64, fill string) string { return pad(s, n, fill, false) })},
	{Name: "reverse", Group: "text", Args: kinds(kText), Gives: kText, Help: "the characters backwards", Example: "reverse('hut') → tuh", call: fn1(reverse)},
	{Name: "concat", Group: "text", Args: kinds(anyKind), Variadic: true, Gives: kText, Help: "all values as one text; nulls are passed over", Example: "concat('hut ', 7) → hut 7", call: concat("", false)},
	{Name: "concat_ws", Group: "text", Args: kinds(kText, anyKind), Variadic: true, Gives: kText, Help: "all values with a separator between; nulls are passed over", Example: "concat_ws('/', 'a', 'b') → a/b", call: concat("", true)},
	{Name: "character_length", Group: "text", Args: kinds(kText), Gives: kInt, Help: "number of characters", Example: "character_length('hut') → 3", call: fn1(func(s string) int64 { return int64(utf8.RuneCountInString(s)) })},
	{Name: "lpad", Group: "text", Args: kinds(kText, kInt), Gives: kText, Help: "filled with blanks at the start up to a length", Example: "'<' || lpad('7', 3) || '>' → <  7>", call: fn2(func(s string, n int64) string { return pad(s, n, " ", true) })},
	{Name: "rpad", Group: "text", Args: kinds(kText, kInt), Gives: kText, Help: "filled with blanks at the end up to a length", Example: "rpad('7', 3) || '>' → 7  >", call: fn2(func(s string, n int64) string { return pad(s, n, " ", false) })},
	{Name: "repeat", Group: "text", Args: kinds(kText, kInt), Gives: kText, Help: "a text so many times", Example: "repeat('ha', 2) → haha", call: try2(func(s string, n int64) (string, *batch.Fault) {
		if n > 0 && int64(len(s)) > maxText/n {
			return "", batch.Faultf("text too long", "the text would be longer than %d bytes", maxText)
		}
		return strings.Repeat(s, int(max(n, 0))), nil
	})},
	{Name: "translate", Group: "text", Args: kinds(kText, kText, kText), Gives: kText, Help: "each character of one set replaced by its counterpart in another", Example: "translate('3,5', ',', '.') → 3.5", call: fn3(translate)},
	{Name: "overlay", Group: "text", Args: kinds(kText, kText, kInt), Gives: kText, Help: "a text written over another from a character on", Example: "overlay('hut 00' placing '17' from 5) → hut 17", call: try3(func(s, with string, from int64) (string, *batch.Fault) {
		return overlay(s, with, from, int64(utf8.RuneCountInString(with)))
	})},
	{Name: "overlay", Group: "text", Args: kinds(kText, kText, kInt, kInt), Gives: kText, Help: "so many characters from one on replaced by a text", Example: "overlay('hut 0000' placing '17' from 5 for 4) → hut 17", call: func(f *frame, args []arrow.Array, _ []schema.Type, t schema.Type) arrow.Array {
		n := args[3].(*array.Int64)
		row := -1
		return map3(f, args[0], args[1], maskNull(args[2].(*array.Int64), n), t, func(s, with string, from int64) (string, *batch.Fault) {
			for row++; anyNull(args, row); row++ {
			}
			return overlay(s, with, from, n.Value(row))
		})
	}},
	{Name: "ascii", Group: "text", Args: kinds(kText), Gives: kInt, Help: "the code point of the first character, 0 for none", Example: "ascii('h') → 104", call: fn1(func(s string) int64 {
		for _, r := range s {
			return int64(r)
		}
		return 0
	})},
	{Name: "chr", Group: "text", Args: kinds(kInt), Gives: kText, Help: "the character of a code point", Example: "chr(104) → h", call: try1(func(n int64) (string, *batch.Fault) {
		if n <= 0 || n > unicode.MaxRune || !utf8.ValidRune(rune(n)) {
			return "", batch.Faultf("bad argument", "there is no character %d", n)
		}
		return string(rune(n)), nil
	})},
	{Name: "to_hex", Group: "text", Args: kinds(kInt), Gives: kText, Help: "a whole number in hexadecimal", Example: "to_hex(255) → ff", call: fn1(func(n int64) string { return strconv.FormatUint(uint64(n), 16) })},
	{Name: "normalize", Group: "text", Args: kinds(kText), Gives: kText, Help: "Unicode composed form NFC", Example: "length(normalize('e' || chr(769))) → 1", call: fn1(norm.NFC.String)},
	{Name: "quote_literal", Group: "text", Args: kinds(kText), Gives: kText, Help: "as a text in SQL", Example: "quote_literal('o''hut') → 'o''hut'", call: fn1(quoteLiteral)},
	{Name: "quote_nullable", Group: "text", Args: kinds(anyKind), Gives: kText, Help: "as a text in SQL, NULL for null", Example: "quote_nullable(NULL) → NULL", call: func(f *frame, args []arrow.Array, types []schema.Type, t schema.Type) arrow.Array {
		out := batch.NewBuilder(t).(*array.StringBuilder)
		for i := range f.n {
			if args[0].IsNull(i) {
				out.Append("NULL")
			} else {
				out.Append(quoteLiteral(sqlText(args[0], types[0], i)))
			}
		}
		return out.NewArray()
	}},
}

func initcap(s string) string {
	start := true
	return strings.Map(func(r rune) rune {
		letter := unicode.IsLetter(r) || unicode.IsDigit(r)
		defer func() { start = !letter }()
		if letter && start {
			return unicode.ToUpper(r)
		}
		return unicode.ToLower(r)
	}, s)
}

func substring(s string, from, count int64) string {
	end := from + count
	from = max(from, 1)
	if end <= from {
		return ""
	}
	runes := []rune(s)
	if from > int64(len(runes)) {
		return ""
	}
	return string(runes[from-1 : min(end-1, int64(len(runes)))])
}

func substringChecked(s string, from, count int64) (string, *batch.Fault) {
	if count < 0 {
		return "", batch.Faultf("bad argument", "a substring can't have %d characters", count)
	}
	return substring(s, from, min(count, 1<<40)), nil
}

func left(s string, n int64) string {
	runes := []rune(s)
	if n < 0 {
		n = max(0, int64(len(runes))+n)
	}
	return string(runes[:min(n, int64(len(runes)))])
}

func right(s string, n int64) string {
	runes := []rune(s)
	if n < 0 {
		return string(runes[min(-n, int64(len(runes))):])
	}
	return string(runes[max(0, int64(len(runes))-n):])
}

func reverse(s string) string {
	runes := []rune(s)
	for i, j := 0, len(runes)-1; i < j; i, j = i+1, j-1 {
		runes[i], runes[j] = runes[j], runes[i]
	}
	return string(runes)
}

func strpos(s, sub string) int64 {
	i := strings.Index(s, sub)
	if i < 0 {
		return 0
	}
	return int64(utf8.RuneCountInString(s[:i])) + 1
}

func splitPart(s, sep string, n int64) (string, *batch.Fault) {
	if n == 0 {
		return "", batch.Faultf("bad argument", "parts are counted from 1; there is no part 0")
	}
	parts := []string{s}
	if sep != "" {
		parts = strings.Split(s, sep)
	}
	if n < 0 {
		n += int64(len(parts)) + 1
	}
	if n < 1 || n > int64(len(parts)) {
		return "", nil
	}
	return parts[n-1], nil
}

func pad(s string, n int64, fill string, front bool) string {
	runes, with := []rune(s), []rune(fill)
	if n <= int64(len(runes)) {
		return string(runes[:max(n, 0)])
	}
	if len(with) == 0 {
		return s
	}
	add := make([]rune, min(n, 1<<20)-int64(len(runes)))
	for i := range add {
		add[i] = with[i%len(with)]
	}
	if front {
		return string(add) + s
	}
	return s + string(add)
}

func concat(separator string, first bool) kernel {
	return func(f *frame, args []arrow.Array, types []schema.Type, t schema.Type) arrow.Array {
		out := batch.NewBuilder(t).(*array.StringBuilder)
		var line []byte
		for i := range f.n {
			sep, rest := separator, 0
			if first {
				if args[0].IsNull(i) {
					out.AppendNull()
					continue
				}
				sep, rest = args[0].(*array.String).Value(i), 1
			}
			line = line[:0]
			some := false
			for k := rest; k < len(args); k++ {
				if args[k].IsNull(i) {
					continue
				}
				if some {
					line = append(line, sep...)
				}
				some = true
				line = append(line, outText(args[k], types[k], i)...)
			}
			out.Append(string(line))
		}
		return out.NewArray()
	}
}

// maxText is how long a text may be that a function makes, in bytes.
const maxText = 16 << 20

func translate(s, from, to string) string {
	with := []rune(to)
	swap := map[rune]rune{}
	for i, r := range []rune(from) {
		if _, twice := swap[r]; twice {
			continue
		}
		if swap[r] = -1; i < len(with) {
			swap[r] = with[i]
		}
	}
	return strings.Map(func(r rune) rune {
		if w, ok := swap[r]; ok {
			return w
		}
		return r
	}, s)
}

func overlay(s, with string, from, count int64) (string, *batch.Fault) {
	if from <= 0 {
		return "", batch.Faultf("bad argument", "characters are counted from 1; there is none at %d", from)
	}
	return substring(s, 1, from-1) + with + substring(s, max(from+count, 1), 1<<40), nil
}

// maskNull gives a with nulls where b has them.
func maskNull(a, b *array.Int64) arrow.Array {
	out := batch.NewBuilder(intType).(*array.Int64Builder)
	for i := range a.Len() {
		if a.IsNull(i) || b.IsNull(i) {
			out.AppendNull()
		} else {
			out.Append(a.Value(i))
		}
	}
	return out.NewArray()
}

func quoteLiteral(s string) string {
	quoted := "'" + strings.ReplaceAll(s, "'", "''") + "'"
	if strings.Contains(s, `\`) {
		quoted = "E" + strings.ReplaceAll(quoted, `\`, `\\`)
	}
	return quoted
}
