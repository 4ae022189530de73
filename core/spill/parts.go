package spill

import (
	"welkin/core/batch"
)

// Fan is how many parts rows are split into at one level.
const Fan = 16

// MaxLevel is how often parts may be split again: a key's hash has bits for so
// many.
const MaxLevel = 7

// Parts keeps rows by the hash of their key, so that each part can be worked on
// alone. Rows of one key are always in one part, in the order in which they
// came.
type Parts struct {
	folder string
	level  int
	parts  [Fan]*Spool
}

// NewParts makes parts of a level, 0 for the first.
func NewParts(folder string, level int) *Parts { return &Parts{folder: folder, level: level} }

// Level gives the level.
func (p *Parts) Level() int { return p.level }

// Of tells to which part a hash belongs.
func (p *Parts) Of(hash uint64) int { return int(hash >> (60 - 4*p.level) & (Fan - 1)) }

// Add splits rows by their hashes; rows lists those to be kept, nil for all.
func (p *Parts) Add(b *batch.Batch, hashes []uint64, rows []int32) error {
	var by [Fan][]int32
	if rows == nil {
		for i := range int32(b.N) {
			k := p.Of(hashes[i])
			by[k] = append(by[k], i)
		}
	} else {
		for _, i := range rows {
			k := p.Of(hashes[i])
			by[k] = append(by[k], i)
		}
	}
	for k, rows := range by {
		if len(rows) == 0 {
			continue
		}
		if p.parts[k] == nil {
			p.parts[k] = NewSpool(p.folder, 0)
		}
		if err := p.parts[k].Add(b.Take(rows)); err != nil {
			return err
		}
	}
	return nil
}

// Part gives the spool of a part, nil when it has no rows.
func (p *Parts) Part(k int) *Spool { return p.parts[k] }

// Close removes what was not read.
func (p *Parts) Close() {
	if p == nil {
		return
	}
	for _, s := range p.parts {
		s.Close()
	}
}
