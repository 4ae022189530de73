package step

import (
	"context"

	"github.com/apache/arrow-go/v18/arrow"

	"welkin/core/batch"
)

// A trial reads a sample of its main input. Of the others it wants the rows that
// belong to that sample: Bound.Keys tells which rows of its second input a step
// looks for, Bound.Carries lets a wish for keys travel back to a read, and a
// Narrowing source then reads only those rows.

// Keys says that a step looks for rows of its second input by a key of its first.
type Keys struct {
	*pairing
	Rest bool // rows of the second input that are not looked for come out too
}

// Columns gives the key columns of the second input.
func (k *Keys) Columns() []int { return k.right }

// Carries gives, for a column that comes out of a step, the column of its one
// input from which it comes unchanged, where rows may be left out by it before the
// step as well as behind: the same rows come out. It is -1 for other columns.
type Carries func(column int) int

// carriesAll is for steps that give some of their rows with all columns in place.
func carriesAll(column int) int { return column }

// Narrowing is implemented by sources that can read only rows with some values.
type Narrowing interface {
	// Narrow gives the source with the rows whose values in some columns are among
	// those given by column.
	Narrow(columns []int, values []arrow.Array) Source
}

// WantedKeys are the keys of the rows that came to the first input.
type WantedKeys struct {
	*Keys
	seen   map[string]struct{}
	values [][]arrow.Array // by key column: each wanted key's first row, part by part
	rows   int
}

// Wanted begins to collect keys.
func (k *Keys) Wanted() *WantedKeys {
	return &WantedKeys{Keys: k, seen: map[string]struct{}{}, values: make([][]arrow.Array, len(k.left))}
}

// Add takes rows of the first input.
func (w *WantedKeys) Add(b *batch.Batch) error {
	keys, err := w.keyColumns(b, w.left)
	if err != nil {
		return err
	}
	var key []byte
	var rows []int32
	for i := range b.N {
		if w.hasNull(keys, i) {
			continue
		}
		key = appendKey(key[:0], keys, i)
		if _, ok := w.seen[string(key)]; !ok {
			w.seen[string(key)] = struct{}{}
			rows = append(rows, int32(i))
		}
	}
	if len(rows) == 0 {
		return nil
	}
	w.rows += len(rows)
	for k, values := range keys {
		w.values[k] = append(w.values[k], batch.Take(values, rows))
	}
	return nil
}

// Len tells how many keys there are.
func (w *WantedKeys) Len() int { return w.rows }

// Values gives the values of each key column, in the types that are compared.
func (w *WantedKeys) Values() ([]arrow.Array, error) {
	out := make([]arrow.Array, len(w.values))
	for k, parts := range w.values {
		if len(parts) == 0 {
			out[k] = batch.Nulls(w.types[k], 0)
			continue
		}
		joined, err := batch.ConcatArrays(parts)
		if err != nil {
			return nil, err
		}
		out[k] = joined
	}
	return out, nil
}

// Only gives the rows of the second input that are looked for.
func (w *WantedKeys) Only(b *batch.Batch) (*batch.Batch, error) {
	keys, err := w.keyColumns(b, w.right)
	if err != nil {
		return nil, err
	}
	var key []byte
	rows := make([]int32, 0, b.N)
	for i := range b.N {
		key = appendKey(key[:0], keys, i)
		if _, ok := w.seen[string(key)]; ok {
			rows = append(rows, int32(i))
		}
	}
	if len(rows) == b.N {
		return b, nil
	}
	return b.Take(rows), nil
}

// narrowedTable is a table of which rows with some values are read.
type narrowedTable struct {
	*tableSource
	only []Among
}

// Narrow implements Narrowing.
func (s *tableSource) Narrow(columns []int, values []arrow.Array) Source {
	out := &narrowedTable{tableSource: s}
	for k, at := range columns {
		column := s.read.Schema.Columns[at]
		among := Among{Column: column.Name, Type: column.Type}
		for i := range values[k].Len() {
			among.Values = append(among.Values, batch.Text(values[k], column.Type, i))
		}
		out.only = append(out.only, among)
	}
	return out
}

// Open implements Source.
func (s *narrowedTable) Open(ctx context.Context, limit int64) (Reader, error) {
	read := s.read
	read.Limit, read.Only = limit, s.only
	return s.db.Read(ctx, read)
}
