package sheet

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"strings"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"
	"github.com/goccy/go-yaml/token"

	"welkin/core/schema"
)

// Parse reads a sheet from YAML. Every mistake is reported with its place; the
// sheet holds whatever could be read, and is never nil.
func Parse(text string, kinds Kinds) (*Sheet, []Problem) {
	r := &reading{sheet: &Sheet{}, kinds: kinds}
	file, err := parser.ParseBytes([]byte(text), 0)
	if err != nil {
		r.yamlError("", err)
		return r.sheet, r.problems
	}
	if len(file.Docs) == 0 || file.Docs[0].Body == nil {
		r.problem("", nil, "the sheet is empty; it needs a name and steps")
		return r.sheet, r.problems
	}
	r.document(file.Docs[0].Body)
	r.sheet.readComments(text)
	r.problems = append(r.problems, r.sheet.checkGraph(kinds)...)
	return r.sheet, r.problems
}

type reading struct {
	sheet    *Sheet
	kinds    Kinds
	problems []Problem
}

func (r *reading) problem(step string, node ast.Node, format string, args ...any) {
	var at *token.Token
	if node != nil {
		at = node.GetToken()
	}
	r.problemAt(step, at, format, args...)
}

func (r *reading) problemAt(step string, at *token.Token, format string, args ...any) {
	p := Problem{Step: step, Sentence: fmt.Sprintf(format, args...)}
	p.Line, p.Column = position(at)
	r.problems = append(r.problems, p)
}

func position(t *token.Token) (line, column int) {
	if t == nil || t.Position == nil {
		return 0, 0
	}
	return t.Position.Line, t.Position.Column
}

func (r *reading) yamlError(step string, err error) {
	p := Problem{Step: step, Sentence: err.Error()}
	var at yaml.Error
	if errors.As(err, &at) {
		p.Line, p.Column = position(at.GetToken())
		p.Sentence = at.GetMessage()
	}
	r.problems = append(r.problems, p)
}

// entries gives the keys and values of a mapping.
func entries(n ast.Node) ([]*ast.MappingValueNode, bool) {
	switch n := n.(type) {
	case *ast.MappingNode:
		return n.Values, true
	case *ast.MappingValueNode:
		return []*ast.MappingValueNode{n}, true
	}
	return nil, false
}

func keyOf(e *ast.MappingValueNode) string { return e.Key.GetToken().Value }

var sheetKeys = []string{"welkin", "name", "description", "parameters", "limits", "engine", "stretches", "examples", "steps"}

func (r *reading) document(body ast.Node) {
	list, ok := entries(body)
	if !ok {
		r.problem("", body, "a sheet is a mapping that begins with `welkin: 1`")
		return
	}
	for _, e := range list {
		switch key := keyOf(e); key {
		case "welkin":
			v := Version
			if r.decode("", e.Value, &v); v != Version {
				r.problem("", e.Value, "this sheet is of form %d; this program reads form %d", v, Version)
			}
		case "name":
			r.decode("", e.Value, &r.sheet.Name)
		case "description":
			r.decode("", e.Value, &r.sheet.Description)
		case "parameters":
			r.decode("", e.Value, &r.sheet.Parameters)
		case "limits":
			r.decode("", e.Value, &r.sheet.Limits)
		case "engine":
			r.sheet.engineAt = e.Value
			r.decode("", e.Value, &r.sheet.Engine)
		case "stretches":
			r.decode("", e.Value, &r.sheet.Stretches)
		case "examples":
			r.decode("", e.Value, &r.sheet.Examples)
		case "steps":
			r.steps(e.Value)
		default:
			r.problem("", e.Key, "there is no setting %q here%s", key, didYouMean(key, sheetKeys))
		}
	}
	if strings.TrimSpace(r.sheet.Name) == "" {
		r.problem("", body, "the sheet has no name; write `name: …`")
	}
}

func didYouMean(word string, candidates []string) string {
	if near := schema.Nearest(word, candidates); near != "" {
		return fmt.Sprintf("; did you mean %q?", near)
	}
	return ""
}

func (r *reading) steps(n ast.Node) {
	seq, ok := n.(*ast.SequenceNode)
	if !ok {
		if n.Type() != ast.NullType {
			r.problem("", n, "steps is a list; each line begins with `- step: name`")
		}
		return
	}
	for _, item := range seq.Values {
		r.step(item)
	}
}

func (r *reading) step(item ast.Node) {
	list, ok := entries(item)
	if !ok {
		r.problem("", item, "a step is a mapping that begins with `step: name`")
		return
	}
	s := &Step{node: item}
	rest := ast.Mapping(item.GetToken(), false)
	for _, e := range list {
		var to *string
		switch keyOf(e) {
		case "step":
			to = &s.ID
		case "does":
			to = &s.Kind
		case "from":
			to = &s.From
		case "with":
			if many, ok := e.Value.(*ast.SequenceNode); ok {
				var names []string
				if r.decode(s.ID, many, &names); len(names) > 0 {
					s.With, s.More = names[0], names[1:]
				}
				continue
			}
			to = &s.With
		case "note":
			to = &s.Note
		case "problems":
			to = &s.Problems
		case "personal":
			r.decode(s.ID, e.Value, &s.Personal)
			continue
		default:
			rest.Values = append(rest.Values, e)
			continue
		}
		r.decode(s.ID, e.Value, to)
	}
	r.sheet.Steps = append(r.sheet.Steps, s)
	if s.Kind == "" {
		r.problem(s.ID, item, "the step does not say what it does; write `does: keep rows` or another kind")
		return
	}
	if s.Settings = r.kinds.New(s.Kind); s.Settings == nil {
		r.problem(s.ID, item, "there is no kind of step %q%s; there are %s", s.Kind, didYouMean(s.Kind, r.kinds.Names()), strings.Join(r.kinds.Names(), ", "))
		return
	}
	if len(rest.Values) > 0 {
		r.decode(s.ID, rest, s.Settings)
	}
}

// At gives the place of a setting's path, such as columns[2].value, in the text
// the step was read from: the nearest part of the path that is there.
func (s *Step) At(path string) (line, column int) {
	if s.node == nil {
		return 0, 0
	}
	for {
		if path == "" {
			return position(s.node.GetToken())
		}
		if p, err := yaml.PathString("$." + path); err == nil {
			if n, err := p.FilterNode(s.node); err == nil && n != nil {
				return position(n.GetToken())
			}
		}
		path = path[:max(strings.LastIndexAny(path, ".["), 0)]
	}
}

// FromJSON reads a sheet from the form the front end sends. The problems are
// those of the graph; settings that can't be read are one too.
func FromJSON(data []byte, kinds Kinds) (*Sheet, []Problem, error) {
	var raw struct {
		Sheet
		Steps []struct {
			Step
			Settings json.RawMessage `json:"settings"`
		} `json:"steps"`
	}
	if err := json.Unmarshal(data, &raw); err != nil {
		return nil, nil, fmt.Errorf("the sheet can't be read: %w", err)
	}
	s := raw.Sheet
	s.Steps = nil
	var problems []Problem
	for i := range raw.Steps {
		st := raw.Steps[i].Step
		st.Settings = kinds.New(st.Kind)
		if st.Settings == nil {
			problems = append(problems, Problem{Step: st.ID, Sentence: fmt.Sprintf("there is no kind of step %q", st.Kind)})
		} else if settings := raw.Steps[i].Settings; len(settings) > 0 {
			dec := json.NewDecoder(bytes.NewReader(settings))
			dec.DisallowUnknownFields()
			if err := dec.Decode(st.Settings); err != nil {
				problems = append(problems, Problem{Step: st.ID, Sentence: "the settings can't be read: " + err.Error()})
			}
		}
		s.Steps = append(s.Steps, &st)
	}
	return &s, append(problems, s.checkGraph(kinds)...), nil
}
