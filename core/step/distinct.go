package step

import (
	"bytes"
	"fmt"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/zeebo/xxh3"

	"welkin/core/batch"
	"welkin/core/schema"
	"welkin/core/spill"
)

var dropDuplicates = Kind{
	Name: "drop duplicates", Role: Work, Ports: []string{"rows"}, New: func() Settings { return &DropDuplicates{} },
	Help: "Keeps one row of those with the same key; which one is chosen by an order.", Example: "by guest_id, keeping the latest updated_at",
	Words: "distinct unique deduplicate first last keep one",
}

// DropDuplicates keeps one row of each key: the first in the order stated, or
// the first that came. Nulls are equal to each other.
type DropDuplicates struct {
	By   []string  `json:"by,omitempty" jsonschema:"title=by,description=The columns that make rows the same; all when left out"`
	Keep []SortKey `json:"keep,omitempty" jsonschema:"title=keep the first by,description=Of rows with one key the first in this order stays; the first that came when left out"`
}

// Sentence implements Settings.
func (s *DropDuplicates) Sentence() string {
	text := "drop duplicates"
	if len(s.By) > 0 {
		text += " by " + list(s.By, 4)
	}
	if len(s.Keep) > 0 {
		text += ", keep the first by " + words(s.Keep)
	}
	return text
}

// Bind implements Settings.
func (s *DropDuplicates) Bind(c *Context, in []*schema.Schema) *Bound {
	by := placesAll(in[0])
	if len(s.By) > 0 {
		by = c.pick("by", in[0], s.By)
	}
	for _, at := range by {
		if t := in[0].Columns[at].Type; !batch.Orderable(t) {
			c.Problem("by", "%s can't be compared; %s is %s", t, in[0].Columns[at].Name, t)
		}
	}
	keep := c.ordering("keep", in[0], s.Keep)
	bound := &Bound{Schema: in[0], Uses: passesOn(in[0], append(keep.columns(), by...)...), Operator: func() Operator { return &distinctOperator{by: by, seen: map[string]struct{}{}} }}
	if len(s.Keep) > 0 {
		bound.Operator = func() Operator { return &bestOperator{by: by, keep: keep, schema: in[0]} }
	}
	bound.SQL = oneSQL(func(from []string) (string, error) {
		switch {
		case len(s.Keep) > 0:
			return fmt.Sprintf("SELECT DISTINCT ON (%s) * FROM %s ORDER BY %s, %s", nameList(in[0], by), from[0], nameList(in[0], by), keep.sql(in[0])), nil
		case len(s.By) > 0:
			return "", noSQL("a database knows no first row without an order")
		}
		return "SELECT DISTINCT * FROM " + from[0], nil
	})
	return bound
}

// distinctOperator lets the first row of each key through. When it is full, rows
// of keys it has not seen go to parts on disk and are looked through at the end.
type distinctOperator struct {
	by    []int
	seen  map[string]struct{}
	bytes int64
	parts *spill.Parts
}

// Push implements Operator.
func (o *distinctOperator) Push(_ int, b *batch.Batch, out Emitter) error {
	return o.pass(b, &o.parts, 0, out)
}

// pass lets new keys through.
func (o *distinctOperator) pass(b *batch.Batch, parts **spill.Parts, level int, out Emitter) error {
	cols := columnsOf(b, o.by)
	full := o.bytes > out.Room() && level < spill.MaxLevel
	var key []byte
	var keep, away []int32
	var hashes []uint64
	absorbed := 0
	for i := range b.N {
		key = key[:0]
		for _, c := range cols {
			key = batch.AppendKey(key, c, i)
		}
		if _, ok := o.seen[string(key)]; ok {
			absorbed++
			continue
		}
		if full {
			if hashes == nil {
				hashes = make([]uint64, b.N)
			}
			hashes[i] = xxh3.Hash(key)
			away = append(away, int32(i))
			continue
		}
		o.seen[string(key)] = struct{}{}
		o.bytes += int64(len(key)) + 64
		keep = append(keep, int32(i))
	}
	out.Absorbed(absorbed)
	if len(away) > 0 {
		if *parts == nil {
			*parts = spill.NewParts(out.TempDir(), level)
		}
		if err := (*parts).Add(b, hashes, away); err != nil {
			return err
		}
	}
	if err := out.Holds(o.bytes); err != nil {
		return err
	}
	if len(keep) == 0 {
		return nil
	}
	if len(keep) == b.N {
		return out.Emit(b)
	}
	return out.Emit(b.Take(keep))
}

// End implements Operator.
func (o *distinctOperator) End(_ int, out Emitter) error {
	parts := o.parts
	o.parts, o.seen = nil, nil
	return o.drain(parts, out)
}

func (o *distinctOperator) drain(parts *spill.Parts, out Emitter) error {
	defer parts.Close()
	if parts == nil {
		return nil
	}
	for k := range spill.Fan {
		part := parts.Part(k)
		if part == nil {
			continue
		}
		sub := &distinctOperator{by: o.by, seen: map[string]struct{}{}}
		err := part.Drain(func(b *batch.Batch) error { return sub.pass(b, &sub.parts, parts.Level()+1, out) })
		if err != nil {
			sub.Close()
			return err
		}
		if err := sub.drain(sub.parts, out); err != nil {
			return err
		}
	}
	return nil
}

// Close implements Closer.
func (o *distinctOperator) Close() { o.parts.Close() }

func columnsOf(b *batch.Batch, places []int) []arrow.Array {
	cols := make([]arrow.Array, len(places))
	for i, at := range places {
		cols[i] = b.Cols[at]
	}
	return cols
}

// bestOperator sorts rows by key and order and keeps the first of each key.
type bestOperator struct {
	by     []int
	keep   ordering
	schema *schema.Schema
	runs   *spill.Runs
	last   []byte
	some   bool
	wanted []bool // nil for all
}

// Lean implements Leaner.
func (o *bestOperator) Lean(wanted []bool) {
	o.wanted = marked(append([]bool{}, wanted...), append(o.keep.columns(), o.by...))
}

func (o *bestOperator) keys(b *batch.Batch) batch.SortKeys { return o.keep.groupKeys(b, o.by) }

// Concurrent implements Concurrent.
func (o *bestOperator) Concurrent(int) bool { return false }

// Push implements Operator.
func (o *bestOperator) Push(_ int, b *batch.Batch, out Emitter) error {
	if o.runs == nil {
		o.runs = spill.NewRuns(out.TempDir(), o.schema, o.keys, out.Room())
	}
	keys := o.keys(b)
	if o.wanted != nil {
		b = b.Blank(o.wanted)
	}
	if err := o.runs.Add(b, keys); err != nil {
		return err
	}
	return out.Holds(o.runs.Bytes())
}

// End implements Operator.
func (o *bestOperator) End(_ int, out Emitter) error {
	if o.runs == nil {
		return nil
	}
	return o.runs.Each(func(b *batch.Batch, key spill.KeyOf) error {
		var rows []int32
		for i := range b.N {
			group, _ := key(i)
			if o.some && bytes.Equal(group, o.last) {
				continue
			}
			o.some, o.last = true, append(o.last[:0], group...)
			rows = append(rows, int32(i))
		}
		out.Absorbed(b.N - len(rows))
		return out.Emit(b.Take(rows))
	})
}

// Close implements Closer.
func (o *bestOperator) Close() { o.runs.Close() }
