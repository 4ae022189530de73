package expr

import (
	"fmt"
	"slices"
	"strconv"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	pg "github.com/pganalyze/pg_query_go/v6"

	"welkin/core/batch"
	"welkin/core/schema"
)

// Aggregate is one aggregate call found in a group step's expression.
type Aggregate struct {
	Name     string
	Args     []*Program // the value, then what it is ordered by; none for count(*)
	Order    []Direction
	Filter   *Program // nil when every row counts
	Distinct bool
	Type     schema.Type
	Text     int     // number of the text that it stands in
	fraction float64 // of a percentile
	between  string  // of string_agg
}

// Direction is how one value of an ORDER BY is ordered.
type Direction struct{ Descending, NullsFirst bool }

// AggregateHelp explains an aggregate function, for completion and help.
type AggregateHelp struct {
	Name    string `json:"name"`
	Help    string `json:"help"`
	Example string `json:"example"`
}

// Aggregates lists the aggregate functions. Each takes DISTINCT and FILTER.
func Aggregates() []AggregateHelp {
	return []AggregateHelp{
		{"count", "number of rows, or of values that are not null", "count(*), count(DISTINCT hut)"},
		{"sum", "the values added up", "sum(nights) FILTER (WHERE guests > 1)"},
		{"avg", "the mean", "avg(price)"},
		{"min", "the least value", "min(arrived)"},
		{"max", "the greatest value", "max(arrived)"},
		{"first", "the value of the first row in an order (Welkin's own)", "first(warden ORDER BY day)"},
		{"last", "the value of the last row in an order (Welkin's own)", "last(warden ORDER BY day)"},
		{"median", "the value in the middle (Welkin's own)", "median(nights)"},
		{"percentile_cont", "the value below which a share of the rows lies, between two if need be", "percentile_cont(0.9) WITHIN GROUP (ORDER BY nights)"},
		{"percentile_disc", "the first value at or above a share of the rows", "percentile_disc(0.5) WITHIN GROUP (ORDER BY nights)"},
		{"mode", "the most frequent value, the least of several", "mode() WITHIN GROUP (ORDER BY hut)"},
		{"string_agg", "the texts with a separator between", "string_agg(hut, ', ' ORDER BY hut)"},
		{"array_agg", "the values as a list", "array_agg(hut ORDER BY night)"},
		{"bool_and", "whether all are true", "bool_and(paid)"},
		{"every", "whether all are true", "every(paid)"},
		{"bool_or", "whether one is true", "bool_or(paid)"},
		{"stddev", "the standard deviation of a sample", "stddev(nights)"},
		{"stddev_samp", "the standard deviation of a sample", "stddev_samp(nights)"},
		{"stddev_pop", "the standard deviation of all", "stddev_pop(nights)"},
		{"variance", "the variance of a sample", "variance(nights)"},
		{"var_samp", "the variance of a sample", "var_samp(nights)"},
		{"var_pop", "the variance of all", "var_pop(nights)"},
	}
}

var aggregateNames = func() map[string]bool {
	m := map[string]bool{}
	for _, a := range Aggregates() {
		m[a.Name] = true
	}
	return m
}()

func isAggregate(name string) bool { return aggregateNames[name] }

// aggregates gathers the aggregate calls of a group step while its expressions
// are bound. An expression then runs over rows of keys followed by results.
type aggregates struct {
	keys  []int // places of the key columns in the input
	found []Aggregate
}

// key gives a key column as it stands after grouping.
func (a *aggregates) key(b *binder, column int, name string, at int32) (node, error) {
	if i := slices.Index(a.keys, column); i >= 0 {
		return &columnNode{i, b.scope.Schema.Columns[column].Type}, nil
	}
	return nil, &Error{b.place(int(at)), fmt.Sprintf("column %q must stand inside an aggregate such as sum(%s), or be one of the columns to group by", name, name)}
}

// program binds a part of an aggregate call over the rows that go in.
func (a *aggregates) program(b *binder, n *pg.Node) (*Program, error) {
	inner := &binder{parsed: b.parsed, scope: b.scope}
	root, err := inner.bind(n)
	if err != nil {
		return nil, err
	}
	root = inner.settled(root, n)
	if b.own == "" {
		b.own = inner.own
	}
	return &Program{Type: root.typ(), Columns: inner.columns, root: root, Text: b.text}, nil
}

// collect binds an aggregate call; place is where it stands in the tree.
func (a *aggregates) collect(b *binder, name string, c *pg.FuncCall, place *pg.Node) (node, error) {
	agg := Aggregate{Name: name, Distinct: c.AggDistinct}
	if name == "every" {
		agg.Name = "bool_and"
	}
	args, order := c.Args, c.AggOrder
	if name == "percentile_cont" || name == "percentile_disc" || name == "mode" {
		if !c.AggWithinGroup || len(order) != 1 {
			return nil, b.errf(c.Location, "%s is written as %s(…) WITHIN GROUP (ORDER BY nights)", name, name)
		}
		if name != "mode" {
			share, err := b.bindAll(args)
			if err != nil {
				return nil, err
			}
			if agg.fraction, err = constNumber(share); err != nil || agg.fraction < 0 || agg.fraction > 1 {
				return nil, b.errf(c.Location, "%s takes a share from 0 to 1, such as 0.5", name)
			}
		}
		args = []*pg.Node{order[0].GetSortBy().Node}
		dir := directionOf(c.AggOrder[0].GetSortBy())
		agg.Order, order = []Direction{dir}, nil
	} else if c.AggWithinGroup {
		return nil, b.errf(c.Location, "%s has no WITHIN GROUP; write %s(x ORDER BY y)", name, name)
	}
	if name == "median" {
		agg.Name, agg.fraction, agg.Order = "percentile_cont", 0.5, []Direction{{}}
	}
	if name == "string_agg" && len(args) == 2 {
		between, err := b.bind(args[1])
		if err != nil {
			return nil, err
		}
		text, ok := between.(*constNode)
		if !ok || text.value.DataType().ID() != arrow.STRING || text.value.IsNull(0) {
			return nil, b.errf(c.Location, "the separator of string_agg is a text, such as ', '")
		}
		agg.between, args = text.value.(*array.String).Value(0), args[:1]
	} else if name == "string_agg" {
		return nil, b.errf(c.Location, "string_agg takes a text and a separator, such as string_agg(hut, ', ')")
	}
	switch {
	case c.AggStar && name != "count":
		return nil, b.errf(c.Location, "%s(*) has no meaning; name a column", name)
	case c.AggStar:
		agg.Type = intType
	case len(args) != 1:
		return nil, b.errf(c.Location, "%s takes one argument", name)
	default:
		arg, err := a.program(b, args[0])
		if err != nil {
			return nil, err
		}
		if name == "string_agg" && arg.Type.Kind != schema.Text {
			return nil, b.errf(c.Location, "string_agg takes text, not %s; CAST it first", arg.Type)
		}
		if agg.Type, err = aggregateType(agg.Name, arg.Type); err != nil {
			return nil, b.errf(c.Location, "%s", err)
		}
		agg.Args = []*Program{arg}
	}
	if len(order) > 0 && agg.Distinct {
		return nil, b.errf(c.Location, "DISTINCT orders by the value itself; leave out the ORDER BY")
	}
	for _, o := range order {
		by, err := a.program(b, o.GetSortBy().Node)
		if err != nil {
			return nil, err
		}
		if !batch.Orderable(by.Type) {
			return nil, b.errf(c.Location, "%s has no order", by.Type)
		}
		if agg.collects() { // to others the order makes no difference
			agg.Args, agg.Order = append(agg.Args, by), append(agg.Order, directionOf(o.GetSortBy()))
		}
	}
	if c.AggFilter != nil {
		inner := &binder{parsed: b.parsed, scope: b.scope}
		cond, err := inner.condition(c.AggFilter, c.Location)
		if err != nil {
			return nil, err
		}
		agg.Filter = &Program{Type: boolType, Columns: inner.columns, root: cond}
	}
	a.found = append(a.found, agg)
	inSQL(name, c, place)
	return &columnNode{len(a.keys) + len(a.found) - 1, agg.Type}, nil
}

// inSQL writes Welkin's own aggregates as PostgreSQL has them.
func inSQL(name string, c *pg.FuncCall, place *pg.Node) {
	switch name {
	case "median":
		c.AggOrder = []*pg.Node{{Node: &pg.Node_SortBy{SortBy: &pg.SortBy{Node: c.Args[0], SortbyDir: pg.SortByDir_SORTBY_DEFAULT, SortbyNulls: pg.SortByNulls_SORTBY_NULLS_DEFAULT}}}}
		c.Funcname, c.Args, c.AggWithinGroup = []*pg.Node{pg.MakeStrNode("percentile_cont")}, []*pg.Node{floatConst("0.5")}, true
	case "first", "last":
		c.Funcname = []*pg.Node{pg.MakeStrNode("array_agg")}
		at := pg.MakeAConstIntNode(1, -1)
		if name == "last" {
			at = &pg.Node{Node: &pg.Node_FuncCall{FuncCall: &pg.FuncCall{Funcname: []*pg.Node{pg.MakeStrNode("count")}, AggStar: true, AggFilter: c.AggFilter, Funcformat: pg.CoercionForm_COERCE_EXPLICIT_CALL}}}
		}
		index := &pg.Node{Node: &pg.Node_AIndices{AIndices: &pg.A_Indices{Uidx: at}}}
		place.Node = &pg.Node_AIndirection{AIndirection: &pg.A_Indirection{Arg: &pg.Node{Node: &pg.Node_FuncCall{FuncCall: c}}, Indirection: []*pg.Node{index}}}
	}
}

func floatConst(text string) *pg.Node {
	return &pg.Node{Node: &pg.Node_AConst{AConst: &pg.A_Const{Val: &pg.A_Const_Fval{Fval: &pg.Float{Fval: text}}}}}
}

func directionOf(s *pg.SortBy) Direction {
	d := Direction{Descending: s.SortbyDir == pg.SortByDir_SORTBY_DESC}
	d.NullsFirst = d.Descending && s.SortbyNulls != pg.SortByNulls_SORTBY_NULLS_LAST || s.SortbyNulls == pg.SortByNulls_SORTBY_NULLS_FIRST
	return d
}

func constNumber(nodes []node) (float64, error) {
	if len(nodes) != 1 {
		return 0, fmt.Errorf("one number is expected")
	}
	c, ok := nodes[0].(*constNode)
	if !ok || c.value.IsNull(0) {
		return 0, fmt.Errorf("a plain number is expected")
	}
	return strconv.ParseFloat(batch.Text(c.value, c.t, 0), 64)
}

// collects tells whether the aggregate keeps the values themselves.
func (a Aggregate) collects() bool {
	switch a.Name {
	case "first", "last", "array_agg", "string_agg", "percentile_cont", "percentile_disc", "mode":
		return true
	}
	return false
}

func aggregateType(name string, arg schema.Type) (schema.Type, error) {
	switch name {
	case "count":
		return intType, nil
	case "first", "last", "string_agg":
		return arg, nil
	case "array_agg":
		return schema.ListOf(arg), nil
	case "min", "max", "percentile_disc", "mode":
		if !batch.Orderable(arg) || arg.Kind == schema.Bool && name != "mode" {
			return arg, fmt.Errorf("%s has no order, so %s has no meaning", arg, name)
		}
		return arg, nil
	case "bool_and", "bool_or":
		if arg.Kind != schema.Bool {
			return arg, fmt.Errorf("%s takes true or false, not %s", name, arg)
		}
		return arg, nil
	}
	if !arg.Numeric() {
		return arg, fmt.Errorf("%s takes numbers, not %s; CAST it first", name, arg)
	}
	switch {
	case arg.Kind == schema.Float, name != "sum" && name != "avg":
		return floatType, nil
	case name == "avg":
		return schema.DecimalOf(schema.MaxPrecision, max(16, arg.Scale)), nil
	}
	// A sum of int is decimal in PostgreSQL, so that it can't overflow.
	return schema.DecimalOf(schema.MaxPrecision, arg.Scale), nil
}

// BindAggregates binds the expressions of a group step. Each result is a program
// over rows that hold the keys first and then the aggregates' results.
func BindAggregates(texts []string, keys []int, scope Scope) (programs []*Program, found []Aggregate, errs []error) {
	a := &aggregates{keys: keys}
	programs, errs = make([]*Program, len(texts)), make([]error, len(texts))
	for i, text := range texts {
		p, err := parse(text)
		if err == nil {
			before := len(a.found)
			b := &binder{parsed: p, scope: scope, aggregates: a}
			var root node
			root, err = b.bind(p.node)
			for k := before; k < len(a.found); k++ {
				a.found[k].Text = i
			}
			if err == nil && len(a.found) == before {
				err = &Error{0, "an aggregate is expected here, such as count(*) or sum(nights)"}
			}
			if err == nil {
				if root.typ().Kind == schema.Unknown {
					root = castNode(root, textType)
				}
				programs[i] = &Program{Type: root.typ(), root: root, Text: text, tree: p.node, own: b.own}
			}
		}
		errs[i] = err
	}
	return programs, a.found, errs
}
