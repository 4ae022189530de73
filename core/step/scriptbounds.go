package step

import (
	"fmt"

	"go.starlark.net/lib/math"
	"go.starlark.net/starlark"
	"go.starlark.net/syntax"
)

// A script may take neither more time nor more memory than it is given. Steps
// and time are bounded by its thread. Memory grows fastest by repetition, so
// `*` of texts and lists, and ranges, are bounded here: a product is compiled to
// a call of times.

// maxRepeated is how many characters or values a repetition makes at most.
const maxRepeated = 4 << 20

const timesName = "_times"

var scriptNames = starlark.StringDict{
	"math":    math.Module,
	"range":   starlark.NewBuiltin("range", boundedRange),
	timesName: starlark.NewBuiltin("*", times),
}

func compileScript(code string) (*starlark.Program, error) {
	file, err := scriptDialect.Parse("script", code, 0)
	if err != nil {
		return nil, err
	}
	for _, stmt := range file.Stmts {
		syntax.Walk(stmt, boundProducts)
	}
	return starlark.FileProgram(file, func(name string) bool { _, ok := scriptNames[name]; return ok })
}

// boundProducts rewrites products. The children of a node are changed from the
// node, since the walk gives no way to replace the node itself.
func boundProducts(n syntax.Node) bool {
	swap := func(e *syntax.Expr) {
		if b, ok := (*e).(*syntax.BinaryExpr); ok && b.Op == syntax.STAR {
			*e = &syntax.CallExpr{Fn: &syntax.Ident{Name: timesName, NamePos: b.OpPos}, Lparen: b.OpPos, Args: []syntax.Expr{b.X, b.Y}, Rparen: b.OpPos}
		}
	}
	all := func(list []syntax.Expr) {
		for i := range list {
			swap(&list[i])
		}
	}
	switch n := n.(type) {
	case *syntax.AssignStmt:
		if n.Op == syntax.STAR_EQ {
			n.Op, n.RHS = syntax.EQ, &syntax.BinaryExpr{X: n.LHS, OpPos: n.OpPos, Op: syntax.STAR, Y: n.RHS}
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
			if count, ok := n.Int64(); !ok || count > 0 && int64(length) > maxRepeated/count {
				return nil, fmt.Errorf("the repetition would make more than %d values", maxRepeated)
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

func boundedRange(thread *starlark.Thread, b *starlark.Builtin, args starlark.Tuple, kwargs []starlark.Tuple) (starlark.Value, error) {
	v, err := starlark.Call(thread, starlark.Universe["range"], args, kwargs)
	if err == nil && starlark.Len(v) > maxRepeated {
		return nil, fmt.Errorf("a range may have up to %d numbers", maxRepeated)
	}
	return v, err
}
