// Package jsonl reads and writes JSON lines: one JSON object a line, its members
// being the columns of a schema by name.
package jsonl

import (
	"bufio"
	"errors"
	"fmt"
	"io"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"

	"welkin/core/batch"
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

// Refused is a line that could not become a row.
type Refused struct {
	*batch.Fault
	Column string
	Line   int64
	Raw    string
}

// Reader reads rows of a schema. Members that the schema has not are passed
// over, columns that a line has not are null.
type Reader struct {
	lines  *bufio.Scanner
	schema *schema.Schema
	line   int64
}

// NewReader makes a reader.
func NewReader(r io.Reader, s *schema.Schema) *Reader {
	lines := bufio.NewScanner(r)
	lines.Buffer(make([]byte, 64<<10), MaxLine)
	return &Reader{lines: lines, schema: s}
}

// Next gives up to batch.Rows rows, and the lines refused on the way; io.EOF
// comes after the last.
func (r *Reader) Next() (*batch.Batch, []Refused, error) {
	builders := make([]array.Builder, r.schema.Len())
	for i, c := range r.schema.Columns {
		builders[i] = batch.NewBuilder(c.Type)
	}
	out := &batch.Batch{Schema: r.schema}
	var refused []Refused
	var good []int32
	at := int32(0)
	for out.N < batch.Rows && r.lines.Scan() {
		r.line++
		text := r.lines.Text()
		if text == "" {
			continue
		}
		column, fault := r.row(text, builders)
		for _, b := range builders {
			if b.Len() == int(at) {
				b.AppendNull()
			}
		}
		if fault != nil {
			refused = append(refused, Refused{fault, column, r.line, text})
		} else {
			good = append(good, at)
			out.Origin.Row = append(out.Origin.Row, r.line)
			out.N++
		}
		at++
	}
	if err := r.lines.Err(); err != nil {
		if errors.Is(err, bufio.ErrTooLong) {
			err = fmt.Errorf("line %d is longer than %d MiB", r.line+1, MaxLine>>20)
		}
		return nil, nil, err
	}
	if at == 0 {
		return nil, nil, io.EOF
	}
	out.Cols = make([]arrow.Array, len(builders))
	for i, b := range builders {
		out.Cols[i] = b.NewArray()
		if len(refused) > 0 {
			out.Cols[i] = batch.Take(out.Cols[i], good)
		}
	}
	return out, refused, nil
}

// row appends one line's values; on a fault some may be appended already.
func (r *Reader) row(text string, to []array.Builder) (column string, fault *batch.Fault) {
	v, fault := batch.ParseJSON(text)
	if fault != nil {
		return "", fault
	}
	object, ok := v.(map[string]any)
	if !ok {
		return "", batch.Faultf("not an object", "a line is a JSON object such as {\"hut\": 7}")
	}
	for i, c := range r.schema.Columns {
		value, there := object[c.Name]
		if !there || value == nil {
			to[i].AppendNull()
		} else if fault := batch.AppendJSON(to[i], c.Type, value); fault != nil {
			return c.Name, fault
		}
	}
	return "", nil
}
