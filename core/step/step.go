// Package step has every kind of step: one file a kind, with its settings, the
// rule that gives its columns, its sentence and its operator. step.go says what
// a kind offers, operator.go what its running part offers, world.go what it may
// ask of the outside, registry.go lists the kinds.
//
// A new kind is one new file (see keep.go for the smallest) and a line in
// registry.go.
package step

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"welkin/core/expr"
	"welkin/core/schema"
)

// Role is a kind's part in a sheet.
type Role string

// The roles: a read has no inputs, a write no output.
const (
	Read  Role = "read"
	Work  Role = "work"
	Write Role = "write"
)

// Kind describes a kind of step.
type Kind struct {
	Name    string          `json:"name"`
	Role    Role            `json:"role"`
	Ports   []string        `json:"ports" doc:"What each input is for."`
	Many    bool            `json:"many,omitempty" doc:"The last input may come any number of times, also not at all."`
	Help    string          `json:"help"`
	Example string          `json:"example"`
	Words   string          `json:"words" doc:"Other words by which it is found."`
	New     func() Settings `json:"-"`
}

// Settings are the settings of one kind. They read from and write to JSON and
// YAML by their json tags.
type Settings interface {
	// Sentence says in words what the step does with its settings; what stands
	// in backticks is shown as data.
	Sentence() string
	// Bind checks the settings against the inputs' columns and gives what the
	// step will do. Mistakes go to c; with mistakes the result may be nil, or
	// hold the output columns as far as they are known.
	Bind(c *Context, in []*schema.Schema) *Bound
}

// Bound is a step whose settings fit its inputs.
type Bound struct {
	Schema   *schema.Schema                      // what comes out; nil for a write, and for a step with branches alone
	Branches []Branch                            // further outputs by name; their numbers follow that of Schema
	Operator func() Operator                     // for a work step
	SQL      func(in []string) ([]string, error) // see sql.go; nil when the step has no SQL
	Database string                              // the connection in which a table is read or written; "" for others
	Source   Source                              // for a read
	Target   Target                              // for a write
	Uses     func(wanted []bool) [][]bool        // see uses.go; nil when all columns of all inputs are used
	Keys     *Keys                               // see wanted.go; nil when rows are not looked for by a key
	Carries  Carries                             // see wanted.go; nil for no column
	MadeOf   func(column int) []int              // see marks.go; nil when Uses tells enough
	Hint     func() map[string]any               // more for the screen, such as what was found; may be nil
}

// Branch is a named output of a step: others take its rows as step.name.
type Branch struct {
	Name   string
	Schema *schema.Schema
}

// Output gives the number and columns of an output by its name, "" for the main
// one; ok is false when there is none.
func (b *Bound) Output(name string) (number int, s *schema.Schema, ok bool) {
	if b.Schema != nil {
		if name == "" {
			return 0, b.Schema, true
		}
		number++
	}
	for i, br := range b.Branches {
		if br.Name == name {
			return number + i, br.Schema, true
		}
	}
	return 0, nil, false
}

// Context is what Bind may use.
type Context struct {
	context.Context
	World    World
	Params   map[string]expr.Param
	Now      time.Time
	Pipeline string // names the load in its target
	Step     string
	Inputs   []string // what the inputs are called: step or step.output
	// Distinct reads the rows of an input and gives at most limit values of a
	// column as text, in order, without null; whole is false when not all rows were
	// read. It is nil where no rows can be read.
	Distinct func(input, column, limit int) (values []string, whole bool, err error)
	problems []Problem
}

// Problem is a mistake in a step's settings; Path names the setting.
type Problem struct {
	Path     string
	Sentence string
	Warning  bool
}

// Problem reports a mistake.
func (c *Context) Problem(path, format string, args ...any) {
	c.problems = append(c.problems, Problem{Path: path, Sentence: fmt.Sprintf(format, args...)})
}

// Warn reports something worth knowing that does not stop a run.
func (c *Context) Warn(path, format string, args ...any) {
	c.problems = append(c.problems, Problem{path, fmt.Sprintf(format, args...), true})
}

// Problems gives what was reported.
func (c *Context) Problems() []Problem { return c.problems }

// Failed tells whether a mistake (not a mere warning) was reported.
func (c *Context) Failed() bool {
	for _, p := range c.problems {
		if !p.Warning {
			return true
		}
	}
	return false
}

// exprProblem reports an expression's mistake with its place in the text.
func (c *Context) exprProblem(path, text string, err error) {
	var e *expr.Error
	if errors.As(err, &e) && e.Offset > 0 {
		c.Problem(path, "%s (at %q)", e.Sentence, firstWord(text[min(e.Offset, len(text)):]))
		return
	}
	c.Problem(path, "%s", err)
}

func firstWord(s string) string {
	words := strings.Fields(s)
	if len(words) == 0 {
		return "the end"
	}
	return words[0]
}

// paramText gives the value of a parameter of the sheet as text.
func (c *Context) paramText(name string) (string, error) {
	p, ok := c.Params[name]
	if !ok {
		return "", fmt.Errorf("the sheet has no parameter %q", name)
	}
	if p.Value == nil {
		return "", fmt.Errorf("the parameter %q has no value", name)
	}
	return *p.Value, nil
}

// scope gives what expressions over a schema may name.
func (c *Context) scope(s *schema.Schema) expr.Scope { return expr.Scope{Schema: s, Params: c.Params} }

// column finds a column by name and reports when it is not there.
func (c *Context) column(path string, s *schema.Schema, name string) int {
	i := s.Index(name)
	if i < 0 {
		hint := ""
		if near := s.Nearest(name); near != "" {
			hint = fmt.Sprintf("; did you mean %q?", near)
		} else if s.Len() <= 12 {
			hint = "; there are " + strings.Join(s.Names(), ", ")
		}
		if name == "" {
			c.Problem(path, "a column's name is missing here")
		} else {
			c.Problem(path, "there is no column %q%s", name, hint)
		}
	}
	return i
}

// distinctNames reports names that come twice or are empty.
func (c *Context) distinctNames(s *schema.Schema, path func(i int) string) {
	seen := map[string]bool{}
	for i, col := range s.Columns {
		switch {
		case strings.TrimSpace(col.Name) == "":
			c.Problem(path(i), "the column has no name")
		case seen[col.Name]:
			c.Problem(path(i), "two columns would be called %q; give one another name", col.Name)
		}
		seen[col.Name] = true
	}
}

// list words a few names: "a, b, 3 more".
func list(names []string, limit int) string {
	quoted := make([]string, 0, limit)
	for i, n := range names {
		if i == limit {
			return strings.Join(quoted, ", ") + fmt.Sprintf(", %d more", len(names)-limit)
		}
		quoted = append(quoted, "`"+n+"`")
	}
	return strings.Join(quoted, ", ")
}

func orElse(s, fallback string) string {
	if s == "" {
		return fallback
	}
	return s
}
