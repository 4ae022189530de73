package step

import (
	"welkin/core/expr"
	"welkin/core/schema"
)

// Uses of a Bound tells which columns a step needs, by input, when those wanted
// of its output are to be right: a run carries no others. What it leaves out must
// make no difference to any row that comes out, nor to whether a row is set
// aside.

// passesOn is for steps with one input whose output begins with the input's
// columns; besides those wanted behind they use some themselves.
func passesOn(in *schema.Schema, used ...int) func(wanted []bool) [][]bool {
	return func(wanted []bool) [][]bool {
		return [][]bool{marked(append([]bool{}, wanted[:in.Len()]...), used)}
	}
}

// usesOnly is for steps with one input that use some columns, whatever is wanted.
func usesOnly(in *schema.Schema, used []int) func(wanted []bool) [][]bool {
	return func([]bool) [][]bool { return [][]bool{marked(make([]bool, in.Len()), used)} }
}

func marked(columns []bool, used []int) []bool {
	for _, c := range used {
		columns[c] = true
	}
	return columns
}

// readBy lists the columns that programs read; nil programs read none.
func readBy(programs ...*expr.Program) []int {
	var out []int
	for _, p := range programs {
		if p != nil {
			out = append(out, p.Columns...)
		}
	}
	return out
}

// columns lists the columns of an ordering.
func (o ordering) columns() []int {
	out := make([]int, len(o))
	for i, k := range o {
		out[i] = k.column
	}
	return out
}
