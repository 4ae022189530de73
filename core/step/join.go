package step

import (
	"fmt"
	"slices"
	"strings"
	"sync/atomic"

	"welkin/core/batch"
	"welkin/core/expr"
	"welkin/core/schema"
)

var joinKind = Kind{
	Name: "join", Role: Work, Ports: []string{"rows", "rows to join"}, New: func() Settings { return &Join{} },
	Help: "Puts rows of two steps side by side where their keys are equal.", Example: "with huts on hut = code",
	Words: "combine merge lookup match inner left right full semi anti cross",
}

// Join puts rows of two inputs side by side. Key columns of the same name come
// out once; any other column whose name the left side has too gets a suffix.
type Join struct {
	Rows   string    `json:"rows,omitempty" jsonschema:"title=rows,description=Which rows come out,enum=matched,enum=all left,enum=all right,enum=all,enum=left with a match,enum=left without a match,enum=every pair"`
	On     []JoinKey `json:"on,omitempty" jsonschema:"title=on"`
	Take   []string  `json:"take,omitempty" jsonschema:"title=take,description=Columns taken from the other side; all when left out"`
	Nulls  bool      `json:"nulls_match,omitempty" jsonschema:"title=nulls match,description=Whether two nulls count as equal"`
	Suffix string    `json:"suffix,omitempty" jsonschema:"title=suffix,description=Added to a name that stands on both sides; _2 when left out"`
	FanOut float64   `json:"warn_above,omitempty" jsonschema:"title=warn above,description=Warns when more rows come out than this times the rows in; 10 when left out"`
}

// What rows a join gives.
const (
	JoinMatched = "matched"
	JoinLeft    = "all left"
	JoinRight   = "all right"
	JoinAll     = "all"
	JoinWith    = "left with a match"
	JoinWithout = "left without a match"
	JoinPairs   = "every pair"
	sideSuffix  = "_2"
	usualFanOut = 10
	noMatch     = int32(-1)
)

func (s *Join) rows() string { return orElse(s.Rows, JoinMatched) }

// Sentence implements Settings.
func (s *Join) Sentence() string {
	if s.rows() == JoinPairs {
		return "join every pair of rows"
	}
	tail := ""
	if s.rows() != JoinMatched {
		tail = "; " + s.rows()
	}
	return "join on " + pairs(s.On) + tail
}

// Bind implements Settings.
func (s *Join) Bind(c *Context, in []*schema.Schema) *Bound {
	left, right := in[0], in[1]
	p := &joinPlan{rows: s.rows(), fanOut: s.FanOut, left: left}
	if p.fanOut == 0 {
		p.fanOut = usualFanOut
	}
	switch p.rows {
	case JoinMatched, JoinLeft, JoinRight, JoinAll, JoinWith, JoinWithout:
		if len(s.On) == 0 {
			c.Problem("on", "no key yet; name a column of each side that must be equal")
		}
	case JoinPairs:
		if len(s.On) > 0 {
			c.Problem("on", "every pair comes out, so keys have no place; take them out or choose matched")
		}
	default:
		c.Problem("rows", "rows is one of matched, all left, all right, all, left with a match, left without a match, every pair; not %q", s.Rows)
	}
	p.pairing = c.pair(s.On, left, right)
	p.nulls = s.Nulls
	p.sharedRight = make([]int, left.Len())
	for i := range p.sharedRight {
		p.sharedRight[i] = -1
	}
	shared := map[int]bool{}
	for i, l := range p.pairing.left {
		r := p.right[i]
		if left.Columns[l].Name == right.Columns[r].Name && left.Columns[l].Type == right.Columns[r].Type {
			p.sharedRight[l], shared[r] = r, true
		}
	}
	out := &schema.Schema{Columns: slices.Clone(left.Columns)}
	for i := range out.Columns {
		out.Columns[i].Nullable = out.Columns[i].Nullable || p.rows == JoinRight || p.rows == JoinAll
	}
	if p.rows != JoinWith && p.rows != JoinWithout {
		take := c.pick("take", right, s.Take)
		for i, col := range right.Columns {
			if shared[i] || len(s.Take) > 0 && !slices.Contains(take, i) {
				continue
			}
			for slices.Contains(out.Names(), col.Name) {
				col.Name += orElse(s.Suffix, sideSuffix)
			}
			col.Nullable = col.Nullable || p.rows != JoinMatched && p.rows != JoinPairs
			out.Columns = append(out.Columns, col)
			p.taken = append(p.taken, i)
		}
	}
	p.schema = out
	return &Bound{Schema: out, Uses: p.uses, Keys: p.wanted(), Operator: func() Operator {
		return &pairOperator{pairing: p.pairing, matcher: &joinMatcher{joinPlan: p}, leftSchema: left}
	}, SQL: oneSQL(func(from []string) (string, error) { return p.sql(from[0], from[1]), nil })}
}

type joinPlan struct {
	*pairing
	rows        string
	fanOut      float64
	left        *schema.Schema
	taken       []int // columns of the right side that come out
	sharedRight []int // by left column: the right key column of the same name, or -1
	schema      *schema.Schema
}

// wanted tells by which keys rows are looked for; nil when every pair comes out.
func (p *joinPlan) wanted() *Keys {
	if p.rows == JoinPairs {
		return nil
	}
	return &Keys{pairing: p.pairing, Rest: p.rows == JoinRight || p.rows == JoinAll}
}

func (p *joinPlan) uses(wanted []bool) [][]bool {
	left := marked(append([]bool{}, wanted[:p.left.Len()]...), p.pairing.left)
	right := marked(make([]bool, p.rightSchema.Len()), p.right)
	for i, r := range p.taken {
		right[r] = wanted[p.left.Len()+i]
	}
	return [][]bool{left, marked(right, p.right)}
}

// side writes the columns that come out; a side that is not there gives nulls.
func (p *joinPlan) side(withLeft, withRight bool) string {
	var cols []string
	for i, col := range p.left.Columns {
		value := "l." + expr.QuoteName(col.Name)
		if !withLeft {
			value = "NULL::" + col.Type.Postgres()
			if r := p.sharedRight[i]; r >= 0 {
				value = "r." + expr.QuoteName(p.rightSchema.Columns[r].Name)
			}
		}
		cols = append(cols, value+" AS "+expr.QuoteName(p.schema.Columns[i].Name))
	}
	for i, r := range p.taken {
		value := "r." + expr.QuoteName(p.rightSchema.Columns[r].Name)
		if !withRight {
			value = "NULL"
		}
		cols = append(cols, value+" AS "+expr.QuoteName(p.schema.Columns[p.left.Len()+i].Name))
	}
	return strings.Join(cols, ", ")
}

func (p *joinPlan) sql(l, r string) string {
	on := p.condition(p.left, "l", "r")
	alone := fmt.Sprintf("SELECT %s FROM %s AS r WHERE NOT EXISTS (SELECT 1 FROM %s AS l WHERE %s)", p.side(false, true), r, l, on)
	with := func(kind string) string {
		return fmt.Sprintf("SELECT %s FROM %s AS l %s %s AS r ON %s", p.side(true, true), l, kind, r, on)
	}
	switch p.rows {
	case JoinWith, JoinWithout:
		not := map[string]string{JoinWithout: "NOT "}[p.rows]
		return fmt.Sprintf("SELECT * FROM %s AS l WHERE %sEXISTS (SELECT 1 FROM %s AS r WHERE %s)", l, not, r, on)
	case JoinLeft:
		return with("LEFT JOIN")
	case JoinRight:
		return with("JOIN") + " UNION ALL " + alone
	case JoinAll:
		return with("LEFT JOIN") + " UNION ALL " + alone
	}
	return with("JOIN")
}

type joinMatcher struct {
	*joinPlan
	in, made atomic.Int64
	warned   atomic.Bool
}

func (o *joinMatcher) ready(*pairTable, Emitter) error { return nil }

func (o *joinMatcher) match(t *pairTable, b *batch.Batch, out Emitter) error {
	p, err := t.probe(b)
	if err != nil {
		return err
	}
	lefts, rights := make([]int32, 0, b.N), make([]int32, 0, b.N)
	matched, unmatched, dropped, made := 0, 0, 0, 0
	for i := range int32(b.N) {
		partners := p.partners(int(i))
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
		made += len(partners) - 1
		for _, r := range partners {
			t.use(r)
			lefts, rights = append(lefts, i), append(rights, r)
			if len(lefts) >= 4*batch.Rows { // a large fan-out goes out in portions
				if err := out.Emit(o.beside(t, b, lefts, rights)); err != nil {
					return err
				}
				lefts, rights = lefts[:0:0], rights[:0:0]
			}
		}
	}
	out.Match(0, matched, unmatched)
	out.Dropped(dropped)
	out.Made(made)
	in, more := o.in.Add(int64(b.N)), o.made.Add(int64(made))
	if o.rows != JoinPairs && in > 1000 && float64(in+more) > o.fanOut*float64(in) && !o.warned.Swap(true) {
		out.Warn(fmt.Sprintf("the join makes more than %g rows of one; is a key missing?", o.fanOut))
	}
	return out.Emit(o.beside(t, b, lefts, rights))
}

// beside puts left rows and right rows beside each other.
func (o *joinMatcher) beside(t *pairTable, b *batch.Batch, lefts, rights []int32) *batch.Batch {
	out := b.Take(lefts)
	out.Schema = o.schema
	for _, c := range o.taken {
		out.Cols = append(out.Cols, batch.Take(t.build.Cols[c], rights))
	}
	return out
}

func (o *joinMatcher) rest(t *pairTable, out Emitter) error {
	if o.rows == JoinWith || o.rows == JoinWithout {
		out.Absorbed(t.build.N)
		return nil
	}
	alone := t.unused()
	matched := t.build.N - len(alone)
	out.Match(1, matched, len(alone))
	if o.rows != JoinRight && o.rows != JoinAll {
		out.Absorbed(t.build.N)
		return nil
	}
	out.Absorbed(matched)
	for from := 0; from < len(alone); from += batch.Rows {
		rights := alone[from:min(from+batch.Rows, len(alone))]
		b := &batch.Batch{Schema: o.schema, N: len(rights), Origin: t.build.Origin.Take(rights)}
		for c, r := range o.sharedRight {
			if r >= 0 {
				b.Cols = append(b.Cols, batch.Take(t.build.Cols[r], rights))
			} else {
				b.Cols = append(b.Cols, batch.Nulls(o.schema.Columns[c].Type, len(rights)))
			}
		}
		for _, c := range o.taken {
			b.Cols = append(b.Cols, batch.Take(t.build.Cols[c], rights))
		}
		if err := out.Emit(b); err != nil {
			return err
		}
	}
	return nil
}
