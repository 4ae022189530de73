package match_test

import (
	"fmt"
	"testing"

	"github.com/adrg/strutil/metrics"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"welkin/core/match"
)

func score(t require.TestingT, a match.Algorithm, x, y string) float64 {
	v, err := match.Score(a, x, y)
	require.NoError(t, err)
	return v
}

// TestScoresArePublishedOnes holds the pairs with which the algorithms were
// published and are usually taught.
func TestScoresArePublishedOnes(t *testing.T) {
	for _, c := range []struct {
		a    match.Algorithm
		x, y string
		want float64
	}{
		{match.JaroWinkler, "MARTHA", "MARHTA", 0.9611}, {match.JaroWinkler, "DIXON", "DICKSONX", 0.8133}, {match.JaroWinkler, "DWAYNE", "DUANE", 0.84},
		{match.JaroWinkler, "", "", 1}, {match.JaroWinkler, "a", "", 0}, {match.JaroWinkler, "JELLYFISH", "SMELLYFISH", 0.8963},
		{match.Levenshtein, "kitten", "sitting", 1 - 3.0/7}, {match.Levenshtein, "saturday", "sunday", 1 - 3.0/8}, {match.Levenshtein, "", "abc", 0},
		{match.Damerau, "ca", "ac", 0.5}, {match.Damerau, "ca", "abc", 0}, {match.Damerau, "saltmere", "salmtere", 1 - 1.0/8},
		{match.Bigrams, "night", "nacht", 0.25}, {match.Bigrams, "france", "french", 0.4}, {match.Bigrams, "a", "a", 1},
		{match.Sound, "Robert", "Rupert", 1}, {match.Cologne, "Meyer", "Maier", 1},
	} {
		assert.InDelta(t, c.want, score(t, c.a, c.x, c.y), 0.00006, "%s: %s, %s", c.a, c.x, c.y)
	}
	_, err := match.Score("wibble", "a", "b")
	assert.ErrorContains(t, err, "there is no algorithm")
}

func TestPhoneticCodesArePublishedOnes(t *testing.T) {
	for name, want := range map[string]string{"Robert": "R163", "Rupert": "R163", "Rubin": "R150", "Ashcraft": "A261", "Ashcroft": "A261", "Tymczak": "T522", "Pfister": "P236", "Honeyman": "H555", "Lee": "L000", "": "", "Ørsted": "O623"} {
		assert.Equal(t, want, match.Soundex(name), name)
	}
	for name, want := range map[string]string{"Wikipedia": "3412", "Müller-Lüdenscheidt": "65752682", "Breschnew": "17863", "Meyer": "67", "Aachen": "046", "Heinz": "068", "": ""} {
		assert.Equal(t, want, match.ColognePhonetics(name), name)
	}
}

var word = rapid.StringOfN(rapid.SampledFrom([]rune("abcdeéøh ")), 0, 9, -1)

// TestScoresAgreeWithAnIndependentLibrary compares with the usual package.
func TestScoresAgreeWithAnIndependentLibrary(t *testing.T) {
	lev := metrics.NewLevenshtein()
	rapid.Check(t, func(t *rapid.T) {
		x, y := word.Draw(t, "x"), word.Draw(t, "y")
		if x+y == "" {
			return // it divides by nothing then
		}
		assert.InDelta(t, lev.Compare(x, y), score(t, match.Levenshtein, x, y), 1e-9, "%q %q", x, y)
	})
}

func TestScoresAreBetweenNoughtAndOneAndTheSameBothWays(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		x, y := word.Draw(t, "x"), word.Draw(t, "y")
		for _, a := range match.Algorithms() {
			v := score(t, a, x, y)
			require.True(t, v >= 0 && v <= 1, "%s %q %q %v", a, x, y, v)
			require.InDelta(t, 1, score(t, a, x, x), 1e-12, "%s %q", a, x)
			if a != match.JaroWinkler { // its windows are greedy from the left
				require.InDelta(t, v, score(t, a, y, x), 1e-12, "%s %q %q", a, x, y)
			}
		}
		require.LessOrEqual(t, score(t, match.Levenshtein, x, y), score(t, match.Damerau, x, y)+1e-12)
	})
}

func TestNamesAreFoldedAndTidied(t *testing.T) {
	for text, want := range map[string]string{"Ångström": "Angstrom", "Øst-Straße": "Ost-Strasse", "plain": "plain", "Łódź": "Lodz"} {
		assert.Equal(t, want, match.Fold(text))
	}
	for text, want := range map[string]string{"  Guest Name ": "guest_name", "Nächte (gesamt)": "nachte_gesamt", "2026 beds": "_2026_beds", "a--b__c": "a_b_c", "": "", "%": "", "Hut/No.": "hut_no"} {
		assert.Equal(t, want, match.TidyName(text), text)
	}
	f := match.Folding{Case: true, Accents: true, Punctuation: true}
	assert.Equal(t, "st olaf s gate", f.Apply("St. Ölaf's  Gate"))
}

// TestBlockingFindsWhatComparingAllFinds: the best entry above 0.85 is never
// lost to blocking.
func TestBlockingFindsWhatComparingAllFinds(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		texts := rapid.SliceOfN(word, 1, 60).Draw(t, "texts")
		query := word.Draw(t, "query")
		for _, a := range []match.Algorithm{match.JaroWinkler, match.Levenshtein, match.Damerau, match.Bigrams} {
			best, at := -1.0, -1
			for i, text := range texts {
				if v := score(t, a, text, query); v > best { // the reference's side first
					best, at = v, i
				}
			}
			index, err := match.NewIndex(a, texts)
			require.NoError(t, err)
			got := index.Searcher().Nearest(query, 2, 0.85)
			if best < 0.85 {
				require.Empty(t, got)
				continue
			}
			require.NotEmpty(t, got, "%s %q in %q", a, query, texts)
			require.Equal(t, at, got[0].Entry)
			require.InDelta(t, best, got[0].Score, 1e-12)
		}
	})
}

func TestTiesKeepTheOrderOfTheReference(t *testing.T) {
	index, err := match.NewIndex(match.Levenshtein, []string{"saltmare", "saltmere", "saltmire", "saltmere"})
	require.NoError(t, err)
	got := index.Searcher().Nearest("saltmxre", 9, 0.8)
	require.Len(t, got, 4)
	for i, c := range got {
		assert.Equal(t, i, c.Entry)
	}
	assert.Equal(t, []int32{1, 3}, index.Exact("saltmere"))
}

func BenchmarkNearest(b *testing.B) {
	var texts []string
	for i := range 10_000 {
		texts = append(texts, fmt.Sprintf("%s%s %c", []string{"salt", "orm", "lark", "wester", "high", "low", "old"}[i%7], []string{"mere", "skell", "fell", "ham", "by", "dale"}[i/7%6], 'a'+i%26))
	}
	index, err := match.NewIndex(match.JaroWinkler, texts)
	require.NoError(b, err)
	s := index.Searcher()
	for b.Loop() {
		s.Nearest("westrdale k", 2, 0.8)
	}
}
