package spill

import (
	"bytes"
	"container/heap"

	"github.com/apache/arrow-go/v18/arrow/array"

	"welkin/core/batch"
	"welkin/core/schema"
)

// Runs sorts rows by a byte key of each: equal keys keep the order in which rows
// came. Up to the budget they are kept in memory; beyond it sorted runs go to
// files and are merged at the end.
type Runs struct {
	folder  string
	budget  int64
	bytes   int64
	batches []*batch.Batch
	keys    []Keys // by batch
	files   []*file
	schema  *schema.Schema // with the key as a last column
}

// NewRuns makes a sorter for rows of a schema.
func NewRuns(folder string, s *schema.Schema, budget int64) *Runs {
	keyed := &schema.Schema{Columns: append(append([]schema.Column{}, s.Columns...), schema.Column{Name: "key", Type: schema.Of(schema.Bytes)})}
	return &Runs{folder: folder, budget: budget / 4 * 3, schema: keyed} // sorting and writing a run take the rest
}

// Bytes tells how much memory is held.
func (r *Runs) Bytes() int64 { return r.bytes }

// Spilled tells whether rows went to files.
func (r *Runs) Spilled() bool { return len(r.files) > 0 }

// Keys are the keys of a batch's rows, one behind the other. No key may be the
// beginning of another that differs: batch.AppendSortKey makes such keys.
type Keys struct {
	bytes []byte
	ends  []uint32
}

// NewKeys makes room for the keys of n rows.
func NewKeys(n int) Keys { return Keys{ends: make([]uint32, 0, n)} }

// Append adds the key of the next row: fn appends its bytes.
func (k *Keys) Append(fn func(dst []byte) []byte) {
	k.bytes = fn(k.bytes)
	k.ends = append(k.ends, uint32(len(k.bytes)))
}

func (k *Keys) at(row int32) []byte {
	from := uint32(0)
	if row > 0 {
		from = k.ends[row-1]
	}
	return k.bytes[from:k.ends[row]]
}

// Add keeps rows with their keys.
func (r *Runs) Add(b *batch.Batch, keys Keys) error {
	if b.N == 0 {
		return nil
	}
	r.batches = append(r.batches, b)
	r.keys = append(r.keys, keys)
	r.bytes += b.Bytes() + int64(len(keys.bytes)) + int64(b.N)*20
	if r.bytes > r.budget {
		return r.spill()
	}
	return nil
}

// sorted gives the rows in memory in order. Equal keys are ordered by where they
// stand.
func (r *Runs) sorted() []place {
	rows := 0
	for _, b := range r.batches {
		rows += b.N
	}
	places := make([]place, 0, rows)
	for n, b := range r.batches {
		for i := range b.N {
			places = append(places, place{batch: int32(n), row: int32(i)})
		}
	}
	order(places, r.keys, 0)
	return places
}

// gathered gives sorted rows as batches of the usual size.
func (r *Runs) gathered(places []place, take func(b *batch.Batch, keys []place) error) error {
	from, rows := make([]int32, 0, batch.Rows), make([]int32, 0, batch.Rows)
	for start := 0; start < len(places); start += batch.Rows {
		part := places[start:min(start+batch.Rows, len(places))]
		from, rows = from[:0], rows[:0]
		for _, p := range part {
			from, rows = append(from, p.batch), append(rows, p.row)
		}
		if err := take(batch.Gather(r.batches, from, rows), part); err != nil {
			return err
		}
	}
	return nil
}

func (r *Runs) spill() error {
	f, err := newFile(r.folder, r.schema)
	if err != nil {
		return err
	}
	r.files = append(r.files, f)
	err = r.gathered(r.sorted(), func(b *batch.Batch, keys []place) error {
		column := batch.NewBytes(len(keys), func(i int) []byte { return r.keys[keys[i].batch].at(keys[i].row) })
		b.Schema, b.Cols = r.schema, append(b.Cols, column)
		return f.write(b)
	})
	r.batches, r.keys, r.bytes = nil, nil, 0
	if err != nil {
		return err
	}
	if len(r.files) >= maxRuns {
		return r.combine()
	}
	return nil
}

// maxRuns is how many files are merged at once.
const maxRuns = 64

// combine merges all runs into one, so that there are never too many files.
func (r *Runs) combine() error {
	files := r.files
	out, err := newFile(r.folder, r.schema)
	if err != nil {
		return err
	}
	r.files = []*file{out}
	err = merge(files, func(b *batch.Batch) error { return out.write(b) })
	for _, f := range files {
		f.remove()
	}
	return err
}

// Each gives all rows in order, with the key of each, and forgets them. Batches
// have the schema of the rows that were added.
func (r *Runs) Each(take func(b *batch.Batch, key func(row int) []byte) error) error {
	defer r.Close()
	if len(r.files) == 0 {
		if len(r.batches) == 0 {
			return nil
		}
		return r.gathered(r.sorted(), func(b *batch.Batch, places []place) error {
			return take(b, func(row int) []byte { return r.keys[places[row].batch].at(places[row].row) })
		})
	}
	if len(r.batches) > 0 {
		if err := r.spill(); err != nil {
			return err
		}
	}
	plain := &schema.Schema{Columns: r.schema.Columns[:r.schema.Len()-1]}
	return merge(r.files, func(b *batch.Batch) error {
		keys := b.Cols[len(b.Cols)-1].(*array.Binary)
		b.Schema, b.Cols = plain, b.Cols[:len(b.Cols)-1]
		return take(b, keys.Value)
	})
}

// Close removes the files.
func (r *Runs) Close() {
	if r == nil {
		return
	}
	for _, f := range r.files {
		f.remove()
	}
	r.files = nil
}

// cursor is a run while it is merged.
type cursor struct {
	file  *file
	run   int
	batch *batch.Batch
	keys  *array.Binary
	row   int
}

func (c *cursor) advance() (bool, error) {
	if c.batch != nil {
		if c.row++; c.row < c.batch.N {
			return true, nil
		}
	}
	b, err := c.file.next()
	if b == nil || err != nil {
		return false, err
	}
	c.batch, c.keys, c.row = b, b.Cols[len(b.Cols)-1].(*array.Binary), 0
	return true, nil
}

type cursors []*cursor

func (c cursors) Len() int { return len(c) }
func (c cursors) Less(i, j int) bool {
	if k := bytes.Compare(c[i].keys.Value(c[i].row), c[j].keys.Value(c[j].row)); k != 0 {
		return k < 0
	}
	return c[i].run < c[j].run // an earlier run holds earlier rows
}
func (c cursors) Swap(i, j int) { c[i], c[j] = c[j], c[i] }
func (c *cursors) Push(x any)   { *c = append(*c, x.(*cursor)) }
func (c *cursors) Pop() any {
	old := *c
	last := old[len(old)-1]
	*c = old[:len(old)-1]
	return last
}

// merge gives the rows of sorted files in order.
func merge(files []*file, take func(*batch.Batch) error) error {
	var open cursors
	for i, f := range files {
		if err := f.rewind(); err != nil {
			return err
		}
		c := &cursor{file: f, run: i}
		more, err := c.advance()
		if err != nil {
			return err
		}
		if more {
			open = append(open, c)
		}
	}
	heap.Init(&open)
	g := newGather(take)
	for len(open) > 0 {
		c := open[0]
		if err := g.add(c.batch, c.row); err != nil {
			return err
		}
		more, err := c.advance()
		if err != nil {
			return err
		}
		if more {
			heap.Fix(&open, 0)
		} else {
			heap.Pop(&open)
		}
	}
	return g.flush()
}

// gather collects rows of several batches into batches of the usual size.
type gather struct {
	take    func(*batch.Batch) error
	sources []*batch.Batch
	number  map[*batch.Batch]int
	picks   []place
}

func newGather(take func(*batch.Batch) error) *gather {
	return &gather{take: take, number: map[*batch.Batch]int{}}
}

func (g *gather) add(b *batch.Batch, row int) error {
	n, ok := g.number[b]
	if !ok {
		n = len(g.sources)
		g.number[b] = n
		g.sources = append(g.sources, b)
	}
	g.picks = append(g.picks, place{batch: int32(n), row: int32(row)})
	if len(g.picks) < batch.Rows {
		return nil
	}
	return g.flush()
}

func (g *gather) flush() error {
	if len(g.picks) == 0 {
		return nil
	}
	from, rows := make([]int32, len(g.picks)), make([]int32, len(g.picks))
	for i, p := range g.picks {
		from[i], rows[i] = p.batch, p.row
	}
	sources := g.sources
	g.sources, g.picks = nil, g.picks[:0]
	clear(g.number)
	return g.take(batch.Gather(sources, from, rows))
}
