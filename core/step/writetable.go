package step

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"welkin/core/schema"
)

var writeTable = Kind{
	Name: "write table", Role: Write, Ports: []string{"rows"}, New: func() Settings { return &WriteTable{} },
	Help: "Loads rows into a table in one transaction: all of them, or none.", Example: "merge into warehouse.fact_overnight by hut, night",
	Words: "load target database insert append replace merge upsert postgresql",
}

// WriteTable loads rows into a table. A table that is not there is made from
// the columns that come in, with the keys as its primary key.
type WriteTable struct {
	Connection string   `json:"connection" jsonschema:"title=connection,format=tables"`
	Table      string   `json:"table" jsonschema:"title=table,description=Its name or schema.name; made when it is not there"`
	Mode       string   `json:"mode,omitempty" jsonschema:"title=how,enum=append,enum=replace,enum=merge"`
	Keys       []string `json:"keys,omitempty" jsonschema:"title=keys,description=Columns that tell rows apart; needed to merge"`
	OrderBy    string   `json:"order_by,omitempty" jsonschema:"title=latest by,description=Of rows with one key the one with the highest value here stays; the last that came when left out"`
	Matched    string   `json:"matched,omitempty" jsonschema:"title=rows that match,enum=update,enum=keep"`
	New        string   `json:"new,omitempty" jsonschema:"title=new rows,enum=insert,enum=leave out"`
	Missing    string   `json:"missing,omitempty" jsonschema:"title=rows no longer there,enum=keep,enum=delete"`
}

// Sentence implements Settings.
func (s *WriteTable) Sentence() string {
	table := "`" + orElse(s.Table, "…") + "`"
	switch s.Mode {
	case Merge:
		return "merge into " + table + " by " + list(s.Keys, 3)
	case Replace:
		return "replace the rows of " + table
	}
	return "append to " + table
}

// Bind implements Settings.
func (s *WriteTable) Bind(c *Context, in []*schema.Schema) *Bound {
	l := TableLoad{Step: c.Step, Table: s.Table, Schema: in[0], Mode: orElse(s.Mode, Append), OrderBy: s.OrderBy,
		Keep: s.Matched == "keep", NoNew: s.New == "leave out", Delete: s.Missing == "delete"}
	if s.Connection == "" {
		c.Problem("connection", "no connection yet; choose one that holds tables")
	}
	if s.Table == "" {
		c.Problem("table", "no table yet; give its name, such as warehouse.fact_overnight")
	}
	if !slices.Contains([]string{Append, Replace, Merge}, l.Mode) {
		c.Problem("mode", "mode is append, replace or merge, not %q", s.Mode)
	}
	for i, k := range s.Keys {
		if at := c.column(fmt.Sprintf("keys[%d]", i), in[0], k); at >= 0 {
			l.Keys = append(l.Keys, in[0].Columns[at].Name)
		}
	}
	if l.Mode == Merge && len(s.Keys) == 0 {
		c.Problem("keys", "a merge needs keys; name the columns that tell rows apart")
	}
	if s.OrderBy != "" {
		c.column("order_by", in[0], s.OrderBy)
	}
	if c.Failed() {
		return nil
	}
	db, err := c.World.Tables(c, s.Connection)
	if err != nil {
		c.Problem("connection", "%s", err)
		return nil
	}
	loader, ok := db.(Loader)
	if !ok {
		c.Problem("connection", "tables of %s are only read; choose a connection whose tables can be loaded", s.Connection)
		return nil
	}
	if l.Exists, err = db.Table(c, s.Table); err != nil {
		c.Problem("table", "%s", err)
		return nil
	}
	if l.Exists != nil {
		s.compare(c, in[0], l.Exists)
	}
	if c.Failed() {
		return nil
	}
	return &Bound{Database: s.Connection, Target: &tableTarget{loader, l}, Hint: func() map[string]any { return map[string]any{"target": l.Exists} }}
}

// compare says before the run which columns don't fit the table.
func (s *WriteTable) compare(c *Context, in *schema.Schema, t *Table) {
	for _, col := range in.Columns {
		at := slices.Index(t.Schema.Names(), col.Name)
		if at < 0 {
			near := ""
			if n := t.Schema.Nearest(col.Name); n != "" {
				near = fmt.Sprintf("; did you mean %q?", n)
			}
			c.Problem("table", "%s has no column %q%s; rename it or leave it out in a step before", s.Table, col.Name, near)
			continue
		}
		if want := t.Schema.Columns[at].Type; !fits(col.Type, want) {
			c.Problem("table", "column %q is %s here and %s in %s; retype it in a step before", col.Name, col.Type, t.Native[at].Type, s.Table)
		}
	}
	for i, col := range t.Schema.Columns {
		if in.Index(col.Name) < 0 && t.Native[i].NotNull && !t.Native[i].HasDefault && s.New != "leave out" {
			c.Problem("table", "%s needs a value for %q, and no column of that name comes in", s.Table, col.Name)
		}
	}
}

// fits tells whether values of one type go into a column of another, leaving
// aside values that are too large or too long.
func fits(from, to schema.Type) bool {
	if from.Kind == to.Kind || to.Kind == schema.Text {
		return true
	}
	common, ok := schema.Common(from, to)
	return ok && (common.Kind == to.Kind || from.Numeric() && to.Kind != schema.Int)
}

type tableTarget struct {
	db   Loader
	load TableLoad
}

func (t *tableTarget) Begin(ctx context.Context, e Epoch) (Load, error) {
	l := t.load
	l.Epoch = e
	load, err := t.db.Load(ctx, l)
	if err != nil {
		return nil, fmt.Errorf("beginning to load %s: %w", strings.TrimSpace(l.Table), err)
	}
	return load, nil
}
