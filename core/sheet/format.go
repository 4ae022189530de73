package sheet

import (
	"fmt"
	"reflect"
	"strings"
	"unicode"

	"github.com/goccy/go-yaml"
)

// Format writes a sheet in canonical form: fixed order of keys, two blanks a
// level, nothing that has its usual value. Comments stay with their settings.
func Format(s *Sheet) (string, error) {
	doc := yaml.MapSlice{{Key: "welkin", Value: Version}, {Key: "name", Value: s.Name}}
	add := func(m *yaml.MapSlice, key, value string) {
		if value != "" {
			*m = append(*m, yaml.MapItem{Key: key, Value: value})
		}
	}
	add(&doc, "description", s.Description)
	if len(s.Parameters) > 0 {
		doc = append(doc, yaml.MapItem{Key: "parameters", Value: s.Parameters})
	}
	if s.Limits != (Limits{}) {
		doc = append(doc, yaml.MapItem{Key: "limits", Value: s.Limits})
	}
	add(&doc, "engine", s.Engine)
	if len(s.Stretches) > 0 {
		doc = append(doc, yaml.MapItem{Key: "stretches", Value: s.Stretches})
	}
	if len(s.Examples) > 0 {
		doc = append(doc, yaml.MapItem{Key: "examples", Value: s.Examples})
	}
	steps := []yaml.MapSlice{}
	for _, st := range s.Steps {
		m := yaml.MapSlice{{Key: "step", Value: st.ID}, {Key: "does", Value: st.Kind}}
		add(&m, "from", st.From)
		if len(st.More) > 0 {
			m = append(m, yaml.MapItem{Key: "with", Value: append([]string{st.With}, st.More...)})
		} else {
			add(&m, "with", st.With)
		}
		add(&m, "note", st.Note)
		if st.Problems != SetAside {
			add(&m, "problems", st.Problems)
		}
		if len(st.Personal) > 0 {
			m = append(m, yaml.MapItem{Key: "personal", Value: st.Personal})
		}
		if st.Settings != nil {
			text, err := yaml.Marshal(st.Settings)
			if err != nil {
				return "", fmt.Errorf("writing the settings of step %s: %w", st.ID, err)
			}
			var settings yaml.MapSlice
			if err := yaml.UnmarshalWithOptions(text, &settings, yaml.UseOrderedMap()); err != nil {
				return "", fmt.Errorf("writing the settings of step %s: %w", st.ID, err)
			}
			m = append(m, settings...)
		}
		steps = append(steps, m)
	}
	doc = append(doc, yaml.MapItem{Key: "steps", Value: steps})
	return write(doc, s)
}

// write gives the text of a document with the sheet's comments. Not every comment
// can stand at every place: a text that would not read back as the same document
// gets them all above what they belong to, and if need be above everything.
func write(doc yaml.MapSlice, s *Sheet) (string, error) {
	marshal := func(more ...yaml.EncodeOption) (string, error) {
		options := append([]yaml.EncodeOption{yaml.Indent(2), yaml.IndentSequence(true), yaml.UseLiteralStyleIfMultiline(true)}, more...)
		text, err := yaml.MarshalWithOptions(doc, options...)
		if err != nil {
			return "", fmt.Errorf("writing the sheet: %w", err)
		}
		return string(text), nil
	}
	plain, err := marshal()
	if err != nil || len(s.Comments) == 0 {
		return plain, err
	}
	for _, place := range []func(string) string{func(place string) string { return place }, func(string) string { return above }} {
		if text, err := marshal(yaml.WithComment(s.comments(doc, place))); err == nil && same(text, plain) {
			return text, nil
		}
	}
	var all strings.Builder
	for _, c := range s.Comments {
		for _, line := range strings.Split(c.Text, "\n") {
			all.WriteString("# " + strings.TrimSpace(strings.Map(printable, line)) + "\n")
		}
	}
	return all.String() + plain, nil
}

// same tells whether two texts hold the same document.
func same(a, b string) bool {
	var x, y any
	return yaml.Unmarshal([]byte(a), &x) == nil && yaml.Unmarshal([]byte(b), &y) == nil && reflect.DeepEqual(x, y)
}

// printable leaves out what ends a comment's line, or can't stand in one.
func printable(r rune) rune {
	if unicode.IsPrint(r) || r == '\t' {
		return r
	}
	return -1
}
