package step

import (
	"fmt"
	"slices"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"

	"welkin/core/batch"
	"welkin/core/expr"
	"welkin/core/schema"
)

var findValid = Kind{
	Name: "find valid", Role: Work, Ports: []string{"rows", "history"}, New: func() Settings { return &FindValid{} },
	Help: "Finds the row of a history that was valid at a row's date, such as the surrogate key of a dimension.", Example: "guest_key from dim_guest on guest_id at night",
	Words: "surrogate key dimension history valid from to slowly changing type 2 as of point in time temporal",
}

// FindValid adds columns of the one row of a history whose period holds a date:
// from its beginning on, up to but without its end. A period without an end
// lasts; one without a beginning always was.
type FindValid struct {
	On      []JoinKey `json:"on" jsonschema:"title=on"`
	At      string    `json:"at" jsonschema:"title=at,description=The date or timestamp of the row"`
	From    string    `json:"valid_from" jsonschema:"title=valid from,description=Column of the history"`
	To      string    `json:"valid_to" jsonschema:"title=valid to,description=Column of the history; the first moment at which it is no longer valid"`
	Take    []string  `json:"take,omitempty" jsonschema:"title=take,description=Columns taken; all but keys and period when left out"`
	NoKey   Answer    `json:"no_key,omitzero" jsonschema:"title=no key,description=When a key column or the date is null"`
	NoMatch Answer    `json:"no_match,omitzero" jsonschema:"title=no match,description=When nothing was valid then"`
	Suffix  string    `json:"suffix,omitempty" jsonschema:"title=suffix,description=Added to a name that stands on both sides; _2 when left out"`
}

// Sentence implements Settings.
func (s *FindValid) Sentence() string {
	return fmt.Sprintf("find what was valid at `%s` on %s", orElse(s.At, "…"), pairs(s.On))
}

// validity is the period of a history's rows.
type validity struct{ at, from, to int }

// latest orders rows of a history by their beginning, the latest first.
func (v *validity) latest() ordering {
	return ordering{{column: v.from, descending: true}}
}

func (v *validity) sql(left, right *schema.Schema) string {
	at, from, to := "l."+expr.QuoteName(left.Columns[v.at].Name), "r."+expr.QuoteName(right.Columns[v.from].Name), "r."+expr.QuoteName(right.Columns[v.to].Name)
	return fmt.Sprintf("(%s IS NULL OR %s <= %s) AND (%s IS NULL OR %s < %s)", from, from, at, to, at, to)
}

// among gives the partners that were valid at row i's date, the one that began
// last alone.
func (v *validity) among(build *batch.Batch, partners []int32, b *batch.Batch, i int) []int32 {
	at := instant(b.Cols[v.at], i)
	for k, r := range partners {
		from, to := build.Cols[v.from], build.Cols[v.to]
		if (from.IsNull(int(r)) || instant(from, int(r)) <= at) && (to.IsNull(int(r)) || at < instant(to, int(r))) {
			return partners[k : k+1]
		}
	}
	return nil
}

// instant gives a date or timestamp in microseconds.
func instant(a arrow.Array, i int) int64 {
	if d, ok := a.(*array.Date32); ok {
		return int64(d.Value(i)) * 86_400_000_000
	}
	return int64(a.(*array.Timestamp).Value(i))
}

// Bind implements Settings.
func (s *FindValid) Bind(c *Context, in []*schema.Schema) *Bound {
	p := &lookPlan{left: in[0], pairing: c.pair(s.On, in[0], in[1]), many: "take the first"}
	p.valid = &validity{c.column("at", in[0], s.At), c.column("valid_from", in[1], s.From), c.column("valid_to", in[1], s.To)}
	if len(s.On) == 0 {
		c.Problem("on", "no key yet; name a column of each side that must be equal")
	}
	if c.Failed() {
		return nil
	}
	for path, col := range map[string]schema.Column{"at": in[0].Columns[p.valid.at], "valid_from": in[1].Columns[p.valid.from], "valid_to": in[1].Columns[p.valid.to]} {
		if !col.Type.Temporal() {
			c.Problem(path, "%s is %s; a date or timestamp is needed", col.Name, col.Type)
		}
	}
	take := s.Take
	if len(take) == 0 {
		for i, col := range in[1].Columns {
			if !slices.Contains(p.right, i) && i != p.valid.from && i != p.valid.to {
				take = append(take, col.Name)
			}
		}
	}
	p.take(c, take, s.Suffix, in)
	p.noKey, p.noMatch = s.NoKey.bind(c, "no_key", p.columns), s.NoMatch.bind(c, "no_match", p.columns)
	return p.bound()
}
