package step

import (
	"fmt"
	"slices"
	"strings"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"

	"welkin/core/batch"
	"welkin/core/expr"
	"welkin/core/schema"
)

var compareRows = Kind{
	Name: "compare", Role: Work, Ports: []string{"rows", "rows before"}, New: func() Settings { return &Compare{} },
	Help: "Marks each row as new, changed, gone or same against a table or another step, and names the columns that changed.", Example: "huts against dim_hut by code",
	Words: "diff delta change detection audit reconcile mark new changed gone",
}

// Compare marks the rows of two inputs by key. Nulls are equal to each other.
// The values that come out are those of the first input, and of the second for
// rows that are gone.
type Compare struct {
	On      []JoinKey `json:"on" jsonschema:"title=on,description=The columns that tell rows apart"`
	Columns []string  `json:"columns,omitempty" jsonschema:"title=columns,description=Those compared; all that both sides have when left out"`
	Case    string    `json:"case,omitempty" jsonschema:"title=case of letters,enum=counts,enum=does not count"`
	Rows    []string  `json:"rows,omitempty" jsonschema:"title=rows,description=Which come out: new and changed and gone and same; all when left out"`
	MarkAs  string    `json:"mark_as,omitempty" jsonschema:"title=mark as,description=The column with the mark; mark when left out"`
	Changed string    `json:"changed_as,omitempty" jsonschema:"title=changed columns as,description=A list of the columns that changed; changed_columns when left out"`
}

// The marks.
const (
	MarkNew     = "new"
	MarkChanged = "changed"
	MarkGone    = "gone"
	MarkSame    = "same"
)

// Sentence implements Settings.
func (s *Compare) Sentence() string {
	text := "compare by " + pairs(s.On)
	if len(s.Rows) > 0 {
		text += "; keep " + list(s.Rows, 4)
	}
	return text
}

// Bind implements Settings.
func (s *Compare) Bind(c *Context, in []*schema.Schema) *Bound {
	o := &compareMatcher{fold: s.Case == "does not count", pairing: c.pair(s.On, in[0], in[1]), left: in[0], rows: map[string]bool{}}
	o.nulls = true
	if len(s.On) == 0 {
		c.Problem("on", "no key yet; name the columns that tell rows apart")
	}
	if s.Case != "" && s.Case != "counts" && !o.fold {
		c.Problem("case", "the case of letters counts or does not count, not %q", s.Case)
	}
	for i, r := range s.Rows {
		if !slices.Contains([]string{MarkNew, MarkChanged, MarkGone, MarkSame}, r) {
			c.Problem(fmt.Sprintf("rows[%d]", i), "rows are new, changed, gone or same, not %q", r)
		}
		o.rows[r] = true
	}
	if len(s.Rows) == 0 {
		o.rows = map[string]bool{MarkNew: true, MarkChanged: true, MarkGone: true, MarkSame: true}
	}
	chosen := c.pick("columns", in[0], s.Columns)
	o.schema = &schema.Schema{}
	for i, col := range in[0].Columns {
		r := slices.Index(in[1].Names(), col.Name)
		key := slices.Index(o.pairing.left, i)
		if key >= 0 {
			r = o.right[key]
		}
		if r >= 0 {
			t, ok := schema.Common(col.Type, in[1].Columns[r].Type)
			switch {
			case !ok || !batch.Orderable(t):
				if len(s.Columns) == 0 || slices.Contains(chosen, i) {
					c.Problem("columns", "%s is %s and before %s; give it one type in a step before, or leave it out", col.Name, col.Type, in[1].Columns[r].Type)
				}
				if col.Type != in[1].Columns[r].Type {
					r = -1 // rows that are gone have no value here
				}
			default:
				col.Type = t
				if key < 0 && (len(s.Columns) == 0 || slices.Contains(chosen, i)) {
					o.compared = append(o.compared, len(o.schema.Columns))
				}
			}
		} else if len(s.Columns) > 0 && slices.Contains(chosen, i) {
			c.Problem("columns", "the rows before have no column %q", col.Name)
		}
		col.Nullable = true
		o.schema.Columns = append(o.schema.Columns, col)
		o.before = append(o.before, r)
	}
	o.schema.Columns = append(o.schema.Columns, schema.Column{Name: orElse(s.MarkAs, "mark"), Type: schema.Of(schema.Text)},
		schema.Column{Name: orElse(s.Changed, "changed_columns"), Type: schema.ListOf(schema.Of(schema.Text)), Nullable: true})
	c.distinctNames(o.schema, func(int) string { return "mark_as" })
	return &Bound{Schema: o.schema, MadeOf: madeOfNone, Keys: &Keys{pairing: o.pairing, Rest: true}, Operator: func() Operator {
		run := *o
		run.seen = map[string]bool{}
		return &pairOperator{pairing: o.pairing, matcher: &run, leftSchema: in[0], serial: true}
	}, SQL: oneSQL(func(from []string) (string, error) { return o.sql(from[0], from[1]), nil })}
}

type compareMatcher struct {
	*pairing
	fold     bool
	left     *schema.Schema
	rows     map[string]bool
	before   []int // by column of the first input: that of the second, or -1
	compared []int // columns compared
	schema   *schema.Schema
	seen     map[string]bool // keys of new rows
	bytes    int64
}

// ready sets rows aside whose key came before.
func (o *compareMatcher) ready(t *pairTable, out Emitter) error {
	for id := range t.n {
		rows := t.of(id)
		for _, r := range rows[1:] {
			t.use(r) // not counted again as gone
			if err := o.refuse(t.build, int(r), o.right, out); err != nil {
				return err
			}
		}
	}
	return nil
}

func (o *compareMatcher) refuse(b *batch.Batch, i int, keys []int, out Emitter) error {
	var value []string
	for _, at := range keys {
		value = append(value, batch.Text(b.Cols[at], b.Schema.Columns[at].Type, i))
	}
	return out.SetAside(b, i, b.Schema.Columns[keys[0]].Name, strings.Join(value, ", "), batch.Faultf("key twice", "another row with this key came before; a key must tell rows apart to be compared"))
}

// column gives a column of one side in the type that comes out.
func (o *compareMatcher) column(b *batch.Batch, at int, t schema.Type) (arrow.Array, error) {
	if b.Schema.Columns[at].Type == t {
		return b.Cols[at], nil
	}
	col, problems, _ := expr.Cast(b, at, t)
	if len(problems) > 0 {
		return nil, fmt.Errorf("column %q: %s", b.Schema.Columns[at].Name, problems[0].Sentence)
	}
	return col, nil
}

func (o *compareMatcher) match(t *pairTable, b *batch.Batch, out Emitter) error {
	p, err := t.probe(b)
	if err != nil {
		return err
	}
	n := o.left.Len()
	now, old := make([]arrow.Array, n), make([]arrow.Array, n)
	for i := range n {
		if now[i], err = o.column(b, i, o.schema.Columns[i].Type); err != nil {
			return err
		}
		if r := o.before[i]; r >= 0 {
			if old[i], err = o.column(t.build, r, o.schema.Columns[i].Type); err != nil {
				return err
			}
		}
	}
	marks := batch.NewBuilder(schema.Of(schema.Text)).(*array.StringBuilder)
	changed := batch.NewBuilder(schema.ListOf(schema.Of(schema.Text))).(*array.ListBuilder)
	names := changed.ValueBuilder().(*array.StringBuilder)
	var rows []int32
	dropped, matched, unmatched := 0, 0, 0
	for i := range int32(b.N) {
		partners := p.partners(int(i))
		var differ []string
		mark := MarkNew
		if len(partners) > 0 {
			r := partners[0]
			if t.isUsed(r) {
				if err := o.refuse(b, int(i), o.pairing.left, out); err != nil {
					return err
				}
				continue
			}
			t.use(r)
			matched++
			mark = MarkSame
			for _, c := range o.compared {
				if !o.equal(now[c], int(i), old[c], int(r)) {
					differ = append(differ, o.schema.Columns[c].Name)
					mark = MarkChanged
				}
			}
		} else {
			key := string(appendKey(nil, p.keys, int(i)))
			if o.seen[key] {
				if err := o.refuse(b, int(i), o.pairing.left, out); err != nil {
					return err
				}
				continue
			}
			o.seen[key] = true
			o.bytes += int64(len(key)) + 64
			unmatched++
		}
		if !o.rows[mark] {
			dropped++
			continue
		}
		rows = append(rows, i)
		marks.Append(mark)
		if mark == MarkNew {
			changed.AppendNull()
			continue
		}
		changed.Append(true)
		names.AppendValues(differ, nil)
	}
	out.Match(0, matched, unmatched)
	out.Dropped(dropped)
	next := &batch.Batch{Schema: o.schema, N: len(rows), Origin: b.Origin.Take(rows)}
	for i := range n {
		next.Cols = append(next.Cols, batch.Take(now[i], rows))
	}
	next.Cols = append(next.Cols, marks.NewArray(), changed.NewArray())
	if err := out.Holds(t.bytes() + o.bytes); err != nil {
		return err
	}
	return out.Emit(next)
}

func (o *compareMatcher) equal(a arrow.Array, i int, b arrow.Array, j int) bool {
	if a.IsNull(i) || b.IsNull(j) {
		return a.IsNull(i) && b.IsNull(j)
	}
	if x, ok := a.(*array.String); ok && o.fold {
		now, before := strings.ToLower(x.Value(i)), strings.ToLower(b.(*array.String).Value(j)) // as SQL's lower
		return now == before
	}
	return batch.Compare(a, i, b, j) == 0
}

func (o *compareMatcher) rest(t *pairTable, out Emitter) error {
	var gone []int32
	twice := 0
	for id := range t.n {
		rows := t.of(id)
		twice += len(rows) - 1
		if !t.isUsed(rows[0]) {
			gone = append(gone, rows[0])
		}
	}
	slices.Sort(gone)
	out.Absorbed(t.build.N - len(gone) - twice)
	out.Match(1, t.build.N-len(gone)-twice, len(gone))
	if !o.rows[MarkGone] {
		out.Dropped(len(gone))
		return nil
	}
	for from := 0; from < len(gone); from += batch.Rows {
		rows := gone[from:min(from+batch.Rows, len(gone))]
		b := &batch.Batch{Schema: o.schema, N: len(rows), Origin: t.build.Origin.Take(rows)}
		for i, r := range o.before {
			typ := o.schema.Columns[i].Type
			if r < 0 {
				b.Cols = append(b.Cols, batch.Nulls(typ, len(rows)))
				continue
			}
			col, err := o.column(t.build, r, typ)
			if err != nil {
				return err
			}
			b.Cols = append(b.Cols, batch.Take(col, rows))
		}
		marks := batch.NewBuilder(schema.Of(schema.Text)).(*array.StringBuilder)
		for range rows {
			marks.Append(MarkGone)
		}
		b.Cols = append(b.Cols, marks.NewArray(), batch.Nulls(schema.ListOf(schema.Of(schema.Text)), len(rows)))
		if err := out.Emit(b); err != nil {
			return err
		}
	}
	return nil
}

func (o *compareMatcher) sql(l, r string) string {
	n := o.left.Len()
	mark, changedAs := expr.QuoteName(o.schema.Columns[n].Name), expr.QuoteName(o.schema.Columns[n+1].Name)
	var now, gone, differ []string
	for i := range n {
		col, name := o.schema.Columns[i], expr.QuoteName(o.schema.Columns[i].Name)
		now = append(now, "l."+name+"::"+col.Type.Postgres()+" AS "+name)
		value := "NULL"
		if b := o.before[i]; b >= 0 {
			value = "r." + expr.QuoteName(o.rightSchema.Columns[b].Name)
		}
		gone = append(gone, value+"::"+col.Type.Postgres()+" AS "+name)
	}
	for _, i := range o.compared {
		a, b := "l."+expr.QuoteName(o.left.Columns[i].Name), "r."+expr.QuoteName(o.rightSchema.Columns[o.before[i]].Name)
		if o.fold && o.schema.Columns[i].Type.Kind == schema.Text {
			a, b = "lower("+a+")", "lower("+b+")"
		}
		differ = append(differ, fmt.Sprintf("CASE WHEN %s IS DISTINCT FROM %s THEN %s END", a, b, expr.QuoteText(o.schema.Columns[i].Name)))
	}
	changed := "'{}'::text[]"
	if len(differ) > 0 {
		changed = "array_remove(ARRAY[" + strings.Join(differ, ", ") + "]::text[], NULL)"
	}
	var keep []string
	for m := range o.rows {
		keep = append(keep, "'"+m+"'")
	}
	slices.Sort(keep)
	on := o.condition(o.left, "l", "r")
	return fmt.Sprintf(`SELECT * FROM (SELECT %s, CASE WHEN r.found IS NULL THEN 'new' WHEN %s = '{}' THEN 'same' ELSE 'changed' END AS %s, CASE WHEN r.found THEN %s END AS %s FROM %s AS l LEFT JOIN (SELECT true AS found, * FROM %s) AS r ON %s UNION ALL SELECT %s, 'gone', NULL FROM %s AS r WHERE NOT EXISTS (SELECT 1 FROM %s AS l WHERE %s)) AS c WHERE %s IN (%s)`,
		strings.Join(now, ", "), changed, mark, changed, changedAs, l, r, on, strings.Join(gone, ", "), r, l, on, mark, strings.Join(keep, ", "))
}
