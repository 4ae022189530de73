package match

// jaroWinkler is Winkler's variant of Jaro's similarity: matches within half the
// longer length, transpositions, and up to four common first letters weighted by
// 0.1 (W. E. Winkler, 1990).
func jaroWinkler(x, y []rune) float64 {
	jaro := jaro(x, y)
	prefix := 0
	for prefix < min(len(x), len(y), 4) && x[prefix] == y[prefix] {
		prefix++
	}
	return jaro + float64(prefix)*0.1*(1-jaro)
}

func jaro(x, y []rune) float64 {
	if len(x) == 0 || len(y) == 0 {
		if len(x) == len(y) {
			return 1
		}
		return 0
	}
	window := max(max(len(x), len(y))/2-1, 0)
	var small [128]bool
	used := small[:min(len(x)+len(y), len(small))]
	if len(x)+len(y) > len(small) {
		used = make([]bool, len(x)+len(y))
	}
	ux, uy := used[:len(x)], used[len(x):]
	matches := 0
	for i, r := range x {
		for j := max(i-window, 0); j < min(i+window+1, len(y)); j++ {
			if !uy[j] && y[j] == r {
				ux[i], uy[j] = true, true
				matches++
				break
			}
		}
	}
	if matches == 0 {
		return 0
	}
	transposed, j := 0, 0
	for i := range x {
		if !ux[i] {
			continue
		}
		for !uy[j] {
			j++
		}
		if x[i] != y[j] {
			transposed++
		}
		j++
	}
	m := float64(matches)
	return (m/float64(len(x)) + m/float64(len(y)) + (m-float64(transposed/2))/m) / 3
}

// ratio turns a distance into a score: 1 less the share of the longer text that
// differs.
func ratio(distance, n, m int) float64 {
	longest := max(n, m)
	if longest == 0 {
		return 1
	}
	return 1 - float64(distance)/float64(longest)
}

// levenshtein counts insertions, deletions and substitutions.
func levenshtein(x, y []rune) int {
	for len(x) > 0 && len(y) > 0 && x[0] == y[0] {
		x, y = x[1:], y[1:]
	}
	for len(x) > 0 && len(y) > 0 && x[len(x)-1] == y[len(y)-1] {
		x, y = x[:len(x)-1], y[:len(y)-1]
	}
	var small [64]int
	row := small[:]
	if len(y)+1 > len(small) {
		row = make([]int, len(y)+1)
	}
	row = row[:len(y)+1]
	for j := range row {
		row[j] = j
	}
	for i := range x {
		diagonal := row[0]
		row[0] = i + 1
		for j := range y {
			cost := diagonal
			if x[i] != y[j] {
				cost++
			}
			diagonal = row[j+1]
			row[j+1] = min(cost, row[j]+1, row[j+1]+1)
		}
	}
	return row[len(y)]
}

// LevenshteinDistance counts the insertions, deletions and substitutions of
// characters that make one text of another.
func LevenshteinDistance(x, y string) int { return levenshtein([]rune(x), []rune(y)) }

// damerau counts insertions, deletions, substitutions and swaps of neighbours,
// none of which touches a character twice (optimal string alignment).
func damerau(x, y []rune) int {
	before, last, row := make([]int, len(y)+1), make([]int, len(y)+1), make([]int, len(y)+1)
	for j := range last {
		last[j] = j
	}
	for i := range x {
		row[0] = i + 1
		for j := range y {
			cost := 1
			if x[i] == y[j] {
				cost = 0
			}
			row[j+1] = min(last[j]+cost, row[j]+1, last[j+1]+1)
			if i > 0 && j > 0 && x[i] == y[j-1] && x[i-1] == y[j] {
				row[j+1] = min(row[j+1], before[j-1]+1)
			}
		}
		before, last, row = last, row, before
	}
	return last[len(y)]
}

// dice is twice the number of shared pairs of neighbouring characters over the
// number of all (Sørensen and Dice); a pair counts as often as it stands in both.
func dice(x, y []rune) float64 {
	if len(x) < 2 || len(y) < 2 {
		if string(x) == string(y) {
			return 1
		}
		return 0
	}
	var used [64]bool
	taken := used[:]
	if len(y) > len(used) {
		taken = make([]bool, len(y))
	}
	shared := 0
	for i := 0; i+1 < len(x); i++ {
		for j := 0; j+1 < len(y); j++ {
			if !taken[j] && x[i] == y[j] && x[i+1] == y[j+1] {
				taken[j] = true
				shared++
				break
			}
		}
	}
	return 2 * float64(shared) / float64(len(x)+len(y)-2)
}
