package step

import (
	"fmt"
	"slices"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"

	"welkin/core/batch"
	"welkin/core/match"
	"welkin/core/schema"
)

var matchNames = Kind{
	Name: "match names", Role: Work, Ports: []string{"rows", "reference", "decided pairs"}, Many: true, New: func() Settings { return &MatchNames{} },
	Help: "Finds the nearest name of a reference list, with branches for exact, near, unclear and too far.", Example: "home_town against towns.name, jaro-winkler from 0.92",
	Words: "fuzzy approximate similar string distance entity resolution dedupe spelling",
}

// MatchNames finds for each row the name of a reference list that is most like a
// value. Pairs decided by people come first: in the settings, or as rows of a
// third input with the columns value and name, where an empty name means that
// the value has no match.
type MatchNames struct {
	Column    string          `json:"column" jsonschema:"title=column,description=The value that is looked for"`
	Name      string          `json:"name" jsonschema:"title=name,description=The column of the reference that is compared"`
	Take      []string        `json:"take,omitempty" jsonschema:"title=take,description=Columns taken from the reference; all when left out"`
	Algorithm match.Algorithm `json:"algorithm,omitempty" jsonschema:"title=algorithm,enum=jaro-winkler,enum=levenshtein,enum=damerau-levenshtein,enum=dice on bigrams,enum=soundex,enum=cologne phonetics"`
	Near      float64         `json:"near,omitempty" jsonschema:"title=near from,description=The score from which a match is near; 0.92 when left out"`
	Unclear   float64         `json:"unclear,omitempty" jsonschema:"title=unclear from,description=The score from which it is unclear; 0.8 when left out"`
	Margin    float64         `json:"margin,omitempty" jsonschema:"title=margin,description=When the second best is nearer than this the match is unclear; 0.02 when left out"`
	Ignore    []string        `json:"ignore,omitempty" jsonschema:"title=ignore,description=Differences that don't count: case and accents and punctuation; all three when left out"`
	Decided   []DecidedPair   `json:"decided,omitempty" jsonschema:"title=decided pairs"`
	ScoreAs   string          `json:"score_as,omitempty" jsonschema:"title=score as,description=The column with the score; score when left out"`
	SecondAs  string          `json:"second_as,omitempty" jsonschema:"title=second best as,description=The column with the second best name; second when left out"`
	Suffix    string          `json:"suffix,omitempty" jsonschema:"title=suffix,description=Added to a name that stands on both sides; _2 when left out"`
}

// DecidedPair is a pair that a person has looked at.
type DecidedPair struct {
	Value string `json:"value" jsonschema:"title=value"`
	Name  string `json:"name,omitempty" jsonschema:"title=name,description=The name it stands for; nothing when it has no match"`
}

// The branches.
const (
	MatchExact   = "exact"
	MatchNear    = "near"
	MatchUnclear = "unclear"
	MatchFar     = "too far"
)

// branchNames are the branches in the order of their numbers.
var branchNames = []string{MatchExact, MatchNear, MatchUnclear, MatchFar}

// Sentence implements Settings.
func (s *MatchNames) Sentence() string {
	return fmt.Sprintf("match `%s` with `%s` by %s", orElse(s.Column, "…"), orElse(s.Name, "…"), orElse(string(s.Algorithm), string(match.JaroWinkler)))
}

// Bind implements Settings.
func (s *MatchNames) Bind(c *Context, in []*schema.Schema) *Bound {
	p := &matchPlan{MatchNames: s, inputs: len(in), like: s.rule(c.Problem)}
	if len(in) < 2 {
		c.Problem("name", "names are matched with a reference; name its step under `with`")
		return nil
	}
	if len(in) > 3 {
		c.Problem("decided", "there is one reference and one table of decided pairs")
		return nil
	}
	p.column, p.name = c.column("column", in[0], s.Column), c.column("name", in[1], s.Name)
	if p.column < 0 || p.name < 0 {
		return nil
	}
	if len(in) == 3 {
		p.decidedValue, p.decidedName = c.column("decided", in[2], "value"), c.column("decided", in[2], "name")
		if p.decidedValue < 0 || p.decidedName < 0 {
			return nil
		}
	}
	for path, t := range map[string]schema.Type{"column": in[0].Columns[p.column].Type, "name": in[1].Columns[p.name].Type} {
		if t.Kind != schema.Text {
			c.Problem(path, "names are text, not %s", t)
		}
	}
	p.taken = placesAll(in[1])
	if len(s.Take) > 0 {
		p.taken = c.pick("take", in[1], s.Take)
	}
	p.schema = &schema.Schema{Columns: slices.Clone(in[0].Columns)}
	for _, at := range p.taken {
		col := in[1].Columns[at]
		for slices.Contains(p.schema.Names(), col.Name) {
			col.Name += orElse(s.Suffix, sideSuffix)
		}
		col.Nullable = true
		p.schema.Columns = append(p.schema.Columns, col)
	}
	p.schema.Columns = append(p.schema.Columns, schema.Column{Name: orElse(s.ScoreAs, "score"), Type: schema.Of(schema.Float), Nullable: true},
		schema.Column{Name: orElse(s.SecondAs, "second"), Type: schema.Of(schema.Text), Nullable: true, Personal: in[1].Columns[p.name].Personal})
	c.distinctNames(p.schema, func(int) string { return "score_as" })
	p.reference = in[1]
	bound := &Bound{MadeOf: madeOfNone, Operator: func() Operator {
		return &matchOperator{matchPlan: p, nameIndex: nameIndex{nameRule: p.like, decided: map[string]*string{}}}
	}}
	for _, name := range branchNames {
		bound.Branches = append(bound.Branches, Branch{name, p.schema})
	}
	return bound
}

type matchPlan struct {
	*MatchNames
	like                      nameRule
	inputs                    int
	column, name              int
	decidedValue, decidedName int
	taken                     []int
	reference                 *schema.Schema
	schema                    *schema.Schema
}

type matchOperator struct {
	*matchPlan
	nameIndex
	parts []*batch.Batch
	bytes int64
	build *batch.Batch
}

// First implements Needs.
func (o *matchOperator) First() []int {
	if o.inputs == 3 {
		return []int{1, 2}
	}
	return []int{1}
}

// Concurrent implements Concurrent.
func (o *matchOperator) Concurrent(in int) bool { return in == 0 && o.index != nil }

// Push implements Operator.
func (o *matchOperator) Push(in int, b *batch.Batch, out Emitter) error {
	switch in {
	case 1:
		o.parts = append(o.parts, b)
		o.bytes += b.Bytes() * 4
		return out.Holds(o.bytes)
	case 2:
		values, names := b.Cols[o.decidedValue], b.Cols[o.decidedName]
		for i := range b.N {
			if values.IsNull(i) {
				continue
			}
			var name *string
			if names.IsValid(i) {
				text := batch.Text(names, b.Schema.Columns[o.decidedName].Type, i)
				name = &text
			}
			o.nameIndex.decided[o.fold.Apply(batch.Text(values, b.Schema.Columns[o.decidedValue].Type, i))] = name
		}
		out.Absorbed(b.N)
		return nil
	}
	return o.find(b, out)
}

// End implements Operator.
func (o *matchOperator) End(in int, out Emitter) error {
	if in != 1 {
		return nil
	}
	t, err := newPairTable(&pairing{rightSchema: o.reference}, o.parts)
	if err != nil {
		return err
	}
	o.parts, o.build = nil, t.build
	names := o.build.Cols[o.name].(*array.String)
	out.Absorbed(o.build.N)
	return o.read(o.build.N, func(i int) (string, bool) { return names.Value(i), names.IsValid(i) }, o.Decided)
}

func (o *matchOperator) find(b *batch.Batch, out Emitter) error {
	search := o.index.Searcher()
	values := b.Cols[o.column].(*array.String)
	known := map[string]found{} // names come again and again
	var rows, refs, seconds [4][]int32
	var scores [4][]float64
	matched := 0
	for i := range b.N {
		f := found{3, -1, 0, -1, 0}
		if values.IsValid(i) {
			text := o.fold.Apply(values.Value(i))
			var ok bool
			if f, ok = known[text]; !ok {
				f = o.look(search, text)
				known[text] = f
			}
		}
		if f.branch < 2 {
			matched++
		}
		k := f.branch
		if branchNames[k] == MatchFar {
			f.row, f.second = -1, -1
		}
		rows[k], refs[k] = append(rows[k], int32(i)), append(refs[k], f.row)
		scores[k], seconds[k] = append(scores[k], f.score), append(seconds[k], f.second)
	}
	out.Match(0, matched, b.N-matched)
	for k := range rows {
		if len(rows[k]) == 0 {
			continue
		}
		next := b.Take(rows[k])
		next.Schema = o.schema
		for _, at := range o.taken {
			next.Cols = append(next.Cols, batch.Take(o.build.Cols[at], refs[k]))
		}
		score := batch.NewBuilder(schema.Of(schema.Float)).(*array.Float64Builder)
		score.AppendValues(scores[k], nil)
		next.Cols = append(next.Cols, arrow.Array(score.NewArray()), batch.Take(o.build.Cols[o.name], seconds[k]))
		if err := out.EmitTo(k, next); err != nil {
			return err
		}
	}
	return nil
}
