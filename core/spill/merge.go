package spill

import (
	"bytes"

	"golang.org/x/sync/errgroup"

	"welkin/core/batch"
)

// merge gives the rows of sorted files in order. One goroutine finds the order,
// one gathers the rows, and take is called by the caller's.
func merge(files []*file, keys func(*batch.Batch) batch.SortKeys, take func(*batch.Batch, KeyOf) error) error {
	var work errgroup.Group
	found, ready, stop := make(chan picks, 1), make(chan gathered, 1), make(chan struct{})
	work.Go(func() error {
		defer close(found)
		return pick(files, keys, func(p picks) (more bool) {
			select {
			case found <- p:
				return true
			case <-stop:
				return false
			}
		})
	})
	work.Go(func() error {
		defer close(ready)
		for p := range found {
			select {
			case ready <- gathered{batch.Gather(p.sources, p.from, p.rows), p}:
			case <-stop:
				return nil
			}
		}
		return nil
	})
	var err error
	for g := range ready {
		if err = take(g.rows, g.picks.key); err != nil {
			break
		}
	}
	close(stop)
	if failed := work.Wait(); err == nil {
		err = failed
	}
	return err
}

// picks are rows of several batches that make one batch: row i is row rows[i] of
// sources[from[i]].
type picks struct {
	sources    []*batch.Batch
	keys       []batch.SortKeys // of the sources
	from, rows []int32
}

func (p picks) key(row int) (group, order []byte) {
	return p.keys[p.from[row]].Split(int(p.rows[row]))
}

// gathered are rows that were picked.
type gathered struct {
	rows  *batch.Batch
	picks picks
}

// pick finds the order of sorted files' rows.
func pick(files []*file, keys func(*batch.Batch) batch.SortKeys, give func(picks) (more bool)) error {
	runs := newTournament(len(files), keys)
	for i, f := range files {
		if err := f.rewind(); err != nil {
			return err
		}
		runs.cursors[i].file = f
		if err := runs.advance(&runs.cursors[i]); err != nil {
			return err
		}
		runs.enter(i)
	}
	var p picks
	round := 1 // of picks, so that a cursor knows whether its batch is among the sources
	for {
		c := runs.first()
		if c.ended || len(p.rows) == batch.Rows {
			if len(p.rows) > 0 && !give(p) || c.ended {
				return nil
			}
			p = picks{from: make([]int32, 0, batch.Rows), rows: make([]int32, 0, batch.Rows)}
			round++
		}
		if c.round != round {
			c.round, c.source = round, int32(len(p.sources))
			p.sources, p.keys = append(p.sources, c.batch), append(p.keys, c.keys)
		}
		p.from, p.rows = append(p.from, c.source), append(p.rows, int32(c.row))
		if err := runs.advance(c); err != nil {
			return err
		}
		runs.replay()
	}
}

// cursor is a run while it is merged.
type cursor struct {
	file   *file
	batch  *batch.Batch
	keys   batch.SortKeys // of the batch
	key    []byte         // of the row
	row    int
	ended  bool
	source int32 // place of the batch among the sources of a round of picks
	round  int
}

// tournament finds the least of some cursors' keys with one comparison a level (a
// tree of losers, after Knuth 5.4.1).
type tournament struct {
	cursors []cursor
	keys    func(*batch.Batch) batch.SortKeys
	losers  []int // losers[0] is the winner; -1 where nobody has played yet
}

func newTournament(n int, keys func(*batch.Batch) batch.SortKeys) *tournament {
	t := &tournament{cursors: make([]cursor, n), keys: keys, losers: make([]int, n)}
	for i := range t.losers {
		t.losers[i] = -1
	}
	return t
}

func (t *tournament) first() *cursor { return &t.cursors[t.losers[0]] }

// advance goes to a cursor's next row.
func (t *tournament) advance(c *cursor) error {
	if c.row++; c.batch == nil || c.row == c.batch.N {
		b, err := c.file.next()
		if b == nil || err != nil {
			c.ended = true
			return err
		}
		c.batch, c.keys, c.row, c.round = b, t.keys(b), 0, 0
	}
	c.key = c.keys.At(c.row)
	return nil
}

// enter lets a cursor play for the first time.
func (t *tournament) enter(i int) {
	for at := (i + len(t.losers)) / 2; at > 0; at /= 2 {
		if t.losers[at] < 0 {
			t.losers[at] = i
			return
		}
		i = t.play(at, i)
	}
	t.losers[0] = i
}

// replay lets the winner play again with its next key.
func (t *tournament) replay() {
	i := t.losers[0]
	for at := (i + len(t.losers)) / 2; at > 0; at /= 2 {
		i = t.play(at, i)
	}
	t.losers[0] = i
}

// play leaves the loser at a place and gives the winner.
func (t *tournament) play(at, i int) int {
	if other := t.losers[at]; t.less(other, i) {
		t.losers[at] = i
		return other
	}
	return i
}

func (t *tournament) less(i, j int) bool {
	a, b := &t.cursors[i], &t.cursors[j]
	if a.ended || b.ended {
		return !a.ended
	}
	if k := bytes.Compare(a.key, b.key); k != 0 {
		return k < 0
	}
	return i < j // an earlier run holds earlier rows
}
