package jsondoc

import (
	"io"

	"welkin/core/batch"
	"welkin/core/schema"
)

// Writer writes rows as one array of objects, a row a line.
type Writer struct {
	w      io.Writer
	schema *schema.Schema
	begun  bool
	text   []byte
}

// NewWriter makes a writer of rows of a schema.
func NewWriter(w io.Writer, s *schema.Schema) *Writer { return &Writer{w: w, schema: s} }

// Write writes rows; nulls are written as null.
func (w *Writer) Write(b *batch.Batch) error {
	w.text = w.text[:0]
	for i := range b.N {
		mark := byte(',')
		if !w.begun {
			mark, w.begun = '[', true
		}
		w.text = append(w.text, mark, '\n', '{')
		for k, c := range w.schema.Columns {
			if k > 0 {
				w.text = append(w.text, ',')
			}
			w.text = append(batch.AppendJSONString(w.text, c.Name), ':')
			w.text = batch.AppendJSONText(w.text, b.Cols[k], c.Type, i)
		}
		w.text = append(w.text, '}')
	}
	_, err := w.w.Write(w.text)
	return err
}

// Flush ends the array; nothing may be written behind it.
func (w *Writer) Flush() error {
	end := "\n]\n"
	if !w.begun {
		end = "[]\n"
	}
	_, err := io.WriteString(w.w, end)
	return err
}
