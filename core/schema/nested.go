package schema

import (
	"fmt"
	"strings"
)

// Field is one named value of a record.
type Field struct {
	Name string
	Type Type
}

// ListOf gives the type of a list of values of t.
func ListOf(t Type) Type { return Type{Kind: List, Inside: t.String()} }

// RecordOf gives the type of a record with the given fields, in their order.
func RecordOf(fields ...Field) Type {
	parts := make([]string, len(fields))
	for i, f := range fields {
		parts[i] = writeName(f.Name) + " " + f.Type.String()
	}
	return Type{Kind: Record, Inside: strings.Join(parts, ", ")}
}

// Elem gives the type of a list's values; Unknown for other types.
func (t Type) Elem() Type {
	if t.Kind != List || t.Inside == "unknown" {
		return Type{}
	}
	e, _ := ParseType(t.Inside)
	return e
}

// Fields lists the fields of a record; nil for other types.
func (t Type) Fields() []Field {
	if t.Kind != Record {
		return nil
	}
	fields, _ := parseFields(t.Inside)
	return fields
}

// Nested tells whether values of t hold other values.
func (t Type) Nested() bool { return t.Kind == List || t.Kind == Record }

// writeName writes a field's name, in double quotes unless it is a plain word.
func writeName(name string) string {
	plain := name != ""
	for i, r := range name {
		if r != '_' && (r < 'a' || r > 'z') && (i == 0 || r < '0' || r > '9') {
			plain = false
		}
	}
	if plain {
		return name
	}
	return `"` + strings.ReplaceAll(name, `"`, `""`) + `"`
}

// parseNested reads list<T>, T[] and record{name T, …}; ok is false for a text
// that is none of them.
func parseNested(text string) (t Type, ok bool, err error) {
	text = strings.TrimSpace(text)
	lower := strings.ToLower(text)
	switch {
	case strings.HasPrefix(lower, "list<") && strings.HasSuffix(text, ">"):
		e, err := ParseType(text[5 : len(text)-1])
		return ListOf(e), true, err
	case strings.HasPrefix(lower, "record{") && strings.HasSuffix(text, "}"):
		fields, err := parseFields(text[7 : len(text)-1])
		return RecordOf(fields...), true, err
	case strings.HasSuffix(text, "[]"):
		e, err := ParseType(text[:len(text)-2])
		return ListOf(e), true, err
	}
	return Type{}, false, nil
}

// parseFields reads `a int, "b c" list<text>`.
func parseFields(text string) ([]Field, error) {
	var fields []Field
	for rest := strings.TrimSpace(text); rest != ""; {
		var f Field
		f.Name, rest = readName(rest)
		end, depth := len(rest), 0
		quoted := false
	scan:
		for i := range len(rest) {
			switch c := rest[i]; {
			case c == '"':
				quoted = !quoted
			case quoted:
			case c == '<' || c == '{' || c == '(':
				depth++
			case c == '>' || c == '}' || c == ')':
				depth--
			case c == ',' && depth == 0:
				end = i
				break scan
			}
		}
		t, err := ParseType(rest[:end])
		if err != nil {
			return fields, fmt.Errorf("field %s: %w", f.Name, err)
		}
		f.Type = t
		fields = append(fields, f)
		rest = strings.TrimSpace(strings.TrimPrefix(rest[end:], ","))
	}
	return fields, nil
}

// readName reads a plain or quoted name off the front of text.
func readName(text string) (name, rest string) {
	if text[0] != '"' {
		name, rest, _ = strings.Cut(text, " ")
		return name, strings.TrimSpace(rest)
	}
	var out strings.Builder
	for i := 1; i < len(text); i++ {
		if text[i] == '"' {
			if i+1 < len(text) && text[i+1] == '"' {
				i++
			} else {
				return out.String(), strings.TrimSpace(text[i+1:])
			}
		}
		out.WriteByte(text[i])
	}
	return out.String(), ""
}
