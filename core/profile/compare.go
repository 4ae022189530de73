package profile

import (
	"fmt"
	"math"
)

// Change is what differs between two profiles of one table or file, in words.
type Change struct {
	Column   string `json:"column,omitempty" doc:"Empty for the whole."`
	Sentence string `json:"sentence"`
}

// What counts as a change: a share of the rows, and of the different values.
const (
	shareChanged    = 0.02
	distinctChanged = 0.10
	rowsChanged     = 0.05
)

// Compare says what differs from an earlier profile.
func Compare(before, after []Profile) []Change {
	var out []Change
	say := func(column, format string, args ...any) {
		out = append(out, Change{column, fmt.Sprintf(format, args...)})
	}
	was := map[string]Profile{}
	for _, p := range before {
		was[p.Name] = p
	}
	if len(before) > 0 && len(after) > 0 {
		if a, b := before[0].Rows, after[0].Rows; a != b && math.Abs(float64(b-a)) > rowsChanged*float64(max(a, 1)) {
			say("", "%d rows, where there were %d", b, a)
		}
	}
	for _, p := range after {
		b, ok := was[p.Name]
		if !ok {
			say(p.Name, "is new")
			continue
		}
		delete(was, p.Name)
		if b.Type != p.Type {
			say(p.Name, "is %s, was %s", p.Type, b.Type)
			continue
		}
		if x, y := part(b.Nulls, b.Rows), part(p.Nulls, p.Rows); math.Abs(y-x) > shareChanged {
			say(p.Name, "is null in %.1f %% of rows, was in %.1f %%", 100*y, 100*x)
		}
		if x, y := float64(b.Distinct), float64(p.Distinct); math.Abs(y-x) > distinctChanged*max(x, 10) {
			say(p.Name, "has about %d different values, had %d", p.Distinct, b.Distinct)
		}
		if p.Type.Numeric() || p.Type.Temporal() {
			if b.Min != nil && p.Min != nil && *b.Min != *p.Min {
				say(p.Name, "begins at %s, began at %s", *p.Min, *b.Min)
			}
			if b.Max != nil && p.Max != nil && *b.Max != *p.Max {
				say(p.Name, "goes up to %s, went up to %s", *p.Max, *b.Max)
			}
		}
	}
	for _, p := range before {
		if _, gone := was[p.Name]; gone {
			say(p.Name, "is gone")
		}
	}
	return out
}

func part(n, of int64) float64 { return float64(n) / float64(max(of, 1)) }
