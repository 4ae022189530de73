package profile

import (
	"cmp"
	"slices"
	"strings"
	"unicode"
)

// frequentKept is how many values are counted at once, frequentShown how many
// are told.
const (
	frequentKept  = 512
	frequentShown = 20
	longestText   = 200 // bytes of a value that are kept
)

// frequent counts the most frequent values in bounded memory (the space-saving
// algorithm of Metwally, Agrawal and El Abbadi, 2005): a new value takes the
// place of the least frequent one and its count, which is its possible error.
type frequent struct {
	most   int
	counts map[string]*counted
	lossy  bool // whether a value was pushed out
	floor  int64
}

type counted struct{ n, err int64 }

func newFrequent(most int) *frequent { return &frequent{most: most, counts: map[string]*counted{}} }

func (f *frequent) add(text string) {
	if len(text) > longestText {
		text = strings.ToValidUTF8(text[:longestText], "") + "…"
	}
	if c := f.counts[text]; c != nil {
		c.n++
		return
	}
	if len(f.counts) >= 2*f.most {
		f.shrink()
	}
	f.counts[strings.Clone(text)] = &counted{f.floor + 1, f.floor}
}

// shrink keeps the more frequent half; what comes anew may have been there up to
// as often as the most frequent value that goes.
func (f *frequent) shrink() {
	all := make([]int64, 0, len(f.counts))
	for _, c := range f.counts {
		all = append(all, c.n)
	}
	slices.SortFunc(all, func(a, b int64) int { return cmp.Compare(b, a) })
	f.lossy, f.floor = true, all[f.most]
	for text, c := range f.counts {
		if c.n <= f.floor {
			delete(f.counts, text)
		}
	}
}

// exact gives the number of different values while none was pushed out.
func (f *frequent) exact() (int64, bool) { return int64(len(f.counts)), !f.lossy }

func (f *frequent) top(n int) []Value {
	out := make([]Value, 0, len(f.counts))
	for text, c := range f.counts {
		out = append(out, Value{text, c.n, c.err})
	}
	slices.SortFunc(out, func(a, b Value) int { return cmp.Or(cmp.Compare(b.Rows, a.Rows), strings.Compare(a.Text, b.Text)) })
	return out[:min(n, len(out))]
}

// shape says what a text looks like: runs of letters as one x or X, runs of
// digits as one 9.
func shape(text string) string {
	var out strings.Builder
	last := rune(0)
	for _, r := range text {
		switch {
		case unicode.IsDigit(r):
			r = '9'
		case unicode.IsUpper(r):
			r = 'X'
		case unicode.IsLetter(r):
			r = 'x'
		}
		if r != last || r != '9' && r != 'x' && r != 'X' {
			out.WriteRune(r)
		}
		if last = r; out.Len() > 40 {
			return out.String() + "…"
		}
	}
	return out.String()
}
