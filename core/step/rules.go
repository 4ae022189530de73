package step

import (
	"fmt"
	"regexp"
	"strings"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"

	"welkin/core/batch"
	"welkin/core/expr"
	"welkin/core/schema"
)

var checkRules = Kind{
	Name: "check rules", Role: Work, Ports: []string{"rows", "reference"}, Many: true, New: func() Settings { return &CheckRules{} },
	Help: "Sets rows aside that break a rule: allowed values, pattern, range, not null, unique, refers to, or an own condition.", Example: "nights from 1 to 60; path_code refers to paths.code",
	Words: "quality validate constraint test check allowed pattern range unique not null foreign key expectation",
}

// CheckRules sets rows aside that break a rule. A row that breaks several is set
// aside by the first. A null breaks no rule but not null.
type CheckRules struct {
	Rules []Rule `json:"rules" jsonschema:"title=rules"`
}

// Rule is one rule; exactly one of its checks is set.
type Rule struct {
	Columns  []string  `json:"columns,omitempty" jsonschema:"title=columns,description=Those checked; together for unique and refers to"`
	Allowed  []string  `json:"allowed,omitempty" jsonschema:"title=allowed values"`
	Pattern  string    `json:"pattern,omitempty" jsonschema:"title=pattern,description=A regular expression that the whole text fits"`
	Range    *RuleSpan `json:"range,omitempty" jsonschema:"title=range"`
	NotNull  bool      `json:"not_null,omitempty" jsonschema:"title=not null"`
	Unique   bool      `json:"unique,omitempty" jsonschema:"title=unique,description=The first row with a value stays and later ones are set aside"`
	RefersTo *RefersTo `json:"refers_to,omitempty" jsonschema:"title=refers to,description=The value stands in a column of another input"`
	Where    string    `json:"where,omitempty" jsonschema:"title=where,description=An own condition that must not be false,format=sql"`
	Name     string    `json:"name,omitempty" jsonschema:"title=name,description=What the rule is called as the reason"`
}

// RuleSpan is a range, both ends included; an end left out is open.
type RuleSpan struct {
	From string `json:"least,omitempty" jsonschema:"title=least"`
	To   string `json:"most,omitempty" jsonschema:"title=most"`
}

// RefersTo names columns of another input, by the name of its step.
type RefersTo struct {
	Step    string   `json:"step,omitempty" jsonschema:"title=step,description=The step of the reference; the only other one when left out"`
	Columns []string `json:"columns" jsonschema:"title=columns"`
}

// Sentence implements Settings.
func (s *CheckRules) Sentence() string {
	var parts []string
	for i, r := range s.Rules {
		if i == 3 {
			parts = append(parts, fmt.Sprintf("%d more", len(s.Rules)-3))
			break
		}
		parts = append(parts, r.words())
	}
	return "check " + strings.Join(parts, "; ")
}

func (r Rule) words() string {
	cols := list(r.Columns, 3)
	switch {
	case r.Name != "":
		return r.Name
	case len(r.Allowed) > 0:
		return cols + " is one of " + list(r.Allowed, 4)
	case r.Pattern != "":
		return cols + " fits `" + r.Pattern + "`"
	case r.Range != nil:
		return cols + " from " + orElse(r.Range.From, "any") + " to " + orElse(r.Range.To, "any")
	case r.NotNull:
		return cols + " is not null"
	case r.Unique:
		return cols + " is unique"
	case r.RefersTo != nil:
		return cols + " refers to " + list(r.RefersTo.Columns, 3)
	}
	return "`" + orElse(r.Where, "…") + "`"
}

// boundRule is a rule that fits its input.
type boundRule struct {
	Rule
	columns []int
	allowed map[int]map[string]bool // by column: keys of the allowed values
	pattern *regexp.Regexp
	least   map[int]arrow.Array // by column: one value
	most    map[int]arrow.Array
	where   *expr.Program
	input   int // of refers to
	target  []int
	types   []schema.Type
}

// Bind implements Settings.
func (s *CheckRules) Bind(c *Context, in []*schema.Schema) *Bound {
	p := &rulesPlan{in: in}
	if len(s.Rules) == 0 {
		c.Problem("rules", "no rule yet")
	}
	for i, r := range s.Rules {
		p.rules = append(p.rules, c.rule(fmt.Sprintf("rules[%d]", i), r, in))
	}
	return &Bound{Schema: in[0], Operator: func() Operator { return newRules(p) }}
}

// rule binds one rule.
func (c *Context) rule(path string, r Rule, in []*schema.Schema) *boundRule {
	b := &boundRule{Rule: r, columns: c.pick(path+".columns", in[0], r.Columns)}
	checks := 0
	for _, set := range []bool{len(r.Allowed) > 0, r.Pattern != "", r.Range != nil, r.NotNull, r.Unique, r.RefersTo != nil, r.Where != ""} {
		if set {
			checks++
		}
	}
	if checks != 1 {
		c.Problem(path, "a rule has one check: allowed, pattern, range, not_null, unique, refers_to or where; this one has %d", checks)
		return b
	}
	if r.Where == "" && len(r.Columns) == 0 {
		c.Problem(path+".columns", "the rule names no column")
	}
	value := func(at int, text, where string) arrow.Array {
		t := in[0].Columns[at].Type
		to := batch.NewBuilder(t)
		if fault := batch.AppendText(to, t, text); fault != nil {
			c.Problem(path+where, "%s (column %s is %s)", fault.Sentence, in[0].Columns[at].Name, t)
			return batch.Nulls(t, 1)
		}
		return to.NewArray()
	}
	switch {
	case len(r.Allowed) > 0:
		b.allowed = map[int]map[string]bool{}
		for _, at := range b.columns {
			b.allowed[at] = map[string]bool{}
			for k, text := range r.Allowed {
				b.allowed[at][string(batch.AppendKey(nil, value(at, text, fmt.Sprintf(".allowed[%d]", k)), 0))] = true
			}
		}
	case r.Pattern != "":
		re, err := regexp.Compile(`^(?:` + r.Pattern + `)$`)
		if err != nil {
			c.Problem(path+".pattern", "%q is no regular expression: %s", r.Pattern, err)
		}
		for _, at := range b.columns {
			if t := in[0].Columns[at].Type; t.Kind != schema.Text {
				c.Problem(path+".columns", "a pattern is for text; %s is %s", in[0].Columns[at].Name, t)
			}
		}
		b.pattern = re
	case r.Range != nil:
		b.least, b.most = map[int]arrow.Array{}, map[int]arrow.Array{}
		if r.Range.From == "" && r.Range.To == "" {
			c.Problem(path+".range", "a range has a least value, a most value, or both")
		}
		for _, at := range b.columns {
			if !batch.Orderable(in[0].Columns[at].Type) {
				c.Problem(path+".columns", "%s has no order", in[0].Columns[at].Type)
				continue
			}
			if r.Range.From != "" {
				b.least[at] = value(at, r.Range.From, ".range.least")
			}
			if r.Range.To != "" {
				b.most[at] = value(at, r.Range.To, ".range.most")
			}
		}
	case r.Unique:
		for _, at := range b.columns {
			if !batch.Orderable(in[0].Columns[at].Type) {
				c.Problem(path+".columns", "%s can't be compared", in[0].Columns[at].Type)
			}
		}
	case r.RefersTo != nil:
		c.reference(path+".refers_to", b, in)
	case r.Where != "":
		where, err := expr.BindCondition(r.Where, c.scope(in[0]))
		if err != nil {
			c.exprProblem(path+".where", r.Where, err)
		}
		b.where = where
	}
	return b
}

func (c *Context) reference(path string, b *boundRule, in []*schema.Schema) {
	switch {
	case len(in) < 2:
		c.Problem(path, "a reference needs another input; name its step under `with`")
		return
	case b.RefersTo.Step == "" && len(in) == 2:
		b.input = 1
	default:
		for i, name := range c.Inputs {
			if i > 0 && name == b.RefersTo.Step {
				b.input = i
			}
		}
		if b.input == 0 {
			c.Problem(path+".step", "%q is not among the steps under `with`", b.RefersTo.Step)
			return
		}
	}
	b.target = c.pick(path+".columns", in[b.input], b.RefersTo.Columns)
	if len(b.target) != len(b.columns) {
		c.Problem(path+".columns", "%d columns refer to %d", len(b.columns), len(b.target))
		return
	}
	for i, at := range b.columns {
		x, y := in[0].Columns[at].Type, in[b.input].Columns[b.target[i]].Type
		t, ok := schema.Common(x, y)
		if !ok || !batch.Orderable(t) {
			c.Problem(path+".columns", "%s is %s and refers to %s", in[0].Columns[at].Name, x, y)
		}
		b.types = append(b.types, t)
	}
}

type rulesPlan struct {
	in    []*schema.Schema
	rules []*boundRule
}

type rulesOperator struct {
	*rulesPlan
	known []map[string]struct{} // by rule: values referred to, or seen
	bytes int64
}

func newRules(p *rulesPlan) *rulesOperator {
	o := &rulesOperator{rulesPlan: p, known: make([]map[string]struct{}, len(p.rules))}
	for i := range o.known {
		o.known[i] = map[string]struct{}{}
	}
	return o
}

// First implements Needs: references must be there before the rows.
func (o *rulesOperator) First() []int {
	var first []int
	for i := 1; i < len(o.in); i++ {
		first = append(first, i)
	}
	return first
}

// keysOf gives the key columns in the types compared.
func (b *boundRule) keysOf(rows *batch.Batch, columns []int) ([]arrow.Array, error) {
	p := pairing{types: b.types}
	if b.types == nil {
		return columnsOf(rows, columns), nil
	}
	return p.keyColumns(rows, columns)
}

// Push implements Operator.
func (o *rulesOperator) Push(in int, b *batch.Batch, out Emitter) error {
	if in == 0 {
		return o.check(b, out)
	}
	for k, r := range o.rules {
		if r.input != in || r.RefersTo == nil {
			continue
		}
		keys, err := r.keysOf(b, r.target)
		if err != nil {
			return err
		}
		for i := range b.N {
			o.remember(k, appendKey(nil, keys, i))
		}
	}
	out.Absorbed(b.N)
	return out.Holds(o.bytes)
}

func (o *rulesOperator) remember(rule int, key []byte) {
	if _, ok := o.known[rule][string(key)]; !ok {
		o.known[rule][string(key)] = struct{}{}
		o.bytes += int64(len(key)) + 48
	}
}

func (o *rulesOperator) check(b *batch.Batch, out Emitter) error {
	bad := map[int32]bool{}
	refuse := func(i int, column int, code, value string, fault *batch.Fault) error {
		if bad[int32(i)] {
			return nil
		}
		bad[int32(i)] = true
		name := ""
		if column >= 0 {
			name = b.Schema.Columns[column].Name
		}
		fault.Code = code
		return out.SetAside(b, i, name, value, fault)
	}
	for k, r := range o.rules {
		rule := k + 1
		if err := o.one(k, r, b, bad, out, func(i, column int, code, value string, fault *batch.Fault) error {
			part := *fault
			part.Part = rule
			return refuse(i, column, code, value, &part)
		}); err != nil {
			return err
		}
	}
	if err := out.Holds(o.bytes); err != nil {
		return err
	}
	return out.Emit(without(b, bad))
}

// one checks one rule for the rows that broke none before.
func (o *rulesOperator) one(k int, r *boundRule, b *batch.Batch, bad map[int32]bool, out Emitter, refuse func(i, column int, code, value string, fault *batch.Fault) error) error {
	text := func(at, i int) string { return batch.Text(b.Cols[at], b.Schema.Columns[at].Type, i) }
	code := func(usual string) string { return orElse(r.Name, usual) }
	switch {
	case r.where != nil:
		values, problems := r.where.Eval(out.Env(), b)
		for _, p := range problems {
			if err := refuse(int(p.Row), -1, p.Code, r.Where, p.Fault); err != nil {
				return err
			}
		}
		holds := values.(*array.Boolean)
		for i := range b.N {
			if holds.IsValid(i) && !holds.Value(i) {
				if err := refuse(i, -1, code("rule broken"), r.Where, batch.Faultf("", "the rule %s is broken", orElse(r.Name, r.Where))); err != nil {
					return err
				}
			}
		}
		return nil
	case r.Unique || r.RefersTo != nil:
		keys, err := r.keysOf(b, r.columns)
		if err != nil {
			return err
		}
		for i := range b.N {
			if bad[int32(i)] || hasNull(keys, i) {
				continue
			}
			key := appendKey(nil, keys, i)
			_, known := o.known[k][string(key)]
			if r.Unique {
				if o.remember(k, key); known {
					err = refuse(i, r.columns[0], code("not unique"), text(r.columns[0], i), batch.Faultf("", "another row with this value came before"))
				}
			} else if !known {
				err = refuse(i, r.columns[0], code("refers to nothing"), text(r.columns[0], i), batch.Faultf("", "%q is not there where it refers to", text(r.columns[0], i)))
			}
			if err != nil {
				return err
			}
		}
		return nil
	}
	for _, at := range r.columns {
		for i := range b.N {
			if bad[int32(i)] {
				continue
			}
			if b.Cols[at].IsNull(i) {
				if r.NotNull {
					if err := refuse(i, at, code("empty"), "", batch.Faultf("", "%s must not be empty", b.Schema.Columns[at].Name)); err != nil {
						return err
					}
				}
				continue
			}
			usual, fault := r.breaks(b, at, i)
			if fault != nil {
				if err := refuse(i, at, code(usual), text(at, i), fault); err != nil {
					return err
				}
			}
		}
	}
	return nil
}

// breaks tells how a value breaks the rule.
func (r *boundRule) breaks(b *batch.Batch, at, i int) (code string, fault *batch.Fault) {
	col := b.Cols[at]
	text := func() string { return batch.Text(col, b.Schema.Columns[at].Type, i) }
	switch {
	case r.allowed != nil:
		if !r.allowed[at][string(batch.AppendKey(nil, col, i))] {
			return "not allowed", batch.Faultf("", "%q is not one of %s", text(), strings.Join(r.Allowed, ", "))
		}
	case r.pattern != nil:
		if !r.pattern.MatchString(col.(*array.String).Value(i)) {
			return "wrong pattern", batch.Faultf("", "%q does not fit %s", text(), r.Pattern)
		}
	case r.Range != nil:
		if least := r.least[at]; least != nil && batch.Compare(col, i, least, 0) < 0 {
			return "too small", batch.Faultf("", "%s is below %s", text(), r.Range.From)
		}
		if most := r.most[at]; most != nil && batch.Compare(col, i, most, 0) > 0 {
			return "too large", batch.Faultf("", "%s is above %s", text(), r.Range.To)
		}
	}
	return "", nil
}

// End implements Operator.
func (o *rulesOperator) End(int, Emitter) error { return nil }
