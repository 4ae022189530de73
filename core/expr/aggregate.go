package expr

import (
	"fmt"
	"math/big"
	"slices"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/decimal128"
	pg "github.com/pganalyze/pg_query_go/v6"

	"welkin/core/batch"
	"welkin/core/schema"
)

// Aggregate is one aggregate call found in a group step's expression.
type Aggregate struct {
	Name     string
	Arg      *Program // nil for count(*)
	Filter   *Program // nil when every row counts
	Distinct bool
	Type     schema.Type
}

var aggregateNames = []string{"count", "sum", "avg", "min", "max", "bool_and", "bool_or"}

// Aggregates lists the aggregate functions, for completion and help.
func Aggregates() []string { return aggregateNames }

func isAggregate(name string) bool {
	return slices.Contains(aggregateNames, name)
}

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

func (a *aggregates) collect(b *binder, name string, c *pg.FuncCall) (node, error) {
	inner := &binder{parsed: b.parsed, scope: b.scope}
	agg := Aggregate{Name: name, Distinct: c.AggDistinct}
	if c.AggStar {
		if name != "count" {
			return nil, b.errf(c.Location, "%s(*) has no meaning; name a column", name)
		}
		agg.Type = intType
	} else {
		if len(c.Args) != 1 {
			return nil, b.errf(c.Location, "%s takes one argument", name)
		}
		arg, err := inner.bind(c.Args[0])
		if err != nil {
			return nil, err
		}
		if arg.typ().Kind == schema.Unknown {
			arg = castNode(arg, textType)
		}
		if agg.Type, err = aggregateType(name, arg.typ()); err != nil {
			return nil, b.errf(c.Location, "%s", err)
		}
		agg.Arg = &Program{Type: arg.typ(), Columns: inner.columns, root: arg}
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
	return &columnNode{len(a.keys) + len(a.found) - 1, agg.Type}, nil
}

func aggregateType(name string, arg schema.Type) (schema.Type, error) {
	switch name {
	case "count":
		return intType, nil
	case "min", "max":
		if !batch.Orderable(arg) || arg.Kind == schema.Bool {
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
	case arg.Kind == schema.Float:
		return arg, nil
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
			if root, err = b.bind(p.node); err == nil && len(a.found) == before {
				err = &Error{0, "an aggregate is expected here, such as count(*) or sum(nights)"}
			}
			if err == nil {
				programs[i] = &Program{Type: root.typ(), root: root, Text: text}
			}
		}
		errs[i] = err
	}
	return programs, a.found, errs
}

// State accumulates one aggregate for many groups, numbered from 0.
type State interface {
	Grow(groups int)
	// Add takes in row i of the argument for a group. For count(*) arg is nil.
	Add(group int, arg arrow.Array, i int)
	// Result gives one value a group; a group whose value can't be held is null
	// and its fault is reported.
	Result(fault func(group int, f *batch.Fault)) arrow.Array
	// Bytes estimates the memory held.
	Bytes() int64
}

// NewState makes the accumulator of an aggregate.
func (a Aggregate) NewState() State {
	var s State
	switch {
	case a.Name == "count":
		s = &countState{}
	case a.Name == "min" || a.Name == "max":
		s = &extremeState{t: a.Type, greatest: a.Name == "max"}
	case a.Name == "bool_and" || a.Name == "bool_or":
		s = &boolState{and: a.Name == "bool_and"}
	case a.Type.Kind == schema.Float:
		s = &floatState{mean: a.Name == "avg"}
	default:
		s = &exactState{t: a.Type, scale: a.Arg.Type.Scale, mean: a.Name == "avg"}
	}
	if a.Distinct && a.Arg != nil {
		s = &distinctState{State: s}
	}
	return s
}

func grow[T any](s []T, n int) []T {
	for len(s) < n {
		s = append(s, *new(T))
	}
	return s
}

type countState struct{ n []int64 }

func (s *countState) Grow(g int) { s.n = grow(s.n, g) }
func (s *countState) Add(g int, arg arrow.Array, i int) {
	if arg == nil || arg.IsValid(i) {
		s.n[g]++
	}
}
func (s *countState) Bytes() int64 { return int64(len(s.n)) * 8 }
func (s *countState) Result(func(int, *batch.Fault)) arrow.Array {
	out := batch.NewBuilder(intType).(*array.Int64Builder)
	out.AppendValues(s.n, nil)
	return out.NewArray()
}

// floatState sums with Neumaier's compensation, so that the order of rows
// hardly shows.
type floatState struct {
	sum, rest []float64
	n         []int64
	mean      bool
}

func (s *floatState) Grow(g int) {
	s.sum, s.rest, s.n = grow(s.sum, g), grow(s.rest, g), grow(s.n, g)
}
func (s *floatState) Bytes() int64 { return int64(len(s.n)) * 24 }
func (s *floatState) Add(g int, arg arrow.Array, i int) {
	if arg.IsNull(i) {
		return
	}
	v := arg.(*array.Float64).Value(i)
	t := s.sum[g] + v
	if abs(s.sum[g]) >= abs(v) {
		s.rest[g] += (s.sum[g] - t) + v
	} else {
		s.rest[g] += (v - t) + s.sum[g]
	}
	s.sum[g] = t
	s.n[g]++
}
func abs(v float64) float64 { return max(v, -v) }
func (s *floatState) Result(func(int, *batch.Fault)) arrow.Array {
	out := batch.NewBuilder(floatType).(*array.Float64Builder)
	for g, n := range s.n {
		v := s.sum[g]
		if rest := s.rest[g]; rest == rest { // NaN once infinities came in
			v += rest
		}
		switch {
		case n == 0:
			out.AppendNull()
		case s.mean:
			out.Append(v / float64(n))
		default:
			out.Append(v)
		}
	}
	return out.NewArray()
}

// exactState sums int and decimal without loss: 64 bits while they last, then
// as many as are needed.
type exactState struct {
	t     schema.Type
	scale int
	mean  bool
	small []int64
	big   []*big.Int
	n     []int64
}

func (s *exactState) Grow(g int) {
	s.small, s.big, s.n = grow(s.small, g), grow(s.big, g), grow(s.n, g)
}
func (s *exactState) Bytes() int64 { return int64(len(s.n)) * 24 }
func (s *exactState) Add(g int, arg arrow.Array, i int) {
	if arg.IsNull(i) {
		return
	}
	s.n[g]++
	var v int64
	switch a := arg.(type) {
	case *array.Int64:
		v = a.Value(i)
	case *array.Decimal128:
		d := a.Value(i)
		v = int64(d.LowBits())
		if d.HighBits() != v>>63 {
			s.spill(g, d.BigInt())
			return
		}
	}
	if sum := s.small[g] + v; (sum > s.small[g]) == (v > 0) {
		s.small[g] = sum
	} else {
		s.spill(g, big.NewInt(v))
	}
}
func (s *exactState) spill(g int, v *big.Int) {
	if s.big[g] == nil {
		s.big[g] = new(big.Int)
	}
	s.big[g].Add(s.big[g], v)
}
func (s *exactState) Result(fault func(int, *batch.Fault)) arrow.Array {
	out := batch.NewBuilder(s.t).(builder[decimal128.Num])
	for g, n := range s.n {
		if n == 0 {
			out.AppendNull()
			continue
		}
		total := big.NewInt(s.small[g])
		if s.big[g] != nil {
			total.Add(total, s.big[g])
		}
		scale := s.scale
		if s.mean {
			total = batch.DivideRounded(total.Mul(total, batch.PowerOfTen(s.t.Scale-scale)), big.NewInt(n))
			scale = s.t.Scale
		}
		v, f := batch.FitDecimal(total, scale, s.t)
		if f != nil {
			fault(g, f)
			out.AppendNull()
			continue
		}
		out.Append(v)
	}
	return out.NewArray()
}

type boolState struct {
	and      bool
	v, known []bool
}

func (s *boolState) Grow(g int)   { s.v, s.known = grow(s.v, g), grow(s.known, g) }
func (s *boolState) Bytes() int64 { return int64(len(s.v)) * 2 }
func (s *boolState) Add(g int, arg arrow.Array, i int) {
	if arg.IsNull(i) {
		return
	}
	v := arg.(*array.Boolean).Value(i)
	if !s.known[g] || v != s.and {
		s.v[g] = v
	}
	s.known[g] = true
}
func (s *boolState) Result(func(int, *batch.Fault)) arrow.Array {
	out := batch.NewBuilder(boolType).(*array.BooleanBuilder)
	out.AppendValues(s.v, s.known)
	return out.NewArray()
}

// extremeState keeps the least or greatest value as an array of one.
type extremeState struct {
	t        schema.Type
	greatest bool
	best     []arrow.Array
}

func (s *extremeState) Grow(g int)   { s.best = grow(s.best, g) }
func (s *extremeState) Bytes() int64 { return int64(len(s.best)) * 300 }
func (s *extremeState) Add(g int, arg arrow.Array, i int) {
	if arg.IsNull(i) {
		return
	}
	if s.best[g] != nil {
		if c := batch.Compare(arg, i, s.best[g], 0); c == 0 || (c > 0) != s.greatest {
			return
		}
	}
	s.best[g] = batch.Take(arg, []int32{int32(i)})
}
func (s *extremeState) Result(func(int, *batch.Fault)) arrow.Array {
	out := batch.NewBuilder(s.t)
	for _, b := range s.best {
		if b == nil {
			out.AppendNull()
		} else {
			batch.AppendFrom(out, b, 0)
		}
	}
	return out.NewArray()
}

// distinctState lets each value of a group through once.
type distinctState struct {
	State
	seen  []map[string]struct{}
	bytes int64
	key   []byte
}

func (s *distinctState) Grow(g int)   { s.State.Grow(g); s.seen = grow(s.seen, g) }
func (s *distinctState) Bytes() int64 { return s.State.Bytes() + s.bytes }
func (s *distinctState) Add(g int, arg arrow.Array, i int) {
	if arg.IsNull(i) {
		return
	}
	s.key = batch.AppendKey(s.key[:0], arg, i)
	if _, ok := s.seen[g][string(s.key)]; ok {
		return
	}
	if s.seen[g] == nil {
		s.seen[g] = map[string]struct{}{}
	}
	s.seen[g][string(s.key)] = struct{}{}
	s.bytes += int64(len(s.key)) + 40
	s.State.Add(g, arg, i)
}
