package step

import (
	"slices"

	"welkin/core/schema"
)

// MadeOf of a Bound gives the columns of the first input whose values a column that
// the step makes may hold. It is for steps of which Uses tells too much.

// madeOfNone is for steps that make no column of others' values.
func madeOfNone(int) []int { return nil }

// MarkPersonal marks the columns that come out of a step as personal: those that
// are named, and those that may hold values of what came in as personal. It gives
// the names that are no column's.
//
// A column that is passed on keeps its mark. One that is made is marked when a
// personal column may be what it is made of and its type can hold the value;
// numbers made of personal texts, such as counts, are not.
func (b *Bound) MarkPersonal(named []string, in []*schema.Schema) (unknown []string) {
	found := map[string]bool{}
	mark := func(s *schema.Schema) *schema.Schema {
		out := s
		for c, col := range s.Columns {
			isNamed := slices.Contains(named, col.Name)
			found[col.Name] = true
			if col.Personal || !isNamed && !b.mayHold(in, s, c) {
				continue
			}
			if out == s { // others may use this schema
				out = &schema.Schema{Columns: slices.Clone(s.Columns)}
			}
			out.Columns[c].Personal = true
		}
		return out
	}
	if b.Schema != nil {
		b.Schema = mark(b.Schema)
	}
	for i := range b.Branches {
		b.Branches[i].Schema = mark(b.Branches[i].Schema)
	}
	for _, name := range named {
		if !found[name] {
			unknown = append(unknown, name)
		}
	}
	return unknown
}

// mayHold tells whether a column that came out without a mark may hold values of a
// personal one.
func (b *Bound) mayHold(in []*schema.Schema, out *schema.Schema, column int) bool {
	col := out.Columns[column]
	if b.MadeOf != nil {
		return slices.ContainsFunc(b.MadeOf(column), func(at int) bool {
			from := in[0].Columns[at]
			return from.Personal && canHold(col.Type, from.Type)
		})
	}
	if b.Carries != nil {
		if at := b.Carries(column); at >= 0 {
			return in[0].Columns[at].Personal
		}
	} else {
		for _, s := range in {
			if at := slices.IndexFunc(s.Columns, func(c schema.Column) bool { return c.Name == col.Name && c.Type == col.Type }); at >= 0 {
				return s.Columns[at].Personal
			}
		}
	}
	for i, used := range b.madeOf(in, out, column) {
		for at, u := range used {
			if from := in[i].Columns[at]; u && from.Personal && canHold(col.Type, from.Type) {
				return true
			}
		}
	}
	return false
}

// madeOf tells which columns of the inputs a column that comes out may be made of.
func (b *Bound) madeOf(in []*schema.Schema, out *schema.Schema, column int) [][]bool {
	if b.Uses == nil || out != b.Schema {
		all := make([][]bool, len(in))
		for i, s := range in {
			all[i] = marked(make([]bool, s.Len()), placesAll(s))
		}
		return all
	}
	wanted := make([]bool, out.Len())
	always := b.Uses(wanted)
	wanted[column] = true
	with := b.Uses(wanted)
	own, some := make([][]bool, len(with)), false
	for i := range with {
		own[i] = make([]bool, len(with[i]))
		for at := range with[i] {
			own[i][at] = with[i][at] && !always[i][at]
			some = some || own[i][at]
		}
	}
	if !some { // it is made of what the step uses in any case
		return with
	}
	return own
}

// canHold tells whether a value of one type can stand in a column of another.
func canHold(column, value schema.Type) bool {
	switch column.Kind {
	case schema.Text, schema.JSON, schema.Bytes, schema.List, schema.Record:
		return true
	case schema.Bool:
		return false
	}
	return column.Kind == value.Kind
}
