// Package match compares names: fold.go brings them to a common writing,
// score.go measures how alike two of them are, phonetic.go codes how they
// sound, and index.go finds the nearest of many without comparing them all.
package match

import "fmt"

// Algorithm is a way to score two texts from 0 (nothing alike) to 1 (the same).
type Algorithm string

// The algorithms.
const (
	JaroWinkler Algorithm = "jaro-winkler"
	Levenshtein Algorithm = "levenshtein"
	Damerau     Algorithm = "damerau-levenshtein"
	Bigrams     Algorithm = "dice on bigrams"
	Sound       Algorithm = "soundex"
	Cologne     Algorithm = "cologne phonetics"
)

// Algorithms lists them in teaching order.
func Algorithms() []Algorithm {
	return []Algorithm{JaroWinkler, Levenshtein, Damerau, Bigrams, Sound, Cologne}
}

// Scorer gives the function of an algorithm.
func Scorer(a Algorithm) (func(x, y []rune) float64, error) {
	switch a {
	case JaroWinkler, "":
		return jaroWinkler, nil
	case Levenshtein:
		return func(x, y []rune) float64 { return ratio(levenshtein(x, y), len(x), len(y)) }, nil
	case Damerau:
		return func(x, y []rune) float64 { return ratio(damerau(x, y), len(x), len(y)) }, nil
	case Bigrams:
		return dice, nil
	case Sound:
		return codes(Soundex), nil
	case Cologne:
		return codes(ColognePhonetics), nil
	}
	return nil, fmt.Errorf("there is no algorithm %q; use one of %v", a, Algorithms())
}

// Score compares two texts.
func Score(a Algorithm, x, y string) (float64, error) {
	fn, err := Scorer(a)
	if err != nil {
		return 0, err
	}
	return fn([]rune(x), []rune(y)), nil
}

// codes scores 1 for equal phonetic codes, and less the more of them differs.
func codes(code func(string) string) func(x, y []rune) float64 {
	return func(x, y []rune) float64 {
		a, b := code(string(x)), code(string(y))
		if a == b {
			return 1
		}
		return ratio(levenshtein([]rune(a), []rune(b)), len(a), len(b))
	}
}
