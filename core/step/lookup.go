package step

import (
	"bytes"
	"fmt"
	"slices"
	"strings"

	"github.com/apache/arrow-go/v18/arrow"

	"welkin/core/batch"
	"welkin/core/expr"
	"welkin/core/schema"
)

var lookUp = Kind{
	Name: "look up", Role: Work, Ports: []string{"rows", "reference"}, New: func() Settings { return &LookUp{} },
	Help: "Adds columns of a reference to each row, exactly one answer a row; no key, no match and many matches are answered each in their own way.", Example: "hut_key from dim_hut on hut = code",
	Words: "reference dimension enrich vlookup translate code key",
}

// LookUp adds columns of exactly one reference row to each row.
type LookUp struct {
	On      []JoinKey `json:"on" jsonschema:"title=on"`
	Take    []string  `json:"take,omitempty" jsonschema:"title=take,description=Columns taken from the reference; all but the keys when left out"`
	NoKey   Answer    `json:"no_key,omitzero" jsonschema:"title=no key,description=When a key column is null"`
	NoMatch Answer    `json:"no_match,omitzero" jsonschema:"title=no match,description=When the reference has no such key"`
	First   []SortKey `json:"first_by,omitempty" jsonschema:"title=of many take the first by,description=When several reference rows have the key"`
	Many    string    `json:"many,omitempty" jsonschema:"title=many matches,enum=take the first,enum=set aside"`
	Suffix  string    `json:"suffix,omitempty" jsonschema:"title=suffix,description=Added to a name that stands on both sides; _2 when left out"`
}

// Answer is what a row gets that found nothing.
type Answer struct {
	Do     string    `json:"do,omitempty" jsonschema:"title=do,enum=use null,enum=use values,enum=set aside,enum=drop"`
	Values []Derived `json:"values,omitempty" jsonschema:"title=values,description=For use values: a column taken and its value such as -1"`
}

// Ways to answer.
const (
	useValues = "use values"
	dropIt    = "drop"
)

// Sentence implements Settings.
func (s *LookUp) Sentence() string {
	take := list(s.Take, 4)
	if len(s.Take) == 0 {
		take = "the reference"
	}
	return "look up " + take + " on " + pairs(s.On)
}

// answer is an Answer that fits the columns taken.
type answer struct {
	do     string
	values []arrow.Array // by column taken; one value each
	sql    []string
}

func (a Answer) bind(c *Context, path string, taken []schema.Column) answer {
	out := answer{do: orElse(a.Do, useNull)}
	if !slices.Contains([]string{useNull, useValues, setAside, dropIt}, out.do) {
		c.Problem(path+".do", "a row without an answer gets null, gets values, is set aside or dropped; %q is none of these", a.Do)
	}
	for _, col := range taken {
		out.values = append(out.values, batch.Nulls(col.Type, 1))
		out.sql = append(out.sql, "NULL")
	}
	for i, v := range a.Values {
		at := fmt.Sprintf("%s.values[%d]", path, i)
		k := slices.IndexFunc(taken, func(col schema.Column) bool { return strings.EqualFold(col.Name, v.Name) })
		if k < 0 {
			c.Problem(at+".name", "%q is not among the columns taken", v.Name)
			continue
		}
		p, err := expr.Bind("CAST(("+v.Value+") AS "+taken[k].Type.String()+")", expr.Scope{Schema: &schema.Schema{}, Params: c.Params})
		if err != nil {
			c.exprProblem(at+".value", v.Value, err)
			continue
		}
		value, problems := p.Eval(&expr.Env{Now: c.Now}, &batch.Batch{Schema: &schema.Schema{}, N: 1})
		if len(problems) > 0 {
			c.Problem(at+".value", "%s", problems[0].Sentence)
			continue
		}
		if out.values[k] = value; value.IsValid(0) {
			out.sql[k] = expr.QuoteText(expr.SQLText(value, taken[k].Type, 0)) + "::" + taken[k].Type.Postgres()
		}
	}
	if out.do == useValues && len(a.Values) == 0 {
		c.Problem(path+".values", "no values yet; name a column taken and its value")
	}
	return out
}

// lookPlan is a look-up that fits its inputs.
type lookPlan struct {
	*pairing
	left    *schema.Schema
	taken   []int
	columns []schema.Column // those taken
	noKey   answer
	noMatch answer
	order   ordering
	many    string
	valid   *validity // for a period; nil for plain look-ups
	schema  *schema.Schema
}

// Bind implements Settings.
func (s *LookUp) Bind(c *Context, in []*schema.Schema) *Bound {
	p := &lookPlan{left: in[0], pairing: c.pair(s.On, in[0], in[1]), many: orElse(s.Many, "take the first"), order: c.ordering("first_by", in[1], s.First)}
	if p.many != "take the first" && p.many != setAside {
		c.Problem("many", "of many the first is taken, or the row is set aside; %q is neither", s.Many)
	}
	p.take(c, s.Take, s.Suffix, in)
	p.noKey, p.noMatch = s.NoKey.bind(c, "no_key", p.columns), s.NoMatch.bind(c, "no_match", p.columns)
	if len(s.On) == 0 {
		c.Problem("on", "no key yet; name a column of each side that must be equal")
	}
	return p.bound()
}

func (p *lookPlan) take(c *Context, take []string, suffix string, in []*schema.Schema) {
	if len(take) > 0 {
		p.taken = c.pick("take", in[1], take)
	} else {
		for i := range in[1].Columns {
			if !slices.Contains(p.right, i) {
				p.taken = append(p.taken, i)
			}
		}
	}
	p.schema = &schema.Schema{Columns: slices.Clone(in[0].Columns)}
	for _, at := range p.taken {
		col := in[1].Columns[at]
		for slices.Contains(p.schema.Names(), col.Name) {
			col.Name += orElse(suffix, sideSuffix)
		}
		col.Nullable = true
		p.schema.Columns = append(p.schema.Columns, col)
		p.columns = append(p.columns, col)
	}
}

func (p *lookPlan) bound() *Bound {
	return &Bound{Schema: p.schema, Keys: &Keys{pairing: p.pairing}, Operator: func() Operator {
		return &pairOperator{pairing: p.pairing, matcher: &lookMatcher{lookPlan: p}, leftSchema: p.left}
	}, SQL: oneSQL(func(from []string) (string, error) { return p.sql(from[0], from[1]) })}
}

func (p *lookPlan) sql(l, r string) (string, error) {
	if p.noKey.do == setAside || p.noMatch.do == setAside || p.many == setAside {
		return "", noSQL("rows without an answer are set aside here")
	}
	if len(p.order) == 0 && p.valid == nil {
		return "", noSQL("a database knows no first match without an order")
	}
	var noKey []string
	for _, at := range p.pairing.left {
		noKey = append(noKey, "l."+expr.QuoteName(p.left.Columns[at].Name)+" IS NULL")
	}
	where, order := p.condition(p.left, "l", "r"), ""
	if len(p.order) > 0 {
		order = " ORDER BY " + p.order.sql(p.rightSchema)
	}
	if p.valid != nil {
		where += " AND " + p.valid.sql(p.left, p.rightSchema)
		order = " ORDER BY r." + expr.QuoteName(p.rightSchema.Columns[p.valid.from].Name) + " DESC NULLS LAST"
		noKey = append(noKey, "l."+expr.QuoteName(p.left.Columns[p.valid.at].Name)+" IS NULL")
	}
	missing := strings.Join(noKey, " OR ")
	var cols []string
	for i, col := range p.left.Columns {
		cols = append(cols, "l."+expr.QuoteName(col.Name)+" AS "+expr.QuoteName(p.schema.Columns[i].Name))
	}
	for i, at := range p.taken {
		cols = append(cols, fmt.Sprintf("CASE WHEN %s THEN %s WHEN f.found IS NULL THEN %s ELSE f.%s END AS %s", missing, p.noKey.sql[i], p.noMatch.sql[i],
			expr.QuoteName(p.rightSchema.Columns[at].Name), expr.QuoteName(p.columns[i].Name)))
	}
	var keep []string
	if p.noKey.do == dropIt {
		keep = append(keep, "NOT ("+missing+")")
	}
	if p.noMatch.do == dropIt {
		keep = append(keep, "("+missing+" OR f.found)")
	}
	text := fmt.Sprintf("SELECT %s FROM %s AS l LEFT JOIN LATERAL (SELECT true AS found, r.* FROM %s AS r WHERE %s%s LIMIT 1) AS f ON true", strings.Join(cols, ", "), l, r, where, order)
	if len(keep) > 0 {
		text += " WHERE " + strings.Join(keep, " AND ")
	}
	return text, nil
}

type lookMatcher struct{ *lookPlan }

// ready puts the partners of each key into the order stated.
func (o *lookMatcher) ready(t *pairTable, _ Emitter) error {
	order := o.order
	if o.valid != nil {
		order = o.valid.latest()
	}
	if len(order) == 0 {
		return nil
	}
	keys := make([][]byte, t.build.N)
	for id := range t.n {
		rows := t.of(id)
		if len(rows) < 2 {
			continue
		}
		for _, r := range rows {
			keys[r] = order.key(nil, t.build.Cols, int(r))
		}
		slices.SortStableFunc(rows, func(a, b int32) int { return bytes.Compare(keys[a], keys[b]) })
	}
	return nil
}

func (o *lookMatcher) match(t *pairTable, b *batch.Batch, out Emitter) error {
	p, err := t.probe(b)
	if err != nil {
		return err
	}
	const noKeyRow, noMatchRow = -2, -3
	var lefts, rights []int32
	matched, unmatched, dropped := 0, 0, 0
	for i := range int32(b.N) {
		row, how := int32(noKeyRow), o.noKey.do
		if !hasNull(p.keys, int(i)) && (o.valid == nil || b.Cols[o.valid.at].IsValid(int(i))) {
			partners := p.partners(int(i))
			if o.valid != nil {
				partners = o.valid.among(t.build, partners, b, int(i))
			}
			if len(partners) == 0 {
				row, how = noMatchRow, o.noMatch.do
			} else if row, how = partners[0], ""; len(partners) > 1 && o.many == setAside {
				if err := o.refuse(b, i, batch.Faultf("many matches", "the reference has %d rows with this key", len(partners)), out); err != nil {
					return err
				}
				continue
			}
		}
		if how == "" {
			matched++
		} else {
			unmatched++
		}
		switch how {
		case dropIt:
			dropped++
			continue
		case setAside:
			fault := batch.Faultf("no match", "the reference has no row with this key")
			if row == noKeyRow {
				fault = batch.Faultf("no key", "a column of the key is empty")
			}
			if err := o.refuse(b, i, fault, out); err != nil {
				return err
			}
			continue
		}
		lefts, rights = append(lefts, i), append(rights, row)
	}
	out.Match(0, matched, unmatched)
	out.Dropped(dropped)
	next := b.Take(lefts)
	next.Schema = o.schema
	for k, at := range o.taken {
		to, from := batch.NewBuilder(o.columns[k].Type), t.build.Cols[at]
		for _, r := range rights {
			switch {
			case r >= 0:
				batch.AppendFrom(to, from, int(r))
			case r == noKeyRow:
				batch.AppendFrom(to, o.noKey.values[k], 0)
			default:
				batch.AppendFrom(to, o.noMatch.values[k], 0)
			}
		}
		next.Cols = append(next.Cols, to.NewArray())
	}
	return out.Emit(next)
}

func (o *lookMatcher) refuse(b *batch.Batch, i int32, fault *batch.Fault, out Emitter) error {
	var value []string
	for _, at := range o.pairing.left {
		value = append(value, batch.Text(b.Cols[at], b.Schema.Columns[at].Type, int(i)))
	}
	return out.SetAside(b, int(i), b.Schema.Columns[o.pairing.left[0]].Name, strings.Join(value, ", "), fault)
}

func (o *lookMatcher) rest(t *pairTable, out Emitter) error {
	out.Absorbed(t.build.N)
	return nil
}
