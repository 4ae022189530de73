package step

import (
	"fmt"

	"github.com/apache/arrow-go/v18/arrow"

	"welkin/core/batch"
	"welkin/core/expr"
	"welkin/core/schema"
)

var joinKind = Kind{
	Name: "join", Role: Work, Ports: []string{"rows", "rows to join"}, New: func() Settings { return &Join{} },
	Help: "Puts rows of two steps side by side where their keys are equal.", Example: "with huts on hut = code",
	Words: "combine merge lookup match inner left right full semi anti",
}

// Join puts rows of two inputs side by side. Key columns of the same name come
// out once; any other column whose name the left side has too gets a suffix.
type Join struct {
	Rows   string    `json:"rows,omitempty" jsonschema:"title=rows,description=Which rows come out,enum=matched,enum=all left,enum=all right,enum=all,enum=left with a match,enum=left without a match"`
	On     []JoinKey `json:"on" jsonschema:"title=on"`
	Take   []string  `json:"take,omitempty" jsonschema:"title=take,description=Columns taken from the other side; all when left out"`
	Nulls  bool      `json:"nulls_match,omitempty" jsonschema:"title=nulls match,description=Whether two nulls count as equal"`
	Suffix string    `json:"suffix,omitempty" jsonschema:"title=suffix,description=Added to a name that stands on both sides; _2 when left out"`
	FanOut float64   `json:"warn_above,omitempty" jsonschema:"title=warn above,description=Warns when more rows come out than this times the rows in; 10 when left out"`
}

// JoinKey is one pair of columns that must be equal.
type JoinKey struct {
	Left  string `json:"left" jsonschema:"title=left"`
	Right string `json:"right" jsonschema:"title=right"`
}

// What rows a join gives.
const (
	JoinMatched = "matched"
	JoinLeft    = "all left"
	JoinRight   = "all right"
	JoinAll     = "all"
	JoinWith    = "left with a match"
	JoinWithout = "left without a match"
	sideSuffix  = "_2"
	usualFanOut = 10
	noMatch     = int32(-1)
)

func (s *Join) rows() string { return orElse(s.Rows, JoinMatched) }

// Sentence implements Settings.
func (s *Join) Sentence() string {
	on := make([]string, len(s.On))
	for i, k := range s.On {
		if on[i] = k.Left; k.Left != k.Right {
			on[i] += " = " + k.Right
		}
	}
	tail := ""
	if s.rows() != JoinMatched {
		tail = "; " + s.rows()
	}
	return "join on " + list(on, 3) + tail
}

// Bind implements Settings.
func (s *Join) Bind(c *Context, in []*schema.Schema) *Bound {
	left, right := in[0], in[1]
	p := joinPlan{rows: s.rows(), nulls: s.Nulls, fanOut: s.FanOut, rightSchema: right}
	if p.fanOut == 0 {
		p.fanOut = usualFanOut
	}
	switch p.rows {
	case JoinMatched, JoinLeft, JoinRight, JoinAll, JoinWith, JoinWithout:
	default:
		c.Problem("rows", "rows is one of matched, all left, all right, all, left with a match, left without a match; not %q", s.Rows)
	}
	shared := map[int]int{} // right key column → left key column of the same name
	for i, k := range s.On {
		path := fmt.Sprintf("on[%d]", i)
		l, r := c.column(path+".left", left, k.Left), c.column(path+".right", right, k.Right)
		if l < 0 || r < 0 {
			continue
		}
		lt, rt := left.Columns[l].Type, right.Columns[r].Type
		t, ok := schema.Common(lt, rt)
		if !ok || !batch.Orderable(t) {
			c.Problem(path, "%s is %s and %s is %s; give them one type in a step before", k.Left, lt, k.Right, rt)
			continue
		}
		p.left, p.right, p.types = append(p.left, l), append(p.right, r), append(p.types, t)
		if left.Columns[l].Name == right.Columns[r].Name && lt == rt {
			shared[r] = l
		}
	}
	if len(s.On) == 0 {
		c.Problem("on", "no key yet; name a column of each side that must be equal")
	}
	out := &schema.Schema{Columns: append([]schema.Column{}, left.Columns...)}
	for i := range out.Columns {
		out.Columns[i].Nullable = out.Columns[i].Nullable || p.rows == JoinRight || p.rows == JoinAll
	}
	p.sharedRight = make([]int, left.Len())
	for i := range p.sharedRight {
		p.sharedRight[i] = -1
	}
	for r, l := range shared {
		p.sharedRight[l] = r
	}
	if p.rows != JoinWith && p.rows != JoinWithout {
		take := map[int]bool{}
		for i, name := range s.Take {
			if at := c.column(fmt.Sprintf("take[%d]", i), right, name); at >= 0 {
				take[at] = true
			}
		}
		for i, col := range right.Columns {
			if _, isKey := shared[i]; isKey || len(s.Take) > 0 && !take[i] {
				continue
			}
			for out.Index(col.Name) >= 0 {
				col.Name += orElse(s.Suffix, sideSuffix)
			}
			col.Nullable = col.Nullable || p.rows != JoinMatched
			out.Columns = append(out.Columns, col)
			p.taken = append(p.taken, i)
		}
	}
	p.schema = out
	return &Bound{Schema: out, Operator: func() Operator { return &joinOperator{joinPlan: p, byKey: map[string][]int32{}} }}
}

type joinPlan struct {
	rows        string
	nulls       bool
	fanOut      float64
	left, right []int // key columns
	types       []schema.Type
	taken       []int // columns of the right side that come out
	sharedRight []int // by left column: the right key column of the same name, or -1
	rightSchema *schema.Schema
	schema      *schema.Schema
}

type joinOperator struct {
	joinPlan
	parts    []*batch.Batch
	build    *batch.Batch // the whole right side
	byKey    map[string][]int32
	used     []bool // by right row: whether it found a partner
	bytes    int64
	in, made int64
	warned   bool
	scratch  []byte
}

// First says that the right side must be there before the left one.
func (o *joinOperator) First() []int { return []int{1} }

func (o *joinOperator) Push(in int, b *batch.Batch, out Emitter) error {
	if in == 1 {
		o.parts = append(o.parts, b)
		o.bytes += b.Bytes() * 2
		return out.Holds(o.bytes)
	}
	return o.probe(b, out)
}

// keys gives the key columns of a batch, each in the type both sides share.
func (o *joinOperator) keys(b *batch.Batch, columns []int) ([]arrow.Array, error) {
	keys := make([]arrow.Array, len(columns))
	for i, c := range columns {
		keys[i] = b.Cols[c]
		if b.Schema.Columns[c].Type != o.types[i] {
			k, problems, _ := expr.Cast(b, c, o.types[i])
			if len(problems) > 0 {
				return nil, fmt.Errorf("key %q: %s", b.Schema.Columns[c].Name, problems[0].Sentence)
			}
			keys[i] = k
		}
	}
	return keys, nil
}

// key gives the bytes of a row's key; ok is false when a null keeps it from
// matching anything.
func (o *joinOperator) key(keys []arrow.Array, i int) (key []byte, ok bool) {
	o.scratch = o.scratch[:0]
	for _, k := range keys {
		if k.IsNull(i) && !o.nulls {
			return nil, false
		}
		o.scratch = batch.AppendKey(o.scratch, k, i)
	}
	return o.scratch, true
}

func (o *joinOperator) probe(b *batch.Batch, out Emitter) error {
	keys, err := o.keys(b, o.left)
	if err != nil {
		return err
	}
	lefts, rights := make([]int32, 0, b.N), make([]int32, 0, b.N)
	matched, unmatched, dropped, made := 0, 0, 0, 0
	for i := range int32(b.N) {
		var partners []int32
		if key, ok := o.key(keys, int(i)); ok {
			partners = o.byKey[string(key)]
		}
		if len(partners) == 0 {
			unmatched++
			switch o.rows {
			case JoinLeft, JoinAll, JoinWithout:
				lefts, rights = append(lefts, i), append(rights, noMatch)
			default:
				dropped++
			}
			continue
		}
		matched++
		switch o.rows {
		case JoinWithout:
			dropped++
			continue
		case JoinWith:
			lefts, rights = append(lefts, i), append(rights, noMatch)
			continue
		}
		for n, r := range partners {
			o.used[r] = true
			lefts, rights = append(lefts, i), append(rights, r)
			if n > 0 {
				made++
			}
		}
		if len(lefts) >= 4*batch.Rows { // a large fan-out goes out in portions
			if err := out.Emit(o.side(b, lefts, rights)); err != nil {
				return err
			}
			lefts, rights = lefts[:0:0], rights[:0:0]
		}
	}
	out.Match(0, matched, unmatched)
	out.Dropped(dropped)
	out.Made(made)
	if o.in, o.made = o.in+int64(b.N), o.made+int64(made); !o.warned && o.in > 1000 && float64(o.in+o.made) > o.fanOut*float64(o.in) {
		o.warned = true
		out.Warn(fmt.Sprintf("the join makes more than %g rows of one; is a key missing?", o.fanOut))
	}
	return out.Emit(o.side(b, lefts, rights))
}

// side puts left rows and right rows beside each other.
func (o *joinOperator) side(b *batch.Batch, lefts, rights []int32) *batch.Batch {
	out := b.Take(lefts)
	out.Schema = o.schema
	for _, c := range o.taken {
		out.Cols = append(out.Cols, batch.Take(o.build.Cols[c], rights))
	}
	return out
}

func (o *joinOperator) End(in int, out Emitter) error {
	if in == 1 {
		return o.buildTable(out)
	}
	matched := 0
	var alone []int32
	for r, used := range o.used {
		if used {
			matched++
		} else {
			alone = append(alone, int32(r))
		}
	}
	if o.rows == JoinWith || o.rows == JoinWithout {
		out.Absorbed(len(o.used))
		return nil
	}
	out.Match(1, matched, len(alone))
	if o.rows != JoinRight && o.rows != JoinAll {
		out.Absorbed(len(o.used))
		return nil
	}
	out.Absorbed(matched)
	for from := 0; from < len(alone); from += batch.Rows {
		rights := alone[from:min(from+batch.Rows, len(alone))]
		b := &batch.Batch{Schema: o.schema, N: len(rights), Origin: o.build.Origin.Take(rights)}
		for c, r := range o.sharedRight {
			if r >= 0 {
				b.Cols = append(b.Cols, batch.Take(o.build.Cols[r], rights))
			} else {
				b.Cols = append(b.Cols, batch.Nulls(o.schema.Columns[c].Type, len(rights)))
			}
		}
		for _, c := range o.taken {
			b.Cols = append(b.Cols, batch.Take(o.build.Cols[c], rights))
		}
		if err := out.Emit(b); err != nil {
			return err
		}
	}
	return nil
}

func (o *joinOperator) buildTable(out Emitter) error {
	if len(o.parts) == 0 {
		empty := &batch.Batch{Schema: o.rightSchema}
		for _, c := range o.rightSchema.Columns {
			empty.Cols = append(empty.Cols, batch.Nulls(c.Type, 0))
		}
		o.parts = append(o.parts, empty)
	}
	var err error
	if o.build, err = batch.Concat(o.parts); err != nil {
		return err
	}
	o.parts = nil
	keys, err := o.keys(o.build, o.right)
	if err != nil {
		return err
	}
	for i := range int32(o.build.N) {
		if key, ok := o.key(keys, int(i)); ok {
			o.byKey[string(key)] = append(o.byKey[string(key)], i)
		}
	}
	o.used = make([]bool, o.build.N)
	return out.Holds(o.bytes + int64(o.build.N)*80)
}
