package expr

import (
	"fmt"
	"math/big"
	"strings"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/decimal128"

	"welkin/core/batch"
	"welkin/core/schema"
)

var formatFunctions = []Function{
	{Name: "to_char", Group: "format", Args: kinds(kInt, kText), Gives: kText, Help: "a number as text in a given form", Example: "to_char(1234, 'FM9G999') → 1,234", call: try2(func(v int64, form string) (string, *batch.Fault) {
		return formatNumber(big.NewInt(v), 0, form)
	})},
	{Name: "to_char", Group: "format", Args: kinds(kDec, kText), Gives: kText, Help: "a number as text in a given form", Example: "to_char(19.5, 'FM990D00') → 19.50", call: func(f *frame, args []arrow.Array, types []schema.Type, t schema.Type) arrow.Array {
		return map2(f, args[0], args[1], t, func(v decimal128.Num, form string) (string, *batch.Fault) {
			return formatNumber(v.BigInt(), types[0].Scale, form)
		})
	}},
	{Name: "to_number", Group: "format", Args: kinds(kText, kText), result: func([]schema.Type) schema.Type { return numberFormType }, Help: "a number from text in a given form", Example: "to_number('1,234.5', '9G999D9') → 1234.500000000", call: func(f *frame, args []arrow.Array, _ []schema.Type, t schema.Type) arrow.Array {
		return map2(f, args[0], args[1], t, func(s, form string) (decimal128.Num, *batch.Fault) {
			n, scale, fault := parseNumber(s, form)
			if fault != nil {
				return decimal128.Num{}, fault
			}
			return batch.FitDecimal(n, scale, t)
		})
	}},
	{Name: "format", Group: "format", Args: kinds(kText, anyKind), Variadic: true, Gives: kText, Help: "values put into a text at %s; %L quotes a text, %I a name", Example: "format('hut %s', 7) → hut 7", call: formatText},
	{Name: "format", Group: "format", Args: kinds(kText), Gives: kText, Help: "a text in which %% stands for %", Example: "format('5 %%') → 5 %", call: formatText},
	{Name: "quote_ident", Group: "format", Args: kinds(kText), Gives: kText, Help: "as a name in SQL", Example: `quote_ident('water level') → "water level"`, call: fn1(quoteIdent)},
}

func formatText(f *frame, args []arrow.Array, types []schema.Type, t schema.Type) arrow.Array {
	out := batch.NewBuilder(t).(*array.StringBuilder)
	for i := range f.n {
		if args[0].IsNull(i) {
			out.AppendNull()
			continue
		}
		text, fault := formatRow(args, types, i)
		if fault != nil {
			f.fail(i, fault)
			out.AppendNull()
			continue
		}
		out.Append(text)
	}
	return out.NewArray()
}

func formatRow(args []arrow.Array, types []schema.Type, i int) (string, *batch.Fault) {
	form := args[0].(*array.String).Value(i)
	var out strings.Builder
	next := 1
	for at := 0; at < len(form); at++ {
		if form[at] != '%' {
			out.WriteByte(form[at])
			continue
		}
		rest := form[at+1:]
		if strings.HasPrefix(rest, "%") {
			out.WriteByte('%')
			at++
			continue
		}
		which, used := next, 0
		var place int
		if n, _ := fmt.Sscanf(rest, "%d$", &place); n == 1 {
			digits := len(rest) - len(strings.TrimLeft(rest, "0123456789"))
			if digits < len(rest) && rest[digits] == '$' {
				which, used = place, digits+1
			}
		}
		if used >= len(rest) || !strings.ContainsRune("sIL", rune(rest[used])) {
			return "", batch.Faultf("bad argument", "behind %% one of s, I, L or %% is expected in %q", cutText(form))
		}
		if which < 1 || which >= len(args) {
			return "", batch.Faultf("bad argument", "the text wants more values than were given")
		}
		next = which + 1
		isNull := args[which].IsNull(i)
		value := ""
		if !isNull {
			value = outText(args[which], types[which], i)
		}
		switch rest[used] {
		case 's':
			out.WriteString(value)
		case 'I':
			if isNull {
				return "", batch.Faultf("bad argument", "null is not a name")
			}
			out.WriteString(quoteIdent(value))
		case 'L':
			if isNull {
				out.WriteString("NULL")
			} else {
				out.WriteString(quoteLiteral(value))
			}
		}
		at += used + 1
	}
	return out.String(), nil
}

// quoteIdent quotes a name unless it is a plain word that PostgreSQL has not
// taken for itself.
func quoteIdent(s string) string {
	plain := s != "" && !reservedWords[s]
	for i, c := range []byte(s) {
		if c != '_' && (c < 'a' || c > 'z') && (i == 0 || c < '0' || c > '9') {
			plain = false
		}
	}
	if plain {
		return s
	}
	return `"` + strings.ReplaceAll(s, `"`, `""`) + `"`
}

// reservedWords are the words that quote_ident quotes: every key word of
// PostgreSQL's grammar that is not free.
var reservedWords = func() map[string]bool {
	m := map[string]bool{}
	for _, w := range strings.Fields(`all analyse analyze and any array as asc asymmetric authorization between bigint binary bit boolean both case cast char
		character check coalesce collate collation column concurrently constraint create cross current_catalog current_date current_role current_schema
		current_time current_timestamp current_user dec decimal default deferrable desc distinct do else end except exists extract false fetch float for
		foreign freeze from full grant greatest group grouping having ilike in initially inner inout int integer intersect interval into is isnull join
		lateral leading least left like limit localtime localtimestamp national natural nchar none normalize not notnull null nullif numeric offset on only or
		order out outer overlaps overlay placing position precision primary real references returning right row select session_user setof similar smallint
		some substring symmetric table tablesample then time timestamp to trailing treat trim true union unique user using values varchar variadic verbose
		when where window with xmlattributes xmlconcat xmlelement xmlexists xmlforest xmlnamespaces xmlparse xmlpi xmlroot xmlserialize xmltable`) {
		m[w] = true
	}
	return m
}()
