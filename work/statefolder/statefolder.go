// Package statefolder keeps what a run must remember in a folder, for runs from
// the command line that have no store: which epoch is open or committed, the
// set-aside rows, the receipt. A lock file keeps two runs of one sheet apart.
package statefolder

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"syscall"

	"welkin/core/engine"
	"welkin/core/step"
)

// State is the open folder of one pipeline. It is the engine's Journal.
type State struct {
	folder string
	lock   *os.File
	open   epochFile
	// positions are those of the last epoch that was committed, by step.
	positions map[string]json.RawMessage
}

// epochFile is the last epoch that was begun.
type epochFile struct {
	Epoch    step.Epoch      `json:"epoch"`
	Prepared *engine.Summary `json:"prepared,omitempty"`
	Done     bool            `json:"done"`
}

var _ engine.Journal = (*State)(nil)

// Open locks the folder for one run, making it when needed.
func Open(folder string) (*State, error) {
	if err := os.MkdirAll(folder, 0o755); err != nil {
		return nil, fmt.Errorf("making the state folder: %w", err)
	}
	lock, err := os.OpenFile(filepath.Join(folder, "lock"), os.O_CREATE|os.O_RDWR, 0o644)
	if err != nil {
		return nil, fmt.Errorf("locking the state folder: %w", err)
	}
	// The lock goes with its process, so a killed run leaves none behind.
	if err := syscall.Flock(int(lock.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err != nil {
		_ = lock.Close()
		return nil, fmt.Errorf("another run uses the state folder %s; wait for it, or give this one another with --state", folder)
	}
	s := &State{folder: folder, lock: lock}
	text, err := os.ReadFile(s.path("epoch.json"))
	if err == nil {
		err = json.Unmarshal(text, &s.open)
	}
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		_ = lock.Close()
		return nil, fmt.Errorf("reading %s: %w", s.path("epoch.json"), err)
	}
	if text, err = os.ReadFile(s.path("positions.json")); err == nil {
		err = json.Unmarshal(text, &s.positions)
	}
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		_ = lock.Close()
		return nil, fmt.Errorf("reading %s: %w", s.path("positions.json"), err)
	}
	return s, nil
}

// Positions gives the positions from which reads go on.
func (s *State) Positions() map[string]json.RawMessage { return s.positions }

func (s *State) path(name string) string { return filepath.Join(s.folder, name) }

// Begin gives the epoch to work on: the one that was left open, with what had
// been prepared of it, or a new one.
func (s *State) Begin(fresh step.Epoch) (e step.Epoch, before *engine.Summary, err error) {
	if s.open.Epoch.Number > 0 && !s.open.Done {
		return s.open.Epoch, s.open.Prepared, nil
	}
	fresh.Number = s.open.Epoch.Number + 1
	s.open = epochFile{Epoch: fresh}
	return fresh, nil, s.save("epoch.json", s.open)
}

// Abandon closes an epoch that failed and left nothing in its targets.
func (s *State) Abandon() error {
	s.open.Done = true
	return s.save("epoch.json", s.open)
}

// save writes a file whole or not at all.
func (s *State) save(name string, v any) error {
	text, err := json.MarshalIndent(v, "", "  ")
	if err != nil {
		return err
	}
	if err := os.WriteFile(s.path(name+".new"), text, 0o644); err != nil {
		return fmt.Errorf("writing %s: %w", s.path(name), err)
	}
	return os.Rename(s.path(name+".new"), s.path(name))
}

func (s *State) asideFile() string { return fmt.Sprintf("set_aside_%d.jsonl", s.open.Epoch.Number) }

// Restart implements engine.Journal.
func (s *State) Restart(context.Context) error {
	err := os.Remove(s.path(s.asideFile()))
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	return err
}

// SetAside implements engine.Journal: one JSON object a line.
func (s *State) SetAside(_ context.Context, rows []engine.SetAsideRow) error {
	f, err := os.OpenFile(s.path(s.asideFile()), os.O_APPEND|os.O_CREATE|os.O_WRONLY, 0o644)
	if err != nil {
		return err
	}
	w := bufio.NewWriter(f)
	enc := json.NewEncoder(w)
	for _, r := range rows {
		values := map[string]*string{}
		for i, name := range r.Names {
			values[name] = r.Cells[i]
		}
		err = errors.Join(err, enc.Encode(map[string]any{"step": r.Step, "reason": r.Code, "sentence": r.Sentence, "column": r.Column,
			"value": r.Value, "place": r.Place, "line": r.Row, "key": r.Key, "row": values, "raw": r.Raw}))
	}
	return errors.Join(err, w.Flush(), f.Close())
}

// Prepared implements engine.Journal.
func (s *State) Prepared(_ context.Context, sum engine.Summary) error {
	s.open.Prepared = &sum
	return s.save("epoch.json", s.open)
}

// Committed implements engine.Journal.
func (s *State) Committed(_ context.Context, sum engine.Summary) error {
	if err := s.save(fmt.Sprintf("receipt_%d.json", sum.Epoch), sum); err != nil {
		return err
	}
	if len(sum.Positions) > 0 {
		if s.positions == nil {
			s.positions = map[string]json.RawMessage{}
		}
		maps.Copy(s.positions, sum.Positions)
		if err := s.save("positions.json", s.positions); err != nil { // before the epoch is done: it is done again at the same slice otherwise
			return err
		}
	}
	s.open.Done = true
	return s.save("epoch.json", s.open)
}

// Close gives the folder free.
func (s *State) Close() error { return s.lock.Close() }
