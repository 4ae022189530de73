package step

import (
	"welkin/core/batch"
	"welkin/core/schema"
	"welkin/core/spill"
)

var sortRows = Kind{
	Name: "sort", Role: Work, Ports: []string{"rows"}, New: func() Settings { return &Sort{} },
	Help: "Puts rows in order. Equal rows keep the order in which they came.", Example: "by hut, night falling",
	Words: "order by arrange rank top",
}

// Sort orders rows. Text is ordered by its bytes.
type Sort struct {
	By []SortKey `json:"by" jsonschema:"title=by"`
}

// Sentence implements Settings.
func (s *Sort) Sentence() string { return "sort by " + words(s.By) }

// Bind implements Settings.
func (s *Sort) Bind(c *Context, in []*schema.Schema) *Bound {
	by := c.ordering("by", in[0], s.By)
	if len(s.By) == 0 {
		c.Problem("by", "nothing to sort by yet; name a column")
	}
	return &Bound{Schema: in[0], Carries: carriesAll, Operator: func() Operator { return &sortOperator{by: by, schema: in[0]} }, Uses: passesOn(in[0], by.columns()...), SQL: oneSQL(func(from []string) (string, error) {
		return "SELECT * FROM " + from[0] + " ORDER BY " + by.sql(in[0]), nil
	})}
}

type sortOperator struct {
	by     ordering
	schema *schema.Schema
	runs   *spill.Runs
	wanted []bool // nil for all
}

// Lean implements Leaner.
func (o *sortOperator) Lean(wanted []bool) {
	o.wanted = marked(append([]bool{}, wanted...), o.by.columns())
}

// Prepare implements Prepared: the keys of a batch.
func (o *sortOperator) Prepare(_ int, b *batch.Batch, _ Emitter) (any, error) {
	return o.by.keys(b), nil
}

// PushPrepared implements Prepared.
func (o *sortOperator) PushPrepared(_ int, b *batch.Batch, prepared any, out Emitter) error {
	if o.runs == nil {
		o.runs = spill.NewRuns(out.TempDir(), o.schema, o.by.keys, out.Room())
	}
	if o.wanted != nil {
		b = b.Blank(o.wanted)
	}
	if err := o.runs.Add(b, prepared.(batch.SortKeys)); err != nil {
		return err
	}
	return out.Holds(o.runs.Bytes())
}

// Push implements Operator.
func (o *sortOperator) Push(in int, b *batch.Batch, out Emitter) error {
	return o.PushPrepared(in, b, o.by.keys(b), out)
}

// End implements Operator.
func (o *sortOperator) End(_ int, out Emitter) error {
	if o.runs == nil {
		return nil
	}
	return o.runs.Each(func(b *batch.Batch, _ spill.KeyOf) error { return out.Emit(b) })
}

// Close implements Closer.
func (o *sortOperator) Close() { o.runs.Close() }
