package engine

import (
	"context"
	"errors"
	"fmt"

	"welkin/core/sheet"
	"welkin/core/step"
)

// A sheet whose reads and whose load lie in one database can run there, as one
// statement that fills the load. The database then computes; Welkin counts by
// what the database counted, checks the rows against the table, and commits as
// always. A row that the database can't compute ends the statement: then nothing
// was loaded, and the engine does the run and sets that row aside.

// InDatabase is a sheet as it runs in a database.
type InDatabase struct {
	Connection string
	Statement  string // gives the rows that are loaded
	target     *Planned
	fill       step.Fill
	counted    []Input // by relation of fill.Count
}

// InDatabase writes the sheet for its database. The error is a sentence that says
// why it can't run there.
func (p *Plan) InDatabase() (*InDatabase, error) {
	if !p.Ready() {
		return nil, errors.New("the sheet has mistakes")
	}
	d := &InDatabase{}
	for _, st := range p.Steps {
		switch {
		case st.Kind.Role == step.Write && d.target != nil:
			return nil, fmt.Errorf("two steps write, %s and %s; a database fills one load by one statement", d.target.ID, st.ID)
		case st.Kind.Role == step.Write:
			d.target = st
		}
	}
	if d.target == nil {
		return nil, errors.New("no step writes into a database")
	}
	if d.Connection = d.target.Bound.Database; d.Connection == "" {
		return nil, fmt.Errorf("step %s does not write into a database", d.target.ID)
	}
	steps := before(d.target)
	for _, st := range steps {
		if at := st.Bound.Database; at != "" && at != d.Connection {
			return nil, fmt.Errorf("step %s does not read from %s, into which step %s writes", st.ID, d.Connection, d.target.ID)
		}
	}
	in := d.target.Inputs[0]
	parts, err := p.relations(in.Planned)
	if err != nil {
		return nil, err
	}
	_, output := sheet.Source(in.Place)
	if d.Statement, err = p.SQL(in.ID, output); err != nil {
		return nil, err
	}
	d.fill = step.Fill{With: parts, From: relation(in.Planned, in.Output), Columns: in.Schema().Names()}
	for _, st := range steps {
		for number := range outputsOf(st) {
			d.counted = append(d.counted, Input{Planned: st, Output: number})
			d.fill.Count = append(d.fill.Count, relation(st, number))
		}
	}
	return d, nil
}

// outputsOf counts a step's outputs.
func outputsOf(p *Planned) int {
	n := len(p.Bound.Branches)
	if p.Bound.Schema != nil {
		n++
	}
	return n
}

// where tells in which database a run is to be done; nil for the engine. A sheet
// that says nothing runs in its database when it can.
func (p *Plan) where() *InDatabase {
	if p.Sheet.Engine == sheet.OwnEngine || p.positioned() {
		return nil
	}
	d, err := p.InDatabase()
	if err != nil {
		return nil
	}
	return d
}

// fill lets the database do the work of all steps.
func (r *run) fill(d *InDatabase) error {
	n := r.byID[d.target.ID]
	if n.load.held != nil {
		return nil
	}
	defer r.enter(n)()
	filler, ok := n.load.load.(step.Filler)
	if !ok {
		return n.wrap(fmt.Errorf("the connection %s can't fill a table by a statement; write engine: %s into the sheet", d.Connection, sheet.OwnEngine))
	}
	counts, err := filler.Fill(r.ctx, d.fill)
	if err != nil {
		return n.wrap(err)
	}
	for i, c := range d.counted {
		a := &r.byID[c.ID].account
		a.InDatabase, a.Begin, a.End = true, max(a.Begin, 0), r.since()
		a.Out += counts[i]
		if a.Outs != nil {
			a.Outs[c.Output] = counts[i]
		}
		if c.Kind.Role == step.Read {
			a.In[0] = counts[i]
			r.summary.Read += counts[i]
		} else {
			a.Made += counts[i]
		}
	}
	for _, c := range d.counted {
		r.byID[c.ID].feed()
	}
	n.account.InDatabase, n.account.Begin = true, 0
	n.feed()
	return nil
}

// feed counts the rows that came in, when the database moved them: a step took
// all that came in up and made what went out.
func (n *node) feed() {
	for in, from := range n.Inputs {
		n.account.In[in] = n.run.byID[from.ID].account.outputs()[from.Output]
		if n.load == nil {
			n.account.Absorbed += n.account.In[in]
		}
	}
}

// Explain gives how the database would go about the statement.
func (d *InDatabase) Explain(ctx context.Context, w step.World) (string, error) {
	db, err := w.Tables(ctx, d.Connection)
	if err != nil {
		return "", err
	}
	explainer, ok := db.(step.Explainer)
	if !ok {
		return "", fmt.Errorf("the connection %s can't tell how it would go about it", d.Connection)
	}
	return explainer.Explain(ctx, d.Statement)
}

// checkEngine says what is wrong with the sheet's choice of where it runs.
func (p *Plan) checkEngine() {
	problem := sheet.Problem{Path: "engine"}
	problem.Line, problem.Column = p.Sheet.EngineAt()
	switch p.Sheet.Engine {
	case "", sheet.OwnEngine:
		return
	case sheet.InDatabase:
		if !p.Ready() {
			return
		}
		_, err := p.InDatabase()
		if err == nil {
			return
		}
		problem.Sentence = fmt.Sprintf("the sheet can't run in a database: %s. Change that, or write engine: %s", err, sheet.OwnEngine)
	default:
		problem.Sentence = fmt.Sprintf("engine is %s or %s, not %q", sheet.InDatabase, sheet.OwnEngine, p.Sheet.Engine)
	}
	p.Problems = append(p.Problems, problem)
}
