package engine

import (
	"fmt"
	"strings"

	"welkin/core/expr"
	"welkin/core/step"
)

// SQL writes what a step gives as one statement for a PostgreSQL database: a
// common table expression for each step before it and for each output. output
// is "" for the main one. An error that is step.ErrNoSQL names the step that
// can't run there, and why.
func (p *Plan) SQL(id, output string) (string, error) {
	target := p.Step(id)
	if target == nil || target.Bound == nil {
		return "", fmt.Errorf("there is no step %q that could run", id)
	}
	number, _, ok := target.Bound.Output(output)
	if !ok {
		return "", fmt.Errorf("step %s has no output %q", id, output)
	}
	parts, err := p.relations(target)
	if err != nil {
		return "", err
	}
	return statement(parts, relation(target, number)), nil
}

// relations writes a step and all before it as common table expressions.
func (p *Plan) relations(target *Planned) ([]string, error) {
	var parts []string
	for _, st := range before(target) {
		if st.Bound.SQL == nil {
			return nil, &StepError{st.ID, fmt.Errorf("%w: there is no SQL for %q", step.ErrNoSQL, st.Kind.Name)}
		}
		from := make([]string, len(st.Inputs))
		for i, in := range st.Inputs {
			from[i] = relation(in.Planned, in.Output)
		}
		outputs, err := st.Bound.SQL(from)
		if err != nil {
			return nil, &StepError{st.ID, err}
		}
		for i, text := range outputs {
			parts = append(parts, relation(st, i)+" AS (\n  "+text+"\n)")
		}
	}
	return parts, nil
}

// statement puts common table expressions before a SELECT.
func statement(parts []string, from string) string {
	return "WITH " + strings.Join(parts, ",\n") + "\nSELECT * FROM " + from
}

// relation names an output in SQL, so that it hides no table.
func relation(p *Planned, output int) string {
	name := "step " + p.ID
	if p.Bound.Schema == nil || output > 0 {
		at := output
		if p.Bound.Schema != nil {
			at--
		}
		name += "." + p.Bound.Branches[at].Name
	}
	return expr.QuoteName(name)
}
