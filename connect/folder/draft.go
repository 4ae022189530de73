package folder

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"

	"welkin/core/step"
)

// manifest says which epoch a step has last put into this folder. It is what
// makes a file load all or nothing: a file is written under a temporary name,
// listed here, and renamed; a half-done commit is finished or swept by the next
// load.
type manifest struct {
	Pipeline string      `json:"pipeline"`
	Step     string      `json:"step"`
	Epoch    int64       `json:"epoch"`
	Run      string      `json:"run"`
	Temp     string      `json:"temp"`
	Name     string      `json:"name"`
	Result   step.Result `json:"result"`
}

type draft struct {
	root     *os.Root
	file     *os.File
	m        manifest
	held     *step.Result
	prepared bool
	done     bool
}

const manifests = ".welkin"

func (m manifest) path() string {
	return path.Join(manifests, fmt.Sprintf("%s.%s.json", m.Pipeline, m.Step))
}

// Draft implements step.Files.
func (f *Folder) Draft(_ context.Context, name string, e step.Epoch, id string) (step.Draft, error) {
	root, err := f.root()
	if err != nil {
		return nil, err
	}
	d := &draft{root: root, m: manifest{Pipeline: e.Pipeline, Step: id, Epoch: e.Number, Run: e.Run, Name: path.Clean(name)}}
	d.m.Temp = path.Join(manifests, fmt.Sprintf("%s.%s.%d.part", e.Pipeline, id, e.Number))
	if err := d.begin(); err != nil {
		_ = root.Close()
		return nil, explain(err, name)
	}
	return d, nil
}

func (d *draft) begin() error {
	if err := d.root.Mkdir(manifests, 0o755); err != nil && !errors.Is(err, fs.ErrExist) {
		return err
	}
	if held, ok := d.read(); ok {
		// The manifest is written just before the rename: a temporary file that
		// is still there was meant to be renamed.
		if _, err := d.root.Stat(held.Temp); err == nil && held.Epoch == d.m.Epoch {
			if err := d.root.Rename(held.Temp, held.Name); err != nil {
				return err
			}
		}
		if held.Epoch == d.m.Epoch {
			d.held = &held.Result
			return nil
		}
	}
	if dir := path.Dir(d.m.Name); dir != "." {
		if err := d.root.MkdirAll(dir, 0o755); err != nil {
			return err
		}
	}
	var err error
	d.file, err = d.root.Create(d.m.Temp) // sweeps what an earlier attempt left
	return err
}

func (d *draft) read() (m manifest, ok bool) {
	text, err := d.root.ReadFile(d.m.path())
	return m, err == nil && json.Unmarshal(text, &m) == nil
}

func (d *draft) Held() *step.Result { return d.held }

func (d *draft) Write(p []byte) (int, error) { return d.file.Write(p) }

func (d *draft) Prepare(_ context.Context, r step.Result) error {
	if err := d.file.Sync(); err != nil {
		return err
	}
	d.m.Result, d.prepared = r, true
	return d.file.Close()
}

func (d *draft) Commit(context.Context) error {
	text, err := json.Marshal(d.m)
	if err != nil {
		return err
	}
	fresh := d.m.path() + ".new"
	if err := d.root.WriteFile(fresh, text, 0o644); err != nil {
		return fmt.Errorf("writing the manifest of %s: %w", d.m.Name, err)
	}
	if err := d.root.Rename(fresh, d.m.path()); err != nil {
		return fmt.Errorf("writing the manifest of %s: %w", d.m.Name, err)
	}
	d.done = true
	if err := d.root.Rename(d.m.Temp, d.m.Name); err != nil {
		return fmt.Errorf("putting %s in its place: %w", d.m.Name, err)
	}
	return d.root.Close()
}

func (d *draft) Abort(context.Context) error {
	if d.done {
		return nil
	}
	d.done = true
	if d.file != nil {
		if !d.prepared {
			_ = d.file.Close()
		}
		_ = d.root.Remove(d.m.Temp)
	}
	return d.root.Close()
}
