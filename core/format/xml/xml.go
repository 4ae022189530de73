// Package xml reads rows out of XML documents: each element of a name is a record,
// its attributes and the elements inside are the columns. Elements that come
// several times are lists, elements with elements inside are records. Namespaces'
// prefixes are left out. Documents of any size are read, one record at a time.
package xml

import (
	"context"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"golang.org/x/text/encoding/htmlindex"

	"welkin/core/batch"
	"welkin/core/format"
	"welkin/core/schema"
)

// maxDepth is how deep elements may nest.
const maxDepth = 200

// Text is the column of an element's own text where it has attributes or elements
// too.
const Text = "text"

// Options say which elements are records and how they become rows.
type Options struct {
	Records string // name of the records' element, or a path such as huts/hut
	Schema  *schema.Schema
	Nulls   []string // texts that mean null
	Place   string   // what the origin of rows says
	Limit   int64    // rows wanted, 0 for all
}

// Reader reads one document.
type Reader struct {
	*walk
	rows *format.Rows
	o    Options
	made int64
}

// Open begins to read r.
func Open(r io.Reader, o Options) *Reader {
	return &Reader{walk: newWalk(r, o.Records), rows: format.NewRows(o.Schema, o.Place, o.Nulls), o: o}
}

// Next implements format.Reader.
func (r *Reader) Next(ctx context.Context) (format.Chunk, error) {
	for r.rows.Seen() < batch.Rows && (r.o.Limit == 0 || r.made < r.o.Limit) {
		if err := ctx.Err(); err != nil {
			return format.Chunk{}, err
		}
		record, line, err := r.walk.next()
		if err == io.EOF {
			break
		}
		if err != nil {
			return format.Chunk{}, err
		}
		before := r.rows.Good()
		for _, c := range r.o.Schema.Columns {
			if v, ok := record[c.Name]; ok {
				record[c.Name] = fit(v, c.Type)
			}
		}
		r.rows.Add(record, line, func() string {
			text, _ := batch.AppendNormalJSON(nil, record)
			return string(text)
		})
		r.made += int64(r.rows.Good() - before)
	}
	if r.rows.Seen() == 0 {
		return format.Chunk{}, io.EOF
	}
	return r.rows.Chunk(), nil
}

// fit makes a list of what came once, and a record of what is only its text, where a
// column holds such.
func fit(v any, t schema.Type) any {
	switch t.Kind {
	case schema.List:
		items, ok := v.([]any)
		if !ok {
			items = []any{v}
		}
		for i := range items {
			items[i] = fit(items[i], t.Elem())
		}
		return items
	case schema.Record:
		object, ok := v.(map[string]any)
		if !ok {
			object = map[string]any{Text: v}
		}
		for _, f := range t.Fields() {
			if inner, there := object[f.Name]; there {
				object[f.Name] = fit(inner, f.Type)
			}
		}
		return object
	}
	if text, ok := v.(string); ok && text == "" && t.Kind != schema.Text {
		return nil
	}
	return v
}

// Close implements format.Reader.
func (r *Reader) Close() error { return nil }

// walk goes through the records of a document.
type walk struct {
	dec     *xml.Decoder
	records []string // the last names of the path to a record
	path    []string
}

func newWalk(r io.Reader, records string) *walk {
	w := &walk{dec: xml.NewDecoder(r), records: strings.FieldsFunc(records, func(c rune) bool { return c == '/' })}
	w.dec.CharsetReader = func(name string, r io.Reader) (io.Reader, error) {
		e, err := htmlindex.Get(name)
		if err != nil {
			return nil, fmt.Errorf("the encoding %q is not known", name)
		}
		return e.NewDecoder().Reader(r), nil
	}
	return w
}

// next gives a record and the line where it ends.
func (w *walk) next() (map[string]any, int64, error) {
	for {
		t, err := w.dec.Token()
		if err != nil {
			return nil, 0, w.explain(err)
		}
		switch t := t.(type) {
		case xml.StartElement:
			w.path = append(w.path, t.Name.Local)
			if len(w.path) > maxDepth {
				return nil, 0, fmt.Errorf("the XML nests deeper than %d elements", maxDepth)
			}
			if len(w.path) < len(w.records) || !slices.Equal(w.path[len(w.path)-len(w.records):], w.records) {
				continue
			}
			w.path = w.path[:len(w.path)-1]
			v, _, err := w.element(t, 0)
			if err != nil {
				return nil, 0, w.explain(err)
			}
			line, _ := w.dec.InputPos()
			if object, ok := v.(map[string]any); ok {
				return object, int64(line), nil
			}
			return map[string]any{Text: v}, int64(line), nil
		case xml.EndElement:
			w.path = w.path[:max(len(w.path)-1, 0)]
		}
	}
}

func (w *walk) explain(err error) error {
	if err == io.EOF {
		return err
	}
	var syntax *xml.SyntaxError
	if errors.As(err, &syntax) {
		if strings.Contains(syntax.Msg, "EOF") {
			return fmt.Errorf("the XML ends too early, at line %d; the file may have been cut off", syntax.Line)
		}
		return fmt.Errorf("the XML is broken at line %d: %s", syntax.Line, syntax.Msg)
	}
	return err
}

// element reads an element up to its end: its text, or a map of what is inside. keys
// are in the order in which they stand.
func (w *walk) element(start xml.StartElement, depth int) (value any, keys []string, err error) {
	if depth > maxDepth {
		return nil, nil, fmt.Errorf("the XML nests deeper than %d elements", maxDepth)
	}
	inside := map[string]any{}
	add := func(name string, v any) {
		switch have := inside[name].(type) {
		case nil:
			if _, there := inside[name]; !there {
				keys = append(keys, name)
				inside[name] = v
			} else {
				inside[name] = []any{nil, v}
			}
		case []any:
			inside[name] = append(have, v)
		default:
			inside[name] = []any{have, v}
		}
	}
	isNull := false
	for _, a := range start.Attr {
		switch {
		case a.Name.Space == "xmlns" || a.Name.Local == "xmlns":
		case a.Name.Local == "nil" && strings.Contains(a.Name.Space, "XMLSchema-instance"):
			isNull = a.Value == "true" || a.Value == "1"
		default:
			add(a.Name.Local, a.Value)
		}
	}
	var text strings.Builder
	for {
		t, err := w.dec.Token()
		if err != nil {
			return nil, nil, err
		}
		switch t := t.(type) {
		case xml.StartElement:
			v, _, err := w.element(t, depth+1)
			if err != nil {
				return nil, nil, err
			}
			add(t.Name.Local, v)
		case xml.CharData:
			text.Write(t)
		case xml.EndElement:
			own := strings.TrimSpace(text.String())
			switch {
			case len(keys) == 0 && isNull:
				return nil, nil, nil
			case len(keys) == 0:
				return own, nil, nil
			case own != "":
				add(Text, own)
			}
			return inside, keys, nil
		}
	}
}

// FindRecords finds the name of the records' element from a document's first bytes:
// the one that comes several times beside its like, least deep.
func FindRecords(head []byte) (name string, found int) {
	dec := newWalk(strings.NewReader(string(head)), "").dec
	type seen struct{ count, depth int }
	counts := map[string]*seen{}
	var order []string
	depth := 0
	for {
		t, err := dec.Token()
		if err != nil {
			break
		}
		switch t := t.(type) {
		case xml.StartElement:
			depth++
			c := counts[t.Name.Local]
			if c == nil {
				c = &seen{depth: depth}
				counts[t.Name.Local] = c
				order = append(order, t.Name.Local)
			}
			if c.depth == depth {
				c.count++
			}
		case xml.EndElement:
			depth--
		}
	}
	best := 0
	for _, n := range order {
		c := counts[n]
		if c.count > 1 && (best == 0 || c.depth < best || c.depth == best && c.count > counts[name].count) {
			name, best = n, c.depth
		}
	}
	if best == 0 && len(order) > 1 { // one record alone
		name = order[1]
	}
	if name == "" {
		return "", 0
	}
	return name, counts[name].count
}

// Infer finds names and types of the columns from a document's first records.
func Infer(head []byte, records string) (*schema.Schema, int, error) {
	w := newWalk(strings.NewReader(string(head)), records)
	shape := format.Shape{Texts: true}
	lists := map[string]bool{} // that come several times in some record
	for shape.Records() < format.SampleRecords {
		t, err := w.dec.Token()
		if err != nil {
			break
		}
		switch t := t.(type) {
		case xml.EndElement:
			w.path = w.path[:max(len(w.path)-1, 0)]
		case xml.StartElement:
			w.path = append(w.path, t.Name.Local)
			if len(w.path) < len(w.records) || !slices.Equal(w.path[len(w.path)-len(w.records):], w.records) {
				continue
			}
			w.path = w.path[:len(w.path)-1]
			v, keys, err := w.element(t, 0)
			if err != nil {
				continue
			}
			object, ok := v.(map[string]any)
			if !ok {
				object, keys = map[string]any{Text: v}, []string{Text}
			}
			for _, k := range keys {
				shape.Field(k)
				if _, is := object[k].([]any); is {
					lists[k] = true
				}
			}
			shape.Add(once(object, lists), batch.JSONKeys)
		}
	}
	if shape.Records() == 0 {
		return nil, 0, format.ErrEmpty
	}
	return again(head, records, lists, &shape)
}

// again looks a second time when some elements turned out to be lists: those that
// came once before that are lists of one.
func again(head []byte, records string, lists map[string]bool, first *format.Shape) (*schema.Schema, int, error) {
	if len(lists) == 0 {
		return first.Columns(), first.Records(), nil
	}
	w := newWalk(strings.NewReader(string(head)), records)
	shape := format.Shape{Texts: true}
	for _, f := range first.Fields() {
		shape.Field(f.Name)
	}
	for shape.Records() < first.Records() {
		record, _, err := w.next()
		if err != nil {
			break
		}
		shape.Add(once(record, lists), batch.JSONKeys)
	}
	return shape.Columns(), shape.Records(), nil
}

// once makes lists of elements that are lists elsewhere.
func once(record map[string]any, lists map[string]bool) map[string]any {
	for k := range lists {
		if v, there := record[k]; there {
			if _, is := v.([]any); !is {
				record[k] = []any{v}
			}
		}
	}
	return record
}
