package step

import (
	"encoding/binary"
	"fmt"
	"math"
	"math/rand/v2"
	"slices"

	"github.com/zeebo/xxh3"

	"welkin/core/batch"
	"welkin/core/schema"
)

var sampleRows = Kind{
	Name: "sample", Role: Work, Ports: []string{"rows"}, New: func() Settings { return &Sample{} },
	Help: "Keeps some rows by chance: a share of them, or a number. The same seed picks the same rows.", Example: "10 % of the rows, seed 7",
	Words: "random percent subset choose reservoir",
}

// Sample keeps rows by chance. Share and Rows exclude each other.
type Sample struct {
	Share float64 `json:"share,omitempty" jsonschema:"title=share,description=Per cent of the rows"`
	Rows  int     `json:"rows,omitempty" jsonschema:"title=rows,description=A number of rows instead"`
	Seed  int64   `json:"seed,omitempty" jsonschema:"title=seed,description=Another number picks other rows"`
}

// maxSample is how many rows a sample by number holds at most.
const maxSample = 1_000_000

// Sentence implements Settings.
func (s *Sample) Sentence() string {
	if s.Rows > 0 {
		return fmt.Sprintf("a sample of %d rows", s.Rows)
	}
	return fmt.Sprintf("a sample of %g %% of the rows", s.Share)
}

// Bind implements Settings.
func (s *Sample) Bind(c *Context, in []*schema.Schema) *Bound {
	switch {
	case s.Rows != 0 && s.Share != 0:
		c.Problem("rows", "give a share or a number of rows, not both")
	case s.Rows == 0 && (s.Share <= 0 || s.Share > 100):
		c.Problem("share", "the share is a number of per cent above 0 and up to 100, not %g", s.Share)
	case s.Rows < 0 || s.Rows > maxSample:
		c.Problem("rows", "a sample has up to %d rows, not %d", maxSample, s.Rows)
	}
	return &Bound{Schema: in[0], Uses: passesOn(in[0]), Operator: func() Operator {
		if s.Rows > 0 {
			return &reservoir{Sample: s, random: rand.New(rand.NewPCG(uint64(s.Seed), 1))}
		}
		return &shareOperator{Sample: s}
	}}
}

// shareOperator decides on each row by its number and the seed alone, so that
// the same rows come whatever the batches.
type shareOperator struct {
	*Sample
	seen uint64
}

// Push implements Operator.
func (o *shareOperator) Push(_ int, b *batch.Batch, out Emitter) error {
	var rows []int32
	var key [16]byte
	binary.LittleEndian.PutUint64(key[8:], uint64(o.Seed))
	for i := range b.N {
		binary.LittleEndian.PutUint64(key[:], o.seen)
		o.seen++
		if o.Share >= 100 || float64(xxh3.Hash(key[:])) < o.Share/100*math.MaxUint64 {
			rows = append(rows, int32(i))
		}
	}
	out.Dropped(b.N - len(rows))
	return out.Emit(b.Take(rows))
}

// End implements Operator.
func (o *shareOperator) End(int, Emitter) error { return nil }

// reservoir keeps a fixed number of rows, each with the same chance (Vitter's
// algorithm R), and gives them in the order in which they came.
type reservoir struct {
	*Sample
	random *rand.Rand
	seen   int64
	kept   []keptRow
}

type keptRow struct {
	number int64
	b      *batch.Batch // of one row
}

// Push implements Operator.
func (o *reservoir) Push(_ int, b *batch.Batch, out Emitter) error {
	dropped := 0
	for i := range b.N {
		o.seen++
		at := len(o.kept)
		if at >= o.Rows {
			dropped++
			if n := o.random.Int64N(o.seen); n < int64(o.Rows) {
				at = int(n)
			} else {
				continue
			}
		} else {
			o.kept = append(o.kept, keptRow{})
		}
		o.kept[at] = keptRow{o.seen, b.Take([]int32{int32(i)})}
	}
	out.Dropped(dropped)
	return out.Holds(int64(len(o.kept)) * 500)
}

// End implements Operator.
func (o *reservoir) End(_ int, out Emitter) error {
	if len(o.kept) == 0 {
		return nil
	}
	slices.SortFunc(o.kept, func(a, b keptRow) int { return int(a.number - b.number) })
	parts := make([]*batch.Batch, len(o.kept))
	for i, k := range o.kept {
		parts[i] = k.b
	}
	all, err := batch.Concat(parts)
	if err != nil {
		return err
	}
	return emitAll(out, all)
}
