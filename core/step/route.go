package step

import (
	"fmt"
	"strings"

	"github.com/apache/arrow-go/v18/arrow/array"

	"welkin/core/batch"
	"welkin/core/expr"
	"welkin/core/schema"
)

var routeRows = Kind{
	Name: "route", Role: Work, Ports: []string{"rows"}, New: func() Settings { return &Route{} },
	Help: "Sends rows to branches by rules, with a branch for the rest. Others take them as step.branch.", Example: "closed: danger >= 4; rest: open",
	Words: "switch case branch conditional split if else filter many",
}

// Route sends each row to the first branch whose rule is true, or to every such
// branch; a row that none takes goes to the rest.
type Route struct {
	Branches []RouteBranch `json:"branches" jsonschema:"title=branches"`
	Rest     string        `json:"rest,omitempty" jsonschema:"title=rest,description=The name of the branch for all others; rest when left out"`
	Match    string        `json:"match,omitempty" jsonschema:"title=a row goes to,enum=the first that fits,enum=all that fit"`
}

// RouteBranch is one branch.
type RouteBranch struct {
	Name  string `json:"name" jsonschema:"title=branch"`
	Where string `json:"where" jsonschema:"title=where,description=A condition in SQL,format=sql"`
}

// RouteAll sends a row to all branches that fit.
const RouteAll = "all that fit"

// Sentence implements Settings.
func (s *Route) Sentence() string {
	names := make([]string, len(s.Branches))
	for i, b := range s.Branches {
		names[i] = b.Name
	}
	return "route to " + list(append(names, orElse(s.Rest, "rest")), 5)
}

// Bind implements Settings.
func (s *Route) Bind(c *Context, in []*schema.Schema) *Bound {
	o := &routeOperator{all: s.Match == RouteAll}
	if s.Match != "" && !o.all && s.Match != "the first that fits" {
		c.Problem("match", "a row goes to the first that fits or to all that fit, not %q", s.Match)
	}
	bound := &Bound{}
	seen := map[string]bool{}
	branch := func(path, name string) {
		switch {
		case strings.TrimSpace(name) == "":
			c.Problem(path, "the branch has no name")
		case seen[name]:
			c.Problem(path, "two branches are called %q", name)
		}
		seen[name] = true
		bound.Branches = append(bound.Branches, Branch{name, in[0]})
	}
	for i, b := range s.Branches {
		path := fmt.Sprintf("branches[%d]", i)
		branch(path+".name", b.Name)
		where, err := expr.BindCondition(b.Where, c.scope(in[0]))
		if err != nil {
			c.exprProblem(path+".where", b.Where, err)
		}
		o.rules = append(o.rules, where)
	}
	if len(s.Branches) == 0 {
		c.Problem("branches", "no branch yet; give one a name and a rule")
	}
	branch("rest", orElse(s.Rest, "rest"))
	bound.Operator = func() Operator { return o }
	bound.SQL = func(from []string) ([]string, error) {
		var before, out []string
		for _, rule := range o.rules {
			condition, err := rule.SQL()
			if err != nil {
				return nil, err
			}
			where := condition + " IS TRUE"
			if !o.all {
				where = strings.Join(append([]string{where}, before...), " AND ")
			}
			before = append(before, condition+" IS NOT TRUE")
			out = append(out, "SELECT * FROM "+from[0]+" WHERE "+where)
		}
		return append(out, "SELECT * FROM "+from[0]+" WHERE "+strings.Join(before, " AND ")), nil
	}
	return bound
}

type routeOperator struct {
	RowWise
	rules []*expr.Program
	all   bool
}

func (o *routeOperator) Push(_ int, b *batch.Batch, out Emitter) error {
	taken, bad := make([]int, b.N), map[int32]bool{}
	rows := make([][]int32, len(o.rules)+1)
	left := make([]int32, b.N) // rows the next rule is asked for
	for i := range left {
		left[i] = int32(i)
	}
	for k, rule := range o.rules {
		part := b
		if len(left) < b.N {
			part = b.Take(left)
		}
		values, problems := rule.Eval(out.Env(), part)
		failed := map[int32]bool{}
		for _, problem := range problems {
			row := left[problem.Row]
			failed[row], bad[row] = true, true
			if err := out.SetAside(b, int(row), "", rule.Text, problem.Fault); err != nil {
				return err
			}
		}
		keep := values.(*array.Boolean)
		next := make([]int32, 0, len(left))
		for i, row := range left {
			hit := !failed[row] && keep.IsValid(i) && keep.Value(i)
			if hit {
				taken[row]++
				rows[k] = append(rows[k], row)
			}
			if !failed[row] && (o.all || !hit) {
				next = append(next, row)
			}
		}
		left = next
	}
	made := 0
	for i := range int32(b.N) {
		switch {
		case bad[i] && taken[i] > 0: // set aside by a later rule: the row leaves the branches it was in
			for k := range rows {
				rows[k] = dropRow(rows[k], i)
			}
		case bad[i]:
		case taken[i] == 0:
			rows[len(o.rules)] = append(rows[len(o.rules)], i)
		default:
			made += taken[i] - 1
		}
	}
	out.Made(made)
	for k, r := range rows {
		if len(r) > 0 {
			if err := out.EmitTo(k, b.Take(r)); err != nil {
				return err
			}
		}
	}
	return nil
}

func dropRow(rows []int32, row int32) []int32 {
	out := rows[:0]
	for _, r := range rows {
		if r != row {
			out = append(out, r)
		}
	}
	return out
}
