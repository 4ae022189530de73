package step

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	pg "github.com/pganalyze/pg_query_go/v6"
	"google.golang.org/protobuf/proto"

	"welkin/core/expr"
	"welkin/core/schema"
)

// sqlPlanner turns a query into steps. Within a SELECT every column has a name of
// its own, table.column, and the parts of the query are rewritten to these names
// before they become settings.
type sqlPlanner struct {
	c      *Context
	graph  *subgraph
	tables map[string]relation // inputs by name
	n      int
}

// relation is rows while a query is planned.
type relation struct {
	source  subsource
	schema  *schema.Schema
	visible []visible // what the query may name, in the order of *
}

// visible is a column as the query names it.
type visible struct{ table, name, column string }

func (p *sqlPlanner) errf(at int32, format string, args ...any) error {
	return &expr.Error{Offset: int(max(at, 0)), Sentence: fmt.Sprintf(format, args...)}
}

// fresh makes a name that no column has.
func (p *sqlPlanner) fresh() string {
	p.n++
	return fmt.Sprintf("·%d", p.n)
}

// step adds a step over relations; the names in view stay those of the first.
func (p *sqlPlanner) step(s Settings, from ...relation) (relation, error) {
	sources, in := make([]subsource, len(from)), make([]*schema.Schema, len(from))
	for i, r := range from {
		sources[i], in[i] = r.source, r.schema
	}
	out, columns, err := p.graph.add(p.c, s, sources, in)
	if err != nil {
		return relation{}, p.errf(0, "%s", err)
	}
	return relation{out, columns, from[0].visible}, nil
}

// query plans a SELECT with its CTEs, set operations, order and limit. The
// columns of the result have the names the query gives them.
func (p *sqlPlanner) query(q *pg.SelectStmt, ctes map[string]relation) (relation, error) {
	known := map[string]relation{}
	for k, v := range ctes {
		known[k] = v
	}
	if w := q.WithClause; w != nil {
		if w.Recursive {
			return relation{}, p.errf(w.Location, "a query that refers to itself has no place here")
		}
		for _, n := range w.Ctes {
			cte := n.GetCommonTableExpr()
			out, err := p.query(cte.Ctequery.GetSelectStmt(), known)
			if err != nil {
				return relation{}, err
			}
			if out, err = p.renamed(out, cte.Aliascolnames); err != nil {
				return relation{}, err
			}
			known[cte.Ctename] = out
		}
	}
	if q.Op > pg.SetOperation_SETOP_NONE {
		out, err := p.setOperation(q, known)
		if err != nil {
			return relation{}, err
		}
		return p.orderOutput(q, out)
	}
	return p.selection(q, known)
}

// renamed gives columns other names, as in t(a, b).
func (p *sqlPlanner) renamed(r relation, names []*pg.Node) (relation, error) {
	if len(names) == 0 {
		return r, nil
	}
	s := &ChooseColumns{}
	for i, col := range r.schema.Columns {
		as := ""
		if i < len(names) {
			as = names[i].GetString_().GetSval()
		}
		s.Columns = append(s.Columns, Chosen{Take: col.Name, As: as})
	}
	return p.step(s, r)
}

// setOperation is UNION, INTERSECT or EXCEPT; columns meet by place.
func (p *sqlPlanner) setOperation(q *pg.SelectStmt, ctes map[string]relation) (relation, error) {
	left, err := p.query(q.Larg, ctes)
	if err != nil {
		return relation{}, err
	}
	right, err := p.query(namedByPlace(q.Rarg), ctes)
	if err != nil {
		return relation{}, err
	}
	if left.schema.Len() != right.schema.Len() {
		return relation{}, p.errf(0, "both sides of a UNION, INTERSECT or EXCEPT need the same number of columns")
	}
	align := func(r relation) (relation, error) {
		s := &ChooseColumns{}
		for i, col := range r.schema.Columns {
			t, ok := schema.Common(left.schema.Columns[i].Type, right.schema.Columns[i].Type)
			if !ok {
				return relation{}, p.errf(0, "column %d is %s on one side and %s on the other", i+1, left.schema.Columns[i].Type, right.schema.Columns[i].Type)
			}
			s.Columns = append(s.Columns, Chosen{Take: col.Name, As: left.schema.Columns[i].Name, Type: &t})
		}
		return p.step(s, r)
	}
	if right, err = align(right); err != nil {
		return relation{}, err
	}
	if left, err = align(left); err != nil {
		return relation{}, err
	}
	var out relation
	if q.Op == pg.SetOperation_SETOP_UNION {
		out, err = p.step(&Stack{}, left, right)
	} else {
		names := left.schema.Names()
		if q.All { // equal rows are told apart by their number, so that each meets one
			if left, right, err = p.numbered(left, right); err != nil {
				return relation{}, err
			}
		}
		j := &Join{Rows: JoinWith, Nulls: true}
		if q.Op == pg.SetOperation_SETOP_EXCEPT {
			j.Rows = JoinWithout
		}
		for _, name := range left.schema.Names() {
			j.On = append(j.On, JoinKey{Left: name, Right: name})
		}
		if out, err = p.step(j, left, right); err == nil && q.All {
			few := &ChooseColumns{}
			for _, name := range names {
				few.Columns = append(few.Columns, Chosen{Take: name})
			}
			out, err = p.step(few, out)
		}
	}
	if err != nil || q.All {
		return out, err
	}
	return p.step(&DropDuplicates{}, out)
}

// namedByPlace names the expressions without a name of the second query of a set
// operation: their names mean nothing there.
func namedByPlace(q *pg.SelectStmt) *pg.SelectStmt {
	q = proto.Clone(q).(*pg.SelectStmt)
	for i, n := range q.TargetList {
		if target := n.GetResTarget(); target.Name == "" && target.Val.GetColumnRef() == nil {
			target.Name = fmt.Sprintf("column %d", i+1)
		}
	}
	return q
}

// numbered numbers the equal rows of two relations with the same columns, each by
// itself, in a column behind the others.
func (p *sqlPlanner) numbered(left, right relation) (relation, relation, error) {
	number := "number"
	for slices.Contains(left.schema.Names(), number) {
		number += "_"
	}
	w := func() *WindowStep {
		return &WindowStep{By: left.schema.Names(), Values: []Derived{{number, "row_number()"}}}
	}
	l, err := p.step(w(), left)
	if err != nil {
		return left, right, err
	}
	r, err := p.step(w(), right)
	return l, r, err
}

// orderOutput sorts and limits by columns of the result.
func (p *sqlPlanner) orderOutput(q *pg.SelectStmt, r relation) (relation, error) {
	if len(q.SortClause) > 0 {
		s := &Sort{}
		for _, n := range q.SortClause {
			key := n.GetSortBy()
			name := ""
			if i := int(key.Node.GetAConst().GetIval().GetIval()); key.Node.GetAConst() != nil && i >= 1 && i <= r.schema.Len() {
				name = r.schema.Columns[i-1].Name
			} else if ref := key.Node.GetColumnRef(); ref != nil && len(ref.Fields) == 1 {
				name = ref.Fields[0].GetString_().GetSval()
			}
			if name == "" {
				return r, p.errf(key.Location, "here ORDER BY names columns of the result, by name or place")
			}
			s.By = append(s.By, sortKey(key, name))
		}
		var err error
		if r, err = p.step(s, r); err != nil {
			return r, err
		}
	}
	return p.limit(q, r)
}

func sortKey(s *pg.SortBy, name string) SortKey {
	key := SortKey{By: name, Order: Rising}
	if s.SortbyDir == pg.SortByDir_SORTBY_DESC {
		key.Order = Falling
	}
	switch s.SortbyNulls {
	case pg.SortByNulls_SORTBY_NULLS_FIRST:
		key.Nulls = "first"
	case pg.SortByNulls_SORTBY_NULLS_LAST:
		key.Nulls = "last"
	}
	return key
}

func (p *sqlPlanner) limit(q *pg.SelectStmt, r relation) (relation, error) {
	if q.LimitCount == nil && q.LimitOffset == nil {
		return r, nil
	}
	number := func(n *pg.Node, usual int64) (int64, error) {
		if n == nil || n.GetAConst().GetIsnull() {
			return usual, nil
		}
		text, err := expr.Text(n)
		if err != nil {
			return 0, err
		}
		v, err := strconv.ParseInt(strings.Trim(strings.Split(text, "::")[0], "'"), 10, 64)
		if err != nil {
			return 0, p.errf(0, "LIMIT and OFFSET are plain numbers here")
		}
		return v, nil
	}
	rows, err := number(q.LimitCount, 1<<60)
	if err != nil {
		return r, err
	}
	skip, err := number(q.LimitOffset, 0)
	if err != nil {
		return r, err
	}
	return p.step(&Limit{Rows: rows, Skip: skip}, r)
}

// from plans one entry of FROM.
func (p *sqlPlanner) from(n *pg.Node, ctes map[string]relation) (relation, error) {
	switch n := n.GetNode().(type) {
	case *pg.Node_RangeVar:
		t := n.RangeVar
		r, ok := ctes[t.Relname]
		if t.Schemaname != "" || !ok {
			if r, ok = p.tables[tableName(t)]; !ok {
				var names []string
				for name := range p.tables {
					names = append(names, name)
				}
				slices.Sort(names)
				return r, p.errf(t.Location, "there is no input %q; there are %s (name others under `with`)", tableName(t), strings.Join(names, ", "))
			}
		}
		return p.named(r, t.Alias, t.Relname)
	case *pg.Node_RangeSubselect:
		if n.RangeSubselect.Lateral {
			return relation{}, p.errf(0, "LATERAL has no place here")
		}
		r, err := p.query(n.RangeSubselect.Subquery.GetSelectStmt(), ctes)
		if err != nil {
			return r, err
		}
		return p.named(r, n.RangeSubselect.Alias, "")
	case *pg.Node_JoinExpr:
		return p.join(n.JoinExpr, ctes)
	}
	return relation{}, p.errf(0, "FROM takes inputs, sub-queries and joins; for made rows use a step that generates them")
}

// named gives the columns of a table names of their own.
func (p *sqlPlanner) named(r relation, alias *pg.Alias, name string) (relation, error) {
	if alias != nil {
		name = alias.Aliasname
		var err error
		if r, err = p.renamed(r, alias.Colnames); err != nil {
			return r, err
		}
	}
	s := &ChooseColumns{}
	var names []visible
	for _, col := range r.schema.Columns {
		own := p.fresh()
		s.Columns = append(s.Columns, Chosen{Take: col.Name, As: own})
		names = append(names, visible{name, col.Name, own})
	}
	out, err := p.step(s, r)
	out.visible = names
	return out, err
}

// join plans a JOIN. Equalities between the sides become keys; for inner joins
// other conditions filter what was joined.
func (p *sqlPlanner) join(j *pg.JoinExpr, ctes map[string]relation) (relation, error) {
	left, err := p.from(j.Larg, ctes)
	if err != nil {
		return left, err
	}
	right, err := p.from(j.Rarg, ctes)
	if err != nil {
		return right, err
	}
	var conditions []*pg.Node
	using := map[string]bool{}
	names := j.UsingClause
	if j.IsNatural {
		for _, v := range left.visible {
			if slices.ContainsFunc(right.visible, func(w visible) bool { return w.name == v.name }) {
				names = append(names, pg.MakeStrNode(v.name))
			}
		}
	}
	for _, n := range names {
		name := n.GetString_().GetSval()
		using[name] = true
		l, err := p.find(left, "", name, 0)
		if err != nil {
			return left, err
		}
		r, err := p.find(right, "", name, 0)
		if err != nil {
			return right, err
		}
		conditions = append(conditions, equalNode(l, r))
	}
	if j.Quals != nil {
		both := relation{schema: &schema.Schema{}, visible: slices.Concat(left.visible, right.visible)}
		on := proto.Clone(j.Quals).(*pg.Node)
		if err := p.resolve(on, both); err != nil {
			return left, err
		}
		conditions = conjuncts(on)
	}
	out, err := p.pairUp(j.Jointype, left, right, conditions)
	if err != nil {
		return out, err
	}
	out.visible = slices.Clone(left.visible)
	for _, v := range right.visible {
		if using[v.name] {
			i := slices.IndexFunc(out.visible, func(w visible) bool { return w.name == v.name })
			if j.Jointype == pg.JoinType_JOIN_RIGHT || j.Jointype == pg.JoinType_JOIN_FULL {
				merged := p.fresh()
				out, err = p.derive(out, merged, fmt.Sprintf("coalesce(%s, %s)", expr.QuoteName(out.visible[i].column), expr.QuoteName(v.column)))
				if err != nil {
					return out, err
				}
				out.visible[i].column = merged
			}
			out.visible = append(out.visible, visible{v.table, "", v.column}) // found by t.name alone, not by *
			out.visible[len(out.visible)-1].name = v.name + "\x00"
			continue
		}
		out.visible = append(out.visible, v)
	}
	return out, nil
}

func equalNode(l, r string) *pg.Node {
	return pg.MakeAExprNode(pg.A_Expr_Kind_AEXPR_OP, []*pg.Node{pg.MakeStrNode("=")}, columnNode(l), columnNode(r), -1)
}

func columnNode(name string) *pg.Node {
	return &pg.Node{Node: &pg.Node_ColumnRef{ColumnRef: &pg.ColumnRef{Fields: []*pg.Node{pg.MakeStrNode(name)}}}}
}

// conjuncts cuts a condition at its ANDs.
func conjuncts(n *pg.Node) []*pg.Node {
	if b := n.GetBoolExpr(); b != nil && b.Boolop == pg.BoolExprType_AND_EXPR {
		var out []*pg.Node
		for _, a := range b.Args {
			out = append(out, conjuncts(a)...)
		}
		return out
	}
	return []*pg.Node{n}
}

// side tells which relations' columns an expression names.
func side(n *pg.Node, left, right *schema.Schema) (l, r bool) {
	expr.Visit(n, func(n *pg.Node) {
		if ref := n.GetColumnRef(); ref != nil {
			name := ref.Fields[0].GetString_().GetSval()
			l = l || slices.Contains(left.Names(), name)
			r = r || slices.Contains(right.Names(), name)
		}
	})
	return l, r
}

// key gives the name of a column that holds an expression.
func (p *sqlPlanner) key(r relation, n *pg.Node) (relation, string, error) {
	if ref := n.GetColumnRef(); ref != nil && len(ref.Fields) == 1 {
		return r, ref.Fields[0].GetString_().GetSval(), nil
	}
	text, err := expr.Text(n)
	if err != nil {
		return r, "", err
	}
	name := p.fresh()
	r, err = p.derive(r, name, text)
	return r, name, err
}

func (p *sqlPlanner) derive(r relation, name, value string) (relation, error) {
	return p.step(&DeriveColumns{Columns: []DerivedEach{{Name: name, Value: value}}}, r)
}

// pairUp joins two relations on conditions.
func (p *sqlPlanner) pairUp(kind pg.JoinType, left, right relation, conditions []*pg.Node) (relation, error) {
	j := &Join{Rows: map[pg.JoinType]string{pg.JoinType_JOIN_INNER: JoinMatched, pg.JoinType_JOIN_LEFT: JoinLeft, pg.JoinType_JOIN_RIGHT: JoinRight, pg.JoinType_JOIN_FULL: JoinAll, pg.JoinType_JOIN_SEMI: JoinWith, pg.JoinType_JOIN_ANTI: JoinWithout}[kind], FanOut: 1e18}
	var rest []string
	for _, c := range conditions {
		e := c.GetAExpr()
		if e != nil && e.Kind == pg.A_Expr_Kind_AEXPR_OP && e.Name[0].GetString_().GetSval() == "=" {
			a, b := e.Lexpr, e.Rexpr
			l, r := side(a, left.schema, right.schema)
			l2, r2 := side(b, left.schema, right.schema)
			if r && !l && l2 && !r2 {
				a, b, l, r, l2, r2 = b, a, l2, r2, l, r
			}
			if l && !r && r2 && !l2 {
				var x, y string
				var err error
				if left, x, err = p.key(left, a); err != nil {
					return left, err
				}
				if right, y, err = p.key(right, b); err != nil {
					return right, err
				}
				j.On = append(j.On, JoinKey{Left: x, Right: y})
				continue
			}
		}
		text, err := expr.Text(c)
		if err != nil {
			return left, err
		}
		l, r := side(c, left.schema, right.schema)
		switch {
		case r && !l && (kind == pg.JoinType_JOIN_LEFT || kind == pg.JoinType_JOIN_SEMI || kind == pg.JoinType_JOIN_ANTI):
			if right, err = p.step(&KeepRows{Where: text}, right); err != nil {
				return right, err
			}
		case l && !r && kind == pg.JoinType_JOIN_RIGHT:
			if left, err = p.step(&KeepRows{Where: text}, left); err != nil {
				return left, err
			}
		case kind == pg.JoinType_JOIN_INNER:
			rest = append(rest, text)
		default:
			return left, p.errf(0, "an outer join takes equalities between both sides; %s is none. Filter before or after it", text)
		}
	}
	if len(j.On) == 0 {
		if kind != pg.JoinType_JOIN_INNER {
			return left, p.errf(0, "an outer join needs an equality between both sides")
		}
		j.Rows = JoinPairs
	}
	out, err := p.step(j, left, right)
	for _, text := range rest {
		if err == nil {
			out, err = p.step(&KeepRows{Where: text}, out)
		}
	}
	return out, err
}

// find gives the column that a name means.
func (p *sqlPlanner) find(r relation, table, name string, at int32) (string, error) {
	var found []visible
	for _, v := range r.visible {
		if strings.EqualFold(strings.TrimSuffix(v.name, "\x00"), name) && (table == "" && !strings.HasSuffix(v.name, "\x00") || strings.EqualFold(v.table, table)) {
			found = append(found, v)
		}
	}
	exact := slices.DeleteFunc(slices.Clone(found), func(v visible) bool { return strings.TrimSuffix(v.name, "\x00") != name })
	if len(exact) > 0 {
		found = exact
	}
	full := name
	if table != "" {
		full = table + "." + name
	}
	switch len(found) {
	case 1:
		return found[0].column, nil
	case 0:
		var names []string
		for _, v := range r.visible {
			names = append(names, strings.TrimSuffix(v.name, "\x00"))
		}
		hint := ""
		if near := schema.Nearest(name, names); near != "" {
			hint = fmt.Sprintf("; did you mean %q?", near)
		}
		return "", p.errf(at, "there is no column %q%s", full, hint)
	}
	return "", p.errf(at, "column %q stands in several tables; write table.%s", full, name)
}

// resolve rewrites the column names of an expression to those of a relation.
func (p *sqlPlanner) resolve(n *pg.Node, r relation) error {
	var failed error
	expr.Visit(n, func(n *pg.Node) {
		ref := n.GetColumnRef()
		if ref == nil || failed != nil {
			return
		}
		parts := make([]string, len(ref.Fields))
		for i, f := range ref.Fields {
			if f.GetString_() == nil {
				return // count(*) and the like
			}
			parts[i] = f.GetString_().Sval
		}
		if strings.HasPrefix(parts[0], "·") {
			return // resolved before
		}
		var column string
		switch len(parts) {
		case 1:
			column, failed = p.find(r, "", parts[0], ref.Location)
		case 2:
			column, failed = p.find(r, parts[0], parts[1], ref.Location)
		default:
			failed = p.errf(ref.Location, "a column is written as table.column")
		}
		if failed == nil {
			ref.Fields = []*pg.Node{pg.MakeStrNode(column)}
		}
	})
	return failed
}
