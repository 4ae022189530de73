package engine

import (
	"context"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"welkin/core/batch"
	"welkin/core/schema"
	"welkin/core/sheet"
	"welkin/core/step"
)

// Outcome says whether rows came out of a place as an example expects them.
type Outcome struct {
	Example  string     `json:"example"`
	Step     string     `json:"step" doc:"The place whose rows were expected."`
	OK       bool       `json:"ok"`
	Sentence string     `json:"sentence" doc:"What is not as expected, or that all is."`
	Columns  []string   `json:"columns,omitempty" doc:"Those compared."`
	Missing  [][]string `json:"missing,omitempty" doc:"Rows that were expected and did not come; an empty value is null."`
	Extra    [][]string `json:"extra,omitempty" doc:"Rows that came and were not expected."`
}

// exampleRows is how many rows an example reads of what it does not give, and
// how many come out of a place at most.
const exampleRows = 100_000

// CheckExample runs the part of a sheet that an example is about on the rows it
// gives, and compares what comes out. Nothing is written. Values of given rows
// have the types of the columns whose rows they stand for, where these are known.
func CheckExample(ctx context.Context, s *sheet.Sheet, e sheet.Example, b Binding) []Outcome {
	var out []Outcome
	if len(e.Expect) == 0 {
		return []Outcome{{Example: e.Name, OK: true, Sentence: "expects nothing; its rows are there to try the sheet with"}}
	}
	staged, err := stage(s, e, Bind(ctx, s, nil, b))
	for _, expected := range e.Expect {
		o := Outcome{Example: e.Name, Step: expected.Step}
		if err == nil {
			err = o.compare(ctx, staged, expected, b)
		}
		if err != nil {
			o.OK, o.Sentence = false, err.Error()
			err = nil
		}
		out = append(out, o)
	}
	return out
}

// stage gives a sheet in which the rows of an example stand for those of the
// places they are given at.
func stage(s *sheet.Sheet, e sheet.Example, known *Plan) (*sheet.Sheet, error) {
	staged := *s
	staged.Engine, staged.Limits, staged.Examples = sheet.OwnEngine, sheet.Limits{}, nil
	staged.Steps = nil
	instead := map[string]string{}    // by output of a step: the step that gives its rows
	whole := map[string]*sheet.Step{} // by step: what stands in its place, under its name
	for i, given := range e.Given {
		pasted := &step.PastedRows{Rows: given.Rows}
		id, output := sheet.Source(given.Step)
		if p := known.Step(id); p != nil && p.Bound != nil {
			if _, columns, ok := p.Bound.Output(output); ok {
				var err error
				if pasted.Columns, err = typed(given.Rows, columns); err != nil {
					return nil, fmt.Errorf("the rows given at %s: %w", given.Step, err)
				}
			}
		}
		if output == "" {
			whole[id] = &sheet.Step{ID: id, Kind: "pasted rows", Settings: pasted}
			continue
		}
		name := fmt.Sprintf("given %d of example", i+1)
		staged.Steps = append(staged.Steps, &sheet.Step{ID: name, Kind: "pasted rows", Settings: pasted})
		instead[given.Step] = name
	}
	for _, st := range s.Steps {
		if given := whole[st.ID]; given != nil {
			staged.Steps = append(staged.Steps, given)
			continue
		}
		st := *st
		change := func(place string) string {
			if to, ok := instead[place]; ok {
				return to
			}
			return place
		}
		st.From, st.With = change(st.From), change(st.With)
		st.More = slices.Clone(st.More)
		for i := range st.More {
			st.More[i] = change(st.More[i])
		}
		staged.Steps = append(staged.Steps, &st)
	}
	return &staged, nil
}

// typed gives the columns of a text of rows the types they have at a place.
func typed(rows string, columns *schema.Schema) ([]step.ReadColumn, error) {
	table, err := readTable(rows)
	if err != nil {
		return nil, err
	}
	out := make([]step.ReadColumn, len(table.names))
	for i, name := range table.names {
		at := columns.Index(name)
		if at < 0 {
			return nil, fmt.Errorf("there is no column %q; there are %s", name, strings.Join(columns.Names(), ", "))
		}
		out[i] = step.ReadColumn{Name: name, Type: columns.Columns[at].Type}
	}
	return out, nil
}

// table is rows written as text.
type table struct {
	names []string
	cells [][]*string
}

func readTable(text string) (*table, error) {
	r := csv.NewReader(strings.NewReader(text))
	t := &table{}
	for {
		record, err := r.Read()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return nil, err
		}
		if t.names == nil {
			t.names = record
			continue
		}
		cells := make([]*string, len(record))
		for i := range record {
			if record[i] != "" {
				cells[i] = &record[i]
			}
		}
		t.cells = append(t.cells, cells)
	}
	if t.names == nil {
		return nil, fmt.Errorf("there is no line with the names of the columns")
	}
	return t, nil
}

// compare runs the sheet up to a place and compares its rows, in any order, with
// those expected.
func (o *Outcome) compare(ctx context.Context, s *sheet.Sheet, expected sheet.ExampleRows, b Binding) error {
	wanted, err := readTable(expected.Rows)
	if err != nil {
		return fmt.Errorf("the rows expected at %s: %w", expected.Step, err)
	}
	id, output := sheet.Source(expected.Step)
	plan := Bind(ctx, s.UpTo(id), nil, b)
	for _, p := range plan.Problems {
		if !p.Warning {
			return errors.New(p.String())
		}
	}
	target := plan.Step(id)
	if target == nil || target.Bound == nil {
		return fmt.Errorf("there is no step %q", id)
	}
	_, columns, ok := target.Bound.Output(output)
	if !ok {
		return fmt.Errorf("step %s has no output %q", id, output)
	}
	part := &schema.Schema{}
	var at []int
	for _, name := range wanted.names {
		k := columns.Index(name)
		if k < 0 {
			return fmt.Errorf("%s has no column %q; there are %s", expected.Step, name, strings.Join(columns.Names(), ", "))
		}
		at, part.Columns = append(at, k), append(part.Columns, columns.Columns[k])
	}
	want, err := batch.FromCells(part, wanted.cells) // read in their types, so that 7 is 7.00
	if err != nil {
		return fmt.Errorf("the rows expected at %s: %w", expected.Step, err)
	}
	tried, err := Try(ctx, plan, Trial{Step: id, Sample: exampleRows, Others: exampleRows, Show: exampleRows, Clock: func() time.Time { return b.Now }})
	if err != nil {
		return err
	}
	rows := tried.After.Rows
	for _, br := range tried.Branches {
		if br.Name == output {
			rows = br.Rows.Rows
		}
	}
	o.Columns = wanted.names
	left := map[string]int{}
	for _, row := range rows {
		picked := make([]*string, len(at))
		for i, k := range at {
			picked[i] = row[k]
		}
		left[rowKey(picked)]++
	}
	for i := range want.N {
		row := want.Row(i)
		if key := rowKey(row); left[key] > 0 {
			left[key]--
		} else {
			o.Missing = append(o.Missing, texts(row))
		}
	}
	for _, row := range rows {
		picked := make([]*string, len(at))
		for i, k := range at {
			picked[i] = row[k]
		}
		if key := rowKey(picked); left[key] > 0 {
			left[key]--
			o.Extra = append(o.Extra, texts(picked))
		}
	}
	o.OK = len(o.Missing)+len(o.Extra) == 0
	o.Sentence = fmt.Sprintf("%d rows at %s, as expected", len(rows), expected.Step)
	if !o.OK {
		o.Sentence = fmt.Sprintf("at %s, %d rows that were expected did not come and %d came that were not expected", expected.Step, len(o.Missing), len(o.Extra))
		if len(tried.SetAside) > 0 {
			o.Sentence += fmt.Sprintf("; %d were set aside on the way, the first at %s: %s", len(tried.SetAside), tried.SetAside[0].Step, tried.SetAside[0].Sentence)
		}
	}
	return nil
}

func rowKey(row []*string) string {
	var key strings.Builder
	for _, v := range row {
		if v == nil {
			key.WriteByte(0)
			continue
		}
		fmt.Fprintf(&key, "%d:%s", len(*v)+1, *v)
	}
	return key.String()
}

func texts(row []*string) []string {
	out := make([]string, len(row))
	for i, v := range row {
		if v != nil {
			out[i] = *v
		}
	}
	return out
}
