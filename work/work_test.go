package work_test

import (
	"bufio"
	"context"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"welkin/core/engine"
	"welkin/localpg/pgtest"
	"welkin/store"
	"welkin/work"
)

func TestMain(m *testing.M) {
	if os.Getenv("WELKIN_TEST_WORKER") != "" {
		doomedWorker()
		return
	}
	pgtest.Main(m)
}

// place is a store with a folder of files, a warehouse, and a pipeline that
// appends the one to the other.
type place struct {
	t         *testing.T
	address   string
	store     *store.Store
	folder    string
	warehouse *pgx.Conn
	pipeline  int64
}

func seal() *store.Seal {
	s, err := store.NewSeal(base64.StdEncoding.EncodeToString([]byte("a key of thirty-two bytes, truly")))
	if err != nil {
		panic(err)
	}
	return s
}

func newPlace(t *testing.T, mode string) *place {
	ctx := context.Background()
	_, address := pgtest.Database(t)
	warehouse, warehouseAddress := pgtest.Database(t)
	p := &place{t: t, address: address, folder: t.TempDir()}
	var err error
	p.store, err = store.Open(ctx, address, seal())
	require.NoError(t, err)
	t.Cleanup(p.store.Close)
	p.warehouse, err = pgx.Connect(ctx, warehouseAddress)
	require.NoError(t, err)
	t.Cleanup(func() { _ = p.warehouse.Close(ctx) })
	p.write(1, 5000)
	folder, _ := json.Marshal(map[string]any{"path": p.folder})
	_, err = p.store.SaveConnection(ctx, store.Connection{Name: "incoming", Kind: "folder", Settings: folder, ChangedBy: "t"}, nil)
	require.NoError(t, err)
	s := pgtest.Server(t)
	db, _ := json.Marshal(map[string]any{"host": "127.0.0.1", "port": s.Port, "database": warehouse, "user": s.User(), "tls": "disable"})
	_, err = p.store.SaveConnection(ctx, store.Connection{Name: "warehouse", Kind: "postgresql", Settings: db, ChangedBy: "t"}, map[string]string{"password": s.Password()})
	require.NoError(t, err)
	pipeline, err := p.store.AddPipeline(ctx, "Stays", strings.ReplaceAll(sheetText, "MODE", mode), "t")
	require.NoError(t, err)
	p.pipeline = pipeline.ID
	return p
}

const sheetText = `welkin: 1
name: Stays
parameters:
  - {name: least, type: int, default: "0"}
steps:
  - {step: stays, does: read files, connection: incoming, files: stays.csv}
  - {step: kept, does: keep rows, from: stays, where: "nights >= :least"}
  - {step: load, does: write table, from: kept, connection: warehouse, table: stays, mode: MODE}
  - {step: copy, does: write file, from: kept, connection: incoming, file: copy/stays.csv}
`

// write writes stays from..to, every hundredth of them bad.
func (p *place) write(from, to int) {
	var text strings.Builder
	text.WriteString("id,nights\n")
	for i := from; i <= to; i++ {
		if i%100 == 0 {
			fmt.Fprintf(&text, "%d\n", i)
		} else {
			fmt.Fprintf(&text, "%d,%d\n", i, i%7)
		}
	}
	require.NoError(p.t, os.WriteFile(filepath.Join(p.folder, "stays.csv"), []byte(text.String()), 0o644))
}

func (p *place) worker(o work.Options) *work.Work {
	o.TempDir = p.t.TempDir()
	w, err := work.New(p.store, o)
	require.NoError(p.t, err)
	require.NoError(p.t, w.Start(context.Background()))
	p.t.Cleanup(func() {
		ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second)
		defer cancel()
		w.Stop(ctx)
	})
	return w
}

// ended waits for a run's end.
func (p *place) ended(id int64) store.Run {
	p.t.Helper()
	var run store.Run
	require.Eventually(p.t, func() bool {
		var err error
		run, err = p.store.Run(context.Background(), id)
		return err == nil && run.State != store.Waiting && run.State != store.Running
	}, 60*time.Second, 20*time.Millisecond)
	return run
}

func (p *place) count(sql string) (n int64) {
	p.t.Helper()
	require.NoError(p.t, p.warehouse.QueryRow(context.Background(), sql).Scan(&n))
	return n
}

func TestARunGoesThroughTheQueueAndItsReceiptIsTheTargets(t *testing.T) {
	p := newPlace(t, "append")
	w, ctx := p.worker(work.Options{}), context.Background()
	id, err := w.AskRun(ctx, p.pipeline, map[string]string{"least": "3"}, "O. Vask")
	require.NoError(t, err)
	run := p.ended(id)
	require.Equal(t, store.Done, run.State, run.Message)
	assert.EqualValues(t, 50, run.SetAside)
	sum, err := p.store.RunSummary(ctx, id)
	require.NoError(t, err)
	assert.Equal(t, p.count(`SELECT count(*) FROM stays`), sum.Targets["load"].After)
	assert.EqualValues(t, 5000, sum.Read)
	rows, err := p.store.SetAsideRows(ctx, id, store.SetAsideFilter{Limit: 20, After: 0})
	require.NoError(t, err)
	require.Len(t, rows, 20)
	assert.Equal(t, "row too short", rows[0].Code)
	assert.EqualValues(t, 101, rows[0].Line)
	more, err := p.store.SetAsideRows(ctx, id, store.SetAsideFilter{Limit: 100, After: rows[19].N})
	require.NoError(t, err)
	assert.Len(t, more, 30)
	reasons, err := p.store.Reasons(ctx, id)
	require.NoError(t, err)
	assert.EqualValues(t, 50, reasons[0].Rows)
	log, err := p.store.RunLog(ctx, id)
	require.NoError(t, err)
	assert.NotEmpty(t, log)
	_, err = w.AskRun(ctx, p.pipeline, map[string]string{"least": "some"}, "O. Vask")
	assert.ErrorContains(t, err, `"some" can't be read`)
}

func TestAFailingRunSaysWhyAndTheNextIsNotHindered(t *testing.T) {
	p := newPlace(t, "append")
	w, ctx := p.worker(work.Options{}), context.Background()
	require.NoError(t, os.Remove(filepath.Join(p.folder, "stays.csv")))
	id, err := w.AskRun(ctx, p.pipeline, nil, "t")
	require.NoError(t, err)
	run := p.ended(id)
	assert.Equal(t, store.Failed, run.State)
	assert.Contains(t, run.Message, `no file fits "stays.csv" in incoming`)
	p.write(1, 99)
	id, err = w.AskRun(ctx, p.pipeline, nil, "t")
	require.NoError(t, err)
	assert.Equal(t, store.Done, p.ended(id).State)
	assert.EqualValues(t, 99, p.count(`SELECT count(*) FROM stays`))
}

func TestStoppingIsHonouredAndLoadsNothing(t *testing.T) {
	p := newPlace(t, "append")
	reached, goOn := make(chan int64, 1), make(chan struct{})
	w := p.worker(work.Options{Phase: func(run int64, phase string) {
		if phase == engine.Applying {
			reached <- run
			<-goOn
		}
	}})
	ctx := context.Background()
	id, err := w.AskRun(ctx, p.pipeline, nil, "t")
	require.NoError(t, err)
	<-reached
	second, err := w.AskRun(ctx, p.pipeline, nil, "t") // waits for the first
	require.NoError(t, err)
	require.NoError(t, p.store.AskStop(ctx, second, "O. Vask"))
	require.NoError(t, p.store.AskStop(ctx, id, "O. Vask"))
	asked := time.Now()
	require.Eventually(t, func() bool { // the worker looks with each sign of life
		var looked bool
		err := p.store.Pool.QueryRow(ctx, `SELECT heartbeat_at > $2 FROM runs WHERE id = $1`, id, asked).Scan(&looked)
		return err == nil && looked
	}, 30*time.Second, 20*time.Millisecond)
	close(goOn)
	run := p.ended(id)
	assert.Equal(t, store.Stopped, run.State)
	assert.Contains(t, run.Message, "stopped by O. Vask")
	assert.EqualValues(t, 50, run.SetAside, "set-aside rows are kept")
	rows, err := p.store.SetAsideRows(ctx, id, store.SetAsideFilter{Limit: 500})
	require.NoError(t, err)
	assert.Len(t, rows, 50)
	assert.Contains(t, p.ended(second).Message, "before it began")
	assert.Zero(t, p.count(`SELECT count(*) FROM pg_class WHERE relname = 'stays'`))
	assert.NoFileExists(t, filepath.Join(p.folder, "copy", "stays.csv"))
	assert.ErrorIs(t, p.store.AskStop(ctx, id, "t"), store.ErrNotFound)
}

func TestASchedulesTimeStartsARun(t *testing.T) {
	p := newPlace(t, "append")
	ctx := context.Background()
	var late time.Duration
	w := p.worker(work.Options{Clock: func() time.Time { return time.Now().Add(late) }})
	s, err := w.SaveSchedule(ctx, store.Schedule{PipelineID: p.pipeline, Cron: "* * * * *", Zone: "Europe/Oslo", Enabled: false, ChangedBy: "t"})
	require.NoError(t, err)
	runs, err := p.store.Runs(ctx, store.RunFilter{Limit: 10})
	require.NoError(t, err)
	require.Empty(t, runs)
	s.Enabled = true
	_, err = w.SaveSchedule(ctx, s)
	require.NoError(t, err)
	_, err = p.store.Pool.Exec(ctx, `UPDATE schedules SET next_at = now() - interval '3 hours'`)
	require.NoError(t, err)
	require.Eventually(t, func() bool {
		runs, err = p.store.Runs(ctx, store.RunFilter{Limit: 10})
		return err == nil && len(runs) > 0
	}, 30*time.Second, 20*time.Millisecond)
	run := p.ended(runs[len(runs)-1].ID)
	assert.Equal(t, store.Done, run.State, run.Message)
	assert.Equal(t, "the timetable", run.AskedBy)
	list, err := p.store.Schedules(ctx)
	require.NoError(t, err)
	assert.True(t, list[0].NextAt.After(time.Now().Add(-time.Second)), "missed times are not made up for one by one")
}

// doomedWorker is another process: it works until it reaches a phase, says so,
// and waits to be killed.
func doomedWorker() {
	ctx := context.Background()
	s, err := store.Open(ctx, os.Getenv("WELKIN_TEST_STORE"), seal())
	if err != nil {
		panic(err)
	}
	w, err := work.New(s, work.Options{TempDir: os.TempDir(), Phase: func(_ int64, phase string) {
		if phase == os.Getenv("WELKIN_TEST_WORKER") {
			fmt.Println("reached")
			select {}
		}
	}})
	if err != nil {
		panic(err)
	}
	if err := w.Start(ctx); err != nil {
		panic(err)
	}
	select {}
}

// TestAKilledWorkerLeavesTheTargetRight kills a worker with signal 9 in each
// phase of an appending load, lets the source change, and runs again: what the
// killed run had begun is there once, and what the next run read is there once.
func TestAKilledWorkerLeavesTheTargetRight(t *testing.T) {
	for phase, committed := range map[string]bool{engine.Reading: false, engine.Applying: false, engine.Prepared: false, engine.Committed: true} {
		t.Run(phase, func(t *testing.T) {
			t.Parallel()
			p := newPlace(t, "append")
			ctx := context.Background()
			asking, err := work.New(p.store, work.Options{})
			require.NoError(t, err)
			first, err := asking.AskRun(ctx, p.pipeline, nil, "t")
			require.NoError(t, err)

			cmd := exec.Command(os.Args[0])
			cmd.Env = append(os.Environ(), "WELKIN_TEST_WORKER="+phase, "WELKIN_TEST_STORE="+p.address)
			cmd.Stderr = os.Stderr
			out, err := cmd.StdoutPipe()
			require.NoError(t, err)
			require.NoError(t, cmd.Start())
			line, err := bufio.NewReader(out).ReadString('\n')
			require.NoError(t, err)
			require.Equal(t, "reached\n", line)
			require.NoError(t, cmd.Process.Kill())
			_ = cmd.Wait()

			there := int64(0)
			if committed {
				there = 4950
			}
			// The dead process's transaction ends when the server notices.
			require.Eventually(t, func() bool {
				var n int64
				if p.warehouse.QueryRow(ctx, `SELECT count(*) FROM pg_class WHERE relname = 'stays'`).Scan(&n) != nil || n == 0 {
					return there == 0
				}
				return p.count(`SELECT count(*) FROM stays`) == there
			}, 20*time.Second, 20*time.Millisecond)

			p.write(10_001, 10_099) // 99 other rows, all good
			w := p.worker(work.Options{})
			second, err := w.AskRun(ctx, p.pipeline, nil, "t")
			require.NoError(t, err)
			next := p.ended(second)
			require.Equal(t, store.Done, next.State, next.Message)
			dead := p.ended(first)
			require.Equal(t, store.Done, dead.State, dead.Message)
			// Each run loads the table and the file, so half its rows are the table's.
			assert.Equal(t, p.count(`SELECT count(*) FROM stays`), dead.Loaded/2+next.Loaded/2, "the target holds what the two receipts say")
			if committed {
				assert.EqualValues(t, 4950+99, p.count(`SELECT count(*) FROM stays`))
				assert.EqualValues(t, 5049, p.count(`SELECT count(DISTINCT id) FROM stays`))
			} else {
				// Nothing of the dead run was there: it was done again on what the
				// source held by then, and so was the next.
				assert.EqualValues(t, 2*99, p.count(`SELECT count(*) FROM stays`))
			}
			sum, err := p.store.RunSummary(ctx, second)
			require.NoError(t, err)
			assert.Equal(t, p.count(`SELECT count(*) FROM stays`), sum.Targets["load"].After)
			open, err := p.store.OpenEpoch(ctx, p.pipeline)
			require.NoError(t, err)
			assert.Nil(t, open)
			parts, _ := filepath.Glob(filepath.Join(p.folder, ".welkin", "*.part"))
			assert.Empty(t, parts)
		})
	}
}

// TestAStoppingWorkerHandsItsRunBack gives a worker no time to finish: its run
// waits, and another worker goes on with it.
func TestAStoppingWorkerHandsItsRunBack(t *testing.T) {
	p := newPlace(t, "append")
	reached, goOn := make(chan struct{}, 1), make(chan struct{})
	first, err := work.New(p.store, work.Options{TempDir: t.TempDir(), Phase: func(_ int64, phase string) {
		if phase == engine.Applying {
			reached <- struct{}{}
			<-goOn
		}
	}})
	require.NoError(t, err)
	ctx := context.Background()
	require.NoError(t, first.Start(ctx))
	id, err := first.AskRun(ctx, p.pipeline, nil, "t")
	require.NoError(t, err)
	<-reached
	soft, cancel := context.WithCancel(ctx)
	cancel() // no patience
	stopped := make(chan struct{})
	go func() { first.Stop(soft); close(stopped) }()
	require.Never(t, func() bool { // the worker does not leave its run alone
		select {
		case <-stopped:
			return true
		default:
			return false
		}
	}, 300*time.Millisecond, 20*time.Millisecond)
	close(goOn)
	<-stopped
	run, err := p.store.Run(ctx, id)
	require.NoError(t, err)
	assert.Equal(t, store.Waiting, run.State)
	p.worker(work.Options{})
	assert.Equal(t, store.Done, p.ended(id).State)
	assert.EqualValues(t, 4950, p.count(`SELECT count(*) FROM stays`))
}
