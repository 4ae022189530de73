// Package personal finds personal data in texts: patterns with their check
// digits (patterns.go, national.go) and columns whose heading says that they
// hold some (heading.go).
package personal

import (
	"regexp"
	"slices"
	"strings"
)

// Kind names a kind of personal data.
type Kind string

// The kinds that are found in values.
const (
	Email    Kind = "e-mail address"
	Phone    Kind = "phone number"
	Bank     Kind = "bank account"
	Card     Kind = "payment card"
	National Kind = "national number"
	Network  Kind = "network address"
)

// The kinds that are found by a column's heading alone.
const (
	Name   Kind = "name"
	Street Kind = "postal address"
	Birth  Kind = "date of birth"
)

// Kinds lists all kinds in teaching order.
func Kinds() []Kind {
	return []Kind{Email, Phone, Bank, Card, National, Network, Name, Street, Birth}
}

// Finding is a part of a text that is personal.
type Finding struct {
	Kind     Kind
	From, To int    // bytes of the text
	Detail   string // such as the country of a national number
}

// pattern is a form of personal data: what it looks like, and whether its check
// digits hold.
type pattern struct {
	kind   Kind
	detail string
	form   *regexp.Regexp
	holds  func(match string) bool // nil when the form is enough
}

// Find lists the personal data in a text: in order, without overlaps, the kind
// that proves most first.
func Find(text string, wanted []Kind) []Finding {
	var out []Finding
	if !worthALook(text) {
		return nil
	}
	for _, p := range patterns {
		if len(wanted) > 0 && !slices.Contains(wanted, p.kind) {
			continue
		}
		for _, m := range p.form.FindAllStringIndex(text, -1) {
			if !alone(text, m[0], m[1]) || p.holds != nil && !p.holds(text[m[0]:m[1]]) {
				continue
			}
			if !slices.ContainsFunc(out, func(f Finding) bool { return m[0] < f.To && f.From < m[1] }) {
				out = append(out, Finding{p.kind, m[0], m[1], p.detail})
			}
		}
	}
	slices.SortFunc(out, func(a, b Finding) int { return a.From - b.From })
	return out
}

// worthALook is quick: personal data has an @, or at least six digits, or the
// colons of a network address.
func worthALook(text string) bool {
	digits, colons := 0, 0
	for i := range len(text) {
		switch c := text[i]; {
		case c >= '0' && c <= '9':
			digits++
		case c == ':':
			colons++
		case c == '@':
			return true
		}
	}
	return digits >= 6 || colons > 2 || digits >= 4 && strings.Count(text, ".") >= 3
}

// alone tells whether a match is no part of a longer word or number.
func alone(text string, from, to int) bool {
	word := func(c byte) bool {
		return c >= '0' && c <= '9' || c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c == '_' || c >= 0x80
	}
	return (from == 0 || !word(text[from-1])) && (to == len(text) || !word(text[to]))
}

// Replace changes every finding in a text.
func Replace(text string, found []Finding, with func(part string) string) string {
	var out strings.Builder
	last := 0
	for _, f := range found {
		out.WriteString(text[last:f.From])
		out.WriteString(with(text[f.From:f.To]))
		last = f.To
	}
	return out.String() + text[last:]
}
