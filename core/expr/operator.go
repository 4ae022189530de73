package expr

import (
	"fmt"
	"math"
	"math/big"
	"math/bits"
	"regexp"
	"strings"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/decimal128"
	pg "github.com/pganalyze/pg_query_go/v6"

	"welkin/core/batch"
	"welkin/core/schema"
)

var boolType, intType, floatType, textType = schema.Of(schema.Bool), schema.Of(schema.Int), schema.Of(schema.Float), schema.Of(schema.Text)

func not(n node) node {
	return &callNode{boolType, []node{n}, func(f *frame, args []arrow.Array) arrow.Array {
		return map1(f, args[0], boolType, func(v bool) (bool, *batch.Fault) { return !v, nil })
	}}
}

func nullTest(n node, isNull bool) node {
	return &callNode{boolType, []node{n}, func(f *frame, args []arrow.Array) arrow.Array {
		out := batch.NewBuilder(boolType).(*array.BooleanBuilder)
		for i := range f.n {
			out.Append(args[0].IsNull(i) == isNull)
		}
		return out.NewArray()
	}}
}

func (b *binder) bindOperator(e *pg.A_Expr) (node, error) {
	op := ""
	for _, n := range e.Name {
		op = n.GetString_().GetSval()
	}
	at := e.Location
	switch e.Kind {
	case pg.A_Expr_Kind_AEXPR_IN:
		return b.bindIn(e, op == "<>")
	case pg.A_Expr_Kind_AEXPR_BETWEEN, pg.A_Expr_Kind_AEXPR_NOT_BETWEEN, pg.A_Expr_Kind_AEXPR_BETWEEN_SYM, pg.A_Expr_Kind_AEXPR_NOT_BETWEEN_SYM:
		return b.bindBetween(e)
	case pg.A_Expr_Kind_AEXPR_OP_ANY, pg.A_Expr_Kind_AEXPR_OP_ALL:
		return b.bindAny(e, op, e.Kind == pg.A_Expr_Kind_AEXPR_OP_ALL)
	case pg.A_Expr_Kind_AEXPR_OP:
		if l, r := e.Lexpr.GetRowExpr(), e.Rexpr.GetRowExpr(); l != nil && r != nil {
			return b.compareRows(op, l, r, at)
		}
	}
	if e.Kind == pg.A_Expr_Kind_AEXPR_DISTINCT || e.Kind == pg.A_Expr_Kind_AEXPR_NOT_DISTINCT {
		enclose(&e.Lexpr)
		enclose(&e.Rexpr)
	}
	var left node
	var err error
	if e.Lexpr != nil {
		if left, err = b.bind(e.Lexpr); err != nil {
			return nil, err
		}
	}
	right, err := b.bind(e.Rexpr)
	if err != nil {
		return nil, err
	}
	switch e.Kind {
	case pg.A_Expr_Kind_AEXPR_OP:
		if left == nil {
			return b.unary(op, right, at)
		}
		return b.binary(op, left, right, at)
	case pg.A_Expr_Kind_AEXPR_DISTINCT, pg.A_Expr_Kind_AEXPR_NOT_DISTINCT:
		pair := []node{left, right}
		if _, err := b.unify(pair, at, "IS DISTINCT FROM"); err != nil {
			return nil, err
		}
		return &callNode{boolType, pair, distinctKernel(e.Kind == pg.A_Expr_Kind_AEXPR_NOT_DISTINCT)}, nil
	case pg.A_Expr_Kind_AEXPR_NULLIF:
		equal, err := b.compare("=", left, right, at)
		if err != nil {
			return nil, err
		}
		if left.typ().Kind == schema.Unknown {
			left = castNode(left, textType)
		}
		null, _ := literal(left.typ(), nil)
		return &caseNode{t: left.typ(), whens: []node{equal}, thens: []node{null}, fallback: left}, nil
	case pg.A_Expr_Kind_AEXPR_LIKE:
		return b.like(left, right, op == "!~~", false, at)
	case pg.A_Expr_Kind_AEXPR_ILIKE:
		return b.like(left, right, op == "!~~*", true, at)
	case pg.A_Expr_Kind_AEXPR_SIMILAR:
		return b.similar(left, right, op == "!~", at)
	}
	return nil, b.errf(at, "the operator %s is not known in this form", op)
}

func (b *binder) bindIn(e *pg.A_Expr, negated bool) (node, error) {
	if row := e.Lexpr.GetRowExpr(); row != nil {
		return b.bindRowIn(e, row, negated)
	}
	list := append([]*pg.Node{e.Lexpr}, e.Rexpr.GetList().GetItems()...)
	nodes, _, err := b.bindCommon(list, e.Location, "IN")
	if err != nil {
		return nil, err
	}
	var equals []node
	for _, item := range nodes[1:] {
		equal, err := b.compare("=", nodes[0], item, e.Location)
		if err != nil {
			return nil, err
		}
		equals = append(equals, equal)
	}
	return oneOf(equals, negated), nil
}

// oneOf tells whether at least one of some conditions is true, or none is.
func oneOf(conditions []node, negated bool) node {
	out := conditions[0]
	for _, c := range conditions[1:] {
		out = &logicNode{false, out, c}
	}
	if negated {
		return not(out)
	}
	return out
}

// bindRowIn is (a, b) IN ((1, 2), (3, 4)).
func (b *binder) bindRowIn(e *pg.A_Expr, row *pg.RowExpr, negated bool) (node, error) {
	var equals []node
	for _, item := range e.Rexpr.GetList().GetItems() {
		other := item.GetRowExpr()
		if other == nil {
			return nil, b.errf(e.Location, "a row is looked for among rows, such as (a, b) IN ((1, 2), (3, 4))")
		}
		equal, err := b.compareRows("=", row, other, e.Location)
		if err != nil {
			return nil, err
		}
		equals = append(equals, equal)
	}
	return oneOf(equals, negated), nil
}

func (b *binder) bindBetween(e *pg.A_Expr) (node, error) {
	bounds := e.Rexpr.GetList().GetItems()
	nodes, err := b.bindAll([]*pg.Node{e.Lexpr, bounds[0], bounds[1]})
	if err != nil {
		return nil, err
	}
	between := func(low, high node) (node, error) {
		above, err := b.compare(">=", nodes[0], low, e.Location)
		if err != nil {
			return nil, err
		}
		below, err := b.compare("<=", nodes[0], high, e.Location)
		return &logicNode{true, above, below}, err
	}
	out, err := between(nodes[1], nodes[2])
	if err != nil {
		return nil, err
	}
	if e.Kind == pg.A_Expr_Kind_AEXPR_BETWEEN_SYM || e.Kind == pg.A_Expr_Kind_AEXPR_NOT_BETWEEN_SYM {
		other, err := between(nodes[2], nodes[1])
		if err != nil {
			return nil, err
		}
		out = &logicNode{false, out, other}
	}
	if e.Kind == pg.A_Expr_Kind_AEXPR_NOT_BETWEEN || e.Kind == pg.A_Expr_Kind_AEXPR_NOT_BETWEEN_SYM {
		out = not(out)
	}
	return out, nil
}

func (b *binder) compare(op string, left, right node, at int32) (node, error) {
	pair := []node{left, right}
	t, err := b.unify(pair, at, op)
	if err != nil {
		return nil, err
	}
	if !batch.Orderable(t) {
		return nil, b.errf(at, "two values of type %s can't be compared", t)
	}
	return &callNode{boolType, pair, compareKernel(op, t)}, nil
}

func (b *binder) unary(op string, n node, at int32) (node, error) {
	if n.typ().Kind == schema.Interval && op == "-" {
		return b.resolve("interval_negate", []node{n}, at)
	}
	if name, ok := prefixOperators[op]; ok {
		return b.resolve(name, []node{n}, at)
	}
	if n.typ().Kind == schema.Unknown {
		fitted, err := b.fit(n, floatType, at)
		if err != nil {
			return nil, err
		}
		n = fitted
	}
	if op == "-" && n.typ().Numeric() {
		zero, _ := literal(n.typ(), ptr("0"))
		return b.binary("-", zero, n, at)
	}
	if op == "+" && n.typ().Numeric() {
		return n, nil
	}
	return nil, b.errf(at, "%s can't stand before %s", op, n.typ())
}

// prefixOperators and infixOperators are written forms of functions.
var (
	prefixOperators = map[string]string{"|/": "sqrt", "||/": "cbrt", "@": "abs", "~": "bit_not"}
	infixOperators  = map[string]string{"^": "power", "&": "bit_and", "|": "bit_or", "#": "bit_xor", "<<": "bit_left", ">>": "bit_right", "^@": "starts_with"}
)

func (b *binder) binary(op string, left, right node, at int32) (node, error) {
	if n, ok, err := b.listOperator(op, left, right, at); ok {
		return n, err
	}
	if n, ok, err := b.jsonOperator(op, left, right, at); ok {
		return n, err
	}
	if name, ok := infixOperators[op]; ok {
		return b.resolve(name, []node{left, right}, at)
	}
	switch op {
	case "!=":
		op = "<>"
		fallthrough
	case "=", "<>", "<", "<=", ">", ">=":
		return b.compare(op, left, right, at)
	case "||":
		l, r := left.typ().Kind, right.typ().Kind
		if l != schema.Text && l != schema.Unknown && r != schema.Text && r != schema.Unknown {
			return nil, b.errf(at, "|| joins texts; one side must be text, not %s and %s", left.typ(), right.typ())
		}
		return &callNode{textType, []node{castNode(left, textType), castNode(right, textType)}, func(f *frame, args []arrow.Array) arrow.Array {
			return map2(f, args[0], args[1], textType, func(x, y string) (string, *batch.Fault) { return x + y, nil })
		}}, nil
	case "~", "~*", "!~", "!~*":
		return b.regexMatch(left, right, strings.HasPrefix(op, "!"), strings.HasSuffix(op, "*"), at)
	case "+", "-", "*", "/", "%":
		if l, r := left.typ().Kind, right.typ().Kind; l == schema.Interval || r == schema.Interval || left.typ().Temporal() || right.typ().Temporal() || l == schema.Time || r == schema.Time {
			return b.dateArithmetic(op, left, right, at)
		}
		return b.arithmetic(op, left, right, at)
	}
	return nil, b.errf(at, "there is no operator %s", op)
}

func (b *binder) arithmetic(op string, left, right node, at int32) (node, error) {
	pair := []node{left, right}
	for i, n := range pair {
		if n.typ().Kind == schema.Unknown {
			other := pair[1-i].typ()
			if !other.Numeric() {
				other = floatType
			}
			fitted, err := b.fit(n, other, at)
			if err != nil {
				return nil, err
			}
			pair[i] = fitted
		}
		if !pair[i].typ().Numeric() {
			return nil, b.errf(at, "%s needs numbers; this is %s. CAST it to a number first", op, pair[i].typ())
		}
	}
	l, r := pair[0].typ(), pair[1].typ()
	switch {
	case l.Kind == schema.Float || r.Kind == schema.Float:
		return &callNode{floatType, []node{castNode(pair[0], floatType), castNode(pair[1], floatType)}, floatKernel(op)}, nil
	case l.Kind == schema.Int && r.Kind == schema.Int:
		return &callNode{intType, pair, intKernel(op)}, nil
	}
	l, r = schema.AsDecimal(l), schema.AsDecimal(r)
	pair[0], pair[1] = castNode(pair[0], l), castNode(pair[1], r)
	t := decimalResult(op, l, r)
	return &callNode{t, pair, decimalKernel(op, l, r, t)}, nil
}

// decimalResult gives the type of an operation on two decimals.
func decimalResult(op string, l, r schema.Type) schema.Type {
	whole := max(l.Precision-l.Scale, r.Precision-r.Scale)
	switch op {
	case "*":
		scale := min(l.Scale+r.Scale, 30)
		return schema.DecimalOf(min(schema.MaxPrecision, l.Precision+r.Precision), scale)
	case "/":
		return schema.DecimalOf(schema.MaxPrecision, max(16, l.Scale, r.Scale))
	}
	scale := max(l.Scale, r.Scale)
	return schema.DecimalOf(whole+scale+1, scale)
}

func intKernel(op string) func(*frame, []arrow.Array) arrow.Array {
	overflow := batch.Faultf("number too large", "the result is larger than a whole number can be")
	zero := batch.Faultf("division by zero", "division by zero")
	fn := map[string]func(x, y int64) (int64, *batch.Fault){
		"+": func(x, y int64) (int64, *batch.Fault) {
			if s := x + y; (s > x) == (y > 0) {
				return s, nil
			}
			return 0, overflow
		},
		"-": func(x, y int64) (int64, *batch.Fault) {
			if s := x - y; (s < x) == (y > 0) {
				return s, nil
			}
			return 0, overflow
		},
		"*": func(x, y int64) (int64, *batch.Fault) {
			hi, lo := bits.Mul64(magnitude(x), magnitude(y))
			negative := (x < 0) != (y < 0)
			if hi != 0 || lo > 1<<63 || lo == 1<<63 && !negative {
				return 0, overflow
			}
			return x * y, nil
		},
		"/": func(x, y int64) (int64, *batch.Fault) {
			if y == 0 {
				return 0, zero
			}
			if x == math.MinInt64 && y == -1 {
				return 0, overflow
			}
			return x / y, nil
		},
		"%": func(x, y int64) (int64, *batch.Fault) {
			if y == 0 {
				return 0, zero
			}
			if y == -1 {
				return 0, nil
			}
			return x % y, nil
		},
	}[op]
	return func(f *frame, args []arrow.Array) arrow.Array { return map2(f, args[0], args[1], intType, fn) }
}

func magnitude(x int64) uint64 {
	if x < 0 {
		return uint64(-x)
	}
	return uint64(x)
}

func floatKernel(op string) func(*frame, []arrow.Array) arrow.Array {
	fn := func(x, y float64) (float64, *batch.Fault) {
		var v float64
		switch op {
		case "+":
			v = x + y
		case "-":
			v = x - y
		case "*":
			v = x * y
		default:
			if y == 0 {
				return 0, batch.Faultf("division by zero", "division by zero")
			}
			if v = x / y; op == "%" {
				v = math.Mod(x, y)
			}
		}
		if math.IsInf(v, 0) && !math.IsInf(x, 0) && !math.IsInf(y, 0) {
			return 0, batch.Faultf("number too large", "the result is larger than a float can be")
		}
		return v, nil
	}
	return func(f *frame, args []arrow.Array) arrow.Array { return map2(f, args[0], args[1], floatType, fn) }
}

func decimalKernel(op string, l, r, t schema.Type) func(*frame, []arrow.Array) arrow.Array {
	scale := max(l.Scale, r.Scale)
	fn := func(x, y decimal128.Num) (decimal128.Num, *batch.Fault) {
		if v, ok := smallDecimal(op, x, y, scale-l.Scale, scale-r.Scale); ok {
			if op == "*" {
				return batch.Rescale(v, l.Scale+r.Scale, t)
			}
			return batch.Rescale(v, scale, t)
		}
		a, c := x.BigInt(), y.BigInt()
		switch op {
		case "*":
			return batch.FitDecimal(a.Mul(a, c), l.Scale+r.Scale, t)
		case "/", "%":
			if c.Sign() == 0 {
				return decimal128.Num{}, batch.Faultf("division by zero", "division by zero")
			}
		}
		if op == "/" {
			a.Mul(a, batch.PowerOfTen(t.Scale+r.Scale-l.Scale))
			return batch.FitDecimal(batch.DivideRounded(a, c), t.Scale, t)
		}
		a.Mul(a, batch.PowerOfTen(scale-l.Scale))
		c.Mul(c, batch.PowerOfTen(scale-r.Scale))
		switch op {
		case "+":
			a.Add(a, c)
		case "-":
			a.Sub(a, c)
		case "%":
			a = new(big.Int).Rem(a, c)
		}
		return batch.FitDecimal(a, scale, t)
	}
	return func(f *frame, args []arrow.Array) arrow.Array { return map2(f, args[0], args[1], t, fn) }
}

// smallDecimal computes +, - and * where everything fits well into 64 bits; left
// and right are the digits by which the sides are brought to one scale.
func smallDecimal(op string, x, y decimal128.Num, left, right int) (int64, bool) {
	a, ok1 := batch.Small(x)
	b, ok2 := batch.Small(y)
	const most = 1 << 31
	if !ok1 || !ok2 || a >= most || a <= -most || b >= most || b <= -most {
		return 0, false
	}
	switch {
	case op == "*":
		return a * b, true
	case op != "+" && op != "-" || left > 9 || right > 9:
		return 0, false
	}
	for range left {
		a *= 10
	}
	for range right {
		b *= 10
	}
	if op == "-" {
		b = -b
	}
	return a + b, true
}

// extremeKernel is GREATEST or LEAST: nulls are passed over.
func extremeKernel(t schema.Type, greatest bool) func(*frame, []arrow.Array) arrow.Array {
	return func(f *frame, args []arrow.Array) arrow.Array {
		out := batch.NewBuilder(t)
		for i := range f.n {
			var best arrow.Array
			for _, a := range args {
				if a.IsValid(i) && (best == nil || batch.Compare(a, i, best, i) > 0 == greatest && batch.Compare(a, i, best, i) != 0) {
					best = a
				}
			}
			if best == nil {
				out.AppendNull()
			} else {
				batch.AppendFrom(out, best, i)
			}
		}
		return out.NewArray()
	}
}

// texts brings two arguments to text.
func (b *binder) texts(left, right node, op string, at int32) ([]node, error) {
	pair := []node{left, right}
	for i, n := range pair {
		if e, ok := n.(*escapeNode); ok {
			pair[i] = &escapeNode{castNode(e.node, textType), e.escape}
			continue
		}
		switch n.typ().Kind {
		case schema.Unknown:
			pair[i] = castNode(n, textType)
		case schema.Text:
		default:
			return nil, b.errf(at, "%s works on text, not on %s; CAST it to text first", op, n.typ())
		}
	}
	return pair, nil
}

func (b *binder) like(left, right node, negated, fold bool, at int32) (node, error) {
	pair, err := b.texts(left, right, "LIKE", at)
	if err != nil {
		return nil, err
	}
	escape := '\\'
	if call, ok := pair[1].(*escapeNode); ok {
		pair[1], escape = call.node, call.escape
	}
	compile := func(pattern string) (*regexp.Regexp, *batch.Fault) {
		var re strings.Builder
		re.WriteString("(?s")
		if fold {
			re.WriteString("i")
		}
		re.WriteString(`)\A`)
		escaped := false
		for _, r := range pattern {
			switch {
			case escaped:
				re.WriteString(regexp.QuoteMeta(string(r)))
				escaped = false
			case r == escape:
				escaped = true
			case r == '%':
				re.WriteString(".*")
			case r == '_':
				re.WriteString(".")
			default:
				re.WriteString(regexp.QuoteMeta(string(r)))
			}
		}
		if escaped {
			return nil, batch.Faultf("bad pattern", "the LIKE pattern %q must not end with %c", pattern, escape)
		}
		compiled, err := regexp.Compile(re.String() + `\z`)
		if err != nil {
			return nil, batch.Faultf("bad pattern", "%q is no pattern: %s", pattern, err)
		}
		return compiled, nil
	}
	return &callNode{boolType, pair, matchKernel(compile, negated)}, nil
}

// escapeNode is a pattern with an escape character of its own.
type escapeNode struct {
	node
	escape rune // -1 for none
}

// escaped is the parser's like_escape(pattern, escape), for LIKE … ESCAPE.
func (b *binder) escaped(args []node, at int32) (node, error) {
	c, ok := args[1].(*constNode)
	if !ok || c.value.IsNull(0) {
		return nil, b.errf(at, "behind ESCAPE one character is expected")
	}
	runes := []rune(c.value.(*array.String).Value(0))
	if len(runes) > 1 {
		return nil, b.errf(at, "behind ESCAPE one character is expected")
	}
	if len(runes) == 0 {
		return &escapeNode{args[0], -1}, nil
	}
	return &escapeNode{args[0], runes[0]}, nil
}

// similar is SIMILAR TO: an SQL regular expression that fits the whole text.
func (b *binder) similar(left, right node, negated bool, at int32) (node, error) {
	pair, err := b.texts(left, right, "SIMILAR TO", at)
	if err != nil {
		return nil, err
	}
	escape := '\\'
	if call, ok := pair[1].(*escapeNode); ok {
		pair[1], escape = call.node, call.escape
	}
	return &callNode{boolType, pair, matchKernel(func(pattern string) (*regexp.Regexp, *batch.Fault) {
		var re strings.Builder
		escaped, inClass := false, false
		for _, r := range pattern {
			switch {
			case escaped:
				re.WriteString(regexp.QuoteMeta(string(r)))
				escaped = false
			case r == escape:
				escaped = true
			case inClass:
				if inClass = r != ']'; r == '\\' {
					re.WriteRune(r)
				}
				re.WriteRune(r)
			case r == '[':
				inClass = true
				re.WriteRune(r)
			case r == '%':
				re.WriteString(".*")
			case r == '_':
				re.WriteString(".")
			case r == '(':
				re.WriteString("(?:")
			case strings.ContainsRune(`.^$\\`, r):
				re.WriteString(regexp.QuoteMeta(string(r)))
			default:
				re.WriteRune(r)
			}
		}
		return compileRegex(`\A(?:`+re.String()+`)\z`, "")
	}, negated)}, nil
}

func (b *binder) regexMatch(left, right node, negated, fold bool, at int32) (node, error) {
	pair, err := b.texts(left, right, "~", at)
	if err != nil {
		return nil, err
	}
	flags := ""
	if fold {
		flags = "i"
	}
	return &callNode{boolType, pair, matchKernel(func(p string) (*regexp.Regexp, *batch.Fault) { return compileRegex(p, flags) }, negated)}, nil
}

// maxPattern is how long a regular expression may be, in bytes.
const maxPattern = 32 << 10

func compileRegex(pattern, flags string) (*regexp.Regexp, *batch.Fault) {
	if len(pattern) > maxPattern {
		return nil, batch.Faultf("bad pattern", "the regular expression has %d characters; %d are allowed", len(pattern), maxPattern)
	}
	head := "(?s)"
	if strings.Contains(flags, "i") {
		head = "(?si)"
	}
	re, err := regexp.Compile(head + pattern)
	if err != nil {
		return nil, batch.Faultf("bad pattern", "%q is no regular expression: %s", cutText(pattern), strings.TrimPrefix(err.Error(), "error parsing regexp: "))
	}
	return re, nil
}

// patterns remembers the last pattern compiled, since it rarely changes.
type patterns struct {
	text     string
	compiled *regexp.Regexp
	fault    *batch.Fault
	set      bool
	compile  func(string) (*regexp.Regexp, *batch.Fault)
}

func (p *patterns) get(text string) (*regexp.Regexp, *batch.Fault) {
	if !p.set || p.text != text {
		p.compiled, p.fault = p.compile(text)
		p.text, p.set = text, true
	}
	return p.compiled, p.fault
}

func matchKernel(compile func(string) (*regexp.Regexp, *batch.Fault), negated bool) func(*frame, []arrow.Array) arrow.Array {
	return func(f *frame, args []arrow.Array) arrow.Array {
		p := patterns{compile: compile}
		return map2(f, args[0], args[1], boolType, func(s, pattern string) (bool, *batch.Fault) {
			re, fault := p.get(pattern)
			if fault != nil {
				return false, fault
			}
			return re.MatchString(s) != negated, nil
		})
	}
}

// typesOf words the types of arguments for messages.
func typesOf(args []node) string {
	names := make([]string, len(args))
	for i, a := range args {
		names[i] = a.typ().String()
	}
	return fmt.Sprintf("(%s)", strings.Join(names, ", "))
}

// cutText shortens a long text for a message.
func cutText(s string) string {
	if len(s) <= 80 {
		return s
	}
	return strings.ToValidUTF8(s[:77], "") + "…"
}
