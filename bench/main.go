// Command bench measures the engine against PostgreSQL and pandas on one machine
// in one run, each task done by each of them from the same data, and prints
// ratios: how many times longer the others took. Welkin runs as its users run
// it, a sheet by `welkin run`, so that memory is that of the whole process.
//
// data.go makes the data, tasks.go says what is measured, pandas.py does the same
// with pandas where that is installed.
package main

import (
	"context"
	"flag"
	"fmt"
	"os"
	"os/exec"
	"os/signal"
	"path/filepath"
	"runtime"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/jackc/pgx/v5"

	"welkin/localpg"
)

func main() {
	rows := flag.Int("rows", 10_000_000, "rows of the large file")
	folder := flag.String("folder", filepath.Join(os.TempDir(), "welkin-bench"), "where the data is kept")
	program := flag.String("welkin", "bin/welkin", "the program that is measured")
	only := flag.String("only", "", "letters of the tasks to run, s for what is found by itself, r for reading; all when empty")
	times := flag.Int("times", 1, "how often each is run; the best counts")
	flag.Parse()
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt)
	defer stop()
	b := &bench{rows: *rows, folder: *folder, program: *program, only: *only, times: *times}
	if err := b.run(ctx); err != nil {
		fmt.Fprintln(os.Stderr, "bench:", err)
		os.Exit(1)
	}
}

type bench struct {
	rows, times   int
	folder        string
	program, only string
	conn          *pgx.Conn
}

// python is Debian's, whose package python3-pandas is compared with.
const python = "/usr/bin/python3"

// measured is one time and the most memory of its process.
type measured struct {
	took time.Duration
	mib  int64
	err  error
}

func (b *bench) run(ctx context.Context) error {
	if err := os.MkdirAll(b.folder, 0o755); err != nil {
		return err
	}
	fmt.Printf("%d cores, %s %s; %d rows\n", runtime.NumCPU(), runtime.GOOS, runtime.GOARCH, b.rows)
	at := func(name string) string { return filepath.Join(b.folder, name) }
	big := fmt.Sprintf("stays_%d.csv", b.rows)
	for _, err := range []error{stays(at(big), b.rows), guests(at(fmt.Sprintf("guests_%d.csv", b.rows)), b.rows), wide(at("wide.csv"), 100_000), names(at("towns.csv"), at("typed.csv"), 10_000, 100_000)} {
		if err != nil {
			return err
		}
	}
	server, err := localpg.Start(ctx, filepath.Join(b.folder, "postgres"), localpg.Options{})
	if err != nil {
		return err
	}
	defer server.Stop()
	if _, err := server.Ensure(ctx, "bench"); err != nil {
		return err
	}
	if b.conn, err = pgx.Connect(ctx, server.Address("bench")); err != nil {
		return err
	}
	defer b.conn.Close(context.WithoutCancel(ctx))
	if err := b.prepare(ctx); err != nil {
		return err
	}
	if b.only == "" || strings.Contains(b.only, "s") {
		finding(os.Stdout, uint64(time.Now().UnixNano()), 300)
	}
	if b.only == "" || strings.Contains(b.only, "r") {
		if err := reading(ctx, os.Stdout, at("reading")); err != nil {
			return err
		}
	}
	fmt.Printf("\n%-42s %10s %8s %12s %8s %12s %8s\n", "task", "Welkin s", "MiB", "PostgreSQL s", "times", "pandas s", "times")
	for _, t := range tasks {
		if b.only != "" && !strings.Contains(b.only, t.letter) {
			continue
		}
		if ctx.Err() != nil {
			break
		}
		own, pg, pandas := b.best(func() measured { return b.welkin(ctx, t) }), b.best(func() measured { return b.postgres(ctx, t) }), b.best(func() measured { return b.pandas(ctx, t) })
		fmt.Printf("%-42s %10s %8d %12s %8s %12s %8s\n", t.letter+" "+t.name, seconds(own), own.mib, seconds(pg), ratio(pg, own), seconds(pandas), ratio(pandas, own))
		for _, m := range []measured{own, pg, pandas} {
			if m.err != nil && m.err != errNotThere {
				fmt.Println("   ", m.err)
			}
		}
	}
	return ctx.Err()
}

func (b *bench) best(fn func() measured) measured {
	quiet := func() measured {
		syscall.Sync() // or it would pay for what the one before left to be written
		return fn()
	}
	out := quiet()
	for range b.times - 1 {
		if m := quiet(); m.err == nil && m.took < out.took {
			out = m
		}
	}
	return out
}

var errNotThere = fmt.Errorf("not there")

func seconds(m measured) string {
	if m.err != nil {
		return "-"
	}
	return strconv.FormatFloat(m.took.Seconds(), 'f', 2, 64)
}

func ratio(other, own measured) string {
	if other.err != nil || own.err != nil {
		return "-"
	}
	return strconv.FormatFloat(other.took.Seconds()/own.took.Seconds(), 'f', 1, 64)
}

// welkin runs a task's sheet.
func (b *bench) welkin(ctx context.Context, t task) measured {
	sheet := filepath.Join(b.folder, t.letter+".yaml")
	if err := os.WriteFile(sheet, []byte("welkin: 1\nname: "+t.letter+"\nsteps:\n"+b.fill(t.steps)), 0o644); err != nil {
		return measured{err: err}
	}
	return b.process(ctx, b.program, "run", sheet)
}

func (b *bench) process(ctx context.Context, command string, args ...string) measured {
	cmd := exec.CommandContext(ctx, command, args...)
	began := time.Now()
	out, err := cmd.CombinedOutput()
	m := measured{took: time.Since(began)}
	if cmd.ProcessState != nil { // nil when it was not even started
		if usage, ok := cmd.ProcessState.SysUsage().(*syscall.Rusage); ok {
			m.mib = usage.Maxrss >> 10
		}
	}
	if err != nil {
		m.err = fmt.Errorf("%s: %w: %s", command, err, lastLines(string(out)))
	}
	return m
}

func lastLines(s string) string {
	lines := strings.Split(strings.TrimSpace(s), "\n")
	return strings.Join(lines[max(len(lines)-4, 0):], " / ")
}

func (b *bench) pandas(ctx context.Context, t task) measured {
	if t.pandas == "" || exec.CommandContext(ctx, python, "-c", "import pandas").Run() != nil {
		return measured{err: errNotThere}
	}
	return b.process(ctx, python, "bench/pandas.py", b.folder, strconv.Itoa(b.rows), t.pandas)
}

// postgres runs a task's statements; only the last is measured.
func (b *bench) postgres(ctx context.Context, t task) measured {
	if len(t.sql) == 0 {
		return measured{err: errNotThere}
	}
	var m measured
	for _, sql := range t.sql {
		began := time.Now()
		if sql == "COPY stays FROM STDIN" {
			if err := b.copy(ctx, "stays", fmt.Sprintf("stays_%d.csv", b.rows)); err != nil {
				return measured{err: err}
			}
			m.took = time.Since(began)
			continue
		}
		if _, err := b.conn.Exec(ctx, b.fill(sql)); err != nil {
			return measured{err: fmt.Errorf("PostgreSQL: %w", err)}
		}
		m.took = time.Since(began)
	}
	return m
}

func (b *bench) fill(s string) string {
	return strings.NewReplacer("{rows}", strconv.Itoa(b.rows), "{folder}", b.folder).Replace(s)
}
