// Package jsondoc reads rows out of JSON documents: records that stand in an array
// somewhere inside, one after the other, so that a document of any size can be
// read. jsondoc.go reads, find.go finds where the records stand, write.go writes
// an array of records.
//
// A path such as data.items leads from the top to the records: each part is the key
// of an object; arrays on the way are gone through.
package jsondoc

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"iter"
	"strings"

	"welkin/core/batch"
	"welkin/core/format"
	"welkin/core/schema"
)

// Options say where the records stand and how they become rows.
type Options struct {
	Records string // the path to the records; "" for the top
	Schema  *schema.Schema
	Nulls   []string // texts that mean null
	Place   string   // what the origin of rows says
	Limit   int64    // rows wanted, 0 for all
}

// Reader reads one document.
type Reader struct {
	next func() (json.RawMessage, error, bool)
	stop func()
	rows *format.Rows
	o    Options
	n    int64 // records so far
	made int64 // rows so far
}

// Open begins to read r.
func Open(r io.Reader, o Options) *Reader {
	next, stop := iter.Pull2(records(r, Path(o.Records)))
	return &Reader{next: next, stop: stop, rows: format.NewRows(o.Schema, o.Place, o.Nulls), o: o}
}

// Path cuts a path into its keys. A leading $ and [*] behind keys are allowed, as in
// JSONPath.
func Path(text string) []string {
	text = strings.TrimPrefix(strings.TrimSpace(text), "$")
	text = strings.ReplaceAll(text, "[*]", "")
	text = strings.Trim(text, ".")
	if text == "" {
		return nil
	}
	return strings.Split(text, ".")
}

// Next implements format.Reader.
func (r *Reader) Next(ctx context.Context) (format.Chunk, error) {
	for r.rows.Seen() < batch.Rows && (r.o.Limit == 0 || r.made < r.o.Limit) {
		if err := ctx.Err(); err != nil {
			return format.Chunk{}, err
		}
		raw, err, ok := r.next()
		if !ok {
			break
		}
		if err != nil {
			return format.Chunk{}, err
		}
		r.n++
		before := r.rows.Good()
		v, fault := batch.ParseJSON(string(raw))
		if fault != nil {
			r.rows.Refuse(fault, "", "", r.n, string(raw))
		} else {
			r.rows.Add(v, r.n, func() string { return string(raw) })
		}
		r.made += int64(r.rows.Good() - before)
	}
	if r.rows.Seen() == 0 {
		return format.Chunk{}, io.EOF
	}
	return r.rows.Chunk(), nil
}

// Close implements format.Reader.
func (r *Reader) Close() error {
	r.stop()
	return nil
}

// records goes through the records of a document.
func records(r io.Reader, path []string) iter.Seq2[json.RawMessage, error] {
	return func(yield func(json.RawMessage, error) bool) {
		w := &walk{dec: json.NewDecoder(r), yield: yield}
		w.dec.UseNumber()
		for {
			err := w.value(path)
			switch {
			case err == errEnough || err == io.EOF && !w.inside:
				return
			case err != nil:
				yield(nil, w.explain(err))
				return
			}
		}
	}
}

var errEnough = errors.New("enough")

type walk struct {
	dec    *json.Decoder
	yield  func(json.RawMessage, error) bool
	inside bool // of a value
}

func (w *walk) explain(err error) error {
	var syntax *json.SyntaxError
	switch {
	case errors.Is(err, io.EOF), errors.Is(err, io.ErrUnexpectedEOF):
		return fmt.Errorf("the JSON ends too early, at byte %d; the file may have been cut off", w.dec.InputOffset())
	case errors.As(err, &syntax):
		return fmt.Errorf("the JSON is broken at byte %d: %s", syntax.Offset, strings.TrimPrefix(syntax.Error(), "json: "))
	}
	return err
}

// value goes through the value that comes next; path leads from it to records.
func (w *walk) value(path []string) error {
	t, err := w.dec.Token()
	if err != nil {
		return err
	}
	w.inside = true
	switch t {
	case json.Delim('['):
		for w.dec.More() {
			if err := w.value(path); err != nil {
				return err
			}
		}
		_, err = w.dec.Token()
	case json.Delim('{'):
		if len(path) == 0 {
			err = w.record()
		} else {
			err = w.object(path)
		}
	default:
		if len(path) == 0 {
			var raw json.RawMessage
			if raw, err = json.Marshal(t); err == nil && !w.yield(raw, nil) {
				err = errEnough
			}
		}
	}
	w.inside = err != nil
	return err
}

// object goes through an object on the way to the records.
func (w *walk) object(path []string) error {
	for w.dec.More() {
		key, err := w.dec.Token()
		if err != nil {
			return err
		}
		if key == path[0] {
			err = w.value(path[1:])
		} else {
			err = w.pass()
		}
		if err != nil {
			return err
		}
		w.inside = true
	}
	_, err := w.dec.Token()
	return err
}

// pass passes over a value without keeping it.
func (w *walk) pass() error {
	for depth := 0; ; {
		t, err := w.dec.Token()
		if err != nil {
			return err
		}
		switch t {
		case json.Delim('['), json.Delim('{'):
			depth++
		case json.Delim(']'), json.Delim('}'):
			depth--
		}
		if depth == 0 {
			return nil
		}
	}
}

// record yields the object whose opening brace was read.
func (w *walk) record() error {
	raw := json.RawMessage{'{'}
	for w.dec.More() {
		key, err := w.dec.Token()
		if err != nil {
			return err
		}
		if len(raw) > 1 {
			raw = append(raw, ',')
		}
		name, _ := key.(string)
		raw = append(batch.AppendJSONString(raw, name), ':')
		var value json.RawMessage
		if err := w.dec.Decode(&value); err != nil {
			return err
		}
		raw = append(raw, value...)
	}
	if _, err := w.dec.Token(); err != nil {
		return err
	}
	if !w.yield(append(raw, '}'), nil) {
		return errEnough
	}
	return nil
}
