package csv

import (
	"context"
	"errors"
	"fmt"
	"io"
	"runtime"
	"strings"

	"github.com/apache/arrow-go/v18/arrow"
	"golang.org/x/sync/errgroup"

	"welkin/core/batch"
	"welkin/core/format"
	"welkin/core/schema"
)

// Options say how a file's records become rows.
type Options struct {
	Dialect Dialect
	Schema  *schema.Schema // the columns wanted, found in the file by name
	Nulls   []string       // texts that mean null; an empty unquoted value always does
	Place   string         // what the origin of rows says, such as the file's name
	Limit   int64          // stop after so many rows; 0 for all
}

// Reader reads one file. Records are parsed on several cores and come out in
// the order of the file.
type Reader struct {
	out   chan chan result
	group *errgroup.Group
	stop  context.CancelFunc
	left  int64 // rows still wanted, -1 for all
}

type result struct {
	chunk format.Chunk
	err   error
}

// Open begins to read r. The first record is the header when the dialect says
// so; a column wanted that the header lacks is an error.
func Open(ctx context.Context, r io.Reader, o Options) (*Reader, error) {
	text, err := format.Decoded(r, o.Dialect.Encoding)
	if err != nil {
		return nil, err
	}
	s := newSplitter(text, o.Dialect)
	p, err := newParser(s, o)
	if err != nil {
		return nil, err
	}
	ctx, stop := context.WithCancel(ctx)
	workers := runtime.GOMAXPROCS(0)
	rd := &Reader{out: make(chan chan result, workers), stop: stop, left: -1}
	limit := 0
	if o.Limit > 0 {
		rd.left, limit = o.Limit, int(min(o.Limit, batch.Rows))
	}
	rd.group, ctx = errgroup.WithContext(ctx)
	slots := make(chan struct{}, workers)
	rd.group.Go(func() error {
		defer close(rd.out)
		for {
			c, err := s.next(limit)
			slot := make(chan result, 1)
			select {
			case rd.out <- slot:
			case <-ctx.Done():
				return ctx.Err()
			}
			if err != nil && !errors.Is(err, io.EOF) {
				slot <- result{err: err}
				return nil
			}
			slots <- struct{}{}
			rd.group.Go(func() error {
				slot <- result{chunk: p.parse(c)}
				c.recycle()
				<-slots
				return nil
			})
			if err != nil {
				return nil
			}
		}
	})
	return rd, nil
}

// Next gives the following rows, io.EOF after the last.
func (r *Reader) Next(ctx context.Context) (format.Chunk, error) {
	if r.left == 0 {
		return format.Chunk{}, io.EOF
	}
	select {
	case slot, ok := <-r.out:
		if !ok {
			return format.Chunk{}, io.EOF
		}
		res := <-slot
		if r.left > 0 && res.chunk.Batch != nil {
			n := int64(res.chunk.Batch.N)
			if n > r.left {
				res.chunk.Seen -= n - r.left
				res.chunk.Batch = res.chunk.Batch.Slice(0, int(r.left))
				n = r.left
			}
			r.left -= n
		}
		return res.chunk, res.err
	case <-ctx.Done():
		return format.Chunk{}, ctx.Err()
	}
}

// Close ends reading early.
func (r *Reader) Close() error {
	r.stop()
	_ = r.group.Wait()
	return nil
}

// parser turns chunks into batches; it is shared by the workers.
type parser struct {
	Options
	delimiter, quote byte
	columns          []int  // by place in the file: column of the schema, or -1
	text             []bool // by place in the file: whether it is a column of texts
	nulls            map[string]bool
}

func newParser(s *splitter, o Options) (*parser, error) {
	p := &parser{Options: o, delimiter: o.Dialect.delimiter(), quote: o.Dialect.quote(), nulls: map[string]bool{}}
	for _, n := range o.Nulls {
		p.nulls[n] = true
	}
	if !o.Dialect.Header {
		for i := range o.Schema.Columns {
			p.column(i)
		}
		return p, nil
	}
	var lines [][]string
	for range o.Dialect.headerLines() {
		head, err := s.next(1)
		if err != nil && !errors.Is(err, io.EOF) {
			return nil, err
		}
		if len(head.records) == 0 {
			return nil, format.ErrEmpty
		}
		rec := head.records[0]
		if rec.fault != nil {
			return nil, fmt.Errorf("the header can't be read: %s", rec.fault.Sentence)
		}
		lines = append(lines, fieldsOf(head.data[rec.from:rec.to], o.Dialect))
	}
	found := make([]bool, o.Schema.Len())
	names := columnNames(lines, len(lines[len(lines)-1]))
	for _, name := range names {
		c := o.Schema.Index(name)
		if c >= 0 && found[c] {
			c = -1
		}
		if c >= 0 {
			found[c] = true
		}
		p.column(c)
	}
	for i, ok := range found {
		if !ok {
			return nil, fmt.Errorf("the file has no column %q; its header names %s", o.Schema.Columns[i].Name, strings.Join(names, ", "))
		}
	}
	return p, nil
}

// column says which column of the schema the next place of the file holds.
func (p *parser) column(c int) {
	p.columns = append(p.columns, c)
	p.text = append(p.text, c >= 0 && p.Schema.Columns[c].Type.Kind == schema.Text)
}

// parse makes rows of a chunk's records: it cuts them into values, and then reads
// the values column by column.
func (p *parser) parse(c chunk) format.Chunk {
	cut := p.cut(c)
	defer cut.recycle()
	out := format.Chunk{Seen: int64(len(c.records))}
	columns := make([]batch.TextColumn, p.Schema.Len())
	refused := cut.refused
	for place, at := range p.columns {
		if at < 0 {
			continue
		}
		columns[at] = batch.NewTextColumn(p.Schema.Columns[at].Type, len(c.records))
		columns[at].Fill(cut.data, cut.spans[place], func(row int, text string, fault *batch.Fault) {
			if _, already := refused[row]; !already {
				refused[row] = format.Refused{Fault: fault, Column: p.Schema.Columns[at].Name, Value: text}
			}
		})
	}
	lines := make([]int64, 0, len(c.records))
	var good []int32 // rows to keep; nil while every row is good
	if len(refused) > 0 {
		good = make([]int32, 0, len(c.records))
	}
	for at, rec := range c.records {
		if good == nil {
			lines = append(lines, rec.line)
			continue
		}
		bad, is := refused[at]
		if !is {
			lines, good = append(lines, rec.line), append(good, int32(at))
			continue
		}
		bad.Line, bad.Raw = rec.line, strings.ToValidUTF8(string(c.data[rec.from:rec.to]), "�")
		out.Refused = append(out.Refused, bad)
	}
	out.Batch = &batch.Batch{Schema: p.Schema, Cols: make([]arrow.Array, len(columns)), N: len(lines)}
	for i, col := range columns {
		out.Batch.Cols[i] = col.Column()
		if good != nil {
			out.Batch.Cols[i] = batch.Take(out.Batch.Cols[i], good)
		}
	}
	out.Batch.Origin.Row = lines
	out.Batch.Origin.All = p.Place
	return out
}
