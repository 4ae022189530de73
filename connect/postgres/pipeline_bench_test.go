package postgres_test

import (
	"bufio"
	"context"
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"welkin/connect"
	"welkin/connect/folder"
	"welkin/connect/postgres"
	"welkin/core/engine"
	"welkin/core/sheet"
	"welkin/core/step"
	"welkin/localpg/pgtest"
)

type quietJournal struct{}

func (quietJournal) Restart(context.Context) error                        { return nil }
func (quietJournal) SetAside(context.Context, []engine.SetAsideRow) error { return nil }
func (quietJournal) Prepared(context.Context, engine.Summary) error       { return nil }
func (quietJournal) Committed(context.Context, engine.Summary) error      { return nil }

const benchSheet = `welkin: 1
name: bench
steps:
  - {step: stays, does: read files, connection: incoming, files: stays.csv}
  - {step: real, does: keep rows, from: stays, where: nights > 0}
  - {step: worth, does: derive columns, from: real, columns: [{name: total, value: nights * price}, {name: month, value: "date_trunc('month', arrived)::date"}]}
  - {step: months, does: group, from: worth, by: [hut, month], values: [{name: nights, value: sum(nights)}, {name: total, value: sum(total)}, {name: n, value: count(*)}]}
  - {step: load, does: write table, from: %s, connection: warehouse, table: target, mode: replace}
`

// BenchmarkCSVToPostgres is CSV → filter, derive, group → PostgreSQL, and the
// same without the group, so that every row is loaded. MiB is the most heap in
// use: it must not grow with the file.
func BenchmarkCSVToPostgres(b *testing.B) {
	for _, c := range []struct {
		last string
		rows int
	}{{"months", 1_000_000}, {"months", 4_000_000}, {"worth", 1_000_000}} {
		b.Run(fmt.Sprintf("%s/%d rows", c.last, c.rows), func(b *testing.B) {
			dir := b.TempDir()
			f, err := os.Create(filepath.Join(dir, "stays.csv"))
			require.NoError(b, err)
			w := bufio.NewWriter(f)
			fmt.Fprintln(w, "stay,hut,guest,arrived,nights,price")
			for i := range c.rows {
				fmt.Fprintf(w, "%d,H%02d,g%d,2026-%02d-%02d,%d,%d.50\n", i, i%48, i%5000, i%12+1, i%28+1, i%9, i%90)
			}
			require.NoError(b, w.Flush())
			require.NoError(b, f.Close())
			name, _ := pgtest.Database(b)
			s := pgtest.Server(b)
			world := &connect.World{Open: func(ctx context.Context, conn string) (connect.Connection, error) {
				if conn == "incoming" {
					return folder.Kind.Open(ctx, &folder.Settings{Path: dir})
				}
				return postgres.Kind.Open(ctx, &postgres.Settings{Host: "127.0.0.1", Port: s.Port, Database: name, User: s.User(), Password: s.Password(), TLS: "disable"})
			}}
			defer world.Close()
			sh, problems := sheet.Parse(fmt.Sprintf(benchSheet, c.last), step.Kinds{})
			var most atomic.Uint64
			done := make(chan struct{})
			go func() {
				for {
					select {
					case <-done:
						return
					case <-time.After(20 * time.Millisecond):
						var m runtime.MemStats
						runtime.ReadMemStats(&m)
						most.Store(max(most.Load(), m.HeapInuse))
					}
				}
			}()
			runtime.GC()
			b.ResetTimer()
			for i := range b.N {
				p := engine.Bind(context.Background(), sh, problems, engine.Binding{World: world, Now: time.Now()})
				sum, err := engine.Run(context.Background(), p, engine.Options{Epoch: step.Epoch{Pipeline: "bench", Number: int64(i + 1)}, Journal: quietJournal{}, TempDir: dir})
				require.NoError(b, err)
				require.EqualValues(b, c.rows, sum.Read)
			}
			b.StopTimer()
			close(done)
			b.ReportMetric(float64(c.rows)*float64(b.N)/b.Elapsed().Seconds(), "rows/s")
			b.ReportMetric(float64(most.Load())/(1<<20), "MiB")
		})
	}
}
