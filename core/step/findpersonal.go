package step

import (
	"fmt"
	"slices"
	"strings"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"

	"welkin/core/batch"
	"welkin/core/personal"
	"welkin/core/schema"
)

var findPersonal = Kind{
	Name: "find personal data", Role: Work, Ports: []string{"rows"}, New: func() Settings { return &FindPersonal{} },
	Help: "Finds e-mail and postal addresses, phones, bank accounts, cards and national numbers by form and check digits, and acts on them. What was found is in the branch report.", Example: "mask in remarks, guest_name",
	Words: "pii gdpr privacy sensitive detect email phone iban credit card mask anonymise",
}

// FindPersonal looks for personal data in texts.
type FindPersonal struct {
	Columns []string        `json:"columns,omitempty" jsonschema:"title=columns,description=Those looked through; all texts when left out"`
	Kinds   []personal.Kind `json:"kinds,omitempty" jsonschema:"title=kinds,description=Such as e-mail address or payment card; all when left out"`
	Look    string          `json:"look,omitempty" jsonschema:"title=look at,description=Each value; or the first rows of a column to decide about all of it,enum=each value,enum=whole columns"`
	Sample  int             `json:"sample,omitempty" jsonschema:"title=first rows,description=For whole columns: how many rows are looked at; 1000 when left out"`
	Share   float64         `json:"share,omitempty" jsonschema:"title=share,description=For whole columns: per cent of the values that must hold some; 20 when left out"`
	Do      string          `json:"do,omitempty" jsonschema:"title=do,enum=report,enum=mask,enum=hash,enum=drop,enum=extract"`
	Key     string          `json:"key,omitempty" jsonschema:"title=key,description=For hash: the secret key; a parameter such as :mask_key,format=sql"`
	Into    string          `json:"into,omitempty" jsonschema:"title=extract into,description=For extract: the new column with what was found; personal when left out"`
}

// What is done with what was found.
const (
	PersonalReport  = "report"
	PersonalMask    = "mask"
	PersonalHash    = "hash"
	PersonalDrop    = "drop"
	PersonalExtract = "extract"
)

// Sentence implements Settings.
func (s *FindPersonal) Sentence() string {
	where := "all texts"
	if len(s.Columns) > 0 {
		where = list(s.Columns, 4)
	}
	return "find personal data in " + where + " and " + orElse(s.Do, PersonalReport) + " it"
}

// Bind implements Settings.
func (s *FindPersonal) Bind(c *Context, in []*schema.Schema) *Bound {
	p := &personalPlan{FindPersonal: s, do: orElse(s.Do, PersonalReport), sample: s.Sample, share: s.Share / 100, whole: s.Look == "whole columns", in: in[0]}
	if p.sample == 0 {
		p.sample = 1000
	}
	if s.Share == 0 {
		p.share = 0.2
	}
	if s.Look != "" && s.Look != "each value" && !p.whole {
		c.Problem("look", "each value is looked at, or whole columns; %q is neither", s.Look)
	}
	if s.Sample < 0 || s.Sample > 1_000_000 || s.Share < 0 || s.Share > 100 {
		c.Problem("sample", "up to a million rows are looked at, and the share goes from 0 to 100")
	}
	for i, k := range s.Kinds {
		if !slices.Contains(personal.Kinds(), k) {
			c.Problem(fmt.Sprintf("kinds[%d]", i), "there is no kind %q; there are %v", k, personal.Kinds())
		}
	}
	if len(s.Columns) > 0 {
		p.columns = c.pick("columns", in[0], s.Columns)
		for _, at := range p.columns {
			if t := in[0].Columns[at].Type; t.Kind != schema.Text {
				c.Problem("columns", "texts are looked through; %s is %s", in[0].Columns[at].Name, t)
			}
		}
	} else {
		for i, col := range in[0].Columns {
			if col.Type.Kind == schema.Text {
				p.columns = append(p.columns, i)
			}
		}
		if len(p.columns) == 0 {
			c.Problem("columns", "no column holds text")
		}
	}
	p.schema = in[0]
	switch p.do {
	case PersonalReport, PersonalMask, PersonalDrop:
		p.change = Shape
	case PersonalHash:
		if s.Key == "" {
			c.Problem("key", "a hash needs a key, so that nobody can try out values; name a parameter such as :mask_key")
			break
		}
		key, _ := c.constant("key", s.Key)
		if text, ok := key.(*array.String); ok {
			p.change = HashText([]byte(text.Value(0)))
		} else if key != nil {
			c.Problem("key", "the key is a text")
		}
	case PersonalExtract:
		p.schema = &schema.Schema{Columns: append(slices.Clone(in[0].Columns), schema.Column{Name: orElse(s.Into, "personal"), Type: schema.Of(schema.Text), Nullable: true, Personal: true})}
		c.distinctNames(p.schema, func(int) string { return "into" })
	default:
		c.Problem("do", "what is found is reported, masked, hashed, dropped or extracted, not %q", s.Do)
	}
	report := schema.New(schema.Column{Name: "column", Type: schema.Of(schema.Text)}, schema.Column{Name: "kind", Type: schema.Of(schema.Text)}, schema.Column{Name: "found_by", Type: schema.Of(schema.Text)},
		schema.Column{Name: "values", Type: schema.Of(schema.Int)}, schema.Column{Name: "rows", Type: schema.Of(schema.Int)}, schema.Column{Name: "looks_like", Type: schema.Of(schema.Text), Nullable: true})
	p.report = report
	return &Bound{Schema: p.schema, MadeOf: madeOfNone, Branches: []Branch{{"report", report}}, Operator: func() Operator {
		return &personalOperator{personalPlan: p, found: map[foundKey]*foundCount{}, byHeading: map[int]bool{}, decided: !p.whole}
	}}
}

type personalPlan struct {
	*FindPersonal
	do      string
	whole   bool
	sample  int
	share   float64
	columns []int
	change  func(string) string
	in      *schema.Schema
	schema  *schema.Schema
	report  *schema.Schema
}

type foundKey struct {
	column int
	kind   string
}

type foundCount struct {
	values int64
	shape  string
}

// personalOperator looks through rows; for whole columns it keeps the first ones
// until it has decided.
type personalOperator struct {
	*personalPlan
	waiting   []*batch.Batch
	held      int
	decided   bool
	chosen    map[int]string // columns that are personal as a whole: what they hold
	byHeading map[int]bool   // those of them that only their heading gives away
	found     map[foundKey]*foundCount
	rows      int64
}

// Push implements Operator.
func (o *personalOperator) Push(_ int, b *batch.Batch, out Emitter) error {
	if o.decided {
		return o.take(b, out)
	}
	o.waiting = append(o.waiting, b)
	if o.held += b.N; o.held < o.sample {
		return nil
	}
	return o.decide(out)
}

// decide looks at the first rows and then lets them through.
func (o *personalOperator) decide(out Emitter) error {
	o.decided, o.chosen = true, map[int]string{}
	for _, at := range o.columns {
		values, hits := 0, map[personal.Kind]int{}
		left := o.sample
		for _, b := range o.waiting {
			col := b.Cols[at].(*array.String)
			for i := 0; i < b.N && left > 0; i++ {
				left--
				if col.IsNull(i) || col.Value(i) == "" {
					continue
				}
				values++
				seen := map[personal.Kind]bool{}
				for _, f := range personal.Find(col.Value(i), o.Kinds) {
					if !seen[f.Kind] {
						hits[f.Kind]++
						seen[f.Kind] = true
					}
				}
			}
		}
		for _, k := range personal.Kinds() {
			if values > 0 && float64(hits[k]) >= o.share*float64(values) && hits[k] > 0 {
				o.chosen[at] = string(k)
				break
			}
		}
		if k, ok := personal.ByHeading(o.in.Columns[at].Name); ok && o.chosen[at] == "" && (len(o.Kinds) == 0 || slices.Contains(o.Kinds, k)) {
			o.chosen[at] = string(k)
			o.byHeading[at] = true
		}
	}
	waiting := o.waiting
	o.waiting = nil
	for _, b := range waiting {
		if err := o.take(b, out); err != nil {
			return err
		}
	}
	return nil
}

func (o *personalOperator) count(column int, kind, part string) {
	key := foundKey{column, kind}
	c := o.found[key]
	if c == nil {
		c = &foundCount{shape: Shape(part)}
		o.found[key] = c
	}
	c.values++
}

// take acts on the rows of a batch.
func (o *personalOperator) take(b *batch.Batch, out Emitter) error {
	o.rows += int64(b.N)
	next := &batch.Batch{Schema: o.schema, N: b.N, Origin: b.Origin, Cols: slices.Clone(b.Cols)}
	extracted := make([][]string, b.N)
	for _, at := range o.columns {
		if kind, personalColumn := o.chosen[at]; o.whole && !personalColumn {
			continue
		} else if o.whole {
			next.Cols[at] = o.wholeColumn(b.Cols[at].(*array.String), at, kind, extracted)
			continue
		}
		next.Cols[at] = o.eachValue(b.Cols[at].(*array.String), at, extracted)
	}
	if o.do == PersonalExtract {
		to := batch.NewBuilder(schema.Of(schema.Text)).(*array.StringBuilder)
		for _, parts := range extracted {
			if len(parts) == 0 {
				to.AppendNull()
			} else {
				to.Append(strings.Join(parts, ", "))
			}
		}
		next.Cols = append(next.Cols, to.NewArray())
	}
	return out.EmitTo(0, next)
}

func (o *personalOperator) wholeColumn(col *array.String, at int, kind string, extracted [][]string) arrow.Array {
	to := batch.NewBuilder(schema.Of(schema.Text)).(*array.StringBuilder)
	for i := range col.Len() {
		if col.IsNull(i) {
			to.AppendNull()
			continue
		}
		v := col.Value(i)
		o.count(at, kind, v)
		switch o.do {
		case PersonalMask, PersonalHash:
			to.Append(o.change(v))
		case PersonalDrop:
			to.AppendNull()
		case PersonalExtract:
			extracted[i] = append(extracted[i], v)
			to.AppendNull()
		default:
			to.Append(v)
		}
	}
	return to.NewArray()
}

func (o *personalOperator) eachValue(col *array.String, at int, extracted [][]string) arrow.Array {
	to := batch.NewBuilder(schema.Of(schema.Text)).(*array.StringBuilder)
	for i := range col.Len() {
		if col.IsNull(i) {
			to.AppendNull()
			continue
		}
		v := col.Value(i)
		found := personal.Find(v, o.Kinds)
		for _, f := range found {
			o.count(at, string(f.Kind), v[f.From:f.To])
			if o.do == PersonalExtract {
				extracted[i] = append(extracted[i], v[f.From:f.To])
			}
		}
		switch {
		case len(found) == 0 || o.do == PersonalReport:
			to.Append(v)
		case o.do == PersonalDrop || o.do == PersonalExtract:
			to.Append(personal.Replace(v, found, func(string) string { return "" }))
		default:
			to.Append(personal.Replace(v, found, o.change))
		}
	}
	return to.NewArray()
}

// End implements Operator: the report says what was found where.
func (o *personalOperator) End(_ int, out Emitter) error {
	if !o.decided {
		if err := o.decide(out); err != nil {
			return err
		}
	}
	keys := make([]foundKey, 0, len(o.found))
	for k := range o.found {
		keys = append(keys, k)
	}
	slices.SortFunc(keys, func(a, b foundKey) int {
		if a.column != b.column {
			return a.column - b.column
		}
		return strings.Compare(a.kind, b.kind)
	})
	b := &batch.Batch{Schema: o.report, N: len(keys)}
	texts := [4]*array.StringBuilder{}
	for i := range texts {
		texts[i] = batch.NewBuilder(schema.Of(schema.Text)).(*array.StringBuilder)
	}
	values, rows := batch.NewBuilder(schema.Of(schema.Int)).(*array.Int64Builder), batch.NewBuilder(schema.Of(schema.Int)).(*array.Int64Builder)
	for _, k := range keys {
		by := "its form"
		if o.byHeading[k.column] {
			by = "its heading"
		}
		texts[0].Append(o.in.Columns[k.column].Name)
		texts[1].Append(k.kind)
		texts[2].Append(by)
		values.Append(o.found[k].values)
		rows.Append(o.rows)
		texts[3].Append(o.found[k].shape)
	}
	b.Cols = []arrow.Array{texts[0].NewArray(), texts[1].NewArray(), texts[2].NewArray(), values.NewArray(), rows.NewArray(), texts[3].NewArray()}
	out.Made(b.N)
	return out.EmitTo(1, b)
}

func (s *FindPersonal) choices() map[string][]string {
	var names []string
	for _, k := range personal.Kinds() {
		names = append(names, string(k))
	}
	return map[string][]string{"kinds": names}
}
