package expr

import (
	"strings"
	"unicode/utf8"

	"welkin/core/batch"
	"welkin/core/match"
)

func scored(a match.Algorithm) kernel {
	score, err := match.Scorer(a)
	if err != nil {
		panic(err) // the algorithm is one of this package's own list
	}
	return fn2(func(x, y string) float64 { return score([]rune(x), []rune(y)) })
}

// matchFunctions are Welkin's own, where SQL has none.
var matchFunctions = []Function{
	{Name: "fold_accents", Group: "names", Args: kinds(kText), Gives: kText, Help: "letters without accents (Welkin's own)", Example: "fold_accents('Høyfjell') → Hoyfjell", call: fn1(match.Fold)},
	{Name: "tidy_name", Group: "names", Args: kinds(kText), Gives: kText, Help: "a plain name: small letters, no accents, underscores for the rest (Welkin's own)", Example: "tidy_name(' Guest Name') → guest_name", call: fn1(match.TidyName)},
	{Name: "squeeze", Group: "names", Args: kinds(kText), Gives: kText, Help: "blanks at the ends taken off and inner ones brought to one (Welkin's own)", Example: "squeeze('  a   b ') → a b", call: fn1(func(s string) string { return strings.Join(strings.Fields(s), " ") })},
	{Name: "similarity_jaro_winkler", Group: "names", Args: kinds(kText, kText), Gives: kFloat, Help: "how alike two names are, 0 to 1, by common letters and beginnings (Welkin's own)", Example: "similarity_jaro_winkler('hut', 'hut') → 1", call: scored(match.JaroWinkler)},
	{Name: "similarity_levenshtein", Group: "names", Args: kinds(kText, kText), Gives: kFloat, Help: "how alike two texts are, 0 to 1, by the edits between them (Welkin's own)", Example: "similarity_levenshtein('hut', 'hat') > 0.66 → true", call: scored(match.Levenshtein)},
	{Name: "similarity_damerau", Group: "names", Args: kinds(kText, kText), Gives: kFloat, Help: "the same, a swap of neighbours being one edit (Welkin's own)", Example: "similarity_damerau('hut', 'htu') > 0.66 → true", call: scored(match.Damerau)},
	{Name: "similarity_bigrams", Group: "names", Args: kinds(kText, kText), Gives: kFloat, Help: "how alike two texts are, 0 to 1, by pairs of letters (Welkin's own)", Example: "similarity_bigrams('night', 'nacht') → 0.25", call: scored(match.Bigrams)},
	{Name: "levenshtein", Group: "names", Args: kinds(kText, kText), Gives: kInt, Help: "number of edits between two texts (Welkin's own)", Example: "levenshtein('kitten', 'sitting') → 3", call: try2(func(x, y string) (int64, *batch.Fault) {
		if utf8.RuneCountInString(x)*utf8.RuneCountInString(y) > 1<<24 {
			return 0, batch.Faultf("text too long", "the texts are too long to be compared letter by letter")
		}
		return int64(match.LevenshteinDistance(x, y)), nil
	})},
	{Name: "soundex", Group: "names", Args: kinds(kText), Gives: kText, Help: "how an English name sounds: a letter and three digits (Welkin's own)", Example: "soundex('Robert') → R163", call: fn1(match.Soundex)},
	{Name: "cologne_phonetics", Group: "names", Args: kinds(kText), Gives: kText, Help: "how a German name sounds, as digits (Welkin's own)", Example: "cologne_phonetics('Meyer') → 67", call: fn1(match.ColognePhonetics)},
}
