package expr

import (
	"bytes"
	"cmp"
	"math"
	"math/big"
	"slices"
	"strings"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/decimal128"

	"welkin/core/batch"
	"welkin/core/schema"
)

// State accumulates one aggregate for many groups, numbered from 0.
type State interface {
	Grow(groups int)
	// Add takes in the rows of a batch: row i goes to group ids[i], or to none
	// when that is -1. args holds the aggregate's arguments evaluated.
	Add(ids []int32, args []arrow.Array)
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
	case a.collects():
		return &collectState{a: a}
	case a.Name == "count":
		s = &countState{}
	case a.Name == "min" || a.Name == "max":
		s = newExtreme(a.Type, a.Name == "max")
	case a.Name == "bool_and" || a.Name == "bool_or":
		s = &boolState{and: a.Name == "bool_and"}
	case a.Name != "sum" && a.Name != "avg":
		s = &spreadState{name: a.Name, t: a.Args[0].Type}
	case a.Type.Kind == schema.Float:
		s = &floatState{mean: a.Name == "avg"}
	default:
		s = &exactState{t: a.Type, scale: a.Args[0].Type.Scale, mean: a.Name == "avg"}
	}
	if a.Distinct && len(a.Args) > 0 {
		s = &distinctState{State: s}
	}
	return s
}

// grow makes a slice n long; what is new is zero.
func grow[T any](s []T, n int) []T {
	if n <= len(s) {
		return s
	}
	return append(s, make([]T, n-len(s))...)
}

type countState struct{ n []int64 }

func (s *countState) Grow(g int) { s.n = grow(s.n, g) }
func (s *countState) Add(ids []int32, args []arrow.Array) {
	if len(args) == 0 || args[0].NullN() == 0 {
		for _, g := range ids {
			if g >= 0 {
				s.n[g]++
			}
		}
		return
	}
	for i, g := range ids {
		if g >= 0 && args[0].IsValid(i) {
			s.n[g]++
		}
	}
}
func (s *countState) Bytes() int64 { return int64(cap(s.n)) * 8 }
func (s *countState) Result(func(int, *batch.Fault)) arrow.Array {
	out := batch.NewBuilder(intType).(*array.Int64Builder)
	out.AppendValues(s.n, nil)
	return out.NewArray()
}

// floatState sums with Neumaier's compensation, so that the order of rows
// hardly shows.
type floatState struct {
	sums []compensated
	mean bool
}

type compensated struct {
	sum, rest float64
	n         int64
}

func (c *compensated) add(v float64) {
	t := c.sum + v
	if math.Abs(c.sum) >= math.Abs(v) {
		c.rest += (c.sum - t) + v
	} else {
		c.rest += (v - t) + c.sum
	}
	c.sum = t
	c.n++
}

func (c *compensated) total() float64 {
	if math.IsNaN(c.rest) { // once infinities came in
		return c.sum
	}
	return c.sum + c.rest
}

func (s *floatState) Grow(g int)   { s.sums = grow(s.sums, g) }
func (s *floatState) Bytes() int64 { return int64(cap(s.sums)) * 24 }
func (s *floatState) Add(ids []int32, args []arrow.Array) {
	a := args[0].(*array.Float64)
	values := a.Float64Values()
	for i, g := range ids {
		if g >= 0 && a.IsValid(i) {
			s.sums[g].add(values[i])
		}
	}
}
func (s *floatState) Result(func(int, *batch.Fault)) arrow.Array {
	out := batch.NewBuilder(floatType).(*array.Float64Builder)
	for _, c := range s.sums {
		switch v := c.total(); {
		case c.n == 0:
			out.AppendNull()
		case s.mean:
			out.Append(v / float64(c.n))
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
	sums  []exactSum
	big   map[int32]*big.Int
}

type exactSum struct{ small, n int64 }

func (s *exactState) Grow(g int)   { s.sums = grow(s.sums, g) }
func (s *exactState) Bytes() int64 { return int64(cap(s.sums))*16 + int64(len(s.big))*64 }
func (s *exactState) Add(ids []int32, args []arrow.Array) {
	switch a := args[0].(type) {
	case *array.Int64:
		values := a.Int64Values()
		nulls := a.NullN() > 0
		for i, g := range ids {
			if g >= 0 && !(nulls && a.IsNull(i)) {
				s.add(g, values[i])
			}
		}
	case *array.Decimal128:
		nulls := a.NullN() > 0
		for i, g := range ids {
			if g < 0 || nulls && a.IsNull(i) {
				continue
			}
			s.addDecimal(g, a.Value(i))
		}
	}
}

func (s *exactState) addDecimal(g int32, d decimal128.Num) {
	if v := int64(d.LowBits()); d.HighBits() == v>>63 {
		s.add(g, v)
		return
	}
	s.sums[g].n++
	s.spill(g, d.BigInt())
}

func (s *exactState) add(g int32, v int64) {
	at := &s.sums[g]
	at.n++
	if sum := at.small + v; (sum > at.small) == (v > 0) {
		at.small = sum
	} else {
		s.spill(g, big.NewInt(v))
	}
}
func (s *exactState) spill(g int32, v *big.Int) {
	if s.big == nil {
		s.big = map[int32]*big.Int{}
	}
	if s.big[g] == nil {
		s.big[g] = new(big.Int)
	}
	s.big[g].Add(s.big[g], v)
}
func (s *exactState) Result(fault func(int, *batch.Fault)) arrow.Array {
	out := batch.NewBuilder(s.t).(builder[decimal128.Num])
	for g, sum := range s.sums {
		if sum.n == 0 {
			out.AppendNull()
			continue
		}
		total := big.NewInt(sum.small)
		if more := s.big[int32(g)]; more != nil {
			total.Add(total, more)
		}
		scale := s.scale
		if s.mean {
			total = batch.DivideRounded(total.Mul(total, batch.PowerOfTen(s.t.Scale-scale)), big.NewInt(sum.n))
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

// spreadState is standard deviation and variance, by the method of Youngs and
// Cramer.
type spreadState struct {
	name string
	t    schema.Type
	sums []spread
}

type spread struct{ n, mean, squares float64 }

func (s *spreadState) Grow(g int)   { s.sums = grow(s.sums, g) }
func (s *spreadState) Bytes() int64 { return int64(cap(s.sums)) * 24 }
func (s *spreadState) Add(ids []int32, args []arrow.Array) {
	f := &frame{n: args[0].Len(), faults: &faults{}}
	a := castArray(f, args[0], s.t, floatType).(*array.Float64)
	for i, g := range ids {
		if g < 0 || a.IsNull(i) {
			continue
		}
		at, v := &s.sums[g], a.Value(i)
		at.n++
		delta := v - at.mean
		at.mean += delta / at.n
		at.squares += delta * (v - at.mean)
	}
}
func (s *spreadState) Result(func(int, *batch.Fault)) arrow.Array {
	out := batch.NewBuilder(floatType).(*array.Float64Builder)
	for _, at := range s.sums {
		n := at.n
		if !strings.HasSuffix(s.name, "_pop") {
			n--
		}
		if at.n == 0 || n == 0 {
			out.AppendNull()
			continue
		}
		v := at.squares / n
		if strings.HasPrefix(s.name, "stddev") {
			v = math.Sqrt(v)
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
func (s *boolState) Bytes() int64 { return int64(cap(s.v)) * 2 }
func (s *boolState) Add(ids []int32, args []arrow.Array) {
	a := args[0].(*array.Boolean)
	for i, g := range ids {
		if g < 0 || a.IsNull(i) {
			continue
		}
		if v := a.Value(i); !s.known[g] || v != s.and {
			s.v[g] = v
		}
		s.known[g] = true
	}
}
func (s *boolState) Result(func(int, *batch.Fault)) arrow.Array {
	out := batch.NewBuilder(boolType).(*array.BooleanBuilder)
	out.AppendValues(s.v, s.known)
	return out.NewArray()
}

// newExtreme keeps the least or greatest value: numbers and times as they are,
// others as arrays of one.
func newExtreme(t schema.Type, greatest bool) State {
	switch t.Kind {
	case schema.Int:
		return &extremeOf[int64]{t: t, greatest: greatest, compare: cmp.Compare[int64]}
	case schema.Float:
		return &extremeOf[float64]{t: t, greatest: greatest, compare: batch.CompareFloat}
	case schema.Date:
		return &extremeOf[arrow.Date32]{t: t, greatest: greatest, compare: cmp.Compare[arrow.Date32]}
	case schema.Timestamp, schema.TimestampTZ:
		return &extremeOf[arrow.Timestamp]{t: t, greatest: greatest, compare: cmp.Compare[arrow.Timestamp]}
	case schema.Decimal:
		return &extremeOf[decimal128.Num]{t: t, greatest: greatest, compare: decimal128.Num.Cmp}
	}
	return &extremeState{t: t, greatest: greatest}
}

type extremeOf[T any] struct {
	t        schema.Type
	greatest bool
	compare  func(a, b T) int
	best     []T
	known    []bool
}

func (s *extremeOf[T]) Grow(g int)   { s.best, s.known = grow(s.best, g), grow(s.known, g) }
func (s *extremeOf[T]) Bytes() int64 { return int64(cap(s.best)) * 17 }
func (s *extremeOf[T]) Add(ids []int32, args []arrow.Array) {
	a := args[0].(values[T])
	for i, g := range ids {
		if g < 0 || a.IsNull(i) {
			continue
		}
		v := a.Value(i)
		if !s.known[g] {
			s.best[g], s.known[g] = v, true
		} else if c := s.compare(v, s.best[g]); c != 0 && (c > 0) == s.greatest {
			s.best[g] = v
		}
	}
}
func (s *extremeOf[T]) Result(func(int, *batch.Fault)) arrow.Array {
	out := batch.NewBuilder(s.t).(builder[T])
	for g, v := range s.best {
		if s.known[g] {
			out.Append(v)
		} else {
			out.AppendNull()
		}
	}
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
func (s *extremeState) Add(ids []int32, args []arrow.Array) {
	a := args[0]
	for i, g := range ids {
		if g < 0 || a.IsNull(i) {
			continue
		}
		if s.best[g] != nil {
			if c := batch.Compare(a, i, s.best[g], 0); c == 0 || (c > 0) != s.greatest {
				continue
			}
		}
		s.best[g] = batch.Take(a, []int32{int32(i)})
	}
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
func (s *distinctState) Add(ids []int32, args []arrow.Array) {
	once := slices.Clone(ids)
	for i, g := range ids {
		if g < 0 || args[0].IsNull(i) {
			continue
		}
		s.key = batch.AppendKey(s.key[:0], args[0], i)
		if _, ok := s.seen[g][string(s.key)]; ok {
			once[i] = -1
			continue
		}
		if s.seen[g] == nil {
			s.seen[g] = map[string]struct{}{}
		}
		s.seen[g][string(s.key)] = struct{}{}
		s.bytes += int64(len(s.key)) + 40
	}
	s.State.Add(once, args)
}

// collectState keeps the values of each group, in an order at the end.
type collectState struct {
	a      Aggregate
	chunks [][]arrow.Array // the arguments of each batch
	groups [][]cell
	bytes  int64
}

// cell is a row of a chunk.
type cell struct{ chunk, row int32 }

func (s *collectState) Grow(g int)   { s.groups = grow(s.groups, g) }
func (s *collectState) Bytes() int64 { return s.bytes + int64(cap(s.groups))*24 }
func (s *collectState) Add(ids []int32, args []arrow.Array) {
	rows := make([]int32, 0, len(ids))
	for i, g := range ids {
		if g < 0 || args[0].IsNull(i) && s.a.passesNulls() {
			continue
		}
		s.groups[g] = append(s.groups[g], cell{int32(len(s.chunks)), int32(len(rows))})
		rows = append(rows, int32(i))
	}
	if len(rows) == 0 {
		return
	}
	chunk := make([]arrow.Array, len(args))
	for k, a := range args { // only what is needed is kept
		chunk[k] = batch.Take(a, rows)
		s.bytes += int64(chunk[k].Data().SizeInBytes())
	}
	s.bytes += int64(len(rows)) * 12
	s.chunks = append(s.chunks, chunk)
}

// passesNulls tells whether nulls don't count.
func (a Aggregate) passesNulls() bool {
	return a.Name != "first" && a.Name != "last" && a.Name != "array_agg"
}

// ordered gives the cells of a group in order: by ORDER BY, by the value itself
// for DISTINCT, percentiles and the mode, else as they came.
func (s *collectState) ordered(g int) []cell {
	cells := s.groups[g]
	keyed := s.a.Order
	first := 1
	if s.a.Distinct || s.a.Name == "mode" || strings.HasPrefix(s.a.Name, "percentile") {
		first = 0
		if len(keyed) == 0 {
			keyed = []Direction{{}}
		}
	}
	if len(keyed) == 0 {
		return cells
	}
	type item struct {
		cell
		key []byte
	}
	items := make([]item, len(cells))
	for i, c := range cells {
		var key []byte
		for k, d := range keyed {
			key = batch.AppendSortKey(key, s.chunks[c.chunk][first+k], int(c.row), d.Descending, d.NullsFirst)
		}
		items[i] = item{c, key}
	}
	slices.SortStableFunc(items, func(a, b item) int { return bytes.Compare(a.key, b.key) })
	out := make([]cell, 0, len(items))
	for i, it := range items {
		if s.a.Distinct && i > 0 && bytes.Equal(it.key, items[i-1].key) {
			continue
		}
		out = append(out, it.cell)
	}
	return out
}

func (s *collectState) Result(fault func(int, *batch.Fault)) arrow.Array {
	out := batch.NewBuilder(s.a.Type)
	for g := range s.groups {
		cells := s.ordered(g)
		if len(cells) == 0 {
			out.AppendNull()
			continue
		}
		value := func(i int) (arrow.Array, int) { return s.chunks[cells[i].chunk][0], int(cells[i].row) }
		give := func(i int) {
			a, row := value(i)
			batch.AppendFrom(out, a, row)
		}
		switch s.a.Name {
		case "first":
			give(0)
		case "last":
			give(len(cells) - 1)
		case "array_agg":
			list := out.(*array.ListBuilder)
			list.Append(true)
			for i := range cells {
				a, row := value(i)
				batch.AppendFrom(list.ValueBuilder(), a, row)
			}
		case "string_agg":
			var text strings.Builder
			for i := range cells {
				if i > 0 {
					text.WriteString(s.a.between)
				}
				a, row := value(i)
				text.WriteString(a.(*array.String).Value(row))
			}
			out.(*array.StringBuilder).Append(text.String())
		case "percentile_disc":
			give(max(int(math.Ceil(s.a.fraction*float64(len(cells))))-1, 0))
		case "percentile_cont":
			at := s.a.fraction * float64(len(cells)-1)
			low, high := int(math.Floor(at)), int(math.Ceil(at))
			x, y := s.number(cells[low]), s.number(cells[high])
			out.(*array.Float64Builder).Append(x + (at-math.Floor(at))*(y-x))
		case "mode":
			best, most, run := 0, 0, 0
			for i := range cells {
				if i > 0 {
					a, row := value(i)
					b, before := value(i - 1)
					if batch.Compare(a, row, b, before) != 0 {
						run = 0
					}
				}
				if run++; run > most {
					best, most = i, run
				}
			}
			give(best)
		}
	}
	return out.NewArray()
}

func (s *collectState) number(c cell) float64 {
	switch a := s.chunks[c.chunk][0].(type) {
	case *array.Int64:
		return float64(a.Value(int(c.row)))
	case *array.Decimal128:
		return decimalFloat(a.Value(int(c.row)), s.a.Args[0].Type.Scale)
	default:
		return a.(*array.Float64).Value(int(c.row))
	}
}
