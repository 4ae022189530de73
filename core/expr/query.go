package expr

import (
	"errors"

	pg "github.com/pganalyze/pg_query_go/v6"
	"github.com/pganalyze/pg_query_go/v6/parser"
	"google.golang.org/protobuf/proto"
	"google.golang.org/protobuf/reflect/protoreflect"
)

// ParseQuery reads one SELECT; parameters written :name become their values.
func ParseQuery(text string, params map[string]Param) (*pg.SelectStmt, error) {
	p := &parsed{text: prefix + text} // places count from the prefix
	numbered := p.numberParameters()[len(prefix):]
	tree, err := pg.Parse(numbered)
	if err != nil {
		var syntax *parser.Error
		if errors.As(err, &syntax) {
			at := min(max(syntax.Cursorpos-1, 0), len(text))
			return nil, &Error{at, sentenceOf(syntax.Message, text, at)}
		}
		return nil, &Error{0, err.Error()}
	}
	if len(tree.Stmts) != 1 || tree.Stmts[0].Stmt.GetSelectStmt() == nil {
		return nil, &Error{0, "one SELECT is expected here, and nothing else"}
	}
	query := tree.Stmts[0].Stmt.GetSelectStmt()
	b := &binder{parsed: p, scope: Scope{Params: params}}
	var failed error
	Visit(query, func(n *pg.Node) {
		if ref := n.GetParamRef(); ref != nil && failed == nil {
			_, failed = b.bindParam(ref, n)
		}
	})
	return query, failed
}

// QuerySQL writes a query.
func QuerySQL(query *pg.SelectStmt) (string, error) {
	return pg.Deparse(&pg.ParseResult{Version: grammarVersion, Stmts: []*pg.RawStmt{{Stmt: &pg.Node{Node: &pg.Node_SelectStmt{SelectStmt: query}}}}})
}

// Text writes a part of a tree as SQL.
func Text(n *pg.Node) (string, error) {
	Visit(n, func(n *pg.Node) {
		switch e := n.GetNode().(type) {
		case *pg.Node_NullTest:
			enclose(&e.NullTest.Arg)
		case *pg.Node_BooleanTest:
			enclose(&e.BooleanTest.Arg)
		}
	})
	return deparse(n)
}

// Visit calls fn for every node below a message, from the outside in.
func Visit(m proto.Message, fn func(*pg.Node)) {
	if n, ok := m.(*pg.Node); ok {
		if n == nil {
			return
		}
		fn(n)
	}
	m.ProtoReflect().Range(func(f protoreflect.FieldDescriptor, v protoreflect.Value) bool {
		switch {
		case f.Kind() != protoreflect.MessageKind:
		case f.IsList():
			for i := range v.List().Len() {
				Visit(v.List().Get(i).Message().Interface(), fn)
			}
		default:
			Visit(v.Message().Interface(), fn)
		}
		return true
	})
}

// VisitTables calls fn for every table that a query names.
func VisitTables(query *pg.SelectStmt, fn func(*pg.RangeVar)) {
	Visit(query, func(n *pg.Node) {
		if t := n.GetRangeVar(); t != nil {
			fn(t)
		}
	})
}

// VisitSelects calls fn for a query and every query within it.
func VisitSelects(query *pg.SelectStmt, fn func(*pg.SelectStmt)) {
	fn(query)
	Visit(query, func(n *pg.Node) {
		if s := n.GetSelectStmt(); s != nil {
			fn(s)
		}
	})
}

// IsAggregate tells whether a call is one of an aggregate function, not over a
// window.
func IsAggregate(c *pg.FuncCall) bool {
	return c != nil && c.Over == nil && isAggregate(c.Funcname[len(c.Funcname)-1].GetString_().GetSval())
}
