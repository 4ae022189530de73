package step

import (
	"fmt"
	"strings"

	pg "github.com/pganalyze/pg_query_go/v6"

	"welkin/core/expr"
	"welkin/core/schema"
)

var sqlKind = Kind{
	Name: "sql", Role: Work, Ports: []string{"rows", "more rows"}, Many: true, New: func() Settings { return &SQLStep{} },
	Help: "Asks a SELECT of the rows of any steps before it, which it names like tables.", Example: "SELECT hut, sum(beds) FROM stays JOIN huts USING (hut) GROUP BY hut",
	Words: "query select join group subquery cte union window code",
}

// SQLStep asks a query of its inputs. A table in it is the name of an input: a
// step, or step.output.
type SQLStep struct {
	Query string `json:"query" jsonschema:"title=query,format=sql"`
}

// Sentence implements Settings.
func (s *SQLStep) Sentence() string {
	return "`" + orElse(strings.Join(strings.Fields(s.Query), " "), "SELECT …") + "`"
}

// Bind implements Settings.
func (s *SQLStep) Bind(c *Context, in []*schema.Schema) *Bound {
	if strings.TrimSpace(s.Query) == "" {
		c.Problem("query", "no query yet; write a SELECT over the steps named under `from` and `with`")
		return nil
	}
	query, err := expr.ParseQuery(s.Query, c.Params)
	if err != nil {
		c.exprProblem("query", s.Query, err)
		return nil
	}
	p := &sqlPlanner{c: c, graph: &subgraph{inputs: len(in)}, tables: map[string]relation{}}
	for i, name := range c.Inputs {
		p.tables[name] = relation{source: subsource{node: -1, input: i}, schema: in[i]}
	}
	out, err := p.query(query, nil)
	if err != nil {
		c.exprProblem("query", s.Query, err)
		return nil
	}
	if out.source.node < 0 {
		if out, err = p.step(&KeepRows{Where: "true"}, out); err != nil {
			c.exprProblem("query", s.Query, err)
			return nil
		}
	}
	c.distinctNames(out.schema, func(int) string { return "query" })
	return &Bound{Schema: out.schema, Operator: func() Operator { return p.graph.operator(out.source) }, SQL: oneSQL(func(from []string) (string, error) {
		return s.sql(c, out.schema, from)
	})}
}

// sql writes the query over relations of other names, its columns in the types
// they have here.
func (s *SQLStep) sql(c *Context, out *schema.Schema, from []string) (string, error) {
	query, err := expr.ParseQuery(s.Query, c.Params)
	if err != nil {
		return "", err
	}
	names := map[string]string{}
	for i, name := range c.Inputs {
		names[name] = from[i]
	}
	expr.VisitTables(query, func(t *pg.RangeVar) {
		if to, ok := names[tableName(t)]; ok && !isCTE(query, t) {
			if t.Alias == nil {
				t.Alias = &pg.Alias{Aliasname: t.Relname}
			}
			t.Schemaname, t.Relname = "", strings.ReplaceAll(strings.Trim(to, `"`), `""`, `"`)
		}
	})
	text, err := expr.QuerySQL(query)
	if err != nil {
		return "", err
	}
	cols, named := make([]string, out.Len()), make([]string, out.Len())
	for i, col := range out.Columns {
		if col.Type.Kind == schema.Record {
			return "", noSQL("a record has no type of its own in PostgreSQL")
		}
		named[i] = expr.QuoteName(col.Name)
		cols[i] = fmt.Sprintf("%s::%s AS %s", named[i], col.Type.Postgres(), named[i])
	}
	return "SELECT " + strings.Join(cols, ", ") + " FROM (" + text + ") AS q(" + strings.Join(named, ", ") + ")", nil
}

func tableName(t *pg.RangeVar) string {
	if t.Schemaname != "" {
		return t.Schemaname + "." + t.Relname
	}
	return t.Relname
}

// isCTE tells whether a table is one that the query itself defines.
func isCTE(query *pg.SelectStmt, t *pg.RangeVar) bool {
	if t.Schemaname != "" {
		return false
	}
	found := false
	expr.VisitSelects(query, func(s *pg.SelectStmt) {
		for _, cte := range s.GetWithClause().GetCtes() {
			found = found || cte.GetCommonTableExpr().GetCtename() == t.Relname
		}
	})
	return found
}
