package offer

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"welkin/core/batch"
	"welkin/core/match"
	"welkin/core/schema"
)

// Key is a pair of columns by which the rows of two steps may belong together.
type Key struct {
	Left     string  `json:"left"`
	Right    string  `json:"right"`
	Share    float64 `json:"share" doc:"Of the left column's different values, how many of 1 stand in the right one."`
	Unique   bool    `json:"unique" doc:"The right column holds no value twice."`
	Sentence string  `json:"sentence"`
}

const (
	fewestShared = 0.3  // share of values from which a pair is looked at
	likely       = 0.62 // from which it is told
	mostKeys     = 6
)

// Keys gives the pairs of columns by which two steps' rows may be joined, the
// likeliest first: their values stand on both sides, their names are alike, their
// types can be compared.
func Keys(left, right batch.Wire) []Key {
	type scored struct {
		Key
		score float64
	}
	rights := make([]side, len(right.Columns))
	for k := range rights {
		rights[k] = sideOf(right, k)
	}
	var all []scored
	for i, l := range left.Columns {
		mine := sideOf(left, i)
		if len(mine.values) == 0 {
			continue
		}
		for k, r := range right.Columns {
			if !comparable(l.Type, r.Type) {
				continue
			}
			shared := 0
			for v := range mine.values {
				if _, ok := rights[k].values[v]; ok {
					shared++
				}
			}
			share := float64(shared) / float64(len(mine.values))
			if share < fewestShared {
				continue
			}
			weight := 0.7
			if l.Type.Kind != schema.Text { // small numbers and days stand in many columns
				weight = 0.4
			}
			score := weight*share + 0.4*alike(l.Name, r.Name)
			if rights[k].unique {
				score += 0.2
			}
			if score >= likely {
				all = append(all, scored{Key{l.Name, r.Name, share, rights[k].unique, sentence(shared, len(mine.values), rights[k].unique)}, score})
			}
		}
	}
	slices.SortStableFunc(all, func(a, b scored) int { return cmp.Compare(b.score, a.score) })
	out := []Key{}
	for _, s := range all[:min(len(all), mostKeys)] {
		out = append(out, s.Key)
	}
	return out
}

func sentence(shared, of int, unique bool) string {
	text := fmt.Sprintf("%d of %d values stand on both sides", shared, of)
	if unique {
		return text + "; each once on the right"
	}
	return text + "; some several times on the right"
}

// side is what a column holds.
type side struct {
	values map[string]struct{}
	unique bool
}

func sideOf(rows batch.Wire, column int) side {
	s := side{values: map[string]struct{}{}, unique: len(rows.Rows) > 0}
	for _, row := range rows.Rows {
		if v := row[column]; v != nil && *v != "" {
			if _, twice := s.values[*v]; twice {
				s.unique = false
			}
			s.values[*v] = struct{}{}
		}
	}
	return s
}

// comparable tells whether values of two types are written alike when they are
// equal.
func comparable(a, b schema.Type) bool {
	return a.Kind == b.Kind && a.Kind != schema.Bool && a.Kind != schema.Float && batch.Orderable(a)
}

// alike compares two columns' names from 0 to 1: hut_no and no, hut and hut_code
// are nearly the same.
func alike(a, b string) float64 {
	a, b = match.TidyName(a), match.TidyName(b)
	if a == b {
		return 1
	}
	x, y := strings.Split(a, "_"), strings.Split(b, "_")
	if x[len(x)-1] == y[len(y)-1] || x[0] == y[0] {
		return 0.8
	}
	score, _ := match.Score(match.JaroWinkler, a, b)
	return max(0, 2*score-1)
}
