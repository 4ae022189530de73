package filestore

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"path"

	"welkin/core/step"
)

// manifest says which epoch a step has last put into this place. A file is kept
// under a temporary name, listed here, and renamed; a half-done commit is finished by
// the next load.
type manifest struct {
	Epoch  int64       `json:"epoch"`
	Run    string      `json:"run"`
	Temp   string      `json:"temp"`
	Name   string      `json:"name"`
	Result step.Result `json:"result"`
}

// manifests is the folder in which they lie.
const manifests = ".welkin"

type draft struct {
	place Place
	at    string // name of the manifest
	m     manifest
	held  *step.Result
	file  *os.File // what was written, until it is kept in the place
	kept  bool
	done  bool
}

// Draft implements step.Files.
func (f Files) Draft(ctx context.Context, name string, e step.Epoch, id string) (step.Draft, error) {
	d := &draft{place: f.Place, at: path.Join(manifests, fmt.Sprintf("%s.%s.json", e.Pipeline, id))}
	d.m = manifest{Epoch: e.Number, Run: e.Run, Name: path.Clean(name), Temp: path.Join(manifests, fmt.Sprintf("%s.%s.%d.part", e.Pipeline, id, e.Number))}
	held, err := d.read(ctx)
	if err != nil {
		return nil, err
	}
	if held != nil && held.Epoch == e.Number {
		// The manifest is written just before the rename: a temporary file that is still
		// there was meant to be renamed.
		waits, err := f.Place.Exists(ctx, held.Temp)
		if err == nil && waits {
			err = f.Place.Rename(ctx, held.Temp, held.Name)
		}
		if err != nil {
			return nil, err
		}
		d.held = &held.Result
		return d, nil
	}
	if d.file, err = os.CreateTemp("", "welkin-draft-*"); err != nil {
		return nil, fmt.Errorf("keeping what is written: %w", err)
	}
	_ = os.Remove(d.file.Name()) // its content stays until it is closed
	return d, nil
}

func (d *draft) read(ctx context.Context) (*manifest, error) {
	if there, err := d.place.Exists(ctx, d.at); err != nil || !there {
		return nil, err
	}
	r, err := d.place.Open(ctx, d.at)
	if err != nil {
		return nil, err
	}
	defer r.Close()
	text, err := io.ReadAll(r)
	if err != nil {
		return nil, fmt.Errorf("reading %s: %w", d.at, err)
	}
	m := &manifest{}
	if json.Unmarshal(text, m) != nil {
		return nil, nil
	}
	return m, nil
}

func (d *draft) Held() *step.Result { return d.held }

func (d *draft) Write(p []byte) (int, error) { return d.file.Write(p) }

func (d *draft) Prepare(ctx context.Context, r step.Result) error {
	size, err := d.file.Seek(0, io.SeekCurrent)
	if err == nil {
		_, err = d.file.Seek(0, io.SeekStart)
	}
	if err != nil {
		return err
	}
	d.m.Result = r
	if err := d.place.Put(ctx, d.m.Temp, d.file, size); err != nil {
		return err
	}
	d.kept = true
	return d.file.Close()
}

func (d *draft) Commit(ctx context.Context) error {
	text, err := json.Marshal(d.m)
	if err != nil {
		return err
	}
	if err := d.place.Put(ctx, d.at, bytes.NewReader(text), int64(len(text))); err != nil {
		return fmt.Errorf("writing the manifest of %s: %w", d.m.Name, err)
	}
	d.done = true
	if err := d.place.Rename(ctx, d.m.Temp, d.m.Name); err != nil {
		return fmt.Errorf("putting %s in its place: %w", d.m.Name, err)
	}
	return nil
}

func (d *draft) Abort(ctx context.Context) error {
	if d.done || d.held != nil {
		return nil
	}
	d.done = true
	if !d.kept {
		return d.file.Close()
	}
	return d.place.Remove(ctx, d.m.Temp)
}
