package sheet

import (
	"fmt"
	"slices"
)

// checkGraph finds steps without a name, twice the same name, inputs that are
// not there, and circles.
func (s *Sheet) checkGraph(kinds Kinds) []Problem {
	var problems []Problem
	at := func(st *Step, path, format string, args ...any) {
		p := Problem{Step: st.ID, Path: path, Sentence: fmt.Sprintf(format, args...)}
		p.Line, p.Column = st.At(path)
		problems = append(problems, p)
	}
	seen := map[string]bool{}
	ids := make([]string, 0, len(s.Steps))
	for _, st := range s.Steps {
		ids = append(ids, st.ID)
	}
	for i, st := range s.Steps {
		switch {
		case st.ID == "":
			at(st, "", "step %d has no name; write `step: name`", i+1)
		case !idPattern.MatchString(st.ID):
			at(st, "step", "a step's name begins with a letter and holds letters, digits, blanks, - and _; %q does not", st.ID)
		case seen[st.ID]:
			at(st, "step", "two steps are called %q; give one of them another name", st.ID)
		}
		seen[st.ID] = true
		if st.Problems != "" && st.Problems != SetAside && st.Problems != Stop {
			at(st, "problems", "problems is %q or %q, not %q", SetAside, Stop, st.Problems)
		}
		if st.Settings == nil {
			continue
		}
		least, most := kinds.Ports(st.Kind)
		for n, in := range []struct{ key, id string }{{"from", st.From}, {"with", st.With}} {
			switch id, _ := Source(in.id); {
			case n < least && in.id == "":
				at(st, "", "%s needs rows; write `%s:` with the step they come from", st.Kind, in.key)
			case n >= most && in.id != "":
				at(st, in.key, "%s takes no rows by `%s:`; leave it out", st.Kind, in.key)
			case in.id != "" && s.Step(id) == nil:
				at(st, in.key, "there is no step %q%s", id, didYouMean(id, ids))
			}
		}
		if len(st.More) > 0 && most <= 2 {
			at(st, "with", "%s takes rows of no more than %d steps", st.Kind, most)
			continue
		}
		for n, place := range st.More {
			if id, _ := Source(place); s.Step(id) == nil {
				at(st, fmt.Sprintf("with[%d]", n+1), "there is no step %q%s", id, didYouMean(id, ids))
			}
		}
	}
	problems = append(problems, s.checkParts(ids)...)
	if len(problems) == 0 {
		if _, circle := s.Order(); circle != nil {
			at(circle, "from", "the rows of %q would come from itself; give it another input", circle.ID)
		}
	}
	return problems
}

// checkParts finds stretches and examples that name steps which are not there.
func (s *Sheet) checkParts(ids []string) []Problem {
	var problems []Problem
	at := func(path, format string, args ...any) {
		problems = append(problems, Problem{Path: path, Sentence: fmt.Sprintf(format, args...), Warning: true})
	}
	end := -1 // the last line of the stretches so far
	for i, st := range s.Stretches {
		first, last := slices.Index(ids, st.First), slices.Index(ids, st.Last)
		path := fmt.Sprintf("stretches[%d]", i)
		switch {
		case first < 0:
			at(path+".first", "the stretch %q begins with %q, which is no step%s", st.Name, st.First, didYouMean(st.First, ids))
		case last < 0:
			at(path+".last", "the stretch %q ends with %q, which is no step%s", st.Name, st.Last, didYouMean(st.Last, ids))
		case last < first:
			at(path, "the stretch %q ends before it begins: %s stands after %s", st.Name, st.First, st.Last)
		case first <= end:
			at(path, "the stretch %q begins at %s, which is in another one already", st.Name, st.First)
		default:
			end = last
		}
	}
	for i, e := range s.Examples {
		for kind, list := range map[string][]ExampleRows{"given": e.Given, "expect": e.Expect} {
			for k, rows := range list {
				if id, _ := Source(rows.Step); !slices.Contains(ids, id) {
					at(fmt.Sprintf("examples[%d].%s[%d].step", i, kind, k), "the example %q has rows of %q, which is no step%s", e.Name, rows.Step, didYouMean(id, ids))
				}
			}
		}
	}
	return problems
}

// Order gives the steps so that each comes after its inputs, otherwise in the
// sheet's order. circle is a step whose rows depend on itself, or nil.
func (s *Sheet) Order() (order []*Step, circle *Step) {
	const (
		open = iota + 1
		closed
	)
	state := map[string]int{}
	var visit func(st *Step)
	visit = func(st *Step) {
		if st == nil || state[st.ID] == closed {
			return
		}
		if state[st.ID] == open {
			circle = st
			return
		}
		state[st.ID] = open
		for _, in := range st.Inputs() {
			id, _ := Source(in)
			visit(s.Step(id))
		}
		state[st.ID] = closed
		order = append(order, st)
	}
	for _, st := range s.Steps {
		visit(st)
	}
	return order, circle
}

// UpTo gives the part of the sheet that step id depends on, with itself, in the
// sheet's order. It is for trials and reads the settings of s, not copies.
func (s *Sheet) UpTo(id string) *Sheet {
	needed := map[string]bool{}
	var mark func(id string)
	mark = func(id string) {
		if st := s.Step(id); st != nil && !needed[id] {
			needed[id] = true
			for _, in := range st.Inputs() {
				from, _ := Source(in)
				mark(from)
			}
		}
	}
	mark(id)
	part := *s
	part.Steps, part.Engine = nil, "" // where it runs is said of the whole
	for _, st := range s.Steps {
		if needed[st.ID] {
			part.Steps = append(part.Steps, st)
		}
	}
	return &part
}
