package step

import (
	"fmt"
	"math"
	"sync/atomic"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"

	"welkin/core/batch"
	"welkin/core/expr"
	"welkin/core/schema"
	"welkin/core/spill"
)

// pairing is what steps share that find, for each row of one input, the rows of
// the other input with the same key: join, look up, find valid, compare. The
// other side is kept in a table. When it does not fit, both sides go to parts on
// disk by the hash of their key, and each part is worked on by itself.
type pairing struct {
	left, right []int         // key columns
	types       []schema.Type // by key: the type both sides are compared in
	nulls       bool          // nulls are equal
	rightSchema *schema.Schema
}

// JoinKey is one pair of columns that must be equal.
type JoinKey struct {
	Left  string `json:"left" jsonschema:"title=left"`
	Right string `json:"right,omitempty" jsonschema:"title=right,description=The same name when left out"`
}

// pairs words key pairs for a sentence.
func pairs(on []JoinKey) string {
	names := make([]string, len(on))
	for i, k := range on {
		if names[i] = k.Left; k.Right != "" && k.Left != k.Right {
			names[i] += " = " + k.Right
		}
	}
	return list(names, 3)
}

// pair binds key pairs.
func (c *Context) pair(on []JoinKey, left, right *schema.Schema) *pairing {
	p := &pairing{rightSchema: right}
	for i, k := range on {
		path := fmt.Sprintf("on[%d]", i)
		l, r := c.column(path+".left", left, k.Left), c.column(path+".right", right, orElse(k.Right, k.Left))
		if l < 0 || r < 0 {
			continue
		}
		lt, rt := left.Columns[l].Type, right.Columns[r].Type
		t, ok := schema.Common(lt, rt)
		if !ok || !batch.Orderable(t) {
			c.Problem(path, "%s is %s and %s is %s; give them one type in a step before", k.Left, lt, orElse(k.Right, k.Left), rt)
			continue
		}
		p.left, p.right, p.types = append(p.left, l), append(p.right, r), append(p.types, t)
	}
	return p
}

// condition writes that the keys of two relations are equal.
func (p *pairing) condition(left *schema.Schema, l, r string) string {
	if len(p.left) == 0 {
		return "true"
	}
	text := ""
	for i := range p.left {
		if i > 0 {
			text += " AND "
		}
		op := " = "
		if p.nulls {
			op = " IS NOT DISTINCT FROM "
		}
		text += l + "." + expr.QuoteName(left.Columns[p.left[i]].Name) + op + r + "." + expr.QuoteName(p.rightSchema.Columns[p.right[i]].Name)
	}
	return text
}

// keyColumns gives the key columns of a batch in the types that are compared.
func (p *pairing) keyColumns(b *batch.Batch, columns []int) ([]arrow.Array, error) {
	keys := make([]arrow.Array, len(columns))
	for i, c := range columns {
		keys[i] = b.Cols[c]
		if b.Schema.Columns[c].Type != p.types[i] {
			k, problems, _ := expr.Cast(b, c, p.types[i])
			if len(problems) > 0 {
				return nil, fmt.Errorf("key %q: %s", b.Schema.Columns[c].Name, problems[0].Sentence)
			}
			keys[i] = k
		}
	}
	return keys, nil
}

// hasNull tells whether a row's key holds a null that keeps it from matching.
func (p *pairing) hasNull(keys []arrow.Array, i int) bool {
	return !p.nulls && hasNull(keys, i)
}

func hasNull(keys []arrow.Array, i int) bool {
	for _, k := range keys {
		if k.IsNull(i) {
			return true
		}
	}
	return false
}

// pairTable is the other side by key. It may be read by several goroutines.
type pairTable struct {
	*pairing
	build   *batch.Batch
	ids     map[string]int32 // number of a key
	whole   *wholeKeys       // the same for one key column of whole numbers
	offsets []int32          // by number: where its rows begin
	rows    []int32          // rows by key, in the order in which they came
	n       int32            // keys there are
	single  bool             // key n stands at row n and nowhere else
	used    []uint32         // a bit a row: whether it found a partner
}

func newPairTable(p *pairing, parts []*batch.Batch) (*pairTable, error) {
	if len(parts) == 0 {
		empty := &batch.Batch{Schema: p.rightSchema}
		for _, c := range p.rightSchema.Columns {
			empty.Cols = append(empty.Cols, batch.Nulls(c.Type, 0))
		}
		parts = []*batch.Batch{empty}
	}
	build, err := batch.Concat(parts)
	if err != nil {
		return nil, err
	}
	keys, err := p.keyColumns(build, p.right)
	if err != nil {
		return nil, err
	}
	t := &pairTable{pairing: p, build: build, used: make([]uint32, build.N/32+1)}
	numbers := make([]int32, build.N) // by row: the number of its key, -1 for none
	var counts []int32
	var key []byte
	if len(keys) == 1 {
		if column, ok := keys[0].(*array.Int64); ok {
			t.whole = newWholeKeys(column)
		}
	}
	if t.whole == nil {
		t.ids = make(map[string]int32, build.N)
	}
	for i := range build.N {
		if p.hasNull(keys, i) {
			numbers[i] = -1
			continue
		}
		var id int32
		var ok bool
		if t.whole != nil && keys[0].IsValid(i) {
			v := keys[0].(*array.Int64).Value(i)
			if id, ok = t.whole.find(v); !ok {
				id = int32(len(counts))
				t.whole.put(v, id)
			}
		} else {
			key = appendKey(key[:0], keys, i)
			if id, ok = t.ids[string(key)]; !ok {
				if t.ids == nil {
					t.ids = map[string]int32{}
				}
				id = int32(len(counts))
				t.ids[string(key)] = id
			}
		}
		if !ok {
			counts = append(counts, 0)
		}
		counts[id]++
		numbers[i] = id
	}
	t.n = int32(len(counts))
	if t.single = len(counts) == build.N; t.single {
		return t, nil
	}
	t.offsets = make([]int32, len(counts)+1)
	for id, n := range counts {
		t.offsets[id+1] = t.offsets[id] + n
	}
	t.rows = make([]int32, t.offsets[len(counts)])
	at := append([]int32{}, t.offsets...)
	for i, id := range numbers {
		if id >= 0 {
			t.rows[at[id]] = int32(i)
			at[id]++
		}
	}
	return t, nil
}

// wholeKeys numbers whole numbers: in a list when they lie close together, as
// surrogate keys do, otherwise in a map.
type wholeKeys struct {
	low    int64
	dense  []int32 // by number less low: its number and one; nil when a map is used
	sparse map[int64]int32
}

func newWholeKeys(column *array.Int64) *wholeKeys {
	low, high, n := int64(math.MaxInt64), int64(math.MinInt64), 0
	for i, v := range column.Int64Values() {
		if column.IsValid(i) {
			low, high, n = min(low, v), max(high, v), n+1
		}
	}
	if n > 0 && uint64(high)-uint64(low) < uint64(4*n) {
		return &wholeKeys{low: low, dense: make([]int32, high-low+1)}
	}
	return &wholeKeys{sparse: make(map[int64]int32, n)}
}

func (k *wholeKeys) put(v int64, id int32) {
	if k.dense != nil {
		k.dense[v-k.low] = id + 1
	} else {
		k.sparse[v] = id
	}
}

func (k *wholeKeys) find(v int64) (id int32, ok bool) {
	if k.dense != nil {
		at := uint64(v) - uint64(k.low) // wraps around below low
		if at >= uint64(len(k.dense)) {
			return 0, false
		}
		id = k.dense[at] - 1
		return id, id >= 0
	}
	id, ok = k.sparse[v]
	return id, ok
}

// findAll looks all values of a column up at once, so that many wait for memory
// together; what stands for a null finds anything.
func (k *wholeKeys) findAll(column *array.Int64) []int32 {
	out := make([]int32, column.Len())
	for i, v := range column.Int64Values() {
		id, ok := k.find(v)
		if !ok {
			id = -1
		}
		out[i] = id
	}
	return out
}

func appendKey(dst []byte, keys []arrow.Array, i int) []byte {
	for _, k := range keys {
		dst = batch.AppendKey(dst, k, i)
	}
	return dst
}

// bytes estimates the memory the table takes.
func (t *pairTable) bytes() int64 {
	return t.build.Bytes() + int64(t.build.N)*8 + int64(t.n)*72
}

// probe looks rows of a batch up, one after the other.
type probe struct {
	t     *pairTable
	keys  []arrow.Array
	whole []int32 // by row: number of a key that is a whole number, -1 for none
	key   []byte
	one   [1]int32
}

func (t *pairTable) probe(b *batch.Batch) (*probe, error) {
	keys, err := t.keyColumns(b, t.left)
	p := &probe{t: t, keys: keys}
	if err == nil && t.whole != nil {
		p.whole = t.whole.findAll(keys[0].(*array.Int64))
	}
	return p, err
}

// partners gives the rows of the other side with the key of row i, until it is
// called again.
func (p *probe) partners(i int) []int32 {
	t := p.t
	if t.hasNull(p.keys, i) {
		return nil
	}
	var id int32
	var ok bool
	if p.whole != nil && p.keys[0].IsValid(i) {
		id, ok = p.whole[i], p.whole[i] >= 0
	} else {
		p.key = appendKey(p.key[:0], p.keys, i)
		id, ok = t.ids[string(p.key)]
	}
	if !ok {
		return nil
	}
	if t.single {
		p.one[0] = id
		return p.one[:]
	}
	return t.of(id)
}

// of gives the rows of a key by its number, in the order in which they came.
func (t *pairTable) of(id int32) []int32 {
	if t.single {
		return []int32{id}
	}
	return t.rows[t.offsets[id]:t.offsets[id+1]]
}

// use remembers that a row of the other side found a partner.
func (t *pairTable) use(row int32) {
	word, bit := &t.used[row>>5], uint32(1)<<(row&31)
	if atomic.LoadUint32(word)&bit == 0 { // most have been used before, and are only read
		atomic.OrUint32(word, bit)
	}
}

func (t *pairTable) isUsed(row int32) bool { return t.used[row>>5]&(1<<(row&31)) != 0 }

// unused lists the rows of the other side that found no partner.
func (t *pairTable) unused() []int32 {
	var out []int32
	for row := range int32(t.build.N) {
		if !t.isUsed(row) {
			out = append(out, row)
		}
	}
	return out
}

// matcher is what a step does with rows and their partners.
type matcher interface {
	// ready is told once a table is built.
	ready(t *pairTable, out Emitter) error
	// match takes a batch of the first input.
	match(t *pairTable, b *batch.Batch, out Emitter) error
	// rest is told when all rows of the first input that belong to a table were
	// matched; it accounts for the table's rows.
	rest(t *pairTable, out Emitter) error
}

// pairOperator runs a matcher.
type pairOperator struct {
	*pairing
	matcher
	serial     bool // match may not run concurrently
	leftSchema *schema.Schema
	waiting    []*batch.Batch
	bytes      int64
	table      *pairTable
	leftParts  *spill.Parts
	rightParts *spill.Parts
}

// First implements Needs: the other side must be there before.
func (o *pairOperator) First() []int { return []int{1} }

// Concurrent implements Concurrent.
func (o *pairOperator) Concurrent(in int) bool { return in == 0 && o.table != nil && !o.serial }

// Push implements Operator.
func (o *pairOperator) Push(in int, b *batch.Batch, out Emitter) error {
	switch {
	case in == 0 && o.table != nil:
		return o.match(o.table, b, out)
	case in == 0:
		return o.toParts(o.leftParts, b, o.left)
	case o.rightParts != nil:
		return o.toParts(o.rightParts, b, o.right)
	}
	o.waiting = append(o.waiting, b)
	o.bytes += b.Bytes() + int64(b.N)*72
	if o.bytes <= out.Room() {
		return out.Holds(o.bytes)
	}
	o.leftParts, o.rightParts = spill.NewParts(out.TempDir(), 0), spill.NewParts(out.TempDir(), 0)
	for _, b := range o.waiting {
		if err := o.toParts(o.rightParts, b, o.right); err != nil {
			return err
		}
	}
	o.waiting = nil
	return out.Holds(0)
}

func (o *pairOperator) toParts(parts *spill.Parts, b *batch.Batch, columns []int) error {
	keys, err := o.keyColumns(b, columns)
	if err != nil {
		return err
	}
	return parts.Add(b, batch.Hashes(keys, b.N), nil)
}

// End implements Operator.
func (o *pairOperator) End(in int, out Emitter) error {
	switch {
	case in == 1 && o.rightParts == nil:
		t, err := newPairTable(o.pairing, o.waiting)
		if err != nil {
			return err
		}
		o.table, o.waiting = t, nil
		if err := o.ready(t, out); err != nil {
			return err
		}
		return out.Holds(t.bytes())
	case in == 1:
		return nil
	case o.table != nil:
		return o.rest(o.table, out)
	}
	left, right := o.leftParts, o.rightParts
	o.leftParts, o.rightParts = nil, nil
	return o.byParts(left, right, out)
}

// byParts works on each pair of parts by itself.
func (o *pairOperator) byParts(left, right *spill.Parts, out Emitter) error {
	defer left.Close()
	defer right.Close()
	for k := range spill.Fan {
		l, r := left.Part(k), right.Part(k)
		if l == nil && r == nil {
			continue
		}
		if err := o.onePart(l, r, left.Level(), out); err != nil {
			return err
		}
	}
	return nil
}

func (o *pairOperator) onePart(left, right *spill.Spool, level int, out Emitter) error {
	var build []*batch.Batch
	var bytes int64
	var deeper *spill.Parts
	if right != nil {
		err := right.Drain(func(b *batch.Batch) error {
			if deeper != nil {
				return o.toParts(deeper, b, o.right)
			}
			build = append(build, b)
			bytes += b.Bytes() + int64(b.N)*72
			if bytes <= out.Room() || level+1 >= spill.MaxLevel {
				return nil
			}
			deeper = spill.NewParts(out.TempDir(), level+1)
			for _, b := range build {
				if err := o.toParts(deeper, b, o.right); err != nil {
					return err
				}
			}
			build = nil
			return nil
		})
		if err != nil {
			deeper.Close()
			return err
		}
	}
	if deeper != nil {
		lefts := spill.NewParts(out.TempDir(), level+1)
		if left != nil {
			if err := left.Drain(func(b *batch.Batch) error { return o.toParts(lefts, b, o.left) }); err != nil {
				lefts.Close()
				deeper.Close()
				return err
			}
		}
		return o.byParts(lefts, deeper, out)
	}
	t, err := newPairTable(o.pairing, build)
	if err != nil {
		return err
	}
	if err := o.ready(t, out); err != nil {
		return err
	}
	if err := out.Holds(t.bytes()); err != nil {
		return err
	}
	if left != nil {
		if err := left.Drain(func(b *batch.Batch) error { return o.match(t, b, out) }); err != nil {
			return err
		}
	}
	return o.rest(t, out)
}

// Close implements Closer.
func (o *pairOperator) Close() {
	o.leftParts.Close()
	o.rightParts.Close()
}
