package step

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"go.starlark.net/starlark"
	"go.starlark.net/syntax"

	"welkin/core/batch"
	"welkin/core/schema"
)

var scriptKind = Kind{
	Name: "script", Role: Work, Ports: []string{"rows"}, New: func() Settings { return &Script{} },
	Help: "Runs a small program over each row, or over a batch of rows at a time. It sees nothing but the rows.", Example: "def row(r): r[\"code\"] = r[\"hut\"][:2]; return r",
	Words: "code python starlark function custom program",
}

// Script runs a program in Starlark, a small language like Python without access
// to files, network or clock. It defines `row(r)`, which takes a row as a dict
// and gives a dict, a list of dicts, or None to drop the row; or `batch(rows)`,
// which takes a list of dicts and gives a list of dicts.
type Script struct {
	Code    string       `json:"code" jsonschema:"title=code,format=script"`
	Columns []ReadColumn `json:"columns,omitempty" jsonschema:"title=columns,description=Names and types of what comes out; those that came in when left out"`
	Seconds float64      `json:"seconds,omitempty" jsonschema:"title=time limit,description=Seconds for one call; 5 when left out"`
}

// Bounds of a script.
const (
	scriptSteps   = 20_000_000 // steps of one call
	scriptSeconds = 5
	maxScript     = 256 << 10 // bytes of code
	maxScriptRows = 1_000_000 // rows given by one call
)

// Sentence implements Settings.
func (s *Script) Sentence() string {
	for _, line := range strings.Split(s.Code, "\n") {
		if text, ok := strings.CutPrefix(strings.TrimSpace(line), "#"); ok {
			return "script: " + strings.TrimSpace(text)
		}
	}
	return fmt.Sprintf("script of %d lines", len(strings.Split(strings.TrimSpace(s.Code), "\n")))
}

var scriptDialect = &syntax.FileOptions{While: true, TopLevelControl: true, Set: true, Recursion: true}

// Bind implements Settings.
func (s *Script) Bind(c *Context, in []*schema.Schema) *Bound {
	o := &scriptPlan{schema: in[0], limit: time.Duration(s.Seconds * float64(time.Second))}
	if o.limit == 0 {
		o.limit = scriptSeconds * time.Second
	}
	if len(s.Columns) > 0 {
		o.schema = &schema.Schema{}
		for _, col := range s.Columns {
			o.schema.Columns = append(o.schema.Columns, schema.Column{Name: col.Name, Type: col.Type, Nullable: true})
		}
		c.distinctNames(o.schema, func(i int) string { return fmt.Sprintf("columns[%d].name", i) })
	}
	switch {
	case strings.TrimSpace(s.Code) == "":
		c.Problem("code", "no code yet; define row(r) or batch(rows)")
		return &Bound{Schema: o.schema}
	case len(s.Code) > maxScript:
		c.Problem("code", "the code has %d bytes; up to %d are allowed", len(s.Code), maxScript)
		return &Bound{Schema: o.schema}
	case s.Seconds < 0 || s.Seconds > 600:
		c.Problem("seconds", "the time limit is between 0 and 600 seconds")
	}
	program, err := compileScript(s.Code)
	if err != nil {
		c.Problem("code", "%s", scriptError(err))
		return &Bound{Schema: o.schema}
	}
	o.program = program
	_, _, err = o.load()
	if err != nil {
		c.Problem("code", "%s", scriptError(err))
	}
	return &Bound{Schema: o.schema, Operator: func() Operator { return &scriptOperator{scriptPlan: o} }}
}

func scriptError(err error) string {
	text := err.Error()
	if e, ok := err.(*starlark.EvalError); ok {
		text = e.Msg
		if len(e.CallStack) > 0 {
			at := e.CallStack[len(e.CallStack)-1].Pos
			text = fmt.Sprintf("line %d: %s", at.Line, e.Msg)
		}
	}
	text = strings.TrimPrefix(text, "script:")
	if strings.Contains(text, "too many steps") {
		return "the script ran longer than it may; does a loop never end?"
	}
	return text
}

type scriptPlan struct {
	schema  *schema.Schema
	program *starlark.Program
	limit   time.Duration
}

// call runs something of the script, bounded in steps and time.
func (p *scriptPlan) call(thread *starlark.Thread, fn func() (starlark.Value, error)) (starlark.Value, error) {
	thread.Steps = 0
	thread.SetMaxExecutionSteps(scriptSteps)
	timer := time.AfterFunc(p.limit, func() { thread.Cancel("it took longer than its time limit") })
	defer timer.Stop()
	return fn()
}

// load runs the script's top level and gives its function and a thread.
func (p *scriptPlan) load() (fn starlark.Callable, byBatch bool, err error) {
	thread := &starlark.Thread{Name: "script", Print: func(*starlark.Thread, string) {}}
	var globals starlark.StringDict
	_, err = p.call(thread, func() (starlark.Value, error) {
		globals, err = p.program.Init(thread, scriptNames)
		return starlark.None, err
	})
	if err != nil {
		return nil, false, err
	}
	globals.Freeze()
	if f, ok := globals["row"].(starlark.Callable); ok {
		return f, false, nil
	}
	if f, ok := globals["batch"].(starlark.Callable); ok {
		return f, true, nil
	}
	return nil, false, fmt.Errorf("the script defines neither row(r) nor batch(rows)")
}

type scriptOperator struct {
	*scriptPlan
	fn      starlark.Callable
	byBatch bool
}

// Push implements Operator.
func (o *scriptOperator) Push(_ int, b *batch.Batch, out Emitter) error {
	if o.fn == nil {
		fn, byBatch, err := o.load()
		if err != nil {
			return fmt.Errorf("%s", scriptError(err))
		}
		o.fn, o.byBatch = fn, byBatch
	}
	if o.byBatch {
		return o.wholeBatch(b, out)
	}
	w := newRowWriter(o.schema)
	var origins []int32
	made, dropped := 0, 0
	for i := range b.N {
		thread := &starlark.Thread{Name: "script", Print: func(*starlark.Thread, string) {}}
		v, err := o.call(thread, func() (starlark.Value, error) {
			return starlark.Call(thread, o.fn, starlark.Tuple{rowDict(b, i)}, nil)
		})
		var rows []starlark.Value
		if err == nil {
			rows, err = rowsOf(v)
		}
		before := w.n
		for _, r := range rows {
			if err == nil {
				err = w.add(r)
			}
		}
		if err != nil {
			w.cut(before)
			if err := out.SetAside(b, i, "", "", batch.Faultf("script failed", "%s", scriptError(err))); err != nil {
				return err
			}
			continue
		}
		if len(rows) == 0 {
			dropped++
		} else {
			made += len(rows) - 1
		}
		for range rows {
			origins = append(origins, int32(i))
		}
	}
	out.Made(made)
	out.Dropped(dropped)
	next := w.batch()
	next.Origin = b.Origin.Take(origins)
	return out.Emit(next)
}

// wholeBatch hands all rows of a batch over at once; when that fails all of them
// are set aside.
func (o *scriptOperator) wholeBatch(b *batch.Batch, out Emitter) error {
	rows := make([]starlark.Value, b.N)
	for i := range rows {
		rows[i] = rowDict(b, i)
	}
	thread := &starlark.Thread{Name: "script", Print: func(*starlark.Thread, string) {}}
	v, err := o.call(thread, func() (starlark.Value, error) {
		return starlark.Call(thread, o.fn, starlark.Tuple{starlark.NewList(rows)}, nil)
	})
	var given []starlark.Value
	if err == nil {
		given, err = rowsOf(v)
	}
	w := newRowWriter(o.schema)
	for _, r := range given {
		if err == nil {
			err = w.add(r)
		}
	}
	if err != nil {
		for i := range b.N {
			if err := out.SetAside(b, i, "", "", batch.Faultf("script failed", "%s", scriptError(err))); err != nil {
				return err
			}
		}
		return nil
	}
	out.Absorbed(b.N)
	out.Made(w.n)
	return emitAll(out, w.batch())
}

// End implements Operator.
func (o *scriptOperator) End(int, Emitter) error { return nil }

// rowsOf reads what a call gave: None, a dict, or a list of dicts.
func rowsOf(v starlark.Value) ([]starlark.Value, error) {
	switch v := v.(type) {
	case starlark.NoneType:
		return nil, nil
	case *starlark.Dict:
		return []starlark.Value{v}, nil
	case *starlark.List:
		if v.Len() > maxScriptRows {
			return nil, fmt.Errorf("one call gave %d rows; up to %d are allowed", v.Len(), maxScriptRows)
		}
		rows := make([]starlark.Value, v.Len())
		for i := range rows {
			rows[i] = v.Index(i)
		}
		return rows, nil
	}
	return nil, fmt.Errorf("the script gave %s; a dict, a list of dicts or None is expected", v.Type())
}

func rowDict(b *batch.Batch, i int) *starlark.Dict {
	d := starlark.NewDict(len(b.Cols))
	for k, col := range b.Cols {
		_ = d.SetKey(starlark.String(b.Schema.Columns[k].Name), toStarlark(col, b.Schema.Columns[k].Type, i))
	}
	return d
}

// toStarlark hands a value over: whole numbers, floats, truth values, texts,
// lists and records as they are, all others as text.
func toStarlark(a arrow.Array, t schema.Type, i int) starlark.Value {
	if a.IsNull(i) {
		return starlark.None
	}
	switch a := a.(type) {
	case *array.Boolean:
		return starlark.Bool(a.Value(i))
	case *array.Int64:
		return starlark.MakeInt64(a.Value(i))
	case *array.Float64:
		return starlark.Float(a.Value(i))
	case *array.Binary:
		return starlark.Bytes(a.Value(i))
	case *array.List:
		start, end := a.ValueOffsets(i)
		var items []starlark.Value
		for k := start; k < end; k++ {
			items = append(items, toStarlark(a.ListValues(), t.Elem(), int(k)))
		}
		return starlark.NewList(items)
	case *array.Struct:
		d := starlark.NewDict(a.NumField())
		for f, field := range t.Fields() {
			_ = d.SetKey(starlark.String(field.Name), toStarlark(a.Field(f), field.Type, i))
		}
		return d
	}
	return starlark.String(batch.Text(a, t, i))
}

// rowWriter makes a batch of what a script gave.
type rowWriter struct {
	schema   *schema.Schema
	builders []array.Builder
	n        int
}

func newRowWriter(s *schema.Schema) *rowWriter {
	w := &rowWriter{schema: s}
	for _, c := range s.Columns {
		w.builders = append(w.builders, batch.NewBuilder(c.Type))
	}
	return w
}

func (w *rowWriter) add(v starlark.Value) error {
	d, ok := v.(*starlark.Dict)
	if !ok {
		return fmt.Errorf("a row is a dict, not %s", v.Type())
	}
	for _, key := range d.Keys() {
		if name, ok := starlark.AsString(key); !ok || !slices.Contains(w.schema.Names(), name) {
			return fmt.Errorf("the row has %s, which is not among the columns that come out", key)
		}
	}
	w.n++
	for k, c := range w.schema.Columns {
		value, _, err := d.Get(starlark.String(c.Name))
		if err != nil {
			return err
		}
		if value == nil {
			value = starlark.None
		}
		plain, err := fromStarlark(value, 0)
		if err != nil {
			return fmt.Errorf("column %s: %w", c.Name, err)
		}
		if plain == nil {
			w.builders[k].AppendNull()
		} else if fault := batch.AppendJSON(w.builders[k], c.Type, plain); fault != nil {
			return fmt.Errorf("column %s: %s", c.Name, fault.Sentence)
		}
	}
	return nil
}

// cut takes back what was added after the first n rows.
func (w *rowWriter) cut(n int) {
	w.n = n
	for k, b := range w.builders {
		if b.Len() > n {
			a := b.NewArray()
			w.builders[k] = batch.NewBuilder(w.schema.Columns[k].Type)
			for i := range n {
				batch.AppendFrom(w.builders[k], a, i)
			}
		}
	}
}

func (w *rowWriter) batch() *batch.Batch {
	b := &batch.Batch{Schema: w.schema, N: w.n}
	for _, to := range w.builders {
		b.Cols = append(b.Cols, to.NewArray())
	}
	return b
}

// fromStarlark gives a value in the form in which JSON is read.
func fromStarlark(v starlark.Value, depth int) (any, error) {
	if depth > 100 {
		return nil, fmt.Errorf("the value nests too deep")
	}
	switch v := v.(type) {
	case starlark.NoneType:
		return nil, nil
	case starlark.Bool:
		return bool(v), nil
	case starlark.Int:
		return json.Number(v.String()), nil
	case starlark.Float:
		return json.Number(batch.FormatFloat(float64(v))), nil
	case starlark.String:
		return string(v), nil
	case starlark.Bytes:
		return `\x` + fmt.Sprintf("%x", string(v)), nil
	case *starlark.Dict:
		out := map[string]any{}
		for _, item := range v.Items() {
			key, ok := starlark.AsString(item[0])
			if !ok {
				return nil, fmt.Errorf("a record's fields have texts as names, not %s", item[0].Type())
			}
			value, err := fromStarlark(item[1], depth+1)
			if err != nil {
				return nil, err
			}
			out[key] = value
		}
		return out, nil
	case starlark.Iterable:
		var out = []any{}
		iter := v.Iterate()
		defer iter.Done()
		var item starlark.Value
		for iter.Next(&item) {
			value, err := fromStarlark(item, depth+1)
			if err != nil {
				return nil, err
			}
			out = append(out, value)
		}
		return out, nil
	}
	return nil, fmt.Errorf("%s can't stand in a column", v.Type())
}
