package step

import (
	"github.com/apache/arrow-go/v18/arrow/array"

	"welkin/core/batch"
	"welkin/core/expr"
	"welkin/core/schema"
)

var keepRows = Kind{
	Name: "keep rows", Role: Work, Ports: []string{"rows"}, New: func() Settings { return &KeepRows{} },
	Help: "Keeps the rows for which a condition is true and drops the others.", Example: "nights > 0 AND hut IS NOT NULL",
	Words: "filter where condition drop remove rows",
}

// KeepRows keeps the rows whose condition is true; where it is false or unknown
// the row is dropped.
type KeepRows struct {
	Where string `json:"where" jsonschema:"title=where,description=A condition in SQL; rows for which it is true stay,format=sql"`
}

// Sentence implements Settings.
func (s *KeepRows) Sentence() string { return "keep rows where `" + orElse(s.Where, "…") + "`" }

// Bind implements Settings.
func (s *KeepRows) Bind(c *Context, in []*schema.Schema) *Bound {
	where, err := expr.BindCondition(s.Where, c.scope(in[0]))
	if err != nil {
		c.exprProblem("where", s.Where, err)
		return &Bound{Schema: in[0]}
	}
	return &Bound{Schema: in[0], Carries: carriesAll, Operator: func() Operator { return &keepOperator{where: where} }, Uses: passesOn(in[0], where.Columns...), SQL: oneSQL(func(from []string) (string, error) {
		condition, err := where.SQL()
		return "SELECT * FROM " + from[0] + " WHERE " + condition, err
	})}
}

type keepOperator struct {
	RowWise
	where *expr.Program
}

func (o *keepOperator) Push(_ int, b *batch.Batch, out Emitter) error {
	values, problems := o.where.Eval(out.Env(), b)
	keep := values.(*array.Boolean)
	rows := make([]int32, 0, b.N)
	dropped := 0
	for i := range b.N {
		if len(problems) > 0 && problems[0].Row == int32(i) {
			if err := out.SetAside(b, i, "", o.where.Text, problems[0].Fault); err != nil {
				return err
			}
			problems = problems[1:]
			continue
		}
		if keep.IsValid(i) && keep.Value(i) {
			rows = append(rows, int32(i))
		} else {
			dropped++
		}
	}
	out.Dropped(dropped)
	if len(rows) == b.N {
		return out.Emit(b)
	}
	return out.Emit(b.Take(rows))
}
