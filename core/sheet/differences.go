package sheet

import (
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"
)

// Difference is one thing that two versions of a sheet don't have in common.
type Difference struct {
	Step     string `json:"step,omitempty" doc:"The step, by its later name; nothing for what belongs to the whole sheet."`
	What     string `json:"what" enum:"added,removed,renamed,moved,changed"`
	Sentence string `json:"sentence" doc:"In words, with the values before and after."`
}

// Differences says in words what is different in a later version of a sheet: what
// belongs to the whole first, then step by step in the order of the later one. A
// step of another name and all else the same counts as renamed.
func Differences(before, after *Sheet) []Difference {
	out := compare("", whole(before), whole(after), nil)
	out = append(out, compareExamples(before.Examples, after.Examples)...)
	renamed := renames(before, after)
	old := map[string]*Step{} // by later name
	for _, s := range before.Steps {
		name := s.ID
		if to, ok := renamed[s.ID]; ok {
			name = to
		}
		old[name] = s
	}
	order := commonOrder(before, after, renamed)
	last := ""
	for _, s := range after.Steps {
		was, ok := old[s.ID]
		if !ok {
			out = append(out, Difference{s.ID, "added", fmt.Sprintf("step %s is new: %s%s", s.ID, sentence(s), behind(last))})
			last = s.ID
			continue
		}
		if was.ID != s.ID {
			out = append(out, Difference{s.ID, "renamed", fmt.Sprintf("step %s is now called %s", was.ID, s.ID)})
		}
		if !order[s.ID] {
			out = append(out, Difference{s.ID, "moved", fmt.Sprintf("step %s stands elsewhere%s", s.ID, behind(last))})
		}
		out = append(out, compare(s.ID, settingsOf(was), settingsOf(s), renamed)...)
		last = s.ID
	}
	for _, s := range before.Steps {
		if _, is := renamed[s.ID]; !is && after.Step(s.ID) == nil {
			out = append(out, Difference{s.ID, "removed", fmt.Sprintf("step %s is gone: %s", s.ID, sentence(s))})
		}
	}
	return out
}

func behind(step string) string {
	if step == "" {
		return ", as the first"
	}
	return ", behind " + step
}

func sentence(s *Step) string {
	if told, ok := s.Settings.(interface{ Sentence() string }); ok {
		return told.Sentence()
	}
	return s.Kind
}

// renames finds steps that differ by name alone: earlier name to later one.
func renames(before, after *Sheet) map[string]string {
	out := map[string]string{}
	for _, b := range before.Steps {
		if after.Step(b.ID) != nil {
			continue
		}
		for _, a := range after.Steps {
			if before.Step(a.ID) == nil && a.Kind == b.Kind && plain(a.Settings) == plain(b.Settings) && !slices.Contains(slices.Collect(maps.Values(out)), a.ID) {
				out[b.ID] = a.ID
				break
			}
		}
	}
	return out
}

// commonOrder names the steps of the later version that keep their order: the
// longest row of them that stands in the same order in both.
func commonOrder(before, after *Sheet, renamed map[string]string) map[string]bool {
	var b []string
	for _, s := range before.Steps {
		if to, ok := renamed[s.ID]; ok {
			b = append(b, to)
		} else {
			b = append(b, s.ID)
		}
	}
	a := make([]string, len(after.Steps))
	for i, s := range after.Steps {
		a[i] = s.ID
	}
	lengths := make([][]int, len(a)+1)
	for i := range lengths {
		lengths[i] = make([]int, len(b)+1)
	}
	for i := len(a) - 1; i >= 0; i-- {
		for j := len(b) - 1; j >= 0; j-- {
			if lengths[i][j] = max(lengths[i+1][j], lengths[i][j+1]); a[i] == b[j] {
				lengths[i][j] = lengths[i+1][j+1] + 1
			}
		}
	}
	out := map[string]bool{}
	for i, j := 0, 0; i < len(a) && j < len(b); {
		switch {
		case a[i] == b[j]:
			out[a[i]] = true
			i, j = i+1, j+1
		case lengths[i+1][j] >= lengths[i][j+1]:
			i++
		default:
			j++
		}
	}
	return out
}

// whole is what belongs to no step, by name.
func whole(s *Sheet) map[string]any {
	out := map[string]any{"name": s.Name, "description": s.Description, "engine": s.Engine, "limits": s.Limits}
	for _, p := range s.Parameters {
		out["parameter "+p.Name] = p
	}
	for _, st := range s.Stretches {
		out["stretch "+st.Name] = st.First + " to " + st.Last
	}
	return asMap(out)
}

// compareExamples says which examples differ, without their rows: those may be many,
// and not for everybody.
func compareExamples(before, after []Example) []Difference {
	var out []Difference
	named := func(list []Example, name string) *Example {
		if at := slices.IndexFunc(list, func(e Example) bool { return e.Name == name }); at >= 0 {
			return &list[at]
		}
		return nil
	}
	for _, e := range after {
		switch was := named(before, e.Name); {
		case was == nil:
			out = append(out, Difference{"", "added", fmt.Sprintf("example `%s` is new", e.Name)})
		case plain(was) != plain(e):
			out = append(out, Difference{"", "changed", fmt.Sprintf("example `%s` has changed: %s", e.Name, strings.Join(changedParts(*was, e), ", "))})
		}
	}
	for _, e := range before {
		if named(after, e.Name) == nil {
			out = append(out, Difference{"", "removed", fmt.Sprintf("example `%s` is gone", e.Name)})
		}
	}
	return out
}

func changedParts(was, is Example) []string {
	var out []string
	if was.Note != is.Note {
		out = append(out, "its note")
	}
	rows := func(what string, was, is []ExampleRows) {
		for _, r := range is {
			if !slices.Contains(was, r) {
				out = append(out, fmt.Sprintf("the rows %s `%s`", what, r.Step))
			}
		}
		for _, r := range was {
			if !slices.ContainsFunc(is, func(x ExampleRows) bool { return x.Step == r.Step }) {
				out = append(out, fmt.Sprintf("no rows %s `%s` any more", what, r.Step))
			}
		}
	}
	rows("given at", was.Given, is.Given)
	rows("expected of", was.Expect, is.Expect)
	if len(out) == 0 {
		out = append(out, "the order of its rows")
	}
	return out
}

// settingsOf is all that a step says but its name.
func settingsOf(s *Step) map[string]any {
	out := asMap(s.Settings)
	maps.Copy(out, asMap(map[string]any{"does": s.Kind, "from": s.From, "with": strings.Join(append([]string{s.With}, s.More...), ", "), "note": s.Note, "problems": s.Problems, "personal": s.Personal}))
	return out
}

func asMap(v any) map[string]any {
	text, err := json.Marshal(v)
	out := map[string]any{}
	if err == nil {
		_ = json.Unmarshal([]byte(text), &out) // settings that are no object have nothing to compare by name
	}
	maps.DeleteFunc(out, func(_ string, v any) bool { return v == nil || v == "" || v == 0.0 })
	for k, v := range out {
		if inner, ok := v.(map[string]any); ok && len(inner) == 0 {
			delete(out, k)
		}
	}
	return out
}

func plain(v any) string {
	text, _ := json.Marshal(v)
	return string(text)
}

// compare words what differs between two groups of settings.
func compare(step string, before, after map[string]any, renamed map[string]string) []Difference {
	var out []Difference
	names := slices.Sorted(maps.Keys(before))
	for name := range after {
		if _, there := before[name]; !there {
			names = append(names, name)
		}
	}
	slices.Sort(names)
	where := ""
	if step != "" {
		where = step + ": "
	}
	for _, name := range names {
		b, was := before[name]
		a, is := after[name]
		if place, ok := b.(string); ok && (name == "from" || name == "with") {
			b = followed(place, renamed)
		}
		if plain(a) == plain(b) {
			continue
		}
		d := Difference{step, "changed", ""}
		switch {
		case !was:
			d.Sentence = fmt.Sprintf("%s%s is now %s", where, name, words(a))
		case !is:
			d.Sentence = fmt.Sprintf("%s%s %s is left out", where, name, words(b))
		default:
			if told := items(where+name, b, a); told != "" {
				d.Sentence = told
			} else {
				d.Sentence = fmt.Sprintf("%s%s was %s, is %s", where, name, words(b), words(a))
			}
		}
		out = append(out, d)
	}
	return out
}

// followed gives a place under the later names of steps.
func followed(place string, renamed map[string]string) string {
	parts := strings.Split(place, ", ")
	for i, p := range parts {
		step, output := Source(p)
		if to, ok := renamed[step]; ok {
			if parts[i] = to; output != "" {
				parts[i] += "." + output
			}
		}
	}
	return strings.Join(parts, ", ")
}

// items words what differs between two lists: what came, what went.
func items(what string, before, after any) string {
	b, ok1 := before.([]any)
	a, ok2 := after.([]any)
	if !ok1 || !ok2 {
		return ""
	}
	has := func(list []any, v any) bool {
		return slices.ContainsFunc(list, func(x any) bool { return plain(x) == plain(v) })
	}
	var came, went []string
	for _, v := range a {
		if !has(b, v) {
			came = append(came, words(v))
		}
	}
	for _, v := range b {
		if !has(a, v) {
			went = append(went, words(v))
		}
	}
	switch {
	case len(came) == 0 && len(went) == 0:
		return what + " stand in another order"
	case len(went) == 0:
		return what + " take in " + strings.Join(came, "; ")
	case len(came) == 0:
		return what + " leave out " + strings.Join(went, "; ")
	}
	return fmt.Sprintf("%s had %s, have %s", what, strings.Join(went, "; "), strings.Join(came, "; "))
}

// words writes a setting's value: texts as they are, groups as name: value.
func words(v any) string {
	switch v := v.(type) {
	case string:
		return "`" + v + "`"
	case map[string]any:
		if len(v) == 2 && v["name"] != nil && v["value"] != nil { // a column that is computed
			return words(v["name"]) + " = " + words(v["value"])
		}
		var parts []string
		for _, k := range slices.Sorted(maps.Keys(v)) {
			if v[k] != nil {
				parts = append(parts, k+" "+words(v[k]))
			}
		}
		return strings.Join(parts, ", ")
	case []any:
		var parts []string
		for _, x := range v {
			parts = append(parts, words(x))
		}
		return strings.Join(parts, ", ")
	}
	return plain(v)
}
