package step

import (
	"slices"
	"strconv"
	"strings"

	pg "github.com/pganalyze/pg_query_go/v6"
	"google.golang.org/protobuf/proto"

	"welkin/core/expr"
)

// item is one column of a SELECT.
type item struct {
	name string
	node *pg.Node // resolved
}

// selection plans a plain SELECT, in the order in which SQL works: from, where,
// group, having, windows, select, distinct, order, limit.
func (p *sqlPlanner) selection(q *pg.SelectStmt, ctes map[string]relation) (relation, error) {
	if len(q.ValuesLists) > 0 || len(q.FromClause) == 0 {
		return relation{}, p.errf(0, "a SELECT here reads from at least one input; for made rows use a step that generates them")
	}
	q = proto.Clone(q).(*pg.SelectStmt)
	r, err := p.fromAll(q, ctes)
	if err != nil {
		return r, err
	}
	var written []**pg.Node // as the query has them: queries within are planned before names are resolved
	for _, n := range q.TargetList {
		written = append(written, &n.GetResTarget().Val)
	}
	for _, n := range q.SortClause {
		written = append(written, &n.GetSortBy().Node)
	}
	if q.HavingClause != nil {
		written = append(written, &q.HavingClause)
	}
	if r, err = p.scalars(r, ctes, written); err != nil {
		return r, err
	}
	items, err := p.items(q, r)
	if err != nil {
		return r, err
	}
	order, err := p.orderItems(q, r, items)
	if err != nil {
		return r, err
	}
	all := make([]**pg.Node, 0, len(items)+len(order)+1)
	for i := range items {
		all = append(all, &items[i].node)
	}
	for i := range order {
		all = append(all, &order[i].node)
	}
	for i := range q.DistinctClause {
		if q.DistinctClause[i].GetNode() != nil {
			if err := p.resolve(q.DistinctClause[i], r); err != nil {
				return r, err
			}
			all = append(all, &q.DistinctClause[i])
		}
	}
	if q.HavingClause != nil {
		if err := p.resolve(q.HavingClause, r); err != nil {
			return r, err
		}
		all = append(all, &q.HavingClause)
	}
	if r, err = p.group(q, r, items, all); err != nil {
		return r, err
	}
	if q.HavingClause != nil {
		text, err := expr.Text(q.HavingClause)
		if err != nil {
			return r, err
		}
		if r, err = p.step(&KeepRows{Where: text}, r); err != nil {
			return r, err
		}
	}
	if r, err = p.windows(q, r, all); err != nil {
		return r, err
	}
	return p.output(q, r, items, order)
}

// fromAll plans FROM and WHERE.
func (p *sqlPlanner) fromAll(q *pg.SelectStmt, ctes map[string]relation) (relation, error) {
	r, err := p.from(q.FromClause[0], ctes)
	if err != nil {
		return r, err
	}
	var conditions []*pg.Node
	if q.WhereClause != nil {
		conditions = conjuncts(q.WhereClause)
	}
	for _, n := range q.FromClause[1:] { // FROM a, b: conditions that join them are used as keys
		next, err := p.from(n, ctes)
		if err != nil {
			return r, err
		}
		both := relation{visible: slices.Concat(r.visible, next.visible)}
		var keys, later []*pg.Node
		for _, c := range conditions {
			try := proto.Clone(c).(*pg.Node)
			e := try.GetAExpr()
			if e != nil && e.Kind == pg.A_Expr_Kind_AEXPR_OP && e.Name[0].GetString_().GetSval() == "=" && !hasQuery(try) && p.resolve(try, both) == nil {
				l, rr := side(e.Lexpr, r.schema, next.schema)
				l2, r2 := side(e.Rexpr, r.schema, next.schema)
				if l && !rr && r2 && !l2 || rr && !l && l2 && !r2 {
					keys = append(keys, try)
					continue
				}
			}
			later = append(later, c)
		}
		conditions = later
		joined, err := p.pairUp(pg.JoinType_JOIN_INNER, r, next, keys)
		if err != nil {
			return r, err
		}
		joined.visible = both.visible
		r = joined
	}
	for _, c := range conditions {
		if r, err = p.where(r, c, ctes); err != nil {
			return r, err
		}
	}
	return r, nil
}

func hasAggregate(n *pg.Node) bool {
	found := false
	expr.Visit(n, func(n *pg.Node) { found = found || expr.IsAggregate(n.GetFuncCall()) })
	return found
}

// items lists the columns of a SELECT, * written out.
func (p *sqlPlanner) items(q *pg.SelectStmt, r relation) ([]item, error) {
	var out []item
	for _, n := range q.TargetList {
		target := n.GetResTarget()
		if ref := target.Val.GetColumnRef(); ref != nil && ref.Fields[len(ref.Fields)-1].GetAStar() != nil {
			table := ""
			if len(ref.Fields) > 1 {
				table = ref.Fields[0].GetString_().GetSval()
			}
			before := len(out)
			for _, v := range r.visible {
				if hidden := strings.HasSuffix(v.name, "\x00"); table == "" && !hidden || table != "" && strings.EqualFold(v.table, table) {
					out = append(out, item{strings.TrimSuffix(v.name, "\x00"), columnNode(v.column)})
				}
			}
			if len(out) == before {
				return nil, p.errf(ref.Location, "there is no table %q in FROM", table)
			}
			continue
		}
		name := target.Name
		if name == "" {
			name = nameOf(target.Val)
		}
		if err := p.resolve(target.Val, r); err != nil {
			return nil, err
		}
		out = append(out, item{name, target.Val})
	}
	return out, nil
}

// nameOf is the name that SQL gives a column without one.
func nameOf(n *pg.Node) string {
	switch e := n.GetNode().(type) {
	case *pg.Node_ColumnRef:
		return e.ColumnRef.Fields[len(e.ColumnRef.Fields)-1].GetString_().GetSval()
	case *pg.Node_FuncCall:
		return e.FuncCall.Funcname[len(e.FuncCall.Funcname)-1].GetString_().GetSval()
	case *pg.Node_TypeCast:
		if inner := nameOf(e.TypeCast.Arg); inner != "column" {
			return inner
		}
		names := e.TypeCast.TypeName.Names
		return names[len(names)-1].GetString_().GetSval()
	case *pg.Node_CoalesceExpr:
		return "coalesce"
	case *pg.Node_CaseExpr:
		return "case"
	}
	return "column"
}

// orderItem is one entry of ORDER BY.
type orderItem struct {
	by   *pg.SortBy
	node *pg.Node
}

// orderItems resolves ORDER BY: a place, the name of a column of the result, or
// an expression.
func (p *sqlPlanner) orderItems(q *pg.SelectStmt, r relation, items []item) ([]orderItem, error) {
	var out []orderItem
	for _, n := range q.SortClause {
		by := n.GetSortBy()
		node := by.Node
		if c := node.GetAConst(); c.GetIval() != nil {
			i := int(c.GetIval().Ival)
			if i < 1 || i > len(items) {
				return nil, p.errf(by.Location, "there is no column %d in the result", i)
			}
			node = proto.Clone(items[i-1].node).(*pg.Node)
		} else if ref := node.GetColumnRef(); ref != nil && len(ref.Fields) == 1 && slices.ContainsFunc(items, func(it item) bool { return it.name == ref.Fields[0].GetString_().GetSval() }) {
			i := slices.IndexFunc(items, func(it item) bool { return it.name == ref.Fields[0].GetString_().GetSval() })
			node = proto.Clone(items[i].node).(*pg.Node)
		} else if err := p.resolve(node, r); err != nil {
			return nil, err
		}
		out = append(out, orderItem{by, node})
	}
	return out, nil
}

// group plans GROUP BY and aggregates; afterwards the nodes name their results.
func (p *sqlPlanner) group(q *pg.SelectStmt, r relation, items []item, nodes []**pg.Node) (relation, error) {
	aggregated := len(q.GroupClause) > 0
	for _, n := range nodes {
		aggregated = aggregated || hasAggregate(*n)
	}
	if !aggregated {
		return r, nil
	}
	g := &Group{}
	keys := map[string]string{} // text of an expression → its column
	for _, n := range q.GroupClause {
		if n.GetGroupingSet() != nil {
			return r, p.errf(0, "grouping sets have no place here; stack several groups instead")
		}
		node := n
		if c := n.GetAConst(); c.GetIval() != nil {
			i := int(c.GetIval().Ival)
			if i < 1 || i > len(items) {
				return r, p.errf(0, "there is no column %d in the result", i)
			}
			node = items[i-1].node
		} else if ref := n.GetColumnRef(); ref != nil && len(ref.Fields) == 1 && p.resolve(proto.Clone(n).(*pg.Node), r) != nil {
			i := slices.IndexFunc(items, func(it item) bool { return it.name == ref.Fields[0].GetString_().GetSval() })
			if i < 0 {
				return r, p.resolve(n, r)
			}
			node = items[i].node
		} else if err := p.resolve(n, r); err != nil {
			return r, err
		}
		text, err := expr.Text(proto.Clone(node).(*pg.Node))
		if err != nil {
			return r, err
		}
		var column string
		if r, column, err = p.key(r, proto.Clone(node).(*pg.Node)); err != nil {
			return r, err
		}
		keys[text] = column
		if !slices.Contains(g.By, column) {
			g.By = append(g.By, column)
		}
	}
	done := map[string]string{} // text of an aggregate → its column
	for _, place := range nodes {
		if err := replace(place, func(n *pg.Node) (*pg.Node, error) {
			text, err := expr.Text(proto.Clone(n).(*pg.Node))
			if err != nil {
				return nil, nil // no expression of its own
			}
			if column, ok := keys[text]; ok {
				return columnNode(column), nil
			}
			if !expr.IsAggregate(n.GetFuncCall()) {
				return nil, nil
			}
			column, ok := done[text]
			if !ok {
				column = p.fresh()
				done[text] = column
				g.Values = append(g.Values, Derived{Name: column, Value: text})
			}
			return columnNode(column), nil
		}); err != nil {
			return r, err
		}
	}
	visible := r.visible
	out, err := p.step(g, r)
	if err != nil {
		return r, err
	}
	for _, place := range nodes { // what is neither key nor aggregate is gone now
		var lost error
		expr.Visit(*place, func(n *pg.Node) {
			if ref := n.GetColumnRef(); ref != nil && lost == nil && ref.Fields[0].GetString_() != nil {
				if name := ref.Fields[0].GetString_().Sval; !slices.Contains(out.schema.Names(), name) {
					shown := name
					for _, v := range visible {
						if v.column == name {
							shown = v.name
						}
					}
					lost = p.errf(ref.Location, "column %q must stand in GROUP BY or inside an aggregate", shown)
				}
			}
		})
		if lost != nil {
			return r, lost
		}
	}
	return out, nil
}

// replace walks an expression and puts other nodes in the place of those for
// which fn gives one.
func replace(place **pg.Node, fn func(*pg.Node) (*pg.Node, error)) error {
	var failed error
	expr.Visit(*place, func(n *pg.Node) {
		if failed != nil {
			return
		}
		other, err := fn(n)
		if failed = err; other != nil {
			n.Node = other.Node
		}
	})
	return failed
}

// Bits of a frame, from PostgreSQL's parsenodes.h.
const (
	frameNonDefault     = 0x1
	frameRows           = 0x4
	frameGroups         = 0x8
	startUnbounded      = 0x20
	endUnbounded        = 0x100
	startCurrent        = 0x200
	endCurrent          = 0x400
	startOffsetBefore   = 0x800
	endOffsetBefore     = 0x1000
	startOffsetBehind   = 0x2000
	endOffsetBehind     = 0x4000
	frameExclusionStart = 0x8000
)

// windows plans calls with OVER; afterwards the nodes name their results.
func (p *sqlPlanner) windows(q *pg.SelectStmt, r relation, nodes []**pg.Node) (relation, error) {
	named := map[string]*pg.WindowDef{}
	for _, n := range q.WindowClause {
		named[n.GetWindowDef().Name] = n.GetWindowDef()
	}
	for _, place := range nodes {
		err := replace(place, func(n *pg.Node) (*pg.Node, error) {
			c := n.GetFuncCall()
			if c == nil || c.Over == nil {
				return nil, nil
			}
			over := c.Over
			if over.Name != "" || over.Refname != "" {
				over = named[over.Name+over.Refname]
				if over == nil {
					return nil, p.errf(c.Location, "there is no window %q", c.Over.Name+c.Over.Refname)
				}
			}
			w, next, err := p.windowStep(over, r)
			if err != nil {
				return nil, err
			}
			call := proto.Clone(n).(*pg.Node)
			call.GetFuncCall().Over = nil
			text, err := expr.Text(call)
			if err != nil {
				return nil, err
			}
			column := p.fresh()
			w.Values = []Derived{{Name: column, Value: text}}
			if r, err = p.step(w, next); err != nil {
				return nil, err
			}
			return columnNode(column), nil
		})
		if err != nil {
			return r, err
		}
	}
	return r, nil
}

func (p *sqlPlanner) windowStep(over *pg.WindowDef, r relation) (*WindowStep, relation, error) {
	w := &WindowStep{}
	for _, n := range over.PartitionClause {
		if err := p.resolve(n, r); err != nil {
			return nil, r, err
		}
		var column string
		var err error
		if r, column, err = p.key(r, n); err != nil {
			return nil, r, err
		}
		w.By = append(w.By, column)
	}
	for _, n := range over.OrderClause {
		by := n.GetSortBy()
		if err := p.resolve(by.Node, r); err != nil {
			return nil, r, err
		}
		var column string
		var err error
		if r, column, err = p.key(r, by.Node); err != nil {
			return nil, r, err
		}
		w.Order = append(w.Order, sortKey(by, column))
	}
	f := over.FrameOptions
	if f&frameNonDefault == 0 {
		return w, r, nil
	}
	number := func(n *pg.Node) string { return itoa(n.GetAConst().GetIval().GetIval()) }
	frame := &FrameSet{Before: "all", After: "0"}
	switch {
	case f >= frameExclusionStart, f&frameGroups != 0, f&startOffsetBehind != 0, f&endOffsetBefore != 0:
		return nil, r, p.errf(over.Location, "this frame has no place here; write ROWS BETWEEN n PRECEDING AND n FOLLOWING")
	case f&startUnbounded != 0 && f&endUnbounded != 0:
		frame.After = "all"
	case f&frameRows == 0 && f&startUnbounded != 0 && f&endCurrent != 0:
		return w, r, nil
	case f&frameRows == 0:
		return nil, r, p.errf(over.Location, "a frame that does not reach from the first row is counted in ROWS here")
	}
	switch {
	case f&startCurrent != 0:
		frame.Before = "0"
	case f&startOffsetBefore != 0:
		frame.Before = number(over.StartOffset)
	}
	switch {
	case f&endUnbounded != 0:
		frame.After = "all"
	case f&endOffsetBehind != 0:
		frame.After = number(over.EndOffset)
	}
	w.Frame = frame
	return w, r, nil
}

// output computes the result's columns, orders, limits and names them.
func (p *sqlPlanner) output(q *pg.SelectStmt, r relation, items []item, order []orderItem) (relation, error) {
	columns := make([]string, len(items))
	var err error
	for i, it := range items {
		if r, columns[i], err = p.key(r, it.node); err != nil {
			return r, err
		}
	}
	sort := &Sort{}
	for _, o := range order {
		var column string
		if r, column, err = p.key(r, o.node); err != nil {
			return r, err
		}
		sort.By = append(sort.By, sortKey(o.by, column))
	}
	if len(q.DistinctClause) > 0 && q.DistinctClause[0].GetNode() != nil {
		d := &DropDuplicates{Keep: sort.By}
		for _, n := range q.DistinctClause {
			var column string
			if r, column, err = p.key(r, n); err != nil {
				return r, err
			}
			d.By = append(d.By, column)
		}
		if r, err = p.step(d, r); err != nil {
			return r, err
		}
	}
	plain := len(q.DistinctClause) > 0 && q.DistinctClause[0].GetNode() == nil
	if len(sort.By) > 0 && !plain {
		if r, err = p.step(sort, r); err != nil {
			return r, err
		}
	}
	choose := &ChooseColumns{}
	for i, it := range items {
		choose.Columns = append(choose.Columns, Chosen{Take: columns[i], As: it.name})
	}
	names := map[string]bool{}
	for _, it := range items {
		if names[it.name] {
			return r, p.errf(0, "two columns of the result are called %q; give one another name with AS", it.name)
		}
		names[it.name] = true
	}
	if r, err = p.step(choose, r); err != nil {
		return r, err
	}
	if plain {
		if r, err = p.step(&DropDuplicates{}, r); err != nil {
			return r, err
		}
		if len(sort.By) > 0 {
			for i := range sort.By {
				at := slices.Index(columns, sort.By[i].By)
				if at < 0 {
					return r, p.errf(0, "with DISTINCT, ORDER BY names columns of the result")
				}
				sort.By[i].By = items[at].name
			}
			if r, err = p.step(sort, r); err != nil {
				return r, err
			}
		}
	}
	r.visible = nil
	return p.limit(q, r)
}

func itoa(n int32) string { return strconv.Itoa(int(n)) }
