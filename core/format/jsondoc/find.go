package jsondoc

import (
	"bytes"
	"encoding/json"
	"strings"

	"welkin/core/batch"
	"welkin/core/format"
	"welkin/core/schema"
)

// Lines tells whether a file that begins with head holds one JSON object a line.
func Lines(head []byte, whole bool) bool {
	text := bytes.TrimSpace(head)
	first, rest, more := bytes.Cut(text, []byte("\n"))
	if first = bytes.TrimSpace(first); len(first) == 0 || first[0] != '{' || !json.Valid(first) {
		return false
	}
	rest = bytes.TrimSpace(rest)
	return !more && !whole || len(rest) > 0 && rest[0] == '{'
}

// FindRecords finds the path to the records of a document from its first bytes: the
// array of objects that is least deep, and of several the one with the most.
func FindRecords(head []byte) (path string, found int) {
	dec := json.NewDecoder(bytes.NewReader(head))
	counts := map[string]int{}
	var order []string
	var scan func(path []string, inArray bool) error
	scan = func(path []string, inArray bool) error {
		t, err := dec.Token()
		if err != nil {
			return err
		}
		switch t {
		case json.Delim('['):
			for dec.More() {
				if err := scan(path, true); err != nil {
					return err
				}
			}
			_, err = dec.Token()
		case json.Delim('{'):
			if inArray {
				name := strings.Join(path, ".")
				if counts[name] == 0 {
					order = append(order, name)
				}
				counts[name]++
			}
			for dec.More() {
				key, err := dec.Token()
				if err != nil {
					return err
				}
				name, _ := key.(string)
				if err := scan(append(path[:len(path):len(path)], name), false); err != nil {
					return err
				}
			}
			_, err = dec.Token()
		}
		return err
	}
	for scan(nil, false) == nil {
	}
	best := -1
	for _, name := range order {
		depth := len(Path(name))
		if best < 0 || depth < best || depth == best && counts[name] > counts[path] {
			best, path = depth, name
		}
	}
	return path, counts[path]
}

// Infer finds names and types of the columns from the first records of a document.
func Infer(head []byte, path string) (*schema.Schema, int, error) {
	shape := format.Shape{}
	for raw, err := range records(bytes.NewReader(head), Path(path)) {
		if err != nil { // the head is cut
			break
		}
		addTo(&shape, raw)
		if shape.Records() == format.SampleRecords {
			break
		}
	}
	if shape.Records() == 0 {
		return nil, 0, format.ErrEmpty
	}
	return shape.Columns(), shape.Records(), nil
}

// InferLines is Infer for one object a line.
func InferLines(head []byte, whole bool) (*schema.Schema, int, error) {
	if !whole {
		head = head[:bytes.LastIndexByte(head, '\n')+1]
	}
	shape := format.Shape{}
	for line := range bytes.Lines(head) {
		addTo(&shape, bytes.TrimSpace(line))
		if shape.Records() == format.SampleRecords {
			break
		}
	}
	if shape.Records() == 0 {
		return nil, 0, format.ErrEmpty
	}
	return shape.Columns(), shape.Records(), nil
}

// addTo adds a record to a shape; what is no record is passed over.
func addTo(shape *format.Shape, raw []byte) {
	v, fault := batch.ParseJSON(string(raw))
	object, ok := v.(map[string]any)
	if fault != nil || !ok {
		return
	}
	for _, k := range keysOf(raw) { // as they stand, not in normal order
		shape.Field(k)
	}
	shape.Add(object, batch.JSONKeys)
}

// keysOf lists the keys of an object in the order in which they stand.
func keysOf(raw []byte) []string {
	dec := json.NewDecoder(bytes.NewReader(raw))
	if _, err := dec.Token(); err != nil {
		return nil
	}
	var out []string
	for dec.More() {
		key, err := dec.Token()
		if err != nil {
			return out
		}
		name, _ := key.(string)
		out = append(out, name)
		var skip json.RawMessage
		if err := dec.Decode(&skip); err != nil {
			return out
		}
	}
	return out
}
