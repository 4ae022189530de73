package step

import (
	"cmp"
	"fmt"
	"math"
	"slices"

	"welkin/core/match"
)

// nameRule says when two names are the same.
type nameRule struct {
	algorithm             match.Algorithm
	near, unclear, margin float64
	fold                  match.Folding
}

// What a comparison may pass over.
var ignorable = []string{"case", "accents", "punctuation", "nothing"}

func (s *MatchNames) choices() map[string][]string { return map[string][]string{"ignore": ignorable} }

// rule gives the settings with their usual values; mistakes go to problem.
func (s *MatchNames) rule(problem func(path, format string, args ...any)) nameRule {
	r := nameRule{algorithm: s.Algorithm, near: s.Near, unclear: s.Unclear, margin: s.Margin}
	if r.algorithm == "" {
		r.algorithm = match.JaroWinkler
	}
	if r.near == 0 {
		r.near = 0.92
	}
	if r.unclear == 0 {
		r.unclear = min(0.8, r.near)
	}
	if s.Margin == 0 {
		r.margin = 0.02
	}
	if r.unclear > r.near || r.near > 1 || r.unclear < 0 || r.margin < 0 {
		problem("near", "scores go from 0 to 1 and unclear begins below near; these are %g and %g", r.unclear, r.near)
	}
	if _, err := match.Scorer(s.Algorithm); err != nil {
		problem("algorithm", "%s", err)
	}
	ignore := s.Ignore
	if ignore == nil {
		ignore = []string{"case", "accents", "punctuation"}
	}
	for i, what := range ignore {
		switch what {
		case "case":
			r.fold.Case = true
		case "accents":
			r.fold.Accents = true
		case "punctuation":
			r.fold.Punctuation = true
		case "nothing":
		default:
			problem(fmt.Sprintf("ignore[%d]", i), "case, accents, punctuation or nothing can be ignored, not %q", what)
		}
	}
	return r
}

// nameIndex is a reference list that has been read.
type nameIndex struct {
	nameRule
	index   *match.Index
	entries []int32 // by entry of the index: row of the reference
	decided map[string]*string
}

// read takes the n names of a reference and the pairs decided.
func (l *nameIndex) read(n int, name func(i int) (string, bool), decided []DecidedPair) error {
	var texts []string
	for i := range n {
		if text, ok := name(i); ok {
			texts, l.entries = append(texts, l.fold.Apply(text)), append(l.entries, int32(i))
		}
	}
	for _, d := range decided {
		var name *string
		if d.Name != "" {
			name = &d.Name
		}
		l.decided[l.fold.Apply(d.Value)] = name
	}
	var err error
	l.index, err = match.NewIndex(l.algorithm, texts)
	return err
}

// found is what a value came to. What is too far has its nearest names too.
type found struct {
	branch int
	row    int32 // of the reference, -1 for none
	score  float64
	second int32
	next   float64 // the second's score
}

// look decides on one value.
func (o *nameIndex) look(s *match.Search, value string) found {
	if name, ok := o.decided[value]; ok {
		if name == nil {
			return found{3, -1, 0, -1, 0}
		}
		if exact := o.index.Exact(o.fold.Apply(*name)); len(exact) > 0 {
			return found{1, o.entries[exact[0]], 1, -1, 0}
		}
	}
	if exact := o.index.Exact(value); len(exact) > 0 {
		f := found{0, o.entries[exact[0]], 1, -1, 0}
		if len(exact) > 1 { // the same name twice: nobody knows which is meant
			f.branch, f.second = 2, o.entries[exact[1]]
		}
		return f
	}
	best := s.Nearest(value, 2, 0)
	if len(best) == 0 {
		return found{3, -1, 0, -1, 0}
	}
	f := found{3, o.entries[best[0].Entry], best[0].Score, -1, 0}
	close := false
	if len(best) > 1 {
		f.second, f.next = o.entries[best[1].Entry], best[1].Score
		close = best[0].Score-best[1].Score < o.margin
	}
	switch {
	case f.score >= o.near && !close:
		f.branch = 1
	case f.score >= o.unclear:
		f.branch = 2
	}
	return f
}

// Pair is a value and the name of a reference that is nearest to it.
type Pair struct {
	Value   string  `json:"value"`
	Rows    int     `json:"rows" doc:"How many rows have the value."`
	Name    string  `json:"name,omitempty" doc:"The nearest name; empty when there is none at all."`
	Score   float64 `json:"score"`
	Second  string  `json:"second,omitempty" doc:"The second best name."`
	Next    float64 `json:"next,omitempty" doc:"The score of the second best."`
	Branch  string  `json:"branch" doc:"Where the settings send it: exact, near, unclear or too far."`
	Decided bool    `json:"decided,omitempty" doc:"A person has looked at it."`
}

// Pairs gives for each value that is not exactly in a reference the names nearest
// to it, those first that lie closest to a threshold: nearness to a score from
// which something else happens, or to the margin. Pairs that a person decided
// come last. The values of rows that have one are given as they stand.
func (s *MatchNames) Pairs(values, names []string) ([]Pair, error) {
	var wrong error
	rule := s.rule(func(_, format string, args ...any) { wrong = cmp.Or(wrong, fmt.Errorf(format, args...)) })
	if wrong != nil {
		return nil, wrong
	}
	l := &nameIndex{nameRule: rule, decided: map[string]*string{}}
	if err := l.read(len(names), func(i int) (string, bool) { return names[i], true }, s.Decided); err != nil {
		return nil, err
	}
	search := l.index.Searcher()
	at := map[string]int{}
	var out []Pair
	for _, v := range values {
		text := l.fold.Apply(v)
		if k, ok := at[text]; ok {
			if k >= 0 {
				out[k].Rows++
			}
			continue
		}
		_, decided := l.decided[text]
		f := l.look(search, text)
		at[text] = -1
		if f.branch == 0 {
			continue
		}
		p := Pair{Value: v, Rows: 1, Score: f.score, Next: f.next, Decided: decided, Branch: branchNames[f.branch]}
		if f.row >= 0 {
			p.Name = names[f.row]
		}
		if f.second >= 0 {
			p.Second = names[f.second]
		}
		at[text] = len(out)
		out = append(out, p)
	}
	slices.SortStableFunc(out, func(a, b Pair) int { return cmp.Compare(l.doubt(a), l.doubt(b)) })
	return out, nil
}

// doubt is how far a pair is from being something else, 0 for not at all.
func (l *nameIndex) doubt(p Pair) float64 {
	if p.Decided {
		return 2
	}
	d := min(math.Abs(p.Score-l.near), math.Abs(p.Score-l.unclear))
	if p.Score >= l.unclear && p.Second != "" {
		d = min(d, math.Abs(p.Score-p.Next-l.margin))
	}
	return d
}
