package expr

import (
	"fmt"
	"strings"

	"github.com/apache/arrow-go/v18/arrow"
	pg "github.com/pganalyze/pg_query_go/v6"

	"welkin/core/batch"
	"welkin/core/schema"
)

// SQL writes the program as PostgreSQL's SQL, in the type that it has here:
// column names are quoted as they are, parameters are typed constants. Numbers
// are always brought to the program's type, since PostgreSQL gives some
// functions' results in others. It is an error when the expression uses a
// function that PostgreSQL has not.
func (p *Program) SQL() (string, error) {
	if p.own != "" {
		return "", fmt.Errorf("%s is Welkin's own function; PostgreSQL has not got it", p.own)
	}
	text, err := deparse(p.tree)
	if err != nil {
		return "", err
	}
	if p.Type.Kind == schema.Record {
		return "", fmt.Errorf("a record has no type of its own in PostgreSQL")
	}
	return "(" + text + ")::" + p.Type.Postgres(), nil
}

// CastSQL writes the cast of a value from one type to another.
func CastSQL(value string, from, to schema.Type) (string, error) {
	if from.Kind == schema.Record || to.Kind == schema.Record || from.Nested() && to.Kind == schema.JSON || from.Kind == schema.JSON && to.Nested() {
		return "", fmt.Errorf("PostgreSQL has no cast from %s to %s", from, to)
	}
	if from.Kind == schema.Bool && to.Kind == schema.Int || from.Kind == schema.Int && to.Kind == schema.Bool {
		return "(" + value + "::int)::" + to.Postgres(), nil
	}
	return "(" + value + ")::" + to.Postgres(), nil
}

// grammarVersion is the version of the grammar whose trees are written.
const grammarVersion = 170007

func deparse(n *pg.Node) (string, error) {
	target := &pg.Node{Node: &pg.Node_ResTarget{ResTarget: &pg.ResTarget{Val: n}}}
	sel := &pg.Node{Node: &pg.Node_SelectStmt{SelectStmt: &pg.SelectStmt{TargetList: []*pg.Node{target}, LimitOption: pg.LimitOption_LIMIT_OPTION_DEFAULT, Op: pg.SetOperation_SETOP_NONE}}}
	text, err := pg.Deparse(&pg.ParseResult{Version: grammarVersion, Stmts: []*pg.RawStmt{{Stmt: sel}}})
	return strings.TrimPrefix(text, prefix), err
}

// QuoteName quotes a name for SQL.
func QuoteName(name string) string { return `"` + strings.ReplaceAll(name, `"`, `""`) + `"` }

// QuoteText writes a text as an SQL constant; it is safe whatever the text holds.
func QuoteText(s string) string { return quoteLiteral(s) }

// typedConst makes the tree of a constant of a type.
func typedConst(value *string, t schema.Type) *pg.Node {
	c := &pg.A_Const{Isnull: value == nil}
	if value != nil {
		c.Val = &pg.A_Const_Sval{Sval: &pg.String{Sval: *value}}
	}
	parsed, err := pg.Parse("SELECT NULL::" + t.Postgres())
	if err != nil {
		panic("expr: " + t.Postgres() + " is no type of PostgreSQL") // the table of types is ours
	}
	cast := parsed.Stmts[0].Stmt.GetSelectStmt().TargetList[0].GetResTarget().Val.GetTypeCast()
	cast.Arg = &pg.Node{Node: &pg.Node_AConst{AConst: c}}
	return &pg.Node{Node: &pg.Node_TypeCast{TypeCast: cast}}
}

// SQLText writes a value in the text form from which PostgreSQL reads it.
func SQLText(a arrow.Array, t schema.Type, i int) string {
	if t.Kind == schema.List && t.Elem().Nested() {
		return batch.Text(a, t, i) // jsonb there
	}
	return sqlText(a, t, i)
}
