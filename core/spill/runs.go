package spill

import (
	"slices"

	"golang.org/x/sync/errgroup"

	"welkin/core/batch"
	"welkin/core/schema"
)

// Runs sorts rows by a byte key of each: equal keys keep the order in which rows
// came. Up to the budget they are kept in memory; beyond it sorted runs go to
// files, each while the rows of the next come, and are merged at the end.
type Runs struct {
	folder  string
	budget  int64
	rows    held
	writing int64 // bytes of a run that is sorted and written meanwhile
	writer  errgroup.Group
	files   []*file
	schema  *schema.Schema
	keys    func(*batch.Batch) batch.SortKeys
}

// held is rows in memory.
type held struct {
	bytes   int64
	batches []*batch.Batch
	keys    []batch.SortKeys // by batch
}

// NewRuns makes a sorter for rows of a schema; keys gives the keys of rows that
// come back from a file.
func NewRuns(folder string, s *schema.Schema, keys func(*batch.Batch) batch.SortKeys, budget int64) *Runs {
	return &Runs{folder: folder, budget: budget / 4 * 3, schema: s, keys: keys} // sorting takes the rest
}

// Bytes tells how much memory is held.
func (r *Runs) Bytes() int64 { return r.rows.bytes + r.writing }

// Add keeps rows with their keys.
func (r *Runs) Add(b *batch.Batch, keys batch.SortKeys) error {
	if b.N == 0 {
		return nil
	}
	r.rows.batches = append(r.rows.batches, b)
	r.rows.keys = append(r.rows.keys, keys)
	r.rows.bytes += r.rows.size(len(r.rows.batches) - 1)
	switch {
	case len(r.files) == 0 && r.rows.bytes > r.budget:
		return r.spill(r.rows.first(r.rows.bytes / 2))
	case len(r.files) > 0 && r.rows.bytes > r.budget/2: // while the other half is written
		return r.spill(r.rows.first(r.rows.bytes))
	}
	return nil
}

// sorted gives the rows in order. Equal keys are ordered by where they stand.
func (h *held) sorted() []place {
	rows := 0
	for _, b := range h.batches {
		rows += b.N
	}
	places := make([]place, 0, rows)
	for n, b := range h.batches {
		for i := range b.N {
			places = append(places, place{batch: int32(n), row: int32(i)})
		}
	}
	order(places, h.keys, 0)
	return places
}

// gathered gives sorted rows as batches of the usual size.
func (h *held) gathered(places []place, take func(b *batch.Batch, places []place) error) error {
	from, rows := make([]int32, 0, batch.Rows), make([]int32, 0, batch.Rows)
	for start := 0; start < len(places); start += batch.Rows {
		part := places[start:min(start+batch.Rows, len(places))]
		from, rows = from[:0], rows[:0]
		for _, p := range part {
			from, rows = append(from, p.batch), append(rows, p.row)
		}
		if err := take(batch.Gather(h.batches, from, rows), part); err != nil {
			return err
		}
	}
	return nil
}

// first takes out of h the batches that came first, of so many bytes together.
func (h *held) first(bytes int64) held {
	var out held
	n := 0
	for ; out.bytes < bytes; n++ {
		out.bytes += h.size(n)
	}
	out.batches, out.keys = h.batches[:n:n], h.keys[:n:n]
	h.batches, h.keys, h.bytes = slices.Clone(h.batches[n:]), slices.Clone(h.keys[n:]), h.bytes-out.bytes // which lets go of the others
	return out
}

// size is how much memory batch n takes.
func (h *held) size(n int) int64 {
	b := h.batches[n]
	return b.Bytes() + h.keys[n].Bytes() + int64(b.N)*16
}

// spill begins to write rows as a run; the run before is written by then.
func (r *Runs) spill(rows held) error {
	if err := r.written(); err != nil {
		return err
	}
	if len(r.files) >= maxRuns {
		if err := r.combine(); err != nil {
			return err
		}
	}
	f, err := newFile(r.folder, r.schema)
	if err != nil {
		return err
	}
	r.files = append(r.files, f)
	r.writing = rows.bytes
	r.writer.Go(func() error {
		return rows.gathered(rows.sorted(), func(b *batch.Batch, _ []place) error { return f.write(b) })
	})
	return nil
}

// written waits until no run is being written.
func (r *Runs) written() error {
	err := r.writer.Wait()
	r.writing, r.writer = 0, errgroup.Group{}
	return err
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
	err = merge(files, r.keys, func(b *batch.Batch, _ KeyOf) error { return out.write(b) })
	for _, f := range files {
		f.remove()
	}
	return err
}

// KeyOf gives the key of a row of a batch, in its two parts.
type KeyOf func(row int) (group, order []byte)

// Each gives all rows in order, with the key of each, and forgets them.
func (r *Runs) Each(take func(b *batch.Batch, key KeyOf) error) error {
	defer r.Close()
	if len(r.files) == 0 {
		if len(r.rows.batches) == 0 {
			return nil
		}
		return r.rows.gathered(r.rows.sorted(), func(b *batch.Batch, places []place) error {
			return take(b, func(row int) (group, order []byte) {
				return r.rows.keys[places[row].batch].Split(int(places[row].row))
			})
		})
	}
	if len(r.rows.batches) > 0 {
		if err := r.spill(r.rows.first(r.rows.bytes)); err != nil {
			return err
		}
	}
	if err := r.written(); err != nil {
		return err
	}
	return merge(r.files, r.keys, take)
}

// Close removes the files.
func (r *Runs) Close() {
	if r == nil {
		return
	}
	_ = r.written() // whoever closes early has another error to tell
	for _, f := range r.files {
		f.remove()
	}
	r.files = nil
}
