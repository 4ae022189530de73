package expr

import (
	"regexp"
	"strings"
	"unicode/utf8"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"

	"welkin/core/batch"
	"welkin/core/schema"
)

var regexpFunctions = []Function{
	{Name: "regexp_replace", Group: "regexp", Args: kinds(kText, kText, kText), Gives: kText, Help: "the first match of a regular expression replaced", Example: "regexp_replace('3 m', '[^0-9]', '') → 3m", call: regexpReplace},
	{Name: "regexp_replace", Group: "regexp", Args: kinds(kText, kText, kText, kText), Gives: kText, Help: "matches replaced; flag g for all, i to ignore case", Example: "regexp_replace('3 m', '[^0-9]', '', 'g') → 3", call: regexpReplace},
	{Name: "regexp_match", Group: "regexp", Args: kinds(kText, kText), result: textList, Help: "the first match, or what its brackets caught, as a list", Example: "regexp_match('L4-snow', '([A-Z])([0-9])') → {L,4}", call: regexpMatch},
	{Name: "regexp_match", Group: "regexp", Args: kinds(kText, kText, kText), result: textList, Help: "the first match as a list; flag i to ignore case", Example: "regexp_match('l4', '[A-Z]', 'i') → {l}", call: regexpMatch},
	{Name: "regexp_like", Group: "regexp", Args: kinds(kText, kText), Gives: kBool, Help: "whether a regular expression matches", Example: "regexp_like('hut 7', '[0-9]') → true", call: matching(boolType, func(re *regexp.Regexp, s string) any { return re.MatchString(s) })},
	{Name: "regexp_like", Group: "regexp", Args: kinds(kText, kText, kText), Gives: kBool, Help: "whether a regular expression matches; flag i to ignore case", Example: "regexp_like('HUT', 'hut', 'i') → true", call: matching(boolType, func(re *regexp.Regexp, s string) any { return re.MatchString(s) })},
	{Name: "regexp_count", Group: "regexp", Args: kinds(kText, kText), Gives: kInt, Help: "how often a regular expression matches", Example: "regexp_count('a1b2', '[0-9]') → 2", call: matching(intType, func(re *regexp.Regexp, s string) any { return int64(len(re.FindAllStringIndex(s, -1))) })},
	{Name: "regexp_instr", Group: "regexp", Args: kinds(kText, kText), Gives: kInt, Help: "where a regular expression first matches, 0 when it doesn't", Example: "regexp_instr('hut 7', '[0-9]') → 5", call: matching(intType, func(re *regexp.Regexp, s string) any {
		m := re.FindStringIndex(s)
		if m == nil {
			return int64(0)
		}
		return int64(utf8.RuneCountInString(s[:m[0]])) + 1
	})},
	{Name: "regexp_substr", Group: "regexp", Args: kinds(kText, kText), Gives: kText, Help: "the first match, null when there is none", Example: "regexp_substr('hut 17', '[0-9]+') → 17", call: matching(textType, func(re *regexp.Regexp, s string) any {
		if m := re.FindStringIndex(s); m != nil {
			return s[m[0]:m[1]]
		}
		return nil
	})},
	{Name: "substring", Group: "regexp", Args: kinds(kText, kText), Gives: kText, Help: "what a regular expression matches, or what its first brackets caught", Example: "substring('hut 17' from '[0-9]+') → 17", call: matching(textType, func(re *regexp.Regexp, s string) any {
		m := re.FindStringSubmatchIndex(s)
		if m == nil {
			return nil
		}
		if len(m) > 2 {
			m = m[2:]
		}
		if m[0] < 0 {
			return nil
		}
		return s[m[0]:m[1]]
	})},
	{Name: "regexp_split_to_array", Group: "regexp", Args: kinds(kText, kText), result: textList, Help: "the parts between matches as a list", Example: "regexp_split_to_array('a1b22c', '[0-9]+') → {a,b,c}", call: regexpSplit},
	{Name: "regexp_split_to_array", Group: "regexp", Args: kinds(kText, kText, kText), result: textList, Help: "the parts between matches as a list; flag i to ignore case", Example: "regexp_split_to_array('axbXc', 'x', 'i') → {a,b,c}", call: regexpSplit},
}

// flagsAt gives the flags of a row; the argument may be missing.
func flagsAt(args []arrow.Array, at, i int) string {
	if len(args) > at && args[at].IsValid(i) {
		return args[at].(*array.String).Value(i)
	}
	return ""
}

// knownFlags are the flags that mean something here.
func checkFlags(flags, known string) *batch.Fault {
	if bad := strings.Trim(flags, known); bad != "" {
		return batch.Faultf("bad argument", "%q is not a flag of a regular expression; there are %s", bad, strings.Join(strings.Split(known, ""), ", "))
	}
	return nil
}

// regexpKernel compiles the pattern in args[1] with the flags behind it and
// gives it to fn for each row without nulls.
func regexpKernel(f *frame, args []arrow.Array, flagAt int, known string, out array.Builder, fn func(re *regexp.Regexp, flags, s string, i int)) arrow.Array {
	compiled := map[string]patterns{}
	for i := range f.n {
		if anyNull(args, i) {
			out.AppendNull()
			continue
		}
		flags := flagsAt(args, flagAt, i)
		p, ok := compiled[flags]
		if !ok {
			p = patterns{compile: func(s string) (*regexp.Regexp, *batch.Fault) {
				if fault := checkFlags(flags, known); fault != nil {
					return nil, fault
				}
				return compileRegex(s, flags)
			}}
		}
		re, fault := p.get(args[1].(*array.String).Value(i))
		compiled[flags] = p
		if fault != nil {
			f.fail(i, fault)
			out.AppendNull()
			continue
		}
		fn(re, flags, args[0].(*array.String).Value(i), i)
	}
	return out.NewArray()
}

func matching(t schema.Type, fn func(re *regexp.Regexp, s string) any) kernel {
	return func(f *frame, args []arrow.Array, _ []schema.Type, _ schema.Type) arrow.Array {
		out := batch.NewBuilder(t)
		return regexpKernel(f, args, 2, "ics", out, func(re *regexp.Regexp, _, s string, _ int) {
			switch v := fn(re, s).(type) {
			case nil:
				out.AppendNull()
			case bool:
				out.(*array.BooleanBuilder).Append(v)
			case int64:
				out.(*array.Int64Builder).Append(v)
			case string:
				out.(*array.StringBuilder).Append(v)
			}
		})
	}
}

func regexpMatch(f *frame, args []arrow.Array, _ []schema.Type, t schema.Type) arrow.Array {
	out := batch.NewBuilder(t).(*array.ListBuilder)
	return regexpKernel(f, args, 2, "ics", out, func(re *regexp.Regexp, _, s string, _ int) {
		m := re.FindStringSubmatchIndex(s)
		if m == nil {
			out.AppendNull()
			return
		}
		if len(m) > 2 {
			m = m[2:]
		}
		out.Append(true)
		to := out.ValueBuilder().(*array.StringBuilder)
		for k := 0; k < len(m); k += 2 {
			if m[k] < 0 {
				to.AppendNull()
			} else {
				to.Append(s[m[k]:m[k+1]])
			}
		}
	})
}

func regexpSplit(f *frame, args []arrow.Array, _ []schema.Type, t schema.Type) arrow.Array {
	out := batch.NewBuilder(t).(*array.ListBuilder)
	return regexpKernel(f, args, 2, "ics", out, func(re *regexp.Regexp, _, s string, _ int) {
		out.Append(true)
		to, from := out.ValueBuilder().(*array.StringBuilder), 0
		for _, m := range re.FindAllStringIndex(s, -1) {
			if m[1] == 0 || m[0] == len(s) && m[1] == m[0] { // an empty match at an end cuts nothing
				continue
			}
			to.Append(s[from:m[0]])
			from = m[1]
		}
		to.Append(s[from:])
	})
}

// regexpReplace turns PostgreSQL's \1 and \& into what they caught.
func regexpReplace(f *frame, args []arrow.Array, _ []schema.Type, t schema.Type) arrow.Array {
	out := batch.NewBuilder(t).(*array.StringBuilder)
	return regexpKernel(f, args, 3, "gics", out, func(re *regexp.Regexp, flags, s string, i int) {
		n := 1
		if strings.Contains(flags, "g") {
			n = -1
		}
		with := args[2].(*array.String).Value(i)
		var b strings.Builder
		last := 0
		for _, m := range re.FindAllStringSubmatchIndex(s, n) {
			b.WriteString(s[last:m[0]])
			expand(&b, with, s, m)
			last = m[1]
		}
		out.Append(b.String() + s[last:])
	})
}

func expand(b *strings.Builder, with, s string, m []int) {
	for k := 0; k < len(with); k++ {
		if with[k] != '\\' || k+1 == len(with) {
			b.WriteByte(with[k])
			continue
		}
		k++
		switch c := with[k]; {
		case c == '&':
			b.WriteString(s[m[0]:m[1]])
		case c >= '1' && c <= '9':
			if g := 2 * int(c-'0'); g+1 < len(m) && m[g] >= 0 {
				b.WriteString(s[m[g]:m[g+1]])
			}
		case c == '\\':
			b.WriteByte('\\')
		default:
			b.WriteByte('\\')
			b.WriteByte(c)
		}
	}
}
