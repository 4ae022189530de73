package match

import "math/bits"

// masks compares many texts with one by Jaro and Winkler: of the one text it
// keeps, by character, the places at which it stands, as bits. It takes texts of
// up to 64 characters of ASCII and gives what jaroWinkler gives with the other
// text first.
type masks struct {
	text []rune
	at   [128]uint64
	ok   bool
}

// set takes the text that others are compared with.
func (m *masks) set(text []rune) {
	for _, r := range m.text {
		if r < 128 {
			m.at[r] = 0
		}
	}
	m.text, m.ok = text, len(text) > 0 && len(text) <= 64
	for i, r := range text {
		if r >= 128 {
			m.ok = false
		} else if m.ok {
			m.at[r] |= 1 << i
		}
	}
}

// score is jaroWinkler(x, text).
func (m *masks) score(x []rune) float64 {
	y := m.text
	if len(x) == 0 || len(x) > 64 {
		return jaroWinkler(x, y)
	}
	window := max(max(len(x), len(y))/2-1, 0)
	var usedX, usedY uint64
	for i, r := range x {
		if r >= 128 {
			continue
		}
		places := m.at[r] &^ usedY
		if low := i - window; low > 0 {
			places &= ^uint64(0) << low
		}
		if high := i + window + 1; high < 64 {
			places &= 1<<high - 1
		}
		if places != 0 {
			usedY |= places & -places
			usedX |= 1 << i
		}
	}
	matches := bits.OnesCount64(usedX)
	if matches == 0 {
		return 0
	}
	transposed := 0
	for a, b := usedX, usedY; a != 0; a, b = a&(a-1), b&(b-1) {
		if x[bits.TrailingZeros64(a)] != y[bits.TrailingZeros64(b)] {
			transposed++
		}
	}
	n := float64(matches)
	jaro := (n/float64(len(x)) + n/float64(len(y)) + (n-float64(transposed/2))/n) / 3
	prefix := 0
	for prefix < min(len(x), len(y), 4) && x[prefix] == y[prefix] {
		prefix++
	}
	return jaro + float64(prefix)*0.1*(1-jaro)
}
