package match

import (
	"cmp"
	"slices"
)

// Index finds the entries of a reference list that are nearest to a text. Only
// entries that share enough pairs of characters with it are scored (blocking);
// it may be used by several goroutines at once.
type Index struct {
	texts  []string
	runes  [][]rune
	exact  map[string][]int32
	byGram map[uint64][]int32
	fast   bool // scores go by masks where they can
	score  func(x, y []rune) float64
	byCode map[string][]int32
	code   func(string) string
}

// Candidate is an entry and its score.
type Candidate struct {
	Entry int // place in the reference list
	Score float64
}

// NewIndex indexes reference texts, which have been folded already.
func NewIndex(a Algorithm, texts []string) (*Index, error) {
	score, err := Scorer(a)
	if err != nil {
		return nil, err
	}
	x := &Index{texts: texts, score: score, exact: map[string][]int32{}, byGram: map[uint64][]int32{}}
	x.fast = a == JaroWinkler || a == ""
	switch a {
	case Sound:
		x.code = Soundex
	case Cologne:
		x.code = ColognePhonetics
	}
	if x.code != nil {
		x.byCode = map[string][]int32{}
	}
	for i, t := range texts {
		runes := []rune(t)
		x.runes = append(x.runes, runes)
		x.exact[t] = append(x.exact[t], int32(i))
		if x.code != nil {
			c := x.code(t)
			x.byCode[c] = append(x.byCode[c], int32(i))
		}
		for _, g := range grams(runes, nil) {
			if list := x.byGram[g]; len(list) == 0 || list[len(list)-1] != int32(i) {
				x.byGram[g] = append(list, int32(i))
			}
		}
	}
	return x, nil
}

// grams lists the pairs of neighbouring characters, with an edge before the
// first and behind the last.
func grams(runes []rune, into []uint64) []uint64 {
	last := rune(1)
	for _, r := range runes {
		into = append(into, uint64(last)<<32|uint64(r))
		last = r
	}
	return append(into, uint64(last)<<32|1)
}

// Search is one goroutine's way into an index: it keeps scratch space.
type Search struct {
	*Index
	seen   []int32 // by entry: pairs shared
	touch  []int32
	grams  []uint64
	counts []int
	masks  masks
	picked []int32
	edge   []int32
}

// Searcher makes a Search.
func (x *Index) Searcher() *Search { return &Search{Index: x, seen: make([]int32, len(x.texts))} }

// maxScored is how many entries are scored at most for one text: those that
// share most pairs with it.
const maxScored = 256

// Nearest gives the best entries for a text, best first, ties in the order of
// the reference list; at most n, and none below the least score. Exact entries
// score 1.
func (s *Search) Nearest(text string, n int, least float64) []Candidate {
	runes := []rune(text)
	s.grams = grams(runes, s.grams[:0])
	s.touch = s.touch[:0]
	// Rare pairs first: pairs that stand in very many entries tell little once
	// some rarer ones were seen.
	slices.SortFunc(s.grams, func(a, b uint64) int {
		return cmp.Or(cmp.Compare(len(s.byGram[a]), len(s.byGram[b])), cmp.Compare(a, b))
	})
	for i, g := range s.grams {
		entries := s.byGram[g]
		if i > max(len(s.grams)/2, 3) && len(entries) > commonPair {
			break
		}
		for _, e := range entries {
			if s.seen[e] == 0 {
				s.touch = append(s.touch, e)
			}
			s.seen[e]++
		}
	}
	for _, e := range s.byCode[s.codeOf(text)] {
		if s.seen[e] == 0 {
			s.touch = append(s.touch, e)
		}
		s.seen[e] += 1 << 16 // equal codes come first
	}
	scored := s.most()
	if s.fast {
		s.masks.set(runes)
	}
	var out []Candidate
	for _, e := range scored {
		score := 0.0
		if s.fast && s.masks.ok {
			score = s.masks.score(s.runes[e])
		} else {
			score = s.score(s.runes[e], runes)
		}
		if score >= least {
			out = append(out, Candidate{int(e), score})
		}
	}
	for _, e := range s.touch {
		s.seen[e] = 0
	}
	slices.SortFunc(out, func(a, b Candidate) int { return cmp.Or(cmp.Compare(b.Score, a.Score), cmp.Compare(a.Entry, b.Entry)) })
	return out[:min(n, len(out))]
}

// commonPair is in how many entries a pair of characters must stand to be passed
// over.
const commonPair = 400

// most picks the entries that share most pairs with the text: at least half as
// many as the one that shares most, and of those that share as many as the last
// one taken the first of the reference list.
func (s *Search) most() []int32 {
	s.counts = s.counts[:0]
	for _, e := range s.touch {
		n := int(min(s.seen[e], 1<<10))
		for len(s.counts) <= n {
			s.counts = append(s.counts, 0)
		}
		s.counts[n]++
	}
	cut, above := len(s.counts)-1, 0
	least := cut / 2
	for ; cut > least && above+s.counts[cut] <= maxScored; cut-- {
		above += s.counts[cut]
	}
	s.picked = s.picked[:0]
	s.edge = s.edge[:0]
	for _, e := range s.touch {
		switch n := int(min(s.seen[e], 1<<10)); {
		case n > cut:
			s.picked = append(s.picked, e)
		case n == cut:
			s.edge = append(s.edge, e)
		}
	}
	if room := maxScored - above; len(s.edge) > room {
		slices.Sort(s.edge)
		s.edge = s.edge[:room]
	}
	return append(s.picked, s.edge...)
}

func (s *Search) codeOf(text string) string {
	if s.code == nil {
		return ""
	}
	return s.code(text)
}

// Exact lists the entries equal to a text, in the order of the reference list.
func (x *Index) Exact(text string) []int32 { return x.exact[text] }
