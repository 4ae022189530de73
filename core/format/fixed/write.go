package fixed

import (
	"bufio"
	"bytes"
	"fmt"
	"io"
	"slices"

	"golang.org/x/text/encoding"

	"welkin/core/batch"
	"welkin/core/schema"
)

// Writer writes rows as records of a layout.
type Writer struct {
	w       *bufio.Writer
	layout  Layout
	schema  *schema.Schema
	charset encoding.Encoding
	kind    int // column that names the record type, -1 for none
	columns [][]int
	widths  []int
	at      int64
}

// NewWriter makes a writer. Each field takes the column of its name; where the layout
// has several record types the column record says which one a row is, unless record
// names it.
func NewWriter(w io.Writer, s *schema.Schema, l Layout, record string) (*Writer, error) {
	if err := l.Validate(); err != nil {
		return nil, err
	}
	out := &Writer{w: bufio.NewWriterSize(w, 1<<16), layout: l, schema: s, kind: -1}
	var err error
	if out.charset, err = charset(l.Encoding); err != nil {
		return nil, err
	}
	if record != "" {
		one, err := l.Record(record)
		if err != nil {
			return nil, err
		}
		out.layout.Records = []RecordType{*one}
	} else if len(l.Records) > 1 {
		if out.kind = s.Index(TypeColumn); out.kind < 0 {
			return nil, fmt.Errorf("the layout has %d record types: a column %q must say which one a row is, or the step which one to write", len(l.Records), TypeColumn)
		}
	}
	for _, r := range out.layout.Records {
		var columns []int
		width := l.Length
		for _, f := range r.Fields {
			at := s.Index(f.Name)
			if at < 0 && out.kind < 0 {
				return nil, fmt.Errorf("the layout's field %q has no column of its name; there are %v", f.Name, s.Names())
			}
			columns = append(columns, at)
			width = max(width, f.End()-1)
		}
		if l.Code != nil {
			width = max(width, l.Code.Start+l.Code.Length-1)
		}
		out.columns, out.widths = append(out.columns, columns), append(out.widths, width)
	}
	return out, nil
}

// Write writes a record for each row; a value that does not fit its field is an
// error.
func (w *Writer) Write(b *batch.Batch) error {
	for i := range b.N {
		w.at++
		if err := w.row(b, i); err != nil {
			return fmt.Errorf("row %d: %w", w.at, err)
		}
	}
	return nil
}

func (w *Writer) row(b *batch.Batch, i int) error {
	at := 0
	if w.kind >= 0 {
		name := batch.Text(b.Cols[w.kind], w.schema.Columns[w.kind].Type, i)
		if at = slices.IndexFunc(w.layout.Records, func(r RecordType) bool { return r.Name == name }); at < 0 {
			return fmt.Errorf("the layout has no record type %q", name)
		}
	}
	kind := w.layout.Records[at]
	blank := []byte(" ")
	if w.charset != nil {
		blank, _ = w.charset.NewEncoder().Bytes(blank)
	}
	cells := make([][]byte, w.widths[at]) // by character
	for k := range cells {
		cells[k] = blank
	}
	bytewise := w.charset != nil || w.layout.Length > 0
	put := func(start int, raw []byte, bytes bool) {
		if bytes {
			for k := range raw {
				cells[start-1+k] = raw[k : k+1]
			}
			return
		}
		for k, c := range []rune(string(raw)) {
			cells[start-1+k] = []byte(string(c))
		}
	}
	if c := w.layout.Code; c != nil {
		code := []byte(kind.Code)
		if w.charset != nil {
			code, _ = w.charset.NewEncoder().Bytes(code)
		}
		put(c.Start, code[:min(len(code), c.Length)], bytewise)
	}
	for k, f := range kind.Fields {
		value := ""
		if c := w.columns[at][k]; c >= 0 && !b.Cols[c].IsNull(i) {
			value = batch.Text(b.Cols[c], w.schema.Columns[c].Type, i)
		}
		raw, err := f.write(value, w.charset, bytewise)
		if err != nil {
			return err
		}
		put(f.Start, raw, bytewise || f.Store == StorePacked || f.Store == StoreBinary)
	}
	record := bytes.Join(cells, nil)
	if w.layout.Length == 0 {
		end := []byte("\n")
		record = append(record, end...)
	}
	_, err := w.w.Write(record)
	return err
}

// Flush writes what is kept back.
func (w *Writer) Flush() error { return w.w.Flush() }
