package csv

import (
	"bufio"
	"bytes"
	"errors"
	"io"
	"sync"

	"welkin/core/batch"
)

// maxRecord is how long a record may be before an open quote is taken for a
// broken one, in bytes.
const maxRecord = 1 << 20

// Blocks read at once begin small, for the many small texts, and double.
const (
	firstBlock = 8 << 10
	blockSize  = 1 << 20
)

// record is one record of a chunk: data[from:to] without its line end, and the
// line of the file where it begins.
type record struct {
	from, to int
	line     int64
	fault    *batch.Fault // why the record can't be cut into values
}

type chunk struct {
	data    []byte
	records []record
	shared  bool // the following chunk is cut from the same data
}

// splitter cuts a UTF-8 stream into chunks of whole records. A quote opens a
// quoted value only at a value's start, so that inches and seconds do no harm.
type splitter struct {
	r         io.Reader
	delimiter byte
	quote     byte
	comment   string // what a line begins with that is no record
	rest      []byte // read and not yet given out; begins at a record
	carry     []byte // holds rest between chunks
	line      int64  // line of rest's first byte
	block     int    // bytes to read next
	expected  int    // records of a chunk, by the last one
	ended     bool
}

func newSplitter(r io.Reader, d Dialect) *splitter {
	return &splitter{r: r, delimiter: d.delimiter(), quote: d.quote(), comment: d.Comment, line: 1}
}

// skip leaves out lines at the top.
func (s *splitter) skip(lines int) {
	if lines == 0 {
		return
	}
	r := bufio.NewReader(s.r)
	for range lines {
		for {
			_, err := r.ReadSlice('\n')
			if err == bufio.ErrBufferFull {
				continue
			}
			break
		}
		s.line++
	}
	s.r = r
}

// next gives the following chunk; with io.EOF or an error it may still hold
// records. limit ends a chunk early; 0 means none.
func (s *splitter) next(limit int) (chunk, error) {
	for {
		if !s.ended {
			s.block = min(max(2*s.block, firstBlock), blockSize)
			block := newBlock(len(s.rest) + s.block)
			copy(block, s.rest)
			n, err := io.ReadFull(s.r, block[len(s.rest):])
			s.rest = block[:len(s.rest)+n]
			if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
				s.ended = true
			} else if err != nil {
				return chunk{}, err
			}
		}
		c := s.cut(limit)
		if s.ended && len(s.rest) == 0 {
			return c, io.EOF
		}
		if len(c.records) > 0 {
			return c, nil
		}
	}
}

// withoutLast gives next without the last n records.
func (s *splitter) withoutLast(n int) func(limit int) (chunk, error) {
	var held []chunk // those that may hold some of the last records
	count := 0
	var failed error
	return func(limit int) (chunk, error) {
		for failed == nil && (len(held) == 0 || count-len(held[0].records) < n) {
			var c chunk
			c, failed = s.next(limit)
			c.shared = true // held for longer than the next one
			held, count = append(held, c), count+len(c.records)
		}
		if failed != nil {
			for i := len(held) - 1; i >= 0 && n > 0; i-- {
				drop := min(n, len(held[i].records))
				held[i].records = held[i].records[:len(held[i].records)-drop]
				n -= drop
			}
		}
		c := held[0]
		held, count = held[1:], count-len(c.records)
		if len(held) == 0 && failed != nil {
			return c, failed
		}
		return c, nil
	}
}

// cut takes whole records off the front of rest.
func (s *splitter) cut(limit int) chunk {
	data := s.rest
	c := chunk{data: data, records: make([]record, 0, s.expected+s.expected/16)}
	at := 0
	for at < len(data) && (limit == 0 || len(c.records) < limit) {
		if s.comment != "" && bytes.HasPrefix(data[at:], []byte(s.comment)) {
			nl := bytes.IndexByte(data[at:], '\n')
			if nl < 0 && !s.ended {
				break
			}
			if s.line++; nl < 0 {
				at = len(data)
			} else {
				at += nl + 1
			}
			continue
		}
		end, after, oneLine, closed := s.recordEnd(data, at)
		if !closed {
			quoted := end < 0
			if !s.ended && !(quoted && len(data)-at > maxRecord) {
				break // more is to come
			}
			if quoted { // give up the record's first line and go on behind it
				nl := bytes.IndexByte(data[at:], '\n')
				if end, after = len(data), len(data); nl >= 0 {
					end, after = at+nl, at+nl+1
				}
				c.records = append(c.records, record{at, trimCR(data, at, end), s.line,
					batch.Faultf("broken quotes", "a quote is opened on line %d and never closed", s.line)})
				at = after
				s.line++
				continue
			}
		}
		end = trimCR(data, at, end)
		if end > at {
			c.records = append(c.records, record{from: at, to: end, line: s.line})
		}
		if s.line++; !oneLine || !closed {
			s.line += int64(bytes.Count(data[at:after], []byte{'\n'})) - 1
		}
		at = after
	}
	s.expected = len(c.records)
	if s.ended { // no block comes into which the rest could be copied
		s.rest, c.shared = data[at:], true
		return c
	}
	s.carry = append(s.carry[:0], data[at:]...) // the chunk may be recycled before the next block is read
	s.rest = s.carry
	return c
}

// blocks are those that chunks were cut from and that nobody uses any more.
var blocks sync.Pool

func newBlock(size int) []byte {
	if b, ok := blocks.Get().(*[]byte); ok && cap(*b) >= size {
		return (*b)[:size]
	}
	return make([]byte, size, size+size/8) // the next one may have a longer rest before it
}

// recycle lets a chunk's memory be used again.
func (c chunk) recycle() {
	if !c.shared && cap(c.data) >= blockSize {
		blocks.Put(&c.data)
	}
}

func trimCR(data []byte, from, end int) int {
	if end > from && data[end-1] == '\r' {
		return end - 1
	}
	return end
}

// recordEnd finds where the record at from ends, and whether it is one line. closed
// is false when the data ends first; end is then -1 inside quotes and len(data)
// outside.
func (s *splitter) recordEnd(data []byte, from int) (end, after int, oneLine, closed bool) {
	end = -1 // the first line end behind at
	oneLine = true
	for at := from; ; {
		if end < at {
			oneLine = end < 0
			if j := bytes.IndexByte(data[at:], '\n'); j >= 0 {
				end = at + j
			} else {
				end = len(data)
			}
		}
		q := bytes.IndexByte(data[at:end], s.quote)
		if q < 0 {
			return end, min(end+1, len(data)), oneLine, end < len(data)
		}
		if q += at; q > from && data[q-1] != s.delimiter { // inside of a value it is a character like others
			at = q + 1
			continue
		}
		for at = q + 1; ; at++ {
			j := bytes.IndexByte(data[at:], s.quote)
			if j < 0 {
				return -1, len(data), false, false
			}
			if at += j; at+1 >= len(data) || data[at+1] != s.quote {
				break
			}
			at++
		}
		at++
	}
}

// cutter walks the values of one record.
type cutter struct {
	delimiter, quote byte
	rec              []byte
	at               int
	from, to         int
	doubled          bool // the value holds doubled quotes
	quoted           bool
	broken           bool // text stands behind a closing quote
	done             bool
	scratch          []byte
}

func (c *cutter) start(rec []byte) {
	c.rec, c.at, c.done, c.broken = rec, 0, false, false
}

func (c *cutter) next() bool {
	if c.done {
		return false
	}
	c.doubled, c.quoted = false, false
	if c.at < len(c.rec) && c.rec[c.at] == c.quote {
		c.quoted = true
		c.from = c.at + 1
		i := c.from
		for i < len(c.rec) {
			j := bytes.IndexByte(c.rec[i:], c.quote)
			if j < 0 {
				i = len(c.rec)
				break
			}
			i += j
			if i+1 < len(c.rec) && c.rec[i+1] == c.quote {
				c.doubled = true
				i += 2
				continue
			}
			break
		}
		c.to = min(i, len(c.rec))
		c.at = min(i+1, len(c.rec))
		if c.at < len(c.rec) && c.rec[c.at] != c.delimiter {
			c.broken = true
		}
	} else {
		c.from = c.at
		c.to = c.at
	}
	if j := indexByte(c.rec[c.at:], c.delimiter); j >= 0 {
		if c.at += j; !c.quoted {
			c.to = c.at
		}
		c.at++
	} else {
		if !c.quoted {
			c.to = len(c.rec)
		}
		c.done = true
	}
	return true
}

// indexByte is bytes.IndexByte for values that mostly are short.
func indexByte(s []byte, b byte) int {
	for i, c := range s[:min(len(s), 16)] {
		if c == b {
			return i
		}
	}
	if len(s) <= 16 {
		return -1
	}
	if i := bytes.IndexByte(s[16:], b); i >= 0 {
		return 16 + i
	}
	return -1
}

// value gives the current value; it is valid until the next one.
func (c *cutter) value() []byte {
	v := c.rec[c.from:c.to]
	if !c.doubled {
		return v
	}
	c.scratch = c.scratch[:0]
	for i := 0; i < len(v); i++ {
		c.scratch = append(c.scratch, v[i])
		if v[i] == c.quote {
			i++
		}
	}
	return c.scratch
}

// Line cuts one line of delimited text into its values; double quotes enclose
// values.
func Line(text string, delimiter byte) ([]string, *batch.Fault) {
	c := cutter{delimiter: delimiter, quote: '"'}
	c.start([]byte(text))
	var out []string
	for c.next() {
		out = append(out, string(c.value()))
	}
	if c.broken {
		return nil, batch.Faultf("broken quotes", "text stands between a closing quote and the next delimiter")
	}
	return out, nil
}
