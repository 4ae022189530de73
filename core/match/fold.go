package match

import (
	"strings"
	"unicode"

	"golang.org/x/text/unicode/norm"
)

// plain are letters whose mark is no accent that could be taken off.
var plain = strings.NewReplacer("ß", "ss", "ẞ", "SS", "æ", "ae", "Æ", "AE", "œ", "oe", "Œ", "OE", "ø", "o", "Ø", "O", "đ", "d", "Đ", "D",
	"ð", "d", "Ð", "D", "þ", "th", "Þ", "TH", "ł", "l", "Ł", "L", "ħ", "h", "Ħ", "H", "ı", "i")

// Fold takes accents off letters: Ångström becomes Angstrom, Øst becomes Ost.
func Fold(s string) string {
	ascii := true
	for i := range len(s) {
		if s[i] >= 0x80 {
			ascii = false
			break
		}
	}
	if ascii {
		return s
	}
	return strings.Map(func(r rune) rune {
		if unicode.Is(unicode.Mn, r) {
			return -1
		}
		return r
	}, norm.NFD.String(plain.Replace(s)))
}

// Folding says which differences don't count.
type Folding struct {
	Case, Accents, Punctuation bool
}

// Apply brings a text to the form that is compared.
func (f Folding) Apply(s string) string {
	if f.Accents {
		s = Fold(s)
	}
	if f.Case {
		s = strings.ToLower(s)
	}
	if f.Punctuation {
		s = strings.Join(strings.FieldsFunc(s, func(r rune) bool { return !unicode.IsLetter(r) && !unicode.IsDigit(r) }), " ")
	}
	return s
}

// TidyName makes a plain name of any text: lower case, accents folded, blanks
// and punctuation to one underscore, a leading digit prefixed.
func TidyName(s string) string {
	var out strings.Builder
	gap := false
	for _, r := range strings.ToLower(Fold(s)) {
		if !unicode.IsLetter(r) && !unicode.IsDigit(r) {
			gap = out.Len() > 0
			continue
		}
		if out.Len() == 0 && unicode.IsDigit(r) {
			out.WriteByte('_')
		}
		if gap {
			out.WriteByte('_')
			gap = false
		}
		out.WriteRune(r)
	}
	return out.String()
}
