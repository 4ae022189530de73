package expr

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"github.com/apache/arrow-go/v18/arrow/array"
	pg "github.com/pganalyze/pg_query_go/v6"

	"welkin/core/batch"
	"welkin/core/schema"
)

// Param is a parameter's type and its value as text; nil is null.
type Param struct {
	Type  schema.Type
	Value *string
}

// Scope is what an expression may name.
type Scope struct {
	Schema *schema.Schema
	Params map[string]Param
	This   int // the column that :this means, counted from 1; 0 for none
}

// Bind reads an expression and gives it types. Errors are *Error.
func Bind(text string, scope Scope) (*Program, error) {
	p, err := parse(text)
	if err != nil {
		return nil, err
	}
	b := &binder{parsed: p, scope: scope}
	root, err := b.bind(p.node)
	if err != nil {
		return nil, err
	}
	if root.typ().Kind == schema.Unknown {
		root = castNode(root, schema.Of(schema.Text))
	}
	return &Program{Type: root.typ(), Columns: b.columns, root: root, Text: text, tree: p.node, own: b.own}, nil
}

// BindCondition is Bind for an expression that must be true or false.
func BindCondition(text string, scope Scope) (*Program, error) {
	p, err := Bind(text, scope)
	if err == nil && p.Type.Kind != schema.Bool {
		return nil, &Error{0, fmt.Sprintf("a condition is expected here, true or false; this is %s", p.Type)}
	}
	return p, err
}

type binder struct {
	*parsed
	scope      Scope
	columns    []int
	aggregates *aggregates // nil outside of a group step
	windows    *windows    // nil outside of a window step
	own        string      // the first function met that PostgreSQL has not
}

func (b *binder) errf(at int32, format string, args ...any) error {
	return &Error{b.place(int(at)), fmt.Sprintf(format, args...)}
}

func (b *binder) bindAll(list []*pg.Node) ([]node, error) {
	out := make([]node, len(list))
	for i, n := range list {
		var err error
		if out[i], err = b.bind(n); err != nil {
			return nil, err
		}
	}
	return out, nil
}

func (b *binder) bind(at *pg.Node) (node, error) {
	switch n := at.GetNode().(type) {
	case *pg.Node_AConst:
		return b.bindConst(n.AConst)
	case *pg.Node_ColumnRef:
		return b.bindColumn(n.ColumnRef)
	case *pg.Node_ParamRef:
		return b.bindParam(n.ParamRef, at)
	case *pg.Node_AExpr:
		return b.bindOperator(n.AExpr)
	case *pg.Node_BoolExpr:
		return b.bindLogic(n.BoolExpr)
	case *pg.Node_NullTest:
		enclose(&n.NullTest.Arg)
		arg, err := b.bind(n.NullTest.Arg)
		if err != nil {
			return nil, err
		}
		return nullTest(arg, n.NullTest.Nulltesttype == pg.NullTestType_IS_NULL), nil
	case *pg.Node_BooleanTest:
		return b.bindBooleanTest(n.BooleanTest)
	case *pg.Node_CaseExpr:
		return b.bindCase(n.CaseExpr)
	case *pg.Node_CoalesceExpr:
		args, t, err := b.bindCommon(n.CoalesceExpr.Args, n.CoalesceExpr.Location, "COALESCE")
		if err != nil {
			return nil, err
		}
		return &coalesceNode{t, args}, nil
	case *pg.Node_MinMaxExpr:
		return b.bindExtreme(n.MinMaxExpr)
	case *pg.Node_TypeCast:
		return b.bindCast(n.TypeCast)
	case *pg.Node_FuncCall:
		return b.bindCall(n.FuncCall, at)
	case *pg.Node_AArrayExpr:
		return b.bindArray(n.AArrayExpr)
	case *pg.Node_RowExpr:
		return b.bindRow(n.RowExpr)
	case *pg.Node_AIndirection:
		return b.bindIndirection(n.AIndirection)
	case *pg.Node_CollateClause:
		return b.bindCollate(n.CollateClause)
	case *pg.Node_SqlvalueFunction:
		if name, ok := valueFunctions[n.SqlvalueFunction.Op]; ok {
			return b.resolve(name, nil, n.SqlvalueFunction.Location)
		}
	}
	what := strings.TrimPrefix(fmt.Sprintf("%T", at.GetNode()), "*pg_query.Node_")
	return nil, &Error{0, fmt.Sprintf("this kind of SQL (%s) can't stand in a row's expression", what)}
}

// valueFunctions are functions written without brackets.
var valueFunctions = map[pg.SQLValueFunctionOp]string{
	pg.SQLValueFunctionOp_SVFOP_CURRENT_DATE: "current_date", pg.SQLValueFunctionOp_SVFOP_CURRENT_TIMESTAMP: "now", pg.SQLValueFunctionOp_SVFOP_CURRENT_TIMESTAMP_N: "now",
	pg.SQLValueFunctionOp_SVFOP_LOCALTIMESTAMP: "localtimestamp", pg.SQLValueFunctionOp_SVFOP_LOCALTIMESTAMP_N: "localtimestamp",
	pg.SQLValueFunctionOp_SVFOP_LOCALTIME: "localtime", pg.SQLValueFunctionOp_SVFOP_LOCALTIME_N: "localtime",
}

// bindCollate takes the byte order, which is the only one Welkin has.
func (b *binder) bindCollate(c *pg.CollateClause) (node, error) {
	for _, part := range c.Collname {
		if name := part.GetString_().GetSval(); name != "C" && name != "POSIX" && name != "pg_catalog" {
			return nil, b.errf(c.Location, "text is ordered by bytes here (COLLATE \"C\"); there is no order %q", name)
		}
	}
	return b.bind(c.Arg)
}

// literal makes a constant of text.
func literal(t schema.Type, text *string) (*constNode, *batch.Fault) {
	out := batch.NewBuilder(t)
	if text == nil {
		out.AppendNull()
	} else if spans, ok := out.(*array.MonthDayNanoIntervalBuilder); ok {
		v, fault := parseInterval(*text, "")
		if fault != nil {
			return nil, fault
		}
		spans.Append(v)
	} else if fault := batch.AppendText(out, t, *text); fault != nil {
		return nil, fault
	}
	return &constNode{t: t, value: out.NewArray()}, nil
}

func (b *binder) bindConst(c *pg.A_Const) (node, error) {
	text, t := "", schema.Type{}
	switch v := c.Val.(type) {
	case *pg.A_Const_Ival:
		t, text = schema.Of(schema.Int), fmt.Sprint(v.Ival.Ival)
	case *pg.A_Const_Fval:
		text = v.Fval.Fval
		t = schema.Of(schema.Int) // a whole number too large for 32 bits
		if _, fault := batch.ParseInt(text); fault != nil {
			whole, fraction, _ := strings.Cut(strings.ToLower(text), ".")
			t = schema.DecimalOf(max(len(whole)+len(fraction), 1), len(fraction))
			if strings.ContainsAny(text, "eE") || t.Precision < len(whole)+len(fraction) {
				t = schema.Of(schema.Float)
			}
		}
	case *pg.A_Const_Sval:
		text = v.Sval.Sval
	case *pg.A_Const_Boolval:
		t, text = schema.Of(schema.Bool), fmt.Sprint(v.Boolval.Boolval)
	default:
		n, _ := literal(schema.Type{}, nil)
		return n, nil
	}
	n, fault := literal(t, &text)
	if fault != nil {
		return nil, b.errf(c.Location, "%s", fault.Sentence)
	}
	return n, nil
}

// bindParam binds a parameter and puts its value in the tree in its place.
func (b *binder) bindParam(r *pg.ParamRef, place *pg.Node) (node, error) {
	if r.Number < 1 || int(r.Number) > len(b.params) {
		return nil, b.errf(r.Location, "parameters are written by name, such as :since")
	}
	name := b.params[r.Number-1]
	if name == "this" && b.scope.This > 0 {
		place.Node = &pg.Node_ColumnRef{ColumnRef: &pg.ColumnRef{Fields: []*pg.Node{pg.MakeStrNode(b.scope.Schema.Columns[b.scope.This-1].Name)}, Location: r.Location}}
		return b.bind(place)
	}
	p, ok := b.scope.Params[name]
	if !ok {
		names := make([]string, 0, len(b.scope.Params))
		for n := range b.scope.Params {
			names = append(names, n)
		}
		slices.Sort(names)
		return nil, b.errf(r.Location, "the sheet has no parameter %q%s", name, didYouMean(name, names))
	}
	n, fault := literal(p.Type, p.Value)
	if fault != nil {
		return nil, b.errf(r.Location, "parameter %s: %s", name, fault.Sentence)
	}
	place.Node = typedConst(p.Value, p.Type).Node
	return n, nil
}

func didYouMean(word string, candidates []string) string {
	if near := schema.Nearest(word, candidates); near != "" {
		return fmt.Sprintf("; did you mean %q?", near)
	}
	return ""
}

func (b *binder) bindColumn(ref *pg.ColumnRef) (node, error) {
	if len(ref.Fields) == 0 || ref.Fields[0].GetString_() == nil {
		return nil, b.errf(ref.Location, "a column is written by its name alone, in double quotes where it holds blanks")
	}
	if len(ref.Fields) > 1 {
		return b.bindField(ref)
	}
	name := ref.Fields[0].GetString_().Sval
	i := b.scope.Schema.Index(name)
	if i < 0 {
		hint := didYouMean(name, b.scope.Schema.Names())
		if hint == "" && b.scope.Schema.Len() <= 12 {
			hint = "; there are " + strings.Join(b.scope.Schema.Names(), ", ")
		}
		return nil, b.errf(ref.Location, "there is no column %q%s", name, hint)
	}
	ref.Fields[0] = pg.MakeStrNode(b.scope.Schema.Columns[i].Name) // so that SQL names it as it is
	if b.aggregates != nil {
		return b.aggregates.key(b, i, name, ref.Location)
	}
	return b.column(i), nil
}

// bindField is record.field, which SQL also writes as (record).field.
func (b *binder) bindField(ref *pg.ColumnRef) (node, error) {
	n, err := b.bindColumn(&pg.ColumnRef{Fields: ref.Fields[:1], Location: ref.Location})
	if err != nil {
		return nil, err
	}
	for _, f := range ref.Fields[1:] {
		if f.GetString_() == nil {
			return nil, b.errf(ref.Location, "* has no place here; name a field")
		}
		if n, err = b.field(n, f.GetString_().Sval, ref.Location); err != nil {
			return nil, err
		}
	}
	return n, nil
}

func (b *binder) column(i int) node {
	if !slices.Contains(b.columns, i) {
		b.columns = append(b.columns, i)
	}
	return &columnNode{i, b.scope.Schema.Columns[i].Type}
}

// fit gives n as type t where SQL does so by itself.
func (b *binder) fit(n node, t schema.Type, at int32) (node, error) {
	if n.typ() == t {
		return n, nil
	}
	if c, ok := n.(*constNode); ok && c.t.Kind == schema.Unknown {
		if c.value.IsNull(0) {
			n, _ := literal(t, nil)
			return n, nil
		}
		text := c.value.(*array.String).Value(0)
		if t.Kind == schema.Decimal { // keep every digit that was written
			if _, fraction, ok := strings.Cut(text, "."); ok && len(fraction) > t.Scale {
				t = schema.DecimalOf(t.Precision+len(fraction)-t.Scale, len(fraction))
			}
		}
		n, fault := literal(t, &text)
		if fault != nil {
			return nil, b.errf(at, "%s", fault.Sentence)
		}
		return n, nil
	}
	return castNode(n, t), nil
}

// unify gives several nodes one common type.
func (b *binder) unify(nodes []node, at int32, what string) (schema.Type, error) {
	t := schema.Type{}
	for _, n := range nodes {
		common, ok := schema.Common(t, n.typ())
		if !ok {
			return t, b.errf(at, "%s can't bring %s and %s together; use CAST to say which type is meant", what, t, n.typ())
		}
		t = common
	}
	if t.Kind == schema.Unknown {
		t = schema.Of(schema.Text)
	}
	for i := range nodes {
		var err error
		if nodes[i], err = b.fit(nodes[i], t, at); err != nil {
			return t, err
		}
	}
	return t, nil
}

func (b *binder) bindCommon(list []*pg.Node, at int32, what string) ([]node, schema.Type, error) {
	nodes, err := b.bindAll(list)
	if err != nil {
		return nil, schema.Type{}, err
	}
	t, err := b.unify(nodes, at, what)
	return nodes, t, err
}

// settled gives a quoted literal that nothing has given a type the type text,
// here and in SQL.
func (b *binder) settled(n node, place *pg.Node) node {
	if n.typ().Kind != schema.Unknown {
		return n
	}
	if c := place.GetAConst(); c != nil {
		var text *string
		if s := c.GetSval(); s != nil {
			text = &s.Sval
		}
		place.Node = typedConst(text, textType).Node
	}
	return castNode(n, textType)
}

func (b *binder) condition(n *pg.Node, at int32) (node, error) {
	c, err := b.bind(n)
	if err != nil {
		return nil, err
	}
	if c.typ().Kind == schema.Unknown {
		return b.fit(c, schema.Of(schema.Bool), at)
	}
	if c.typ().Kind != schema.Bool {
		return nil, b.errf(at, "true or false is expected here, not %s", c.typ())
	}
	return c, nil
}

func (b *binder) bindLogic(e *pg.BoolExpr) (node, error) {
	args := make([]node, len(e.Args))
	for i, a := range e.Args {
		var err error
		if args[i], err = b.condition(a, e.Location); err != nil {
			return nil, err
		}
	}
	if e.Boolop == pg.BoolExprType_NOT_EXPR {
		return not(args[0]), nil
	}
	out := args[0]
	for _, a := range args[1:] {
		out = &logicNode{e.Boolop == pg.BoolExprType_AND_EXPR, out, a}
	}
	return out, nil
}

// enclose keeps a part of a tree together when it is written as SQL, where the
// writer would leave out brackets that are needed: COALESCE of one value is that
// value.
func enclose(n **pg.Node) {
	switch (*n).GetNode().(type) {
	case *pg.Node_AExpr, *pg.Node_NullTest, *pg.Node_BooleanTest, *pg.Node_BoolExpr:
		*n = &pg.Node{Node: &pg.Node_CoalesceExpr{CoalesceExpr: &pg.CoalesceExpr{Args: []*pg.Node{*n}}}}
	}
}

func (b *binder) bindBooleanTest(e *pg.BooleanTest) (node, error) {
	enclose(&e.Arg)
	arg, err := b.condition(e.Arg, e.Location)
	if err != nil {
		return nil, err
	}
	truth := func(v string) node { n, _ := literal(schema.Of(schema.Bool), &v); return n }
	test := func(v node, same bool) node {
		return &callNode{schema.Of(schema.Bool), []node{arg, v}, distinctKernel(same)}
	}
	switch e.Booltesttype {
	case pg.BoolTestType_IS_TRUE:
		return test(truth("true"), true), nil
	case pg.BoolTestType_IS_NOT_TRUE:
		return test(truth("true"), false), nil
	case pg.BoolTestType_IS_FALSE:
		return test(truth("false"), true), nil
	case pg.BoolTestType_IS_NOT_FALSE:
		return test(truth("false"), false), nil
	}
	return nullTest(arg, e.Booltesttype == pg.BoolTestType_IS_UNKNOWN), nil
}

func (b *binder) bindCase(e *pg.CaseExpr) (node, error) {
	var whens, results []node
	for _, w := range e.Args {
		when := w.GetCaseWhen()
		var cond node
		var err error
		if e.Arg == nil {
			cond, err = b.condition(when.Expr, when.Location)
		} else {
			var pair []node
			if pair, _, err = b.bindCommon([]*pg.Node{e.Arg, when.Expr}, when.Location, "CASE"); err == nil {
				cond, err = b.compare("=", pair[0], pair[1], when.Location)
			}
		}
		if err != nil {
			return nil, err
		}
		whens = append(whens, cond)
		then, err := b.bind(when.Result)
		if err != nil {
			return nil, err
		}
		results = append(results, then)
	}
	if e.Defresult != nil {
		fallback, err := b.bind(e.Defresult)
		if err != nil {
			return nil, err
		}
		results = append(results, fallback)
	}
	t, err := b.unify(results, e.Location, "CASE")
	if err != nil {
		return nil, err
	}
	out := &caseNode{t: t, whens: whens, thens: results[:len(whens)]}
	if e.Defresult != nil {
		out.fallback = results[len(whens)]
	}
	return out, nil
}

func (b *binder) bindExtreme(e *pg.MinMaxExpr) (node, error) {
	greatest := e.Op == pg.MinMaxOp_IS_GREATEST
	args, t, err := b.bindCommon(e.Args, e.Location, "GREATEST and LEAST")
	if err != nil {
		return nil, err
	}
	if !batch.Orderable(t) {
		return nil, b.errf(e.Location, "%s has no order", t)
	}
	return &callNode{t, args, extremeKernel(t, greatest)}, nil
}

func (b *binder) bindCast(c *pg.TypeCast) (node, error) {
	var names []string
	for _, n := range c.TypeName.Names {
		if s := n.GetString_().GetSval(); s != "pg_catalog" {
			names = append(names, s)
		}
	}
	written := strings.Join(names, ".")
	if len(c.TypeName.Typmods) > 0 {
		mods := make([]string, len(c.TypeName.Typmods))
		for i, m := range c.TypeName.Typmods {
			mods[i] = fmt.Sprint(m.GetAConst().GetIval().GetIval())
		}
		written += "(" + strings.Join(mods, ",") + ")"
	}
	written += strings.Repeat("[]", len(c.TypeName.ArrayBounds))
	arg, err := b.bind(c.Arg)
	if err != nil {
		return nil, err
	}
	if written == "interval" || strings.HasPrefix(written, "interval(") {
		return b.bindInterval(arg, c.TypeName, c.Location)
	}
	if base, measure, ok := strings.Cut(written, "("); ok && (base == "varchar" || base == "bpchar") {
		n := castNode(arg, textType)
		length, _ := literal(schema.Of(schema.Int), ptr(strings.TrimSuffix(measure, ")")))
		return b.resolve("left", []node{n, length}, c.Location)
	}
	t, err := schema.ParseType(written)
	if err != nil {
		return nil, b.errf(c.Location, "%s", err)
	}
	if !castable(arg.typ(), t) {
		return nil, b.errf(c.Location, "%s can't be cast to %s", arg.typ(), t)
	}
	if _, isConst := arg.(*constNode); isConst && arg.typ().Kind == schema.Unknown {
		return b.fit(arg, t, c.Location)
	}
	return castNode(arg, t), nil
}

func itoa(i int) string { return strconv.Itoa(i) }

func ptr[T any](v T) *T { return &v }

func (b *binder) bindCall(c *pg.FuncCall, at *pg.Node) (node, error) {
	var name string
	for _, part := range c.Funcname {
		name = part.GetString_().GetSval()
	}
	_, isWindow := windowFunctions[name]
	switch {
	case b.windows != nil && (isWindow || isAggregate(name)):
		return b.windows.collect(b, name, c)
	case c.Over != nil || isWindow:
		return nil, windowError(b, name, c.Location)
	}
	if isAggregate(name) {
		if b.aggregates == nil {
			return nil, b.errf(c.Location, "%s works on many rows; use it in a group step", name)
		}
		return b.aggregates.collect(b, name, c, at)
	}
	args, err := b.bindAll(c.Args)
	if err != nil {
		return nil, err
	}
	switch {
	case len(args) == 2 && (name == "extract" || name == "date_part"):
		return b.bindExtract(args, name == "date_part", c.Location)
	case len(args) == 2 && (name == "like_escape" || name == "similar_to_escape"):
		return b.escaped(args, c.Location)
	case len(args) == 1 && name == "similar_to_escape":
		return args[0], nil
	}
	return b.resolve(name, args, c.Location)
}

// Literal tells whether text reads as a value of t.
func Literal(t schema.Type, text string) bool {
	_, fault := literal(t, &text)
	return fault == nil
}
