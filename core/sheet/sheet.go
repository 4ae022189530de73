// Package sheet holds the pipeline document: what a sheet consists of
// (sheet.go), how it is read from YAML with the place of every mistake
// (parse.go), how it is written in canonical form (format.go), and how its
// steps hang together (graph.go). What a step's settings mean is not known
// here; package step hands that in as Kinds.
package sheet

import (
	"fmt"
	"regexp"
	"strings"

	"github.com/goccy/go-yaml/ast"

	"welkin/core/expr"
	"welkin/core/schema"
)

// Version is the version of the document's form that this program writes.
const Version = 1

// Sheet is one pipeline.
type Sheet struct {
	Name        string      `json:"name"`
	Description string      `json:"description,omitempty"`
	Parameters  []Parameter `json:"parameters,omitempty"`
	Limits      Limits      `json:"limits"`
	Engine      string      `json:"engine,omitempty" doc:"Where it runs: database or own; in the database when it can, if left out."`
	Stretches   []Stretch   `json:"stretches,omitempty" doc:"Lines that can be shown as one."`
	Examples    []Example   `json:"examples,omitempty" doc:"Rows to try the sheet with, and what must come of them."`
	Steps       []*Step     `json:"steps"`
	Comments    []Comment   `json:"comments,omitempty" yaml:"-" doc:"Those of the text."`
	engineAt    ast.Node
}

// Stretch is a name for steps that follow each other on the sheet.
type Stretch struct {
	Name  string `json:"name"`
	First string `json:"first" doc:"The step with which it begins."`
	Last  string `json:"last" doc:"The step with which it ends."`
}

// Example is a test of a sheet: rows that some places give instead of their own,
// and rows that must come out of others. Rows are text with a header line and
// commas between; an empty value is null.
type Example struct {
	Name   string        `json:"name"`
	Note   string        `json:"note,omitempty"`
	Given  []ExampleRows `json:"given"`
	Expect []ExampleRows `json:"expect,omitempty"`
}

// ExampleRows are rows at a place. Rows expected may have some of its columns
// alone, and come in any order.
type ExampleRows struct {
	Step string `json:"step" doc:"The step; step.output for a step with several outputs."`
	Rows string `json:"rows"`
}

// Where a sheet runs.
const (
	InDatabase = "database" // as a statement in the database in which its tables lie
	OwnEngine  = "own"      // in Welkin's engine
)

// EngineAt gives the place of the engine's setting; 0, 0 when it has none.
func (s *Sheet) EngineAt() (line, column int) {
	if s.engineAt == nil {
		return 0, 0
	}
	return position(s.engineAt.GetToken())
}

// Parameter is a value that a run may be given; settings name it as :name.
type Parameter struct {
	Name    string      `json:"name"`
	Type    schema.Type `json:"type"`
	Default *string     `json:"default,omitempty"`
	Note    string      `json:"note,omitempty"`
}

// Limits end a run that sets too many rows aside. Zero means no limit.
type Limits struct {
	SetAside int64   `json:"set_aside,omitempty" doc:"Rows that may be set aside before the run stops; 0 for no limit."`
	Share    float64 `json:"share,omitempty" doc:"Per cent of the rows read that may be set aside; 0 for no limit."`
}

// What a step does with a row it can't use.
const (
	SetAside = "set aside"
	Stop     = "stop"
)

// Step is one line of a sheet.
type Step struct {
	ID       string   `json:"id"`
	Kind     string   `json:"kind"`
	From     string   `json:"from,omitempty" doc:"The step whose rows come in; step.output for a step with several outputs."`
	With     string   `json:"with,omitempty" doc:"The other step, for kinds that combine two."`
	More     []string `json:"more,omitempty" doc:"Further steps, for kinds that combine any number."`
	Note     string   `json:"note,omitempty"`
	Problems string   `json:"problems,omitempty" enum:"set aside,stop" doc:"What happens to a row that can't be used; set aside when left out."`
	Personal []string `json:"personal,omitempty" doc:"Columns that come out whose values are personal: they are hidden, in what Welkin keeps, from people below the role builder."`
	Settings any      `json:"settings"`
	node     ast.Node // the step's mapping, for places; nil when not from text
}

// Inputs lists where rows come from, in the order of the kind's ports: each the
// name of a step, or step.output.
func (s *Step) Inputs() []string {
	var in []string
	if s.From != "" {
		in = append(in, s.From)
	}
	if s.With != "" {
		in = append(in, s.With)
	}
	return append(in, s.More...)
}

// Source cuts a place that rows come from into the step and its output, which is
// "" for the only or main one.
func Source(place string) (step, output string) {
	step, output, _ = strings.Cut(place, ".")
	return step, output
}

// Step gives the step called id, or nil.
func (s *Sheet) Step(id string) *Step {
	for _, st := range s.Steps {
		if st.ID == id {
			return st
		}
	}
	return nil
}

// Problem is a mistake in a sheet: where, and a sentence about what and what to
// do. Line and Column count from 1 and are 0 when the sheet has no text.
type Problem struct {
	Step     string `json:"step,omitempty"`
	Path     string `json:"path,omitempty" doc:"The setting, such as columns[2].value."`
	Line     int    `json:"line,omitempty"`
	Column   int    `json:"column,omitempty"`
	Sentence string `json:"sentence"`
	Warning  bool   `json:"warning,omitempty" doc:"Said before the run, but not in its way."`
}

func (p Problem) String() string {
	where := ""
	if p.Line > 0 {
		where = fmt.Sprintf("line %d, column %d: ", p.Line, p.Column)
	}
	if p.Step != "" {
		where += fmt.Sprintf("step %s: ", p.Step)
	}
	return where + p.Sentence
}

// Kinds knows the settings of each kind of step.
type Kinds interface {
	// New gives a pointer to the settings of a kind, to be filled; nil when
	// there is no such kind.
	New(kind string) any
	Names() []string
	// Ports tells how many inputs a kind takes at least and at most.
	Ports(kind string) (least, most int)
}

var idPattern = regexp.MustCompile(`^[\p{L}_][\p{L}\p{N}_ -]*$`)

// Values gives the parameters with the values of a run: those given, else their
// defaults. A value that is not of the parameter's type, or a name that the
// sheet has not, is an error.
func (s *Sheet) Values(given map[string]string) (map[string]expr.Param, error) {
	out := map[string]expr.Param{}
	for _, p := range s.Parameters {
		v := p.Default
		if g, ok := given[p.Name]; ok {
			v = &g
		}
		if v != nil && !expr.Literal(p.Type, *v) {
			return nil, fmt.Errorf("parameter %s is %s; %q can't be read as that", p.Name, p.Type, *v)
		}
		out[p.Name] = expr.Param{Type: p.Type, Value: v}
	}
	for name := range given {
		if _, ok := out[name]; !ok {
			return nil, fmt.Errorf("the sheet has no parameter %q", name)
		}
	}
	return out, nil
}
