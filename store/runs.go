package store

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"welkin/core/engine"
)

// States of a run as they are kept. "done with set-aside rows" is done with
// rows_set_aside above 0.
const (
	Waiting = "waiting"
	Running = "running"
	Done    = "done"
	Failed  = "failed"
	Stopped = "stopped"
)

// Run is one run of a pipeline.
type Run struct {
	ID          int64             `db:"id" json:"id"`
	PipelineID  int64             `db:"pipeline_id" json:"pipeline_id"`
	Pipeline    string            `db:"pipeline" json:"pipeline"`
	Version     int               `db:"version" json:"version"`
	Params      map[string]string `db:"params" json:"params"`
	State       string            `db:"state" json:"state" enum:"waiting,running,done,failed,stopped"`
	Phase       string            `db:"phase" json:"phase"`
	Message     string            `db:"message" json:"message"`
	ScheduleID  *int64            `db:"schedule_id" json:"schedule_id,omitempty"`
	AskedBy     string            `db:"asked_by" json:"asked_by"`
	AskedAt     time.Time         `db:"asked_at" json:"asked_at"`
	StartedAt   *time.Time        `db:"started_at" json:"started_at,omitempty"`
	EndedAt     *time.Time        `db:"ended_at" json:"ended_at,omitempty"`
	Worker      string            `db:"worker" json:"worker"`
	Attempts    int               `db:"attempts" json:"attempts"`
	StopAskedBy *string           `db:"stop_asked_by" json:"stop_asked_by,omitempty"`
	Read        int64             `db:"rows_read" json:"rows_read"`
	Loaded      int64             `db:"rows_loaded" json:"rows_loaded"`
	SetAside    int64             `db:"rows_set_aside" json:"rows_set_aside"`
}

const runColumns = `r.id, r.pipeline_id, p.name AS pipeline, r.version, r.params, r.state, r.phase, r.message, r.schedule_id, r.asked_by, r.asked_at,
	r.started_at, r.ended_at, r.worker, r.attempts, r.stop_asked_by, r.rows_read, r.rows_loaded, r.rows_set_aside`

const runTables = ` FROM runs r JOIN pipelines p ON p.id = r.pipeline_id`

// RunFilter picks runs; zero values pick all.
type RunFilter struct {
	Pipeline int64
	State    string // a state, or "set aside" for runs that set rows aside
	Text     string // part of the pipeline's name
	Before   int64  // runs older than this one, for the next page
	Limit    int
}

// Runs lists runs, the newest first.
func (s *Store) Runs(ctx context.Context, f RunFilter) ([]Run, error) {
	where, args := []string{"true"}, []any{}
	add := func(cond string, v any) {
		args = append(args, v)
		where = append(where, fmt.Sprintf(cond, len(args)))
	}
	if f.Pipeline != 0 {
		add("r.pipeline_id = $%d", f.Pipeline)
	}
	switch f.State {
	case "":
	case "set aside":
		where = append(where, "r.rows_set_aside > 0")
	default:
		add("r.state = $%d", f.State)
	}
	if f.Text != "" {
		add("position(lower($%d) in lower(p.name)) > 0", f.Text)
	}
	if f.Before != 0 {
		add("r.id < $%d", f.Before)
	}
	return many[Run](s.Pool.Query(ctx, `SELECT `+runColumns+runTables+` WHERE `+strings.Join(where, " AND ")+fmt.Sprintf(` ORDER BY r.id DESC LIMIT %d`, f.Limit), args...))
}

// Run gives one run.
func (s *Store) Run(ctx context.Context, id int64) (Run, error) {
	return one[Run](s.Pool.Query(ctx, `SELECT `+runColumns+runTables+` WHERE r.id = $1`, id))
}

// RunSummary gives what a run has done, as far as it has come.
func (s *Store) RunSummary(ctx context.Context, id int64) (*engine.Summary, error) {
	var text []byte
	if err := s.Pool.QueryRow(ctx, `SELECT summary FROM runs WHERE id = $1`, id).Scan(&text); err != nil || text == nil {
		return nil, err
	}
	out := &engine.Summary{}
	return out, json.Unmarshal(text, out)
}

// AddRun asks for a run, within a transaction that also puts it in the queue.
func (s *Store) AddRun(ctx context.Context, tx pgx.Tx, pipeline int64, params map[string]string, by string, schedule *int64) (id int64, err error) {
	if params == nil {
		params = map[string]string{}
	}
	err = tx.QueryRow(ctx, `INSERT INTO runs (pipeline_id, version, params, asked_by, schedule_id)
		SELECT id, version, $2, $3, $4 FROM pipelines WHERE id = $1 RETURNING id`, pipeline, params, by, schedule).Scan(&id)
	if errors.Is(err, pgx.ErrNoRows) {
		return 0, ErrNotFound
	}
	return id, err
}

// TakeRun marks a run as running here.
func (s *Store) TakeRun(ctx context.Context, id int64, worker string) error {
	tag, err := s.Pool.Exec(ctx, `UPDATE runs SET state = 'running', started_at = COALESCE(started_at, now()), ended_at = NULL, message = '', heartbeat_at = now(), worker = $2, attempts = attempts + 1
		WHERE id = $1`, id, worker)
	return changed(tag.RowsAffected(), err, ErrNotFound)
}

// Beat says that a run is alive, and tells whether somebody asked to stop it.
func (s *Store) Beat(ctx context.Context, id int64) (stop bool, by string, err error) {
	var who *string
	err = s.Pool.QueryRow(ctx, `UPDATE runs SET heartbeat_at = now() WHERE id = $1 RETURNING stop_asked_by`, id).Scan(&who)
	if errors.Is(err, pgx.ErrNoRows) {
		return true, "the pipeline's removal", nil
	}
	if who != nil {
		return true, *who, err
	}
	return false, "", err
}

// ShowRun keeps how far a run has come and tells listeners.
func (s *Store) ShowRun(ctx context.Context, id int64, phase string, sum engine.Summary) error {
	_, err := s.Pool.Exec(ctx, `WITH u AS (UPDATE runs SET phase = $2, summary = $3, rows_read = $4, rows_loaded = $5, rows_set_aside = $6 WHERE id = $1)
		SELECT pg_notify('welkin_runs', $1::text)`, id, phase, sum, sum.Read, sum.Loaded, sum.SetAside)
	return err
}

// EndRun closes a run.
func (s *Store) EndRun(ctx context.Context, id int64, state, message string, sum *engine.Summary) error {
	return pgx.BeginFunc(ctx, s.Pool, func(tx pgx.Tx) error { return endRun(ctx, tx, id, state, message, sum) })
}

func endRun(ctx context.Context, tx pgx.Tx, id int64, state, message string, sum *engine.Summary) error {
	if sum != nil && sum.Epoch > 0 {
		if _, err := tx.Exec(ctx, `UPDATE runs SET summary = $2, rows_read = $3, rows_loaded = $4, rows_set_aside = $5 WHERE id = $1`,
			id, sum, sum.Read, sum.Loaded, sum.SetAside); err != nil {
			return err
		}
	}
	if state != Done { // nothing was loaded
		if _, err := tx.Exec(ctx, `UPDATE runs SET rows_loaded = 0 WHERE id = $1`, id); err != nil {
			return err
		}
	}
	_, err := tx.Exec(ctx, `UPDATE runs SET state = $2, message = $3, ended_at = now(), phase = '' WHERE id = $1`, id, state, message)
	if err == nil {
		_, err = tx.Exec(ctx, `SELECT pg_notify('welkin_runs', $1)`, fmt.Sprint(id))
	}
	return err
}

// AskStop asks for a run to stop. A run that waits is stopped at once.
func (s *Store) AskStop(ctx context.Context, id int64, by string) error {
	tag, err := s.Pool.Exec(ctx, `UPDATE runs SET stop_asked_by = $2,
		state = CASE state WHEN 'waiting' THEN 'stopped' ELSE state END,
		ended_at = CASE state WHEN 'waiting' THEN now() END,
		message = CASE state WHEN 'waiting' THEN 'stopped by ' || $2 || ' before it began' ELSE message END
		WHERE id = $1 AND state IN ('waiting', 'running')`, id, by)
	if err == nil {
		_, err = s.Pool.Exec(ctx, `SELECT pg_notify('welkin_runs', $1)`, fmt.Sprint(id))
	}
	return changed(tag.RowsAffected(), err, ErrNotFound)
}

// Silent lists running runs without a sign of life since a time.
func (s *Store) Silent(ctx context.Context, since time.Time) ([]int64, error) {
	rows, err := s.Pool.Query(ctx, `SELECT id FROM runs WHERE state = 'running' AND heartbeat_at < $1`, since)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowTo[int64])
}

// HandBack makes a running run wait again, for another worker.
func (s *Store) HandBack(ctx context.Context, tx pgx.Tx, id int64, why string) error {
	if _, err := tx.Exec(ctx, `UPDATE runs SET state = 'waiting', worker = '', phase = '' WHERE id = $1 AND state = 'running'`, id); err != nil {
		return err
	}
	_, err := tx.Exec(ctx, `INSERT INTO run_log (run_id, level, message) VALUES ($1, 'warn', $2)`, id, why)
	return err
}

// LogLine is one line of a run's log.
type LogLine struct {
	N       int64     `db:"n" json:"n"`
	At      time.Time `db:"at" json:"at"`
	Level   string    `db:"level" json:"level"`
	Message string    `db:"message" json:"message"`
}

// Log adds a line to a run's log.
func (s *Store) Log(ctx context.Context, run int64, level, message string) error {
	_, err := s.Pool.Exec(ctx, `INSERT INTO run_log (run_id, level, message) VALUES ($1, $2, $3)`, run, level, message)
	return err
}

// RunLog gives a run's log.
func (s *Store) RunLog(ctx context.Context, run int64) ([]LogLine, error) {
	return many[LogLine](s.Pool.Query(ctx, `SELECT n, at, level, message FROM run_log WHERE run_id = $1 ORDER BY n LIMIT 5000`, run))
}
