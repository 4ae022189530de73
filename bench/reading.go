package main

import (
	"bufio"
	"context"
	"database/sql"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	"welkin/connect"
	"welkin/connect/mysql"
	"welkin/connect/postgres"
	"welkin/core/batch"
	"welkin/core/format/avro"
	"welkin/core/format/csv"
	"welkin/core/format/excel"
	"welkin/core/format/fixed"
	"welkin/core/format/form"
	"welkin/core/format/jsonl"
	"welkin/core/format/parquet"
	"welkin/core/schema"
	"welkin/core/step"
	"welkin/localmaria"
	"welkin/localpg"
)

// readingRows is how many rows the files of the reading bench have; a workbook has
// fewer, since a sheet holds a million and writing it takes long.
const (
	readingRows = 1_000_000
	excelRows   = 200_000
)

// speed is how fast something was read.
type speed struct {
	rows, bytes int64
	took        time.Duration
}

func (s speed) String() string {
	return fmt.Sprintf("%9.0f rows/s %7.1f MB/s", float64(s.rows)/s.took.Seconds(), float64(s.bytes)/1e6/s.took.Seconds())
}

// reading measures how fast files and tables are read, each against the fastest tool
// that is at hand for the same, in one run.
func reading(ctx context.Context, w io.Writer, folder string) error {
	if err := os.MkdirAll(folder, 0o755); err != nil {
		return err
	}
	fmt.Fprintf(w, "\nreading, %d rows of ten columns (%d in the workbook)\n", readingRows, excelRows)
	rows, err := readingBatches(ctx, folder)
	if err != nil {
		return err
	}
	s := rows[0].Schema
	layout, err := readingLayout(s)
	if err != nil {
		return err
	}
	type writer interface {
		Write(b *batch.Batch) error
		Flush() error
	}
	for _, f := range []struct {
		name  string
		form  form.Form
		begin func(w io.Writer) (writer, error)
		most  int64
		tool  string // of pandas
	}{
		{"rows.csv", form.Form{Format: form.CSV}, func(w io.Writer) (writer, error) { return csv.NewWriter(w, s, csv.Default(), "") }, 0, "read_csv(f)"},
		{"rows.jsonl", form.Form{Format: form.JSONLines}, func(w io.Writer) (writer, error) { return jsonl.NewWriter(w, s), nil }, 0, "read_json(f, lines=True)"},
		{"rows.parquet", form.Form{Format: form.Parquet}, func(w io.Writer) (writer, error) { return parquet.NewWriter(w, s) }, 0, ""},
		{"rows.avro", form.Form{Format: form.Avro}, func(w io.Writer) (writer, error) { return avro.NewWriter(w, s, "") }, 0, ""},
		{"rows.xlsx", form.Form{Format: form.Excel}, func(w io.Writer) (writer, error) { return excel.NewWriter(w, s, "") }, excelRows, "read_excel(f)"},
		{"rows.dat", form.Form{Format: form.Fixed, Layout: layout}, func(w io.Writer) (writer, error) { return fixed.NewWriter(w, s, *layout, "") }, 0, "read_fwf(f, widths=[10, 12, 10, 10, 19, 8, 10, 10, 5, 30])"},
	} {
		path := filepath.Join(folder, f.name)
		if err := write(path, func(w *bufio.Writer) {
			to, werr := f.begin(w)
			n := int64(0)
			for _, b := range rows {
				if werr != nil || f.most > 0 && n >= f.most {
					break
				}
				werr = to.Write(b)
				n += int64(b.N)
			}
			if werr == nil {
				werr = to.Flush()
			}
			if werr != nil {
				panic(fmt.Sprintf("writing %s: %s", path, werr))
			}
		}); err != nil {
			return err
		}
		got, err := readFile(ctx, path, f.form)
		if err != nil {
			return fmt.Errorf("%s: %w", f.name, err)
		}
		fmt.Fprintf(w, "%-14s %s", f.name, got)
		if other, ok := withPandas(ctx, path, f.tool); ok {
			fmt.Fprintf(w, "   pandas takes %.1f times as long", other.Seconds()/got.took.Seconds())
		}
		fmt.Fprintln(w)
	}
	if err := readingPostgres(ctx, w, folder, s); err != nil {
		return err
	}
	return readingMaria(ctx, w, folder)
}

// readingBatches makes the rows, by reading a CSV that is made once.
func readingBatches(ctx context.Context, folder string) ([]*batch.Batch, error) {
	path := filepath.Join(folder, "made.csv")
	if err := stays(path, readingRows); err != nil {
		return nil, err
	}
	f, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	s := &schema.Schema{}
	for _, c := range [][2]string{{"id", "int"}, {"hut", "text"}, {"guest", "int"}, {"arrived", "date"}, {"seen", "timestamp"}, {"nights", "int"}, {"price", "decimal(8,2)"}, {"rating", "float"}, {"paid", "bool"}, {"remark", "text"}} {
		t, err := schema.ParseType(c[1])
		if err != nil {
			return nil, err
		}
		s.Columns = append(s.Columns, schema.Column{Name: c[0], Type: t, Nullable: true})
	}
	r, err := csv.Open(ctx, f, csv.Options{Dialect: csv.Default(), Schema: s})
	if err != nil {
		return nil, err
	}
	defer r.Close()
	var out []*batch.Batch
	for {
		c, err := r.Next(ctx)
		if err == io.EOF {
			return out, nil
		}
		if err != nil {
			return nil, err
		}
		out = append(out, c.Batch)
	}
}

func readingLayout(s *schema.Schema) (*fixed.Layout, error) {
	l := fixed.OfWidths(s, []int{10, 12, 10, 10, 19, 8, 10, 24, 5, 120}, "")
	return &l, l.Validate()
}

func readFile(ctx context.Context, path string, f form.Form) (out speed, err error) {
	info, err := os.Stat(path)
	if err != nil {
		return out, err
	}
	open := func(context.Context) (io.ReadCloser, error) { return os.Open(path) }
	found, err := form.Find(ctx, path, open, f, false)
	if err != nil {
		return out, err
	}
	began := time.Now()
	r, err := found.Form.Read(ctx, open, form.Options{Schema: found.Schema})
	if err != nil {
		return out, err
	}
	defer r.Close()
	for {
		c, err := r.Next(ctx)
		if err == io.EOF {
			out.bytes, out.took = info.Size(), time.Since(began)
			return out, nil
		}
		if err != nil {
			return out, err
		}
		out.rows += int64(c.Batch.N)
		if len(c.Refused) > 0 {
			return out, fmt.Errorf("%s: %s", c.Refused[0].Column, c.Refused[0].Sentence)
		}
	}
}

// withPandas times the same with pandas, without its start.
func withPandas(ctx context.Context, path, call string) (time.Duration, bool) {
	if call == "" {
		return 0, false
	}
	out, err := exec.CommandContext(ctx, python, "-c", "import sys, time, pandas as pd\nf = sys.argv[1]\nb = time.time()\npd."+call+"\nprint(time.time() - b)", path).Output()
	if err != nil {
		return 0, false
	}
	var seconds float64
	if _, err := fmt.Sscan(string(out), &seconds); err != nil {
		return 0, false
	}
	return time.Duration(seconds * float64(time.Second)), true
}

// readTable reads a table through a connection.
func readTable(ctx context.Context, kind connect.Kind, settings connect.Settings, table string) (out speed, err error) {
	c, err := kind.Open(ctx, settings)
	if err != nil {
		return out, err
	}
	defer c.Close()
	tables := c.(step.Tables)
	t, err := tables.Table(ctx, table)
	if err != nil {
		return out, err
	}
	began := time.Now()
	r, err := tables.Read(ctx, step.TableRead{Table: table, Relation: t.Relation, Schema: t.Schema, Columns: t.Schema.Names(), Keys: t.Keys})
	if err != nil {
		return out, err
	}
	defer r.Close()
	for {
		chunk, err := r.Next(ctx)
		if err == io.EOF {
			out.took = time.Since(began)
			return out, nil
		}
		if err != nil {
			return out, err
		}
		out.rows += int64(chunk.Batch.N)
		out.bytes += chunk.Bytes
	}
}

func readingPostgres(ctx context.Context, w io.Writer, folder string, s *schema.Schema) error {
	pg, err := localpg.Start(ctx, filepath.Join(folder, "postgres"), localpg.Options{Fast: true})
	if err != nil {
		return err
	}
	defer pg.Stop()
	if _, err := pg.Ensure(ctx, "bench"); err != nil {
		return err
	}
	var columns []string
	for _, c := range s.Columns {
		columns = append(columns, c.Name+" "+c.Type.Postgres())
	}
	psql := func(command string) (time.Duration, error) {
		cmd := exec.CommandContext(ctx, "psql", "-q", "-v", "ON_ERROR_STOP=1", "-c", command, pg.Address("bench"))
		cmd.Stderr = os.Stderr
		began := time.Now()
		err := cmd.Run()
		return time.Since(began), err
	}
	for _, command := range []string{"DROP TABLE IF EXISTS stays", "CREATE UNLOGGED TABLE stays (" + strings.Join(columns, ", ") + ")", `\copy stays FROM '` + filepath.Join(folder, "made.csv") + `' CSV HEADER`, "VACUUM ANALYZE stays"} {
		if _, err := psql(command); err != nil {
			return fmt.Errorf("filling PostgreSQL: %w", err)
		}
	}
	other, err := psql(`\copy stays TO '/dev/null' CSV`)
	if err != nil {
		return err
	}
	got, err := readTable(ctx, postgres.Kind, &postgres.Settings{Host: "127.0.0.1", Port: pg.Port, Database: "bench", User: pg.User(), Password: pg.Password(), TLS: "disable"}, "stays")
	if err != nil {
		return err
	}
	fmt.Fprintf(w, "%-14s %s   psql \\copy to takes %.1f times as long\n", "PostgreSQL", got, other.Seconds()/got.took.Seconds())
	return nil
}

func readingMaria(ctx context.Context, w io.Writer, folder string) error {
	if !localmaria.Installed() {
		fmt.Fprintln(w, "MariaDB        is not installed here")
		return nil
	}
	maria, err := localmaria.Start(ctx, filepath.Join(folder, "mariadb"))
	if err != nil {
		return err
	}
	defer maria.Stop()
	if _, err := maria.Ensure(ctx, "bench"); err != nil {
		return err
	}
	db, err := maria.Open("bench")
	if err != nil {
		return err
	}
	defer db.Close()
	if err := fillMaria(ctx, db); err != nil {
		return err
	}
	cmd := exec.CommandContext(ctx, "mariadb", "--quick", "-h", "127.0.0.1", "-P", fmt.Sprint(maria.Port), "-u", localmaria.Owner, "-p"+maria.Password(), "bench", "-e", "SELECT * FROM stays")
	began := time.Now()
	if err := cmd.Run(); err != nil {
		return fmt.Errorf("reading with mariadb: %w", err)
	}
	other := time.Since(began)
	got, err := readTable(ctx, mysql.Kind, &mysql.Settings{Host: "127.0.0.1", Port: maria.Port, Database: "bench", User: localmaria.Owner, Password: maria.Password(), TLS: "disable"}, "stays")
	if err != nil {
		return err
	}
	fmt.Fprintf(w, "%-14s %s   mariadb --quick takes %.1f times as long\n", "MariaDB", got, other.Seconds()/got.took.Seconds())
	return nil
}

// fillMaria makes as many rows of ten columns there.
func fillMaria(ctx context.Context, db *sql.DB) error {
	for _, s := range []string{
		"CREATE OR REPLACE TABLE stays (id bigint, hut varchar(20), guest bigint, arrived date, seen datetime, nights bigint, price decimal(8,2), rating double, paid tinyint(1), remark varchar(60))",
		fmt.Sprintf("INSERT INTO stays SELECT seq, concat('H', seq %% 48), seq %% 100000, date_add('2020-01-01', interval seq %% 2000 day), date_add('2020-01-01 10:00:00', interval seq %% 100000 minute), seq %% 14, (seq %% 9000) / 100, (seq %% 50) / 10, seq %% 2, concat('remark ', seq %% 1000) FROM seq_1_to_%d", readingRows),
	} {
		if _, err := db.ExecContext(ctx, s); err != nil {
			return fmt.Errorf("filling MariaDB: %w", err)
		}
	}
	return nil
}
