package csv

import (
	"bytes"
	"encoding/binary"
	"math/bits"
	"slices"
	"sync"
	"unicode/utf8"

	"welkin/core/batch"
	"welkin/core/format"
)

// cuts are the values of a chunk's records: where each of them stands.
type cuts struct {
	data    []byte
	spans   [][]batch.Span // by place in the file, of records; any for places not wanted
	refused map[int]format.Refused
}

// spares are spans that nobody uses any more.
var spares sync.Pool

func newCuts(data []byte, places, records int) *cuts {
	c, ok := spares.Get().(*cuts)
	if !ok {
		c = &cuts{}
	}
	c.data, c.refused = data, map[int]format.Refused{}
	c.spans = slices.Grow(c.spans[:0], places)[:places]
	for i := range c.spans {
		c.spans[i] = slices.Grow(c.spans[i][:0], records)[:records]
	}
	return c
}

func (c *cuts) recycle() {
	c.data, c.refused = nil, nil
	spares.Put(c)
}

// refuse leaves out a record.
func (c *cuts) refuse(at int, fault *batch.Fault) {
	c.refused[at] = format.Refused{Fault: fault}
	for _, spans := range c.spans {
		spans[at] = batch.NullSpan
	}
}

// cut finds the values of a chunk's records.
func (p *parser) cut(chunk chunk) *cuts {
	c := newCuts(chunk.data, len(p.columns), len(chunk.records))
	if chunk.shared { // texts without their doubled quotes are appended
		c.data = slices.Clip(c.data)
	}
	careful := cutter{delimiter: p.delimiter, quote: p.quote}
	valid := len(chunk.records) == 0 || utf8.Valid(chunk.data[chunk.records[0].from:chunk.records[len(chunk.records)-1].to])
	for at, rec := range chunk.records {
		switch {
		case rec.fault != nil:
			c.refuse(at, rec.fault)
		case !valid && !utf8.Valid(chunk.data[rec.from:rec.to]):
			c.refuse(at, format.WrongEncoding(p.Dialect.Encoding))
		case !p.cutPlain(c, at, rec):
			p.cutCareful(c, at, chunk.data[rec.from:rec.to], rec.from, &careful)
		}
	}
	return c
}

// cutPlain cuts a record that holds as many values as it should and nothing odd
// in quotes; it gives up on others.
func (p *parser) cutPlain(c *cuts, at int, rec record) bool {
	data, delimiter, quote, pattern := c.data, p.delimiter, p.quote, uint64(p.delimiter)*0x0101010101010101
	from, end := rec.from, rec.from-1
	for place := range p.columns {
		if from > rec.to {
			return false
		}
		var span batch.Span
		if from < rec.to && data[from] == quote {
			from++
			closing := bytes.IndexByte(data[from:rec.to], quote)
			if closing < 0 {
				return false
			}
			end = from + closing
			span = batch.Span{From: uint32(from), To: uint32(end)}
			if end++; end < rec.to && data[end] != delimiter {
				return false
			}
			if span.From == span.To && !p.text[place] {
				span = batch.NullSpan
			}
		} else {
			// a delimiter eight bytes at a time: it becomes zero
			for end = from; end+8 <= len(data); end += 8 {
				x := binary.LittleEndian.Uint64(data[end:]) ^ pattern
				if zeros := (x - 0x0101010101010101) &^ x & 0x8080808080808080; zeros != 0 {
					end += bits.TrailingZeros64(zeros) >> 3
					break
				}
				if end >= rec.to {
					break
				}
			}
			for end < rec.to && data[end] != delimiter {
				end++
			}
			end = min(end, rec.to)
			if span = (batch.Span{From: uint32(from), To: uint32(end)}); from == end {
				span = batch.NullSpan
			}
		}
		if len(p.nulls) > 0 && !span.Null() && p.nulls[string(data[span.From:span.To])] {
			span = batch.NullSpan
		}
		c.spans[place][at] = span
		from = end + 1
	}
	return end == rec.to
}

// cutCareful cuts any record, or says why not.
func (p *parser) cutCareful(c *cuts, at int, raw []byte, from int, cut *cutter) {
	cut.start(raw)
	n := 0
	for ; cut.next(); n++ {
		if n >= len(p.columns) || p.columns[n] < 0 {
			continue
		}
		v := cut.value()
		span := batch.Span{From: uint32(from + cut.from), To: uint32(from + cut.to)}
		if cut.doubled {
			span.From = uint32(len(c.data))
			c.data = append(c.data, v...)
			span.To = uint32(len(c.data))
		}
		if len(v) == 0 && (!cut.quoted || !p.text[n]) || len(p.nulls) > 0 && p.nulls[string(v)] {
			span = batch.NullSpan
		}
		c.spans[n][at] = span
	}
	for ; n < len(p.columns) && p.Dialect.Short == FillShort; n++ {
		c.spans[n][at] = batch.NullSpan
	}
	switch {
	case n < len(p.columns):
		c.refuse(at, batch.Faultf("row too short", "the row has %d values where the header names %d", n, len(p.columns)))
	case n > len(p.columns) && p.Dialect.Long != CutLong:
		c.refuse(at, batch.Faultf("row too long", "the row has %d values where the header names %d", n, len(p.columns)))
	case cut.broken:
		c.refuse(at, batch.Faultf("broken quotes", "text stands between a closing quote and the next delimiter"))
	}
}
