// Package work is what happens with what the store keeps: runs go through the
// queue (runs.go asks, worker.go works, journal.go writes epochs down),
// schedules start runs (schedule.go), and connections are opened by name
// (connections.go).
package work

import (
	"context"
	"fmt"
	"log/slog"
	"os"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/promauto"
	"github.com/riverqueue/river"
	"github.com/riverqueue/river/riverdriver/riverpgxv5"

	"welkin/connect"
	"welkin/store"
)

// Options are what the work gets handed in.
type Options struct {
	Log     *slog.Logger
	Clock   func() time.Time
	TempDir string
	Memory  int64 // bytes a run may hold; 0 for the engine's default
	Runs    int   // runs at once; 0 for two
	// Programs are the external programs that steps may start, by name.
	Programs map[string][]string
	// Rules are what the installation allows connections.
	Rules   connect.Rules
	Phase   func(run int64, phase string)
	Metrics prometheus.Registerer // nil for none
}

// Work runs what is asked for. Without Start it only asks.
type Work struct {
	Options
	Store  *store.Store
	client *river.Client[pgx.Tx]
	name   string
	stop   context.CancelFunc
	done   chan struct{}
	ended  *prometheus.CounterVec
	rows   *prometheus.CounterVec
}

// How long a run may be silent before it is taken for dead, and how often it
// gives a sign of life.
const (
	silence   = 15 * time.Second
	heartbeat = time.Second
)

// New prepares the work on a store.
func New(s *store.Store, o Options) (*Work, error) {
	if o.Log == nil {
		o.Log = slog.New(slog.DiscardHandler)
	}
	if o.Clock == nil {
		o.Clock = time.Now
	}
	if o.Runs == 0 {
		o.Runs = 2
	}
	if o.Metrics == nil {
		o.Metrics = prometheus.NewRegistry()
	}
	host, _ := os.Hostname()
	w := &Work{Options: o, Store: s, name: fmt.Sprintf("%s-%d", host, os.Getpid())}
	auto := promauto.With(o.Metrics)
	w.ended = auto.NewCounterVec(prometheus.CounterOpts{Name: "welkin_runs_total", Help: "Runs that ended, by how."}, []string{"state"})
	w.rows = auto.NewCounterVec(prometheus.CounterOpts{Name: "welkin_rows_total", Help: "Rows of ended runs: read, loaded, set aside."}, []string{"what"})
	workers := river.NewWorkers()
	river.AddWorker(workers, &runWorker{work: w})
	var err error
	w.client, err = river.NewClient(riverpgxv5.New(s.Pool), &river.Config{
		Queues:  map[string]river.QueueConfig{river.QueueDefault: {MaxWorkers: o.Runs}},
		Workers: workers, Logger: slog.New(slog.DiscardHandler), JobTimeout: -1,
		FetchPollInterval: 500 * time.Millisecond, FetchCooldown: 100 * time.Millisecond,
	})
	return w, err
}

// Start begins to work through the queue and to watch schedules and the dead.
func (w *Work) Start(ctx context.Context) error {
	if err := w.client.Start(context.WithoutCancel(ctx)); err != nil {
		return fmt.Errorf("starting to work through the queue: %w", err)
	}
	ctx, w.stop = context.WithCancel(context.WithoutCancel(ctx))
	w.done = make(chan struct{})
	go func() {
		defer close(w.done)
		tick := time.NewTicker(time.Second)
		defer tick.Stop()
		for {
			if err := w.startDue(ctx); err != nil && ctx.Err() == nil {
				w.Log.Error("starting what is due", "error", err)
			}
			if err := w.reviveSilent(ctx); err != nil && ctx.Err() == nil {
				w.Log.Error("looking for runs without a sign of life", "error", err)
			}
			select {
			case <-tick.C:
			case <-ctx.Done():
				return
			}
		}
	}()
	return nil
}

// Stop ends the work: no new run begins, running ones may finish within ctx and
// are then handed back to the queue.
func (w *Work) Stop(ctx context.Context) {
	if w.stop == nil {
		return
	}
	w.stop()
	<-w.done
	if err := w.client.Stop(ctx); err != nil {
		hard, cancel := context.WithTimeout(context.WithoutCancel(ctx), 10*time.Second)
		defer cancel()
		if err := w.client.StopAndCancel(hard); err != nil {
			w.Log.Error("stopping the work", "error", err)
		}
	}
}
