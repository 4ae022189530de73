package expr

import (
	"strings"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	pg "github.com/pganalyze/pg_query_go/v6"

	"welkin/core/batch"
	"welkin/core/schema"
)

// bindArray is ARRAY[a, b, …]: a list of the elements' common type.
func (b *binder) bindArray(e *pg.A_ArrayExpr) (node, error) {
	nodes, err := b.bindAll(e.Elements)
	if err != nil {
		return nil, err
	}
	elem := schema.Type{}
	if len(nodes) > 0 {
		if elem, err = b.unify(nodes, e.Location, "ARRAY"); err != nil {
			return nil, err
		}
	}
	t := schema.ListOf(elem)
	return &callNode{t, nodes, func(f *frame, args []arrow.Array) arrow.Array {
		out := batch.NewBuilder(t).(*array.ListBuilder)
		for i := range f.n {
			out.Append(true)
			for _, a := range args {
				batch.AppendFrom(out.ValueBuilder(), a, i)
			}
		}
		return out.NewArray()
	}}, nil
}

// bindRow is ROW(a, b): a record with the fields f1, f2, …
func (b *binder) bindRow(e *pg.RowExpr) (node, error) {
	nodes, err := b.bindAll(e.Args)
	if err != nil {
		return nil, err
	}
	fields := make([]schema.Field, len(nodes))
	for i, n := range nodes {
		if n.typ().Kind == schema.Unknown {
			nodes[i] = castNode(n, textType)
		}
		fields[i] = schema.Field{Name: "f" + itoa(i+1), Type: nodes[i].typ()}
	}
	return recordNode(fields, nodes), nil
}

func recordNode(fields []schema.Field, nodes []node) node {
	t := schema.RecordOf(fields...)
	return &callNode{t, nodes, func(f *frame, args []arrow.Array) arrow.Array {
		out := batch.NewBuilder(t).(*array.StructBuilder)
		for i := range f.n {
			out.Append(true)
			for k, a := range args {
				batch.AppendFrom(out.FieldBuilder(k), a, i)
			}
		}
		return out.NewArray()
	}}
}

// bindIndirection is what stands behind a value: (r).field, list[2], list[2:3],
// json['key'].
func (b *binder) bindIndirection(e *pg.A_Indirection) (node, error) {
	n, err := b.bind(e.Arg)
	if err != nil {
		return nil, err
	}
	for _, part := range e.Indirection {
		if name := part.GetString_(); name != nil {
			if n, err = b.field(n, name.Sval, 0); err != nil {
				return nil, err
			}
			continue
		}
		index := part.GetAIndices()
		if index == nil {
			return nil, &Error{0, "* has no place here; name a field"}
		}
		if n, err = b.subscript(n, index); err != nil {
			return nil, err
		}
	}
	return n, nil
}

// field takes a field of a record.
func (b *binder) field(n node, name string, at int32) (node, error) {
	if n.typ().Kind != schema.Record {
		return nil, b.errf(at, "%s has no fields, so .%s has no meaning", n.typ(), name)
	}
	var names []string
	for i, f := range n.typ().Fields() {
		if strings.EqualFold(f.Name, name) {
			return &callNode{f.Type, []node{n}, func(fr *frame, args []arrow.Array) arrow.Array {
				record := args[0].(*array.Struct)
				out := batch.NewBuilder(f.Type)
				for row := range fr.n {
					if record.IsNull(row) {
						out.AppendNull()
					} else {
						batch.AppendFrom(out, record.Field(i), row)
					}
				}
				return out.NewArray()
			}}, nil
		}
		names = append(names, f.Name)
	}
	return nil, b.errf(at, "the record has no field %q; there are %s", name, strings.Join(names, ", "))
}

func (b *binder) subscript(n node, index *pg.A_Indices) (node, error) {
	bound := func(e *pg.Node) (node, error) {
		if e == nil {
			return nil, nil
		}
		i, err := b.bind(e)
		if err != nil {
			return nil, err
		}
		return b.fit(i, intType, 0)
	}
	if n.typ().Kind == schema.JSON && !index.IsSlice {
		key, err := b.bind(index.Uidx)
		if err != nil {
			return nil, err
		}
		return b.binary("->", n, key, 0)
	}
	if n.typ().Kind != schema.List {
		return nil, &Error{0, "[…] takes a value out of a list; this is " + n.typ().String()}
	}
	upper, err := bound(index.Uidx)
	if err != nil {
		return nil, err
	}
	if !index.IsSlice {
		if upper.typ() != intType {
			return nil, &Error{0, "a place in a list is a whole number"}
		}
		elem := n.typ().Elem()
		return &callNode{elem, []node{n, upper}, func(f *frame, args []arrow.Array) arrow.Array {
			list, at := args[0].(*array.List), args[1].(*array.Int64)
			out := batch.NewBuilder(elem)
			for i := range f.n {
				start, end := list.ValueOffsets(i)
				if k := start + at.Value(i) - 1; list.IsNull(i) || at.IsNull(i) || k < start || k >= end {
					out.AppendNull()
				} else {
					batch.AppendFrom(out, list.ListValues(), int(k))
				}
			}
			return out.NewArray()
		}}, nil
	}
	lower, err := bound(index.Lidx)
	if err != nil {
		return nil, err
	}
	one, most := "1", "9223372036854775807"
	if lower == nil {
		lower, _ = literal(intType, &one)
	}
	if upper == nil {
		upper, _ = literal(intType, &most)
	}
	t := n.typ()
	return &callNode{t, []node{n, lower, upper}, func(f *frame, args []arrow.Array) arrow.Array {
		return mapLists(f, args, t, func(l values64, out *array.ListBuilder, i int) {
			from, to := args[1].(*array.Int64).Value(i), args[2].(*array.Int64).Value(i)
			for k := max(from, 1); k <= min(to, l.len()); k++ {
				batch.AppendFrom(out.ValueBuilder(), l.values, int(l.start+k-1))
			}
		})
	}}, nil
}

// values64 is one list: the part of values from start to end.
type values64 struct {
	values     arrow.Array
	start, end int64
}

func (l values64) len() int64 { return l.end - l.start }

func listAt(a arrow.Array, i int) values64 {
	list := a.(*array.List)
	start, end := list.ValueOffsets(i)
	return values64{list.ListValues(), start, end}
}

// mapLists makes lists of the lists in args[0]; a null among the arguments gives
// null.
func mapLists(f *frame, args []arrow.Array, t schema.Type, fn func(l values64, out *array.ListBuilder, i int)) arrow.Array {
	out := batch.NewBuilder(t).(*array.ListBuilder)
	for i := range f.n {
		if anyNull(args, i) {
			out.AppendNull()
			continue
		}
		out.Append(true)
		fn(listAt(args[0], i), out, i)
	}
	return out.NewArray()
}

func anyNull(args []arrow.Array, i int) bool {
	for _, a := range args {
		if a.IsNull(i) {
			return true
		}
	}
	return false
}

// equalAt compares an element of a list with a value, nulls being equal.
func equalAt(l values64, k int64, v arrow.Array, i int) bool {
	if l.values.IsNull(int(k)) || v.IsNull(i) {
		return l.values.IsNull(int(k)) && v.IsNull(i)
	}
	return batch.Compare(l.values, int(k), v, i) == 0
}

// bindAny is `x op ANY (list)` and `x op ALL (list)`, in three-valued logic.
func (b *binder) bindAny(e *pg.A_Expr, op string, all bool) (node, error) {
	nodes, err := b.bindAll([]*pg.Node{e.Lexpr, e.Rexpr})
	if err != nil {
		return nil, err
	}
	left, right := nodes[0], nodes[1]
	if right.typ().Kind == schema.Unknown {
		if right, err = b.fit(right, schema.ListOf(orText(left.typ())), e.Location); err != nil {
			return nil, err
		}
	}
	if right.typ().Kind != schema.List {
		return nil, b.errf(e.Location, "ANY and ALL take a list, not %s", right.typ())
	}
	t, ok := schema.Common(left.typ(), right.typ().Elem())
	if !ok || !batch.Orderable(t) {
		return nil, b.errf(e.Location, "%s can't be compared with the values of %s", left.typ(), right.typ())
	}
	if left, err = b.fit(left, t, e.Location); err != nil {
		return nil, err
	}
	right = castNode(right, schema.ListOf(t))
	holds, ok := comparisons[op]
	if !ok {
		return nil, b.errf(e.Location, "ANY and ALL take a comparison such as =, not %s", op)
	}
	return &callNode{boolType, []node{left, right}, func(f *frame, args []arrow.Array) arrow.Array {
		out := batch.NewBuilder(boolType).(*array.BooleanBuilder)
		for i := range f.n {
			if args[1].IsNull(i) {
				out.AppendNull()
				continue
			}
			l := listAt(args[1], i)
			unknown, decided := false, false
			for k := l.start; k < l.end && !decided; k++ {
				if args[0].IsNull(i) || l.values.IsNull(int(k)) {
					unknown = true
				} else {
					decided = holds(batch.Compare(args[0], i, l.values, int(k))) != all
				}
			}
			switch {
			case decided:
				out.Append(!all)
			case unknown:
				out.AppendNull()
			default:
				out.Append(all)
			}
		}
		return out.NewArray()
	}}, nil
}

func orText(t schema.Type) schema.Type {
	if t.Kind == schema.Unknown {
		return textType
	}
	return t
}

// listOperator is ||, @>, <@ and && where a list stands on a side; ok is false
// when none does.
func (b *binder) listOperator(op string, left, right node, at int32) (n node, ok bool, err error) {
	l, r := left.typ(), right.typ()
	if l.Kind != schema.List && r.Kind != schema.List {
		return nil, false, nil
	}
	switch op {
	case "||":
		switch {
		case l.Kind == schema.List && r.Kind == schema.List, l.Kind == schema.Unknown, r.Kind == schema.Unknown:
			n, err = b.resolve("array_cat", []node{left, right}, at)
		case l.Kind == schema.List:
			n, err = b.resolve("array_append", []node{left, right}, at)
		default:
			n, err = b.resolve("array_prepend", []node{left, right}, at)
		}
		return n, true, err
	case "<@":
		left, right = right, left
	case "@>", "&&":
	default:
		return nil, false, nil
	}
	pair := []node{left, right}
	if _, err := b.unify(pair, at, op); err != nil {
		return nil, true, err
	}
	return &callNode{boolType, pair, func(f *frame, args []arrow.Array) arrow.Array {
		out := batch.NewBuilder(boolType).(*array.BooleanBuilder)
		for i := range f.n {
			if anyNull(args, i) {
				out.AppendNull()
				continue
			}
			x, y := listAt(args[0], i), listAt(args[1], i)
			found := int64(0)
			for k := y.start; k < y.end; k++ {
				for j := x.start; j < x.end; j++ {
					if y.values.IsValid(int(k)) && x.values.IsValid(int(j)) && batch.Compare(x.values, int(j), y.values, int(k)) == 0 {
						found++
						break
					}
				}
			}
			out.Append(op == "&&" && found > 0 || op != "&&" && found == y.len())
		}
		return out.NewArray()
	}}, true, nil
}

// compareRows is (a, b) op (c, d): from left to right, a null leaves the answer
// open unless it is decided before.
func (b *binder) compareRows(op string, left, right *pg.RowExpr, at int32) (node, error) {
	if len(left.Args) != len(right.Args) || len(left.Args) == 0 {
		return nil, b.errf(at, "both sides of %s need the same number of values", op)
	}
	compare := func(op string, i int) (node, error) {
		pair, err := b.bindAll([]*pg.Node{left.Args[i], right.Args[i]})
		if err != nil {
			return nil, err
		}
		return b.compare(op, pair[0], pair[1], at)
	}
	last := len(left.Args) - 1
	switch op {
	case "=", "<>", "!=":
		var out node
		for i := range left.Args {
			c, err := compare(op, i)
			if err != nil {
				return nil, err
			}
			if out == nil {
				out = c
			} else {
				out = &logicNode{op == "=", out, c}
			}
		}
		return out, nil
	case "<", "<=", ">", ">=":
		out, err := compare(op, last)
		if err != nil {
			return nil, err
		}
		for i := last - 1; i >= 0; i-- {
			equal, err := compare("=", i)
			if err != nil {
				return nil, err
			}
			strict, err := compare(op[:1], i)
			if err != nil {
				return nil, err
			}
			// Decided by this pair when it differs; unknown when it holds a null.
			out = &caseNode{t: boolType, whens: []node{equal, nullTest(equal, true)}, thens: []node{out, nullOf(boolType)}, fallback: strict}
		}
		return out, nil
	}
	return nil, b.errf(at, "rows can't be compared by %s", op)
}

func nullOf(t schema.Type) node {
	n, _ := literal(t, nil)
	return n
}
