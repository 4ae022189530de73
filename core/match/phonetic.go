package match

import "strings"

// Soundex codes a name by the rules of the American archives: its first letter
// and three digits; h and w don't part equal digits, vowels do.
func Soundex(name string) string {
	const digits = "01230120022455012623010202" // of a to z; 0 is not coded
	var code []byte
	last := byte('0')
	for _, r := range strings.ToUpper(Fold(name)) {
		if r < 'A' || r > 'Z' {
			continue
		}
		d := digits[r-'A']
		if len(code) == 0 {
			code = append(code, byte(r))
			last = d
			continue
		}
		if d != '0' && d != last {
			if code = append(code, d); len(code) == 4 {
				return string(code)
			}
		}
		if r != 'H' && r != 'W' {
			last = d
		}
	}
	for len(code) > 0 && len(code) < 4 {
		code = append(code, '0')
	}
	return string(code)
}

// ColognePhonetics codes a name by Postel's rules of 1969, made for German
// names: digits of any length, doubles and inner zeros left out.
func ColognePhonetics(name string) string {
	var letters []rune
	for _, r := range strings.ToUpper(name) {
		switch r {
		case 'Ä':
			r = 'A'
		case 'Ö':
			r = 'O'
		case 'Ü':
			r = 'U'
		case 'ß', 'ẞ':
			r = 'S'
		}
		for _, f := range strings.ToUpper(Fold(string(r))) {
			if f >= 'A' && f <= 'Z' {
				letters = append(letters, f)
			}
		}
	}
	at := func(i int) rune {
		if i < 0 || i >= len(letters) {
			return 0
		}
		return letters[i]
	}
	in := func(r rune, set string) bool { return r != 0 && strings.ContainsRune(set, r) }
	var code []byte
	last := byte(0)
	for i, r := range letters {
		digits := ""
		switch {
		case in(r, "AEIJOUY"):
			digits = "0"
		case r == 'H':
			continue
		case r == 'B', r == 'P' && at(i+1) != 'H':
			digits = "1"
		case in(r, "DT") && !in(at(i+1), "CSZ"):
			digits = "2"
		case in(r, "FVWP"):
			digits = "3"
		case in(r, "GKQ"),
			r == 'C' && i == 0 && in(at(1), "AHKLOQRUX"),
			r == 'C' && i > 0 && in(at(i+1), "AHKOQUX") && !in(at(i-1), "SZ"):
			digits = "4"
		case r == 'X' && !in(at(i-1), "CKQ"):
			digits = "48"
		case r == 'L':
			digits = "5"
		case in(r, "MN"):
			digits = "6"
		case r == 'R':
			digits = "7"
		default:
			digits = "8"
		}
		for _, d := range []byte(digits) {
			if d != last && (d != '0' || len(code) == 0) {
				code = append(code, d)
			}
			last = d
		}
	}
	return string(code)
}
