// Package jsonl reads and writes JSON lines: one JSON object a line, its members
// being the columns of a schema by name.
package jsonl

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"

	"welkin/core/batch"
	"welkin/core/format"
	"welkin/core/schema"
)

// MaxLine is how long a line may be, in bytes.
const MaxLine = 16 << 20

// Writer writes rows.
type Writer struct {
	w      io.Writer
	schema *schema.Schema
	line   []byte
}

// NewWriter makes a writer of rows of a schema.
func NewWriter(w io.Writer, s *schema.Schema) *Writer { return &Writer{w: w, schema: s} }

// Write writes a line for each row; nulls are written as null.
func (w *Writer) Write(b *batch.Batch) error {
	w.line = w.line[:0]
	for i := range b.N {
		w.line = append(w.line, '{')
		for k, c := range w.schema.Columns {
			if k > 0 {
				w.line = append(w.line, ',')
			}
			w.line = append(batch.AppendJSONString(w.line, c.Name), ':')
			w.line = batch.AppendJSONText(w.line, b.Cols[k], c.Type, i)
		}
		w.line = append(w.line, '}', '\n')
	}
	_, err := w.w.Write(w.line)
	return err
}

// Flush is there as for writers that keep something back.
func (w *Writer) Flush() error { return nil }

// Options say how lines become rows.
type Options struct {
	Schema *schema.Schema
	Nulls  []string // texts that mean null
	Place  string   // what the origin of rows says
	Limit  int64    // rows wanted, 0 for all
}

// Open begins to read r. Blank lines are passed over.
func Open(ctx context.Context, r io.Reader, o Options) *format.Ordered {
	l := &lines{r: r, line: 1, most: batch.Rows}
	if o.Limit > 0 {
		l.most = int(min(o.Limit, batch.Rows))
	}
	return format.ReadOrdered(ctx, o.Limit, l.next, func(p portion) format.Chunk {
		rows := format.NewRows(o.Schema, o.Place, o.Nulls)
		for i, text := range p.lines {
			v, fault := batch.ParseJSON(string(text))
			raw := func() string { return string(text) }
			if fault != nil {
				rows.Refuse(fault, "", "", p.numbers[i], raw())
				continue
			}
			rows.Add(v, p.numbers[i], raw)
		}
		return rows.Chunk()
	})
}

// portion is some lines with their numbers.
type portion struct {
	lines   [][]byte
	numbers []int64
}

// lines cuts a stream into lines.
type lines struct {
	r     io.Reader
	line  int64 // number of rest's first line
	most  int   // lines of a portion
	rest  []byte
	size  int // bytes to read next
	ended bool
}

func (l *lines) next() (portion, error) {
	var p portion
	for {
		// Lines that stay are copied into the next block: a portion keeps its own.
		for at := 0; ; {
			nl := bytes.IndexByte(l.rest[at:], '\n')
			end, after := at+nl, at+nl+1
			if nl < 0 {
				if !l.ended {
					l.rest = l.rest[at:]
					break
				}
				if end, after = len(l.rest), len(l.rest); at == end {
					return p, io.EOF
				}
			}
			if text := bytes.TrimSpace(l.rest[at:end]); len(text) > 0 {
				p.lines, p.numbers = append(p.lines, text), append(p.numbers, l.line)
			}
			l.line++
			at = after
			if len(p.lines) == l.most {
				l.rest = l.rest[at:]
				return p, nil
			}
		}
		if len(p.lines) > 0 && len(l.rest) < l.size/4 {
			return p, nil
		}
		if len(l.rest) > MaxLine {
			return portion{}, fmt.Errorf("line %d is longer than %d MiB", l.line, MaxLine>>20)
		}
		l.size = min(max(2*l.size, 64<<10), 4<<20)
		block := make([]byte, len(l.rest)+l.size)
		copy(block, l.rest)
		n, err := io.ReadFull(l.r, block[len(l.rest):])
		l.rest = block[:len(l.rest)+n]
		if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
			l.ended = true
		} else if err != nil {
			return portion{}, err
		}
	}
}
