package step

import (
	pg "github.com/pganalyze/pg_query_go/v6"
	"google.golang.org/protobuf/proto"

	"welkin/core/expr"
)

// Conditions of WHERE, and queries within a query: EXISTS, IN and NOT IN become
// joins, a query that gives one value is put beside every row.

func hasQuery(n *pg.Node) bool {
	found := false
	expr.Visit(n, func(n *pg.Node) { found = found || n.GetSubLink() != nil })
	return found
}

// where plans one condition of WHERE: EXISTS and IN with a query are joins.
func (p *sqlPlanner) where(r relation, c *pg.Node, ctes map[string]relation) (relation, error) {
	kind := pg.JoinType_JOIN_SEMI
	link := c.GetSubLink()
	if b := c.GetBoolExpr(); b != nil && b.Boolop == pg.BoolExprType_NOT_EXPR && b.Args[0].GetSubLink() != nil {
		link, kind = b.Args[0].GetSubLink(), pg.JoinType_JOIN_ANTI
	}
	if link != nil {
		switch link.SubLinkType {
		case pg.SubLinkType_EXISTS_SUBLINK:
			return p.exists(r, link.Subselect.GetSelectStmt(), kind, ctes)
		case pg.SubLinkType_ANY_SUBLINK:
			return p.in(r, link, kind, ctes)
		}
	}
	r, err := p.scalars(r, ctes, []**pg.Node{&c})
	if err != nil {
		return r, err
	}
	if err := p.resolve(c, r); err != nil {
		return r, err
	}
	text, err := expr.Text(c)
	if err != nil {
		return r, err
	}
	return p.step(&KeepRows{Where: text}, r)
}

// exists plans EXISTS: its own conditions filter the query's rows, equalities
// with columns from outside become keys.
func (p *sqlPlanner) exists(r relation, q *pg.SelectStmt, kind pg.JoinType, ctes map[string]relation) (relation, error) {
	if len(q.GroupClause) > 0 || q.HavingClause != nil || q.LimitCount != nil || q.Op > pg.SetOperation_SETOP_NONE || len(q.FromClause) == 0 {
		return r, p.errf(0, "EXISTS takes a plain query with FROM and WHERE here")
	}
	inner := proto.Clone(q).(*pg.SelectStmt)
	var conditions []*pg.Node
	if inner.WhereClause != nil {
		conditions = conjuncts(inner.WhereClause)
	}
	inner.WhereClause = nil
	right, err := p.fromAll(inner, ctes)
	if err != nil {
		return r, err
	}
	var between []*pg.Node
	for _, c := range conditions {
		own := proto.Clone(c).(*pg.Node)
		if p.resolve(own, right) == nil { // of the query alone
			if right, err = p.where(right, c, ctes); err != nil {
				return r, err
			}
			continue
		}
		// Names are looked for inside first, then outside.
		if err := p.resolveBoth(c, right, r); err != nil {
			return r, err
		}
		between = append(between, c)
	}
	out, err := p.pairUp(kind, r, right, between)
	out.visible = r.visible
	return out, err
}

// resolveBoth resolves names in one relation, and where it has none, in another.
func (p *sqlPlanner) resolveBoth(n *pg.Node, first, then relation) error {
	var failed error
	expr.Visit(n, func(n *pg.Node) {
		if n.GetColumnRef() == nil || failed != nil {
			return
		}
		if p.resolve(n, first) != nil {
			failed = p.resolve(n, then)
		}
	})
	return failed
}

// in plans IN and NOT IN with a query.
func (p *sqlPlanner) in(r relation, link *pg.SubLink, kind pg.JoinType, ctes map[string]relation) (relation, error) {
	right, err := p.query(link.Subselect.GetSelectStmt(), ctes)
	if err != nil {
		return r, err
	}
	tests := []*pg.Node{link.Testexpr}
	if row := link.Testexpr.GetRowExpr(); row != nil {
		tests = row.Args
	}
	if len(tests) != right.schema.Len() {
		return r, p.errf(link.Location, "the query gives %d columns where %d are compared", right.schema.Len(), len(tests))
	}
	if right, err = p.named(right, nil, ""); err != nil {
		return r, err
	}
	var conditions []*pg.Node
	for i, t := range tests {
		if err := p.resolve(t, r); err != nil {
			return r, err
		}
		conditions = append(conditions, pg.MakeAExprNode(pg.A_Expr_Kind_AEXPR_OP, []*pg.Node{pg.MakeStrNode("=")}, t, columnNode(right.schema.Columns[i].Name), -1))
	}
	visible := r.visible
	if kind == pg.JoinType_JOIN_ANTI {
		if len(tests) > 1 {
			return r, p.errf(link.Location, "NOT IN with a query takes one value here; write NOT EXISTS for several")
		}
		if r, err = p.unknownIn(r, right, tests[0]); err != nil {
			return r, err
		}
	}
	out, err := p.pairUp(kind, r, right, conditions)
	out.visible = visible
	return out, err
}

// unknownIn leaves the rows out for which NOT IN is unknown: once the query gives
// a null, all of them, and those whose value is null unless it gives nothing.
func (p *sqlPlanner) unknownIn(r, right relation, value *pg.Node) (relation, error) {
	text, err := expr.Text(value)
	if err != nil {
		return r, err
	}
	counts, err := p.step(&Group{Values: []Derived{{"rows", "count(*)"}, {"values", "count(" + expr.QuoteName(right.schema.Columns[0].Name) + ")"}}}, right)
	if err == nil {
		counts, err = p.named(counts, nil, "")
	}
	if err != nil {
		return r, err
	}
	out, err := p.step(&Join{Rows: JoinPairs}, r, counts)
	if err != nil {
		return r, err
	}
	rows, values := expr.QuoteName(counts.schema.Columns[0].Name), expr.QuoteName(counts.schema.Columns[1].Name)
	return p.step(&KeepRows{Where: rows + " = 0 OR " + rows + " = " + values + " AND (" + text + ") IS NOT NULL"}, out)
}

// scalars puts queries that give one value beside every row.
func (p *sqlPlanner) scalars(r relation, ctes map[string]relation, nodes []**pg.Node) (relation, error) {
	var failed error
	for _, place := range nodes {
		expr.Visit(*place, func(n *pg.Node) {
			link := n.GetSubLink()
			if link == nil || failed != nil {
				return
			}
			q := link.Subselect.GetSelectStmt()
			one := link.SubLinkType == pg.SubLinkType_EXPR_SUBLINK && len(q.GroupClause) == 0 && len(q.TargetList) == 1 && hasAggregate(q.TargetList[0])
			if !one {
				failed = p.errf(link.Location, "a query within an expression gives one value: an aggregate without GROUP BY; use a join otherwise")
				return
			}
			value, err := p.query(q, ctes)
			if err == nil {
				value, err = p.named(value, nil, "")
			}
			var out relation
			if err == nil {
				out, err = p.step(&Join{Rows: JoinPairs}, r, value)
			}
			if failed = err; err != nil {
				return
			}
			out.visible = r.visible
			r = out
			n.Node = columnNode(value.schema.Columns[0].Name).Node
		})
	}
	return r, failed
}
