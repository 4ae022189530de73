package expr

import (
	"fmt"
	"slices"
	"strings"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"

	"welkin/core/schema"
)

// Function is one entry of the catalogue: what a function is called, what it
// takes and gives, and how it is explained. Several entries may share a name.
type Function struct {
	Name     string        `json:"name"`
	Args     []schema.Kind `json:"-"`
	Variadic bool          `json:"-"` // the last argument may come again
	Help     string        `json:"help"`
	Example  string        `json:"example"`
	Group    string        `json:"group"`

	// result gives the result's type; nil means the kind in Gives.
	Gives  schema.Kind `json:"-"`
	result func(args []schema.Type) schema.Type
	// lenient functions see null arguments; the others give null for them.
	call func(f *frame, args []arrow.Array, types []schema.Type, t schema.Type) arrow.Array
}

// anyKind as an argument takes values of every type; elemKind those of the first
// list among the arguments.
const (
	anyKind  = schema.Kind(255)
	elemKind = schema.Kind(254)
)

// own tells whether PostgreSQL has no such function. The names of its operators
// are not written by people.
func (fn Function) own() bool { return strings.Contains(fn.Help, "Welkin's own") }

// Signature writes the function as `name(text, int) → text`.
func (fn Function) Signature() string {
	args := make([]string, len(fn.Args))
	for i, a := range fn.Args {
		switch a {
		case anyKind:
			args[i] = "any"
		case elemKind:
			args[i] = "value"
		default:
			args[i] = a.String()
		}
	}
	list := strings.Join(args, ", ")
	if fn.Variadic {
		list += ", …"
	}
	return fmt.Sprintf("%s(%s)", fn.Name, list)
}

// Catalogue lists every function, grouped and in order.
func Catalogue() []Function {
	return slices.Concat(textFunctions, regexpFunctions, formatFunctions, bytesFunctions, numberFunctions, angleFunctions, bitFunctions,
		timeFunctions, intervalFunctions, jsonFunctions, listFunctions, nullFunctions, matchFunctions)
}

// catalogueByName is built once from the catalogue; it is read only.
var catalogueByName = func() map[string][]Function {
	m := map[string][]Function{}
	for _, fn := range Catalogue() {
		m[fn.Name] = append(m[fn.Name], fn)
	}
	return m
}()

// resolve picks the entry that fits the arguments: the one with the most exact
// types, the earlier entry on a tie.
func (b *binder) resolve(name string, args []node, at int32) (node, error) {
	entries, ok := catalogueByName[name]
	if !ok {
		names := make([]string, 0, len(catalogueByName))
		for n := range catalogueByName {
			names = append(names, n)
		}
		slices.Sort(names)
		return nil, b.errf(at, "there is no function %s%s", name, didYouMean(name, names))
	}
	best, bestScore := -1, -1
	for i, fn := range entries {
		if score, fits := fn.score(args); fits && score > bestScore {
			best, bestScore = i, score
		}
	}
	if best < 0 {
		signatures := make([]string, len(entries))
		for i, fn := range entries {
			signatures[i] = fn.Signature()
		}
		return nil, b.errf(at, "%s%s does not fit; use %s", name, typesOf(args), strings.Join(signatures, " or "))
	}
	fn := entries[best]
	if fn.own() && b.own == "" {
		b.own = fn.Name
	}
	types := make([]schema.Type, len(args))
	elem := fn.elem(args)
	for i, a := range args {
		fitted, err := b.fit(a, fn.argType(i, a.typ(), elem), at)
		if err != nil {
			return nil, err
		}
		args[i], types[i] = fitted, fitted.typ()
	}
	t := schema.Of(fn.Gives)
	if fn.Gives == elemKind {
		t = elem
	}
	if fn.result != nil {
		t = fn.result(types)
	}
	if c, ok := lastConst(args); (name == "round" || name == "trunc") && len(args) == 2 && ok && c.value.IsValid(0) {
		// round(x, 2) shows two decimals, as in PostgreSQL.
		places := int(min(max(c.value.(*array.Int64).Value(0), 0), int64(t.Scale)))
		t = schema.DecimalOf(t.Precision, places)
	}
	return &callNode{t, args, func(f *frame, arrays []arrow.Array) arrow.Array { return fn.call(f, arrays, types, t) }}, nil
}

func lastConst(args []node) (c *constNode, ok bool) {
	if len(args) == 0 {
		return nil, false
	}
	c, ok = args[len(args)-1].(*constNode)
	return c, ok
}

// elem gives the type that the lists among the arguments hold, widened to that
// of single values beside them.
func (fn Function) elem(args []node) schema.Type {
	t := schema.Type{}
	for i, a := range args {
		have := a.typ()
		switch want := fn.want(i); {
		case want == schema.List && have.Kind == schema.List:
			have = have.Elem()
		case want == elemKind && have.Kind != schema.Unknown:
		default:
			continue
		}
		if common, ok := schema.Common(t, have); ok {
			t = common
		}
	}
	return orText(t)
}

func (fn Function) want(i int) schema.Kind { return fn.Args[min(i, len(fn.Args)-1)] }

// argType gives the type argument i is brought to.
func (fn Function) argType(i int, have, elem schema.Type) schema.Type {
	want := fn.want(i)
	switch {
	case want == schema.List:
		return schema.ListOf(elem)
	case want == elemKind:
		return elem
	case want == anyKind && have.Kind == schema.List && have.Elem().Kind == schema.Unknown:
		return schema.ListOf(textType)
	case want == anyKind && have.Kind == schema.Unknown:
		return textType
	case want == anyKind || want == have.Kind:
		return have
	case want == schema.Decimal && have.Kind == schema.Int:
		return schema.AsDecimal(have)
	case want == schema.Decimal:
		return schema.DecimalOf(schema.MaxPrecision, 9)
	}
	return schema.Of(want)
}

func (fn Function) score(args []node) (score int, fits bool) {
	if len(args) < len(fn.Args) || len(args) > len(fn.Args) && !fn.Variadic {
		return 0, false
	}
	elem := fn.elem(args)
	for i, a := range args {
		have, want := a.typ(), fn.want(i)
		common, ok := schema.Common(have, schema.Of(want))
		switch {
		case want == schema.List:
			if have.Kind != schema.List && have.Kind != schema.Unknown {
				return 0, false
			}
			score++
		case want == elemKind:
			if _, fits := schema.Common(have, elem); !fits {
				return 0, false
			}
			score++
		case want == anyKind:
			score++
		case have.Kind == want:
			score += 4
		case have.Kind == schema.Unknown:
			if score++; want == schema.Text {
				score++
			}
		case ok && common.Kind == want:
			score += 2
		default:
			return 0, false
		}
	}
	return score, true
}
