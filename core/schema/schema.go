package schema

import (
	"slices"
	"strings"
)

// Column is one column of a schema. Names may hold anything.
type Column struct {
	Name        string `json:"name"`
	Type        Type   `json:"type"`
	Nullable    bool   `json:"nullable"`
	Description string `json:"description,omitempty"`
	From        string `json:"from,omitempty" doc:"Where the column came from, such as booking.stays.nights."`
	Personal    bool   `json:"personal,omitempty" doc:"Its values are personal: they are hidden in what Welkin keeps from people below the role builder."`
}

// Schema is an ordered list of columns. A schema is not changed once made.
type Schema struct {
	Columns []Column `json:"columns"`
}

// New makes a schema of columns.
func New(cols ...Column) *Schema { return &Schema{Columns: cols} }

// Len gives the number of columns.
func (s *Schema) Len() int { return len(s.Columns) }

// Index gives the place of the column called name, or -1. An exact spelling
// wins; without one a name that differs only by case is taken if it is alone.
func (s *Schema) Index(name string) int {
	folded := -1
	for i, c := range s.Columns {
		if c.Name == name {
			return i
		}
		if strings.EqualFold(c.Name, name) {
			if folded >= 0 {
				folded = -2
			} else if folded == -1 {
				folded = i
			}
		}
	}
	return max(folded, -1)
}

// Names lists the column names in order.
func (s *Schema) Names() []string {
	names := make([]string, len(s.Columns))
	for i, c := range s.Columns {
		names[i] = c.Name
	}
	return names
}

// Nearest gives the column name closest to a mistyped one, or "" when none is
// near. The distance is Levenshtein's, at most a third of the name's length.
func (s *Schema) Nearest(name string) string { return Nearest(name, s.Names()) }

// Nearest gives the candidate closest to a mistyped word, or "".
func Nearest(word string, candidates []string) string {
	best, bestDistance := "", max(1, len(word)/3)+1
	for _, c := range candidates {
		if d := distance(strings.ToLower(word), strings.ToLower(c)); d < bestDistance {
			best, bestDistance = c, d
		}
	}
	return best
}

func distance(a, b string) int {
	row := make([]int, len(b)+1)
	for j := range row {
		row[j] = j
	}
	for i := range len(a) {
		diagonal := row[0]
		row[0] = i + 1
		for j := range len(b) {
			cost := diagonal
			if a[i] != b[j] {
				cost++
			}
			diagonal = row[j+1]
			row[j+1] = min(cost, row[j]+1, row[j+1]+1)
		}
	}
	return row[len(b)]
}

// Equal tells whether two schemas have the same names and types in order.
func (s *Schema) Equal(o *Schema) bool {
	return slices.EqualFunc(s.Columns, o.Columns, func(a, b Column) bool { return a.Name == b.Name && a.Type == b.Type })
}
