package step

import (
	"context"
	"fmt"
	"strings"

	"welkin/core/expr"
	"welkin/core/schema"
)

var readTable = Kind{
	Name: "read table", Role: Read, New: func() Settings { return &ReadTable{} },
	Help: "Reads a table, or what a SELECT gives, from a database.", Example: "stays from booking",
	Words: "database query sql select source postgresql",
}

// ReadTable reads a table or a query.
type ReadTable struct {
	Connection string   `json:"connection" jsonschema:"title=connection,format=tables"`
	Table      string   `json:"table,omitempty" jsonschema:"title=table,description=Its name or schema.name"`
	Query      string   `json:"query,omitempty" jsonschema:"title=query,description=A SELECT in the database's own SQL instead of a table,format=query"`
	Columns    []string `json:"columns,omitempty" jsonschema:"title=columns,description=The columns wanted; all when left out"`
	Growing    *Growing `json:"growing,omitempty" jsonschema:"title=only what is new,description=Reads on from where the last run ended; all rows each time when left out"`
}

// Sentence implements Settings.
func (s *ReadTable) Sentence() string {
	if s.Growing != nil && s.Growing.Column != "" {
		return "read what is new in `" + orElse(s.Table, "the query") + "` by `" + s.Growing.Column + "` from " + orElse(s.Connection, "…")
	}
	if s.Query != "" {
		return "read `" + strings.Join(strings.Fields(s.Query), " ") + "` from " + orElse(s.Connection, "…")
	}
	return "read `" + orElse(s.Table, "…") + "` from " + orElse(s.Connection, "…")
}

// Bind implements Settings.
func (s *ReadTable) Bind(c *Context, _ []*schema.Schema) *Bound {
	switch {
	case s.Connection == "":
		c.Problem("connection", "no connection yet; choose one that holds tables")
	case s.Table == "" && s.Query == "":
		c.Problem("table", "no table yet; give its name, or a query")
	case s.Table != "" && s.Query != "":
		c.Problem("query", "give a table or a query, not both")
	}
	if c.Failed() {
		return nil
	}
	db, err := c.World.Tables(c, s.Connection)
	if err != nil {
		c.Problem("connection", "%s", err)
		return nil
	}
	read := TableRead{Table: s.Table, Query: s.Query}
	var have *schema.Schema
	if s.Query != "" {
		if have, err = db.Query(c, s.Query); err != nil {
			c.Problem("query", "%s", err)
			return nil
		}
	} else {
		table, err := db.Table(c, s.Table)
		if err != nil {
			c.Problem("table", "%s", err)
			return nil
		}
		if table == nil {
			c.Problem("table", "there is no table %q in %s; it may have been renamed or dropped, or %s may not be allowed to see it", s.Table, s.Connection, s.Connection)
			return nil
		}
		for _, name := range table.Strange {
			c.Warn("table", "column %q has a type that Welkin has not; it is read as text", name)
		}
		have, read.Keys, read.Relation = table.Schema, table.Keys, table.Relation
	}
	out := have
	if len(s.Columns) > 0 {
		out = &schema.Schema{}
		for i, name := range s.Columns {
			if at := c.column(fmt.Sprintf("columns[%d]", i), have, name); at >= 0 {
				out.Columns = append(out.Columns, have.Columns[at])
			}
		}
	}
	c.distinctNames(out, func(i int) string { return fmt.Sprintf("columns[%d]", i) })
	read.Schema, read.Columns = out, out.Names()
	source := &tableSource{db, read}
	if s.Growing != nil {
		growing := s.Growing.bind(c, source, have)
		if growing == nil {
			return &Bound{Schema: out}
		}
		return &Bound{Schema: out, Source: growing}
	}
	if _, ok := db.(Explainer); !ok { // it speaks a SQL of its own
		return &Bound{Schema: out, Source: source}
	}
	return &Bound{Schema: out, Database: s.Connection, Source: source, SQL: oneSQL(func([]string) (string, error) { return read.sql() })}
}

// sql reads the table or query where it lies, each column in the type it has
// here.
func (r TableRead) sql() (string, error) {
	cols := make([]string, r.Schema.Len())
	for i, c := range r.Schema.Columns {
		name := expr.QuoteName(c.Name)
		cols[i] = name + "::" + c.Type.Postgres() + " AS " + name
	}
	from := ""
	if r.Query != "" {
		from = "(" + strings.TrimRight(strings.TrimSpace(r.Query), ";") + "\n) AS q"
	} else {
		from = r.Relation
	}
	return "SELECT " + strings.Join(cols, ", ") + " FROM " + from, nil
}

type tableSource struct {
	db   Tables
	read TableRead
}

// Project implements Projecting.
func (s *tableSource) Project(wanted []bool) Source {
	places := placesWanted(wanted)
	read := s.read
	read.Schema = columnsAt(s.read.Schema, places)
	read.Columns = read.Schema.Names()
	return &projected{&tableSource{s.db, read}, s.read.Schema, places}
}

func (s *tableSource) Open(ctx context.Context, limit int64) (Reader, error) {
	read := s.read
	read.Limit = limit
	return s.db.Read(ctx, read)
}
