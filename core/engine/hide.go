package engine

import (
	"encoding/csv"
	"slices"
	"strings"
	"unicode/utf8"

	"welkin/core/schema"
	"welkin/core/sheet"
)

// Hidden stands for a personal value where it is not shown.
const Hidden = "•••"

// personalNames lists the personal columns of the rows that reach a step, or that
// a read makes.
func (p *Planned) personalNames() []string {
	var out []string
	add := func(s *schema.Schema) {
		for _, c := range s.Columns {
			if c.Personal && !slices.Contains(out, c.Name) {
				out = append(out, c.Name)
			}
		}
	}
	for _, in := range p.Inputs {
		add(in.Schema())
	}
	if s := p.Schema(); s != nil && len(p.Inputs) == 0 {
		add(s)
	}
	return out
}

// Hidden gives a row set aside without its personal values: in its cells, in the
// value that was refused, and where the sentence or the key quotes them. A record
// as it stood in its file is hidden as a whole.
func (r SetAsideRow) Hidden() SetAsideRow {
	if len(r.Personal) == 0 {
		return r
	}
	fault := *r.Fault
	r.Fault = &fault
	var values []string
	r.Cells = slices.Clone(r.Cells)
	for i, name := range r.Names {
		if i < len(r.Cells) && r.Cells[i] != nil && slices.Contains(r.Personal, name) {
			values = append(values, *r.Cells[i])
			hidden := Hidden
			r.Cells[i] = &hidden
		}
	}
	if r.Value != "" && (r.Column == "" || slices.Contains(r.Personal, r.Column) || slices.Contains(values, r.Value)) {
		values = append(values, r.Value)
		r.Value = Hidden
	}
	if r.Raw != "" {
		r.Raw = Hidden
	}
	// long ones first: a short one may be a part of them
	slices.SortFunc(values, func(a, b string) int { return len(b) - len(a) })
	for _, v := range values {
		fault.Sentence, r.Key = without(fault.Sentence, v), without(r.Key, v)
	}
	return r
}

// shortValue is how many characters a value may have to be looked for only between
// marks, where it can't be a part of a word.
const shortValue = 2

// without hides a value in a text.
func without(text, value string) string {
	if strings.TrimSpace(value) == "" {
		return text
	}
	if utf8.RuneCountInString(value) > shortValue {
		return strings.ReplaceAll(text, value, Hidden)
	}
	for _, marks := range []string{`""`, "``", "''"} {
		text = strings.ReplaceAll(text, marks[:1]+value+marks[1:], marks[:1]+Hidden+marks[1:])
	}
	if before, last, ok := strings.Cut(text, "="); ok && last == value { // a key
		return before + "=" + Hidden
	}
	return text
}

// HideExamples gives the plan's sheet with the personal values of its examples
// hidden; rows whose columns are not known are hidden whole.
func (p *Plan) HideExamples() *sheet.Sheet {
	out := *p.Sheet
	out.Examples = slices.Clone(out.Examples)
	for i, e := range out.Examples {
		e.Given, e.Expect = p.hideRows(e.Given), p.hideRows(e.Expect)
		out.Examples[i] = e
	}
	return &out
}

func (p *Plan) hideRows(list []sheet.ExampleRows) []sheet.ExampleRows {
	list = slices.Clone(list)
	for i, rows := range list {
		id, output := sheet.Source(rows.Step)
		var columns *schema.Schema
		if st := p.Step(id); st != nil && st.Bound != nil {
			_, columns, _ = st.Bound.Output(output)
		}
		table, err := readTable(rows.Rows)
		if err != nil {
			list[i].Rows = Hidden
			continue
		}
		hide := make([]bool, len(table.names))
		some := false
		for k, name := range table.names {
			at := -1
			if columns != nil {
				at = columns.Index(name)
			}
			hide[k] = at < 0 || columns.Columns[at].Personal
			some = some || hide[k]
		}
		if some {
			list[i].Rows = table.text(hide)
		}
	}
	return list
}

// text writes a table with some of its columns hidden.
func (t *table) text(hide []bool) string {
	var out strings.Builder
	w := csv.NewWriter(&out)
	_ = w.Write(t.names)
	for _, row := range t.cells {
		cells := make([]string, len(row))
		for k, c := range row {
			if c != nil {
				if cells[k] = *c; k < len(hide) && hide[k] {
					cells[k] = Hidden
				}
			}
		}
		_ = w.Write(cells)
	}
	w.Flush()
	return out.String()
}
