package step

import (
	"fmt"
	"strconv"
	"strings"

	"go.starlark.net/lib/math"
	"go.starlark.net/starlark"
	"go.starlark.net/syntax"
)

// A script may take neither more time nor more memory than it is given. Steps
// and time are bounded by its thread. Memory grows fastest where one step makes a
// text or list of others: by `*`, `+` and `%`, and by a few methods and
// functions. Those are bounded here: operators are compiled to calls, and so are
// the names of the methods.

// mostMade is how many characters or values one step of a script makes at most.
const mostMade = 4 << 20

// Names to which scripts are compiled; a script can't write them itself, since
// they begin with a digit.
const (
	timesName   = "0times"
	plusName    = "0plus"
	extendName  = "0extend"
	percentName = "0percent"
	attrName    = "0attr"
)

var scriptNames = starlark.StringDict{
	"math":      math.Module,
	"range":     starlark.NewBuiltin("range", boundedRange),
	"str":       boundedText("str"),
	"repr":      boundedText("repr"),
	"getattr":   starlark.NewBuiltin("getattr", boundedGetattr),
	timesName:   starlark.NewBuiltin("*", times),
	plusName:    starlark.NewBuiltin("+", plus),
	extendName:  starlark.NewBuiltin("+=", extend),
	percentName: starlark.NewBuiltin("%", percent),
	attrName:    starlark.NewBuiltin("attribute", boundedGetattr),
}

// errTooMuch ends a step that would make too much.
func errTooMuch(what string) error {
	return fmt.Errorf("%s would make more than %d characters or values", what, mostMade)
}

func compileScript(code string) (*starlark.Program, error) {
	file, err := scriptDialect.Parse("script", code, 0)
	if err != nil {
		return nil, err
	}
	for _, stmt := range file.Stmts {
		syntax.Walk(stmt, boundNode)
	}
	return starlark.FileProgram(file, func(name string) bool { _, ok := scriptNames[name]; return ok })
}

var boundOperators = map[syntax.Token]string{syntax.STAR: timesName, syntax.PLUS: plusName, syntax.PERCENT: percentName}

var boundAssignments = map[syntax.Token]syntax.Token{syntax.STAR_EQ: syntax.STAR, syntax.PERCENT_EQ: syntax.PERCENT}

func callOf(name string, at syntax.Position, args ...syntax.Expr) syntax.Expr {
	return &syntax.CallExpr{Fn: &syntax.Ident{Name: name, NamePos: at}, Lparen: at, Args: args, Rparen: at}
}

// boundNode rewrites operators and names of methods. The children of a node are
// changed from the node, since the walk gives no way to replace the node itself.
func boundNode(n syntax.Node) bool {
	swap := func(e *syntax.Expr) {
		switch x := (*e).(type) {
		case *syntax.BinaryExpr:
			if name, ok := boundOperators[x.Op]; ok {
				*e = callOf(name, x.OpPos, x.X, x.Y)
			}
		case *syntax.DotExpr:
			if _, ok := boundMethods[x.Name.Name]; ok {
				*e = callOf(attrName, x.Dot, x.X, &syntax.Literal{Token: syntax.STRING, TokenPos: x.NamePos, Raw: strconv.Quote(x.Name.Name), Value: x.Name.Name})
			}
		}
	}
	all := func(list []syntax.Expr) {
		for i := range list {
			swap(&list[i])
		}
	}
	switch n := n.(type) {
	case *syntax.AssignStmt:
		if op, ok := boundAssignments[n.Op]; ok {
			n.Op, n.RHS = syntax.EQ, &syntax.BinaryExpr{X: n.LHS, OpPos: n.OpPos, Op: op, Y: n.RHS}
		} else if n.Op == syntax.PLUS_EQ {
			n.Op, n.RHS = syntax.EQ, callOf(extendName, n.OpPos, n.LHS, n.RHS)
		}
		swap(&n.RHS)
	case *syntax.ExprStmt:
		swap(&n.X)
	case *syntax.ReturnStmt:
		if n.Result != nil {
			swap(&n.Result)
		}
	case *syntax.IfStmt:
		swap(&n.Cond)
	case *syntax.WhileStmt:
		swap(&n.Cond)
	case *syntax.ForStmt:
		swap(&n.X)
	case *syntax.BinaryExpr:
		swap(&n.X)
		swap(&n.Y)
	case *syntax.UnaryExpr:
		if n.X != nil {
			swap(&n.X)
		}
	case *syntax.CallExpr:
		swap(&n.Fn)
		all(n.Args)
	case *syntax.ListExpr:
		all(n.List)
	case *syntax.TupleExpr:
		all(n.List)
	case *syntax.ParenExpr:
		swap(&n.X)
	case *syntax.DictEntry:
		swap(&n.Key)
		swap(&n.Value)
	case *syntax.CondExpr:
		swap(&n.Cond)
		swap(&n.True)
		swap(&n.False)
	case *syntax.IndexExpr:
		swap(&n.X)
		swap(&n.Y)
	case *syntax.SliceExpr:
		for _, e := range []*syntax.Expr{&n.X, &n.Lo, &n.Hi, &n.Step} {
			if *e != nil {
				swap(e)
			}
		}
	case *syntax.DotExpr:
		swap(&n.X)
	case *syntax.Comprehension:
		swap(&n.Body)
	case *syntax.ForClause:
		swap(&n.X)
	case *syntax.IfClause:
		swap(&n.Cond)
	case *syntax.LambdaExpr:
		swap(&n.Body)
	}
	return true
}

// times is the product of two values, bounded for texts, lists and tuples.
func times(_ *starlark.Thread, _ *starlark.Builtin, args starlark.Tuple, _ []starlark.Tuple) (starlark.Value, error) {
	x, y := args[0], args[1]
	for _, pair := range [][2]starlark.Value{{x, y}, {y, x}} {
		n, isInt := pair[1].(starlark.Int)
		if length := starlark.Len(pair[0]); isInt && length > 0 {
			if count, ok := n.Int64(); !ok || count > 0 && int64(length) > mostMade/count {
				return nil, errTooMuch("the repetition")
			}
		}
	}
	if a, ok := x.(starlark.Int); ok {
		if b, ok := y.(starlark.Int); ok && a.BigInt().BitLen()+b.BigInt().BitLen() > 1<<16 {
			return nil, fmt.Errorf("the product would be a number of more than %d bits", 1<<16)
		}
	}
	return starlark.Binary(syntax.STAR, x, y)
}

// plus is the sum of two values, bounded for texts, lists and tuples.
func plus(_ *starlark.Thread, _ *starlark.Builtin, args starlark.Tuple, _ []starlark.Tuple) (starlark.Value, error) {
	if starlark.Len(args[0])+starlark.Len(args[1]) > mostMade {
		return nil, errTooMuch("joining")
	}
	return starlark.Binary(syntax.PLUS, args[0], args[1])
}

// extend is x += y, which adds to a list itself.
func extend(thread *starlark.Thread, b *starlark.Builtin, args starlark.Tuple, _ []starlark.Tuple) (starlark.Value, error) {
	list, ok := args[0].(*starlark.List)
	if _, iterable := args[1].(starlark.Iterable); !ok || !iterable {
		return plus(thread, b, args, nil)
	}
	add, err := boundedGetattr(thread, b, starlark.Tuple{list, starlark.String("extend")}, nil)
	if err == nil {
		_, err = starlark.Call(thread, add, args[1:], nil)
	}
	return list, err
}

// percent is a remainder, or a text with values put in.
func percent(_ *starlark.Thread, _ *starlark.Builtin, args starlark.Tuple, _ []starlark.Tuple) (starlark.Value, error) {
	if form, ok := args[0].(starlark.String); ok {
		values, isTuple := args[1].(starlark.Tuple)
		if !isTuple {
			values = starlark.Tuple{args[1]}
		}
		if len(form)+textSize(values...) > mostMade {
			return nil, errTooMuch("the text")
		}
	}
	return starlark.Binary(syntax.PERCENT, args[0], args[1])
}

func boundedRange(thread *starlark.Thread, b *starlark.Builtin, args starlark.Tuple, kwargs []starlark.Tuple) (starlark.Value, error) {
	v, err := starlark.Call(thread, starlark.Universe["range"], args, kwargs)
	if err == nil && starlark.Len(v) > mostMade {
		return nil, errTooMuch("the range")
	}
	return v, err
}

func boundedText(name string) *starlark.Builtin {
	return starlark.NewBuiltin(name, func(thread *starlark.Thread, _ *starlark.Builtin, args starlark.Tuple, kwargs []starlark.Tuple) (starlark.Value, error) {
		if textSize(args...) > mostMade {
			return nil, errTooMuch("the text")
		}
		return starlark.Call(thread, starlark.Universe[name], args, kwargs)
	})
}

// textSize estimates how long values are as text; it stops counting soon after
// the most that may be made, since values may hold the same one many times.
func textSize(values ...starlark.Value) int {
	left := mostMade + 1
	var count func(v starlark.Value)
	count = func(v starlark.Value) {
		if left--; left < 0 {
			return
		}
		switch v := v.(type) {
		case starlark.String:
			left -= len(v)
		case *starlark.Dict:
			for _, item := range v.Items() {
				count(item[0])
				count(item[1])
			}
		case starlark.Iterable:
			it := v.Iterate()
			defer it.Done()
			var x starlark.Value
			for left >= 0 && it.Next(&x) {
				count(x)
			}
		}
	}
	for _, v := range values {
		count(v)
	}
	return mostMade + 1 - left
}

// boundMethods tell how much a method will make.
var boundMethods = map[string]func(receiver starlark.Value, args starlark.Tuple) int{
	"join": func(receiver starlark.Value, args starlark.Tuple) int {
		return textSize(args...) + starlark.Len(receiver)*max(starlark.Len(firstOf(args)), 1)
	},
	"replace": func(receiver starlark.Value, args starlark.Tuple) int {
		text, ok := starlark.AsString(receiver)
		if !ok || len(args) < 2 {
			return 0
		}
		before, _ := starlark.AsString(args[0])
		after, _ := starlark.AsString(args[1])
		return len(text) + strings.Count(text, before)*len(after)
	},
	"format": func(receiver starlark.Value, args starlark.Tuple) int {
		text, _ := starlark.AsString(receiver)
		return len(text) + max(strings.Count(text, "{"), 1)*textSize(args...)
	},
	"extend": func(receiver starlark.Value, args starlark.Tuple) int {
		return starlark.Len(receiver) + starlark.Len(firstOf(args))
	},
}

func firstOf(args starlark.Tuple) starlark.Value {
	if len(args) == 0 {
		return starlark.None
	}
	return args[0]
}

// boundedGetattr gives an attribute; a method that can make much is bounded.
func boundedGetattr(thread *starlark.Thread, _ *starlark.Builtin, args starlark.Tuple, kwargs []starlark.Tuple) (starlark.Value, error) {
	v, err := starlark.Call(thread, starlark.Universe["getattr"], args, kwargs)
	method, ok := v.(*starlark.Builtin)
	if err != nil || !ok {
		return v, err
	}
	size, ok := boundMethods[method.Name()]
	if !ok {
		return v, nil
	}
	return starlark.NewBuiltin(method.Name(), func(thread *starlark.Thread, _ *starlark.Builtin, args starlark.Tuple, kwargs []starlark.Tuple) (starlark.Value, error) {
		given := args
		for _, k := range kwargs {
			given = append(given[:len(given):len(given)], k[1])
		}
		if size(method.Receiver(), given) > mostMade {
			return nil, errTooMuch(method.Name())
		}
		return starlark.Call(thread, method, args, kwargs)
	}), nil
}
