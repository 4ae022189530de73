package csv

import (
	"context"
	"errors"
	"fmt"
	"io"
	"strings"

	"github.com/apache/arrow-go/v18/arrow"

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
	Missing bool           // columns that the header lacks are null; an error otherwise
}

// Open begins to read r. The first record is the header when the dialect says
// so; a column wanted that the header lacks is an error.
func Open(ctx context.Context, r io.Reader, o Options) (*format.Ordered, error) {
	text, err := format.Decoded(r, o.Dialect.Encoding)
	if err != nil {
		return nil, err
	}
	s := newSplitter(prepared(text, o.Dialect), o.Dialect)
	s.skip(o.Dialect.Skip)
	p, err := newParser(s, o)
	if err != nil {
		return nil, err
	}
	next, limit := s.next, 0
	if o.Dialect.Trailer > 0 {
		next = s.withoutLast(o.Dialect.Trailer)
	}
	if o.Limit > 0 {
		limit = int(min(o.Limit, batch.Rows))
	}
	return format.ReadOrdered(ctx, o.Limit, func() (chunk, error) { return next(limit) }, func(c chunk) format.Chunk {
		defer c.recycle()
		return p.parse(c)
	}), nil
}

// parser turns chunks into batches; it is shared by the workers.
type parser struct {
	Options
	delimiter, quote byte
	columns          []int  // by place in the file: column of the schema, or -1
	text             []bool // by place in the file: whether it is a column of texts
	nulls            map[string]bool
	converts         []conversion // by column of the schema; nil where texts are read as they are
	missing          []int        // columns of the schema that the file has not
}

func newParser(s *splitter, o Options) (*parser, error) {
	p := &parser{Options: o, delimiter: o.Dialect.delimiter(), quote: o.Dialect.quote(), nulls: map[string]bool{}}
	for _, n := range o.Nulls {
		p.nulls[n] = true
	}
	for _, c := range o.Schema.Columns {
		p.converts = append(p.converts, o.Dialect.converts(c.Type))
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
	names := format.ColumnNames(lines, len(lines[len(lines)-1]))
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
		if !ok && o.Missing {
			p.missing = append(p.missing, i)
		} else if !ok {
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
		refuse := func(row int, text string, fault *batch.Fault) {
			if _, already := refused[row]; !already {
				refused[row] = format.Refused{Fault: fault, Column: p.Schema.Columns[at].Name, Value: text}
			}
		}
		columns[at] = batch.NewTextColumn(p.Schema.Columns[at].Type, len(c.records))
		if convert := p.converts[at]; convert != nil {
			fillConverted(columns[at], convert, cut.data, cut.spans[place], refuse)
		} else {
			columns[at].Fill(cut.data, cut.spans[place], refuse)
		}
	}
	for _, at := range p.missing {
		columns[at] = batch.NewTextColumn(p.Schema.Columns[at].Type, len(c.records))
		for row := range c.records {
			columns[at].SetNull(row)
		}
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

// fillConverted fills a column with texts that are not written as usual.
func fillConverted(column batch.TextColumn, convert conversion, data []byte, spans []batch.Span, refuse func(row int, text string, fault *batch.Fault)) {
	for row, span := range spans {
		if span.Null() {
			column.SetNull(row)
			continue
		}
		text := string(data[span.From:span.To])
		plain, fault := convert(text)
		if fault == nil {
			fault = column.Set(row, plain)
		}
		if fault != nil {
			column.SetNull(row)
			refuse(row, text, fault)
		}
	}
}
