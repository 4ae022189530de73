package demo

import (
	"context"
	"database/sql"
	"fmt"
	"strings"
)

// storeTables are the tables of the association's stores, in a SQL that MySQL's
// protocol and SQLite know. Its huts are called as those of booking, and have other
// columns.
var storeTables = []string{
	"CREATE TABLE huts (hut_no integer PRIMARY KEY, label varchar(60) NOT NULL, carrier varchar(30), helicopter boolean NOT NULL)",
	"CREATE TABLE articles (article_id integer PRIMARY KEY, name varchar(60) NOT NULL, unit varchar(10) NOT NULL, price decimal(8,2) NOT NULL, perishable boolean NOT NULL)",
	"CREATE TABLE deliveries (delivery_id integer PRIMARY KEY, hut_no integer NOT NULL, article_id integer NOT NULL, amount decimal(10,3) NOT NULL, delivered_on date NOT NULL, changed_at datetime NOT NULL)",
	"CREATE TABLE stock_counts (hut_no integer NOT NULL, article_id integer NOT NULL, counted_on date NOT NULL, amount decimal(10,3), PRIMARY KEY (hut_no, article_id, counted_on))",
}

var articleNames = []string{"flour", "oats", "lentils", "rice", "coffee", "tea", "sugar", "onions", "potatoes", "cheese", "butter", "bacon", "gas bottle", "candles", "firewood", "soap"}

// Stores fills an empty database of the stores.
func (g *Generator) Stores(ctx context.Context, db *sql.DB) error {
	tx, err := db.BeginTx(ctx, nil)
	if err != nil {
		return err
	}
	defer tx.Rollback()
	for _, t := range storeTables {
		if _, err := tx.ExecContext(ctx, t); err != nil {
			return fmt.Errorf("making a table of the stores: %w", err)
		}
	}
	r := g.random("stores")
	fill := &inserts{ctx: ctx, tx: tx}
	for _, h := range g.huts {
		fill.add("huts", h.id, strings.ToUpper(h.name), pick(r, []string{"mule", "ropeway", "porter", ""}), h.altitude > 1500)
	}
	for i, name := range articleNames {
		fill.add("articles", i+1, name, pick(r, []string{"kg", "piece", "box"}), fmt.Sprintf("%d.%02d", 1+r.IntN(30), r.IntN(100)), i < 12)
	}
	for i := range max(100, int(20_000*g.Scale)) {
		day := g.Today.AddDate(0, 0, -r.IntN(200))
		fill.add("deliveries", i+1, pick(r, g.huts).id, 1+r.IntN(len(articleNames)), fmt.Sprintf("%d.%03d", 1+r.IntN(80), r.IntN(1000)), day.Format("2006-01-02"), day.Format("2006-01-02")+fmt.Sprintf(" %02d:%02d:00", 6+r.IntN(12), r.IntN(60)))
	}
	for _, h := range g.huts {
		for a := range articleNames {
			fill.add("stock_counts", h.id, a+1, g.Today.AddDate(0, 0, -r.IntN(20)).Format("2006-01-02"), fmt.Sprintf("%d.000", r.IntN(200)))
		}
	}
	if err := fill.flush(); err != nil {
		return err
	}
	return tx.Commit()
}

// inserts gathers rows of one table into statements of many.
type inserts struct {
	ctx   context.Context
	tx    *sql.Tx
	table string
	marks []string
	args  []any
	err   error
}

func (i *inserts) add(table string, values ...any) {
	if table != i.table || len(i.marks) >= 400 {
		i.err = i.flush()
		i.table = table
	}
	i.marks = append(i.marks, "("+strings.TrimSuffix(strings.Repeat("?, ", len(values)), ", ")+")")
	i.args = append(i.args, values...)
}

func (i *inserts) flush() error {
	if i.err == nil && len(i.marks) > 0 {
		_, i.err = i.tx.ExecContext(i.ctx, "INSERT INTO "+i.table+" VALUES "+strings.Join(i.marks, ", "), i.args...)
	}
	i.marks, i.args = nil, nil
	return i.err
}
