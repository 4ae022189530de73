package engine

import (
	"strconv"

	"welkin/core/batch"
	"welkin/core/offer"
	"welkin/core/profile"
	"welkin/core/schema"
)

// capture keeps what passes a step. A nil capture keeps nothing.
type capture struct {
	in, out []*flow
}

func newCapture(n *node, t Trial) *capture {
	c := &capture{}
	for range n.Inputs {
		c.in = append(c.in, &flow{limit: t.Show, over: t.Cache == nil})
	}
	for number := range n.outs {
		f := &flow{limit: t.Show, over: t.Cache == nil}
		if t.Profile {
			f.profile = profile.New(outputSchema(n.Planned, number))
		}
		c.out = append(c.out, f)
	}
	return c
}

func outputSchema(p *Planned, number int) *schema.Schema {
	if p.Bound.Schema == nil {
		return p.Bound.Branches[number].Schema
	}
	if number == 0 {
		return p.Bound.Schema
	}
	return p.Bound.Branches[number-1].Schema
}

func (c *capture) input(in int, b *batch.Batch) {
	if c != nil && c.in != nil {
		c.in[in].add(b)
	}
}

func (c *capture) output(output int, b *batch.Batch) {
	if c != nil {
		c.out[output].add(b)
	}
}

// flow is the rows at one input or output of a step: the first of them to be
// shown, all of them for the cache while they are few, and their profile.
type flow struct {
	limit   int
	first   []*batch.Batch
	all     []*batch.Batch
	bytes   int64
	over    bool // all of them are not kept
	total   int64
	profile *profile.Profiler
	only    *followedOrigin // of the rows that are kept and counted; nil for all
}

// mostKept is how many bytes of one flow are kept for the cache.
const mostKept = 16 << 20

func (f *flow) add(b *batch.Batch) {
	if f.only != nil {
		b = f.only.in(b)
	}
	if room := int64(f.limit) - f.total; room > 0 {
		f.first = append(f.first, b.Slice(0, int(min(room, int64(b.N)))))
	}
	f.total += int64(b.N)
	if !f.over {
		f.all = append(f.all, b)
		f.bytes += b.Bytes()
		if f.bytes > mostKept {
			f.over, f.all = true, nil
		}
	}
	if f.profile != nil {
		f.profile.Add(b)
	}
}

func (f *flow) rows(s *schema.Schema) Rows {
	out := Rows{Wire: batch.ToWire(s, f.first, f.limit), Total: f.total, Origins: []string{}}
	for _, b := range f.first {
		for i := range b.N {
			place, row, key := b.Origin.At(i)
			if row > 0 {
				key = strconv.FormatInt(row, 10)
			}
			out.Origins = append(out.Origins, place+"·"+key)
		}
	}
	if f.profile != nil {
		out.Profile = f.profile.Result()
		looked := f.all
		if f.over {
			looked = f.first
		}
		out.Offers = offer.Of(s, looked)
	}
	return out
}
