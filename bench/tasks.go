package main

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
)

// task is one thing that is measured.
type task struct {
	letter, name string
	steps        string   // of the sheet; the folder is the connection here
	sql          []string // the last is measured
	pandas       string   // its name in pandas.py
}

const bigColumns = `columns: [{name: id, type: int}, {name: hut, type: text}, {name: guest, type: int}, {name: arrived, type: date}, {name: seen, type: timestamp}, {name: nights, type: int}, {name: price, type: "decimal(8,2)"}, {name: rating, type: float}, {name: paid, type: bool}, {name: remark, type: text}]`

const readBig = "  - {step: stays, does: read files, connection: here, files: stays_{rows}.parquet}\n"

var tasks = []task{
	{"a", "CSV, ten typed columns, to Parquet", "  - {step: stays, does: read files, connection: here, files: stays_{rows}.csv, " + bigColumns + "}\n" +
		"  - {step: out, does: write file, from: stays, connection: here, file: stays_{rows}.parquet, format: parquet}\n",
		[]string{"TRUNCATE stays", "COPY stays FROM STDIN"}, "csv"},
	{"b", "filter, six derived, group by two keys", readBig + `  - {step: kept, does: keep rows, from: stays, where: nights > 0 AND price > 20}
  - {step: more, does: derive columns, from: kept, columns: [{name: total, value: nights * price}, {name: month, value: "EXTRACT(month FROM arrived)"}, {name: long, value: nights > 7}, {name: code, value: "upper(hut)"}, {name: score, value: rating * 20}, {name: left, value: arrived + nights}]}
  - {step: by, does: group, from: more, by: [code, month], values: [{name: n, value: count(*)}, {name: total, value: sum(total)}, {name: score, value: avg(score)}, {name: last, value: max("left")}, {name: longs, value: count(*) FILTER (WHERE long)}]}
  - {step: out, does: write file, from: by, connection: here, file: b.csv}
`, []string{"DROP TABLE IF EXISTS b", `CREATE UNLOGGED TABLE b AS SELECT code, month, count(*) AS n, sum(total) AS total, avg(score) AS score, max("left") AS last, count(*) FILTER (WHERE long) AS longs FROM (SELECT nights * price AS total, EXTRACT(month FROM arrived) AS month, nights > 7 AS long, upper(hut) AS code, rating * 20 AS score, arrived + nights::int AS "left" FROM stays WHERE nights > 0 AND price > 20) AS d GROUP BY code, month`}, "group"},
	{"c", "join with a tenth as many, and group", readBig + `  - {step: guests, does: read files, connection: here, files: guests_{rows}.csv, columns: [{name: guest, type: int}, {name: town, type: text}, {name: born, type: int}]}
  - {step: both, does: join, from: stays, with: guests, on: [{left: guest, right: guest}]}
  - {step: by, does: group, from: both, by: [born], values: [{name: n, value: count(*)}, {name: nights, value: sum(nights)}]}
  - {step: out, does: write file, from: by, connection: here, file: c.csv}
`, []string{"DROP TABLE IF EXISTS c", "CREATE UNLOGGED TABLE c AS SELECT born, count(*) AS n, sum(nights) AS nights FROM stays JOIN guests USING (guest) GROUP BY born"}, "join"},
	{"d", "sort within 512 MiB", readBig + `  - {step: by, does: sort, from: stays, by: [{by: hut}, {by: price, order: falling}, {by: id}]}
  - {step: out, does: write file, from: by, connection: here, file: d.parquet, format: parquet}
`, []string{"SET work_mem = '512MB'", "DROP TABLE IF EXISTS d", `CREATE UNLOGGED TABLE d AS SELECT * FROM stays ORDER BY hut COLLATE "C", price DESC, id`}, "sort"},
	{"e", "unpivot 100,000 rows of 65 columns", `  - {step: wide, does: read files, connection: here, files: wide.csv}
  - {step: long, does: unpivot, from: wide, columns: [like m*]}
  - {step: by, does: group, from: long, by: [header], values: [{name: n, value: count(*)}, {name: total, value: sum(value)}]}
  - {step: out, does: write file, from: by, connection: here, file: e.csv}
`, []string{"DROP TABLE IF EXISTS e", unpivotSQL()}, "unpivot"},
	{"f", "window: rank and running sum", readBig + `  - {step: few, does: choose columns, from: stays, columns: [{take: id}, {take: hut}, {take: price}, {take: nights}]}
  - {step: win, does: window, from: few, by: [hut], order: [{by: price}, {by: id}], values: [{name: r, value: rank()}, {name: total, value: sum(nights)}]}
  - {step: by, does: group, from: win, by: [hut], values: [{name: r, value: max(r)}, {name: t, value: max(total)}]}
  - {step: out, does: write file, from: by, connection: here, file: f.csv}
`, []string{"DROP TABLE IF EXISTS f", `CREATE UNLOGGED TABLE f AS SELECT hut, max(r) AS r, max(total) AS t FROM (SELECT hut, rank() OVER w AS r, sum(nights) OVER w AS total FROM stays WINDOW w AS (PARTITION BY hut ORDER BY price, id)) AS x GROUP BY hut`}, "window"},
	{"g", "100,000 names among 10,000", `  - {step: typed, does: read files, connection: here, files: typed.csv}
  - {step: towns, does: read files, connection: here, files: towns.csv}
  - {step: found, does: match names, from: typed, with: towns, column: town, name: name}
  - {step: near, does: write file, from: found.near, connection: here, file: g.csv}
`, nil, ""},
}

// unpivotSQL is the same as the sheet: columns to rows, and a sum by header.
func unpivotSQL() string {
	values := ""
	for c := range 64 {
		if c > 0 {
			values += ", "
		}
		values += fmt.Sprintf("('m%02d', m%02d)", c, c)
	}
	return "CREATE UNLOGGED TABLE e AS SELECT h, count(*) AS n, sum(v) AS v FROM wide CROSS JOIN LATERAL (VALUES " + values + ") AS u(h, v) GROUP BY h"
}

// prepare loads the tables that PostgreSQL works on, once.
func (b *bench) prepare(ctx context.Context) error {
	tables := map[string]string{"guests": "guest bigint, town text, born bigint", "wide": "hut bigint"}
	for c := range 64 {
		tables["wide"] += fmt.Sprintf(", m%02d bigint", c)
	}
	tables["stays"] = "id bigint, hut text, guest bigint, arrived date, seen timestamp, nights bigint, price numeric(8,2), rating float8, paid bool, remark text"
	for name, columns := range tables {
		if _, err := b.conn.Exec(ctx, "DROP TABLE IF EXISTS "+name+"; CREATE UNLOGGED TABLE "+name+" ("+columns+")"); err != nil {
			return err
		}
		file := name + ".csv"
		if name != "wide" {
			file = fmt.Sprintf("%s_%d.csv", name, b.rows)
		}
		if err := b.copy(ctx, name, file); err != nil {
			return err
		}
	}
	_, err := b.conn.Exec(ctx, "VACUUM ANALYZE") // or the server would do it while others are measured
	return err
}

func (b *bench) copy(ctx context.Context, table, file string) error {
	f, err := os.Open(filepath.Join(b.folder, file))
	if err != nil {
		return err
	}
	defer f.Close()
	_, err = b.conn.PgConn().CopyFrom(ctx, f, "COPY "+table+" FROM STDIN (FORMAT csv, HEADER)")
	return err
}
