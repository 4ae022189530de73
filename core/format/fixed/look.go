package fixed

import (
	"bytes"
	"context"
	"io"
	"strings"

	"welkin/core/batch"
	"welkin/core/format"
)

// One is one record as it stands in a file.
type One struct {
	Raw  []byte
	Text string // its characters
}

// Records cuts the beginning of a file into records, as a layout says or into lines;
// one that is cut at the end is left out.
func Records(head []byte, l *Layout) []One {
	var out []One
	name := ""
	if l != nil {
		name = l.Encoding
	}
	e, _ := charset(name)
	add := func(raw []byte) {
		text := string(raw)
		if e != nil {
			plain, _ := e.NewDecoder().Bytes(raw)
			text = string(plain)
		}
		out = append(out, One{raw, strings.ToValidUTF8(text, "�")})
	}
	if l != nil && l.Length > 0 {
		for len(head) >= l.Length {
			add(head[:l.Length])
			head = head[l.Length:]
		}
		return out
	}
	head = bytes.TrimPrefix(head, format.Mark)
	for len(head) > 0 {
		line, rest, whole := bytes.Cut(head, []byte("\n"))
		if !whole && len(out) > 0 && len(head) > MaxLine/8 {
			break
		}
		if line = bytes.TrimSuffix(line, []byte("\r")); len(bytes.TrimSpace(line)) > 0 {
			add(line)
		}
		head = rest
	}
	return out
}

// Value is what a layout reads of one record.
type Value struct {
	Type   string
	Values map[string]*string // by field
	Fault  *batch.Fault
	Column string
}

// ReadOne reads one record by a layout that is valid: its values as far as they can be
// read, and the first fault.
func ReadOne(l Layout, raw []byte) Value {
	s, err := l.Schema("")
	if err != nil {
		return Value{Fault: batch.Faultf("bad layout", "%s", err)}
	}
	text := append([]byte{}, raw...)
	if l.Length == 0 {
		text = append(text, '\n')
	}
	r, err := Open(bytes.NewReader(text), Options{Layout: l, Schema: s})
	if err != nil {
		return Value{Fault: batch.Faultf("bad layout", "%s", err)}
	}
	chunk, err := r.Next(context.Background())
	if err == io.EOF {
		return Value{}
	}
	if err != nil {
		return Value{Fault: batch.Faultf("bad record", "%s", err)}
	}
	if len(chunk.Refused) > 0 {
		return Value{Fault: chunk.Refused[0].Fault, Column: chunk.Refused[0].Column}
	}
	out := Value{Values: map[string]*string{}}
	for i, v := range chunk.Batch.Row(0) {
		if name := s.Columns[i].Name; name == TypeColumn && len(l.Records) > 1 && i == 0 {
			if v != nil {
				out.Type = *v
			}
		} else {
			out.Values[name] = v
		}
	}
	return out
}
