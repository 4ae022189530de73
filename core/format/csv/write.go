package csv

import (
	"bufio"
	"io"
	"strings"

	"welkin/core/batch"
	"welkin/core/schema"
)

// Writer writes batches as delimited text in UTF-8.
type Writer struct {
	w    *bufio.Writer
	d    Dialect
	null string
}

// NewWriter begins a file and writes its header if the dialect has one. null
// is what stands for an absent value.
func NewWriter(w io.Writer, s *schema.Schema, d Dialect, null string) (*Writer, error) {
	out := &Writer{bufio.NewWriterSize(w, 1<<16), d, null}
	if !d.Header {
		return out, nil
	}
	for i, c := range s.Columns {
		out.cell(i, c.Name)
	}
	return out, out.w.WriteByte('\n')
}

func (w *Writer) cell(i int, text string) {
	if i > 0 {
		_ = w.w.WriteByte(w.d.delimiter())
	}
	q := w.d.quote()
	if text != "" && text != w.null && !strings.ContainsAny(text, "\r\n"+string(q)+string(w.d.delimiter())) {
		_, _ = w.w.WriteString(text)
		return
	}
	_ = w.w.WriteByte(q)
	_, _ = w.w.WriteString(strings.ReplaceAll(text, string(q), string([]byte{q, q})))
	_ = w.w.WriteByte(q)
}

// Write writes all rows of a batch. An empty text is quoted, so that it reads
// back as a text and not as null.
func (w *Writer) Write(b *batch.Batch) error {
	for i := range b.N {
		for c, col := range b.Cols {
			if col.IsNull(i) {
				if c > 0 {
					_ = w.w.WriteByte(w.d.delimiter())
				}
				_, _ = w.w.WriteString(w.null)
				if w.null == "" && len(b.Cols) == 1 { // a blank line would be no row
					_, _ = w.w.WriteString(`""`)
				}
				continue
			}
			w.cell(c, batch.Text(col, b.Schema.Columns[c].Type, i))
		}
		if err := w.w.WriteByte('\n'); err != nil {
			return err
		}
	}
	return nil
}

// Flush writes out what is buffered.
func (w *Writer) Flush() error { return w.w.Flush() }
