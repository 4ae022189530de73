// Package folder is the connection kind for a folder of files on a disk that
// the worker sees. folder.go has the kind, its check list and browsing;
// draft.go writes files that appear whole or not at all.
package folder

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/bmatcuk/doublestar/v4"

	"welkin/connect"
	"welkin/core/batch"
	"welkin/core/step"
)

// Kind is the folder kind.
var Kind = connect.Kind{
	Name: "folder", Holds: connect.HoldsFiles,
	Help: "Files in a folder that the worker can reach, such as a mounted share.",
	New:  func() connect.Settings { return &Settings{} },
	Open: func(_ context.Context, s connect.Settings) (connect.Connection, error) { return open(s.(*Settings)) },
}

// Settings of a folder.
type Settings struct {
	Path string `json:"path" jsonschema:"title=path,description=The folder's full path on the worker's machine"`
}

// Validate implements connect.Settings.
func (s *Settings) Validate() error {
	if s.Path == "" {
		return errors.New("path is missing; give the folder's full path")
	}
	if !filepath.IsAbs(s.Path) {
		return fmt.Errorf("path %q must be a full path that begins with /", s.Path)
	}
	return nil
}

// Folder is an open folder. Names never lead out of it.
type Folder struct{ path string }

var (
	_ connect.Connection = (*Folder)(nil)
	_ step.Files         = (*Folder)(nil)
)

func open(s *Settings) (*Folder, error) {
	info, err := os.Stat(s.Path)
	if err != nil {
		return &Folder{s.Path}, nil // Check tells what is wrong
	}
	if !info.IsDir() {
		return nil, fmt.Errorf("%s is a file, not a folder", s.Path)
	}
	return &Folder{s.Path}, nil
}

// root opens the folder so that no name, link or .. leads out of it.
func (f *Folder) root() (*os.Root, error) {
	r, err := os.OpenRoot(f.path)
	if err != nil {
		return nil, explain(err, f.path)
	}
	return r, nil
}

func explain(err error, name string) error {
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return fmt.Errorf("%s is not there; it may have been moved or deleted", name)
	case errors.Is(err, fs.ErrPermission):
		return fmt.Errorf("%s may not be opened; give the user Welkin runs as the right to read it", name)
	}
	return err
}

// Check implements connect.Connection.
func (f *Folder) Check(context.Context) []connect.CheckLine {
	rest := func(lines []connect.CheckLine, whats ...string) []connect.CheckLine {
		for _, w := range whats {
			lines = append(lines, connect.CheckLine{What: w, State: connect.NotTried})
		}
		return lines
	}
	began := time.Now()
	info, err := os.Stat(f.path)
	if err != nil || !info.IsDir() {
		found := "there is no folder " + f.path
		if err == nil {
			found = f.path + " is a file"
		} else if errors.Is(err, fs.ErrPermission) {
			found = "Welkin's user may not look at " + f.path
		}
		return rest([]connect.CheckLine{{What: "the folder is there", State: connect.Bad, Found: found,
			Remedy: "Correct the path, or make the folder on the machine where the worker runs.", Setting: "path"}}, "may read", "may write")
	}
	lines := []connect.CheckLine{{What: "the folder is there", State: connect.Good, Found: f.path, Setting: "path"}}
	list, err := os.ReadDir(f.path)
	if err != nil {
		return rest(append(lines, connect.CheckLine{What: "may read", State: connect.Bad, Found: err.Error(),
			Remedy: "Give Welkin's user the right to read the folder."}), "may write")
	}
	lines = append(lines, connect.CheckLine{What: "may read", State: connect.Good, Found: fmt.Sprintf("%d entries, in %s", len(list), time.Since(began).Round(time.Microsecond))})
	probe, err := os.CreateTemp(f.path, ".welkin-check-*")
	if err != nil {
		return append(lines, connect.CheckLine{What: "may write", State: connect.Note, Found: "no; that is fine for a folder that is only read",
			Remedy: "To write files here, give Welkin's user the right to."})
	}
	_ = probe.Close()
	_ = os.Remove(probe.Name())
	return append(lines, connect.CheckLine{What: "may write", State: connect.Good, Found: "a file was made and removed again"})
}

// Browse implements connect.Connection.
func (f *Folder) Browse(_ context.Context, at string) ([]connect.Entry, error) {
	r, err := f.root()
	if err != nil {
		return nil, err
	}
	defer r.Close()
	if at == "" {
		at = "."
	}
	list, err := fs.ReadDir(r.FS(), at)
	if err != nil {
		return nil, explain(err, at)
	}
	out := []connect.Entry{}
	for _, e := range list {
		if !strings.HasPrefix(e.Name(), ".") {
			out = append(out, entry(path.Join(at, e.Name()), e))
		}
	}
	slices.SortFunc(out, func(a, b connect.Entry) int {
		if a.Opens != b.Opens {
			if a.Opens {
				return -1
			}
			return 1
		}
		return strings.Compare(a.Name, b.Name)
	})
	return out, nil
}

func entry(name string, e fs.DirEntry) connect.Entry {
	out := connect.Entry{Path: name, Name: path.Base(name), Type: "file"}
	if e.IsDir() {
		out.Type, out.Opens = "folder", true
	} else if info, err := e.Info(); err == nil {
		size := info.Size()
		out.Bytes, out.Detail = &size, info.ModTime().UTC().Format(time.RFC3339)
	}
	return out
}

// Search implements connect.Connection.
func (f *Folder) Search(ctx context.Context, text string, limit int) ([]connect.Entry, error) {
	r, err := f.root()
	if err != nil {
		return nil, err
	}
	defer r.Close()
	out := []connect.Entry{}
	text = strings.ToLower(text)
	err = fs.WalkDir(r.FS(), ".", func(name string, e fs.DirEntry, err error) error {
		if err != nil || ctx.Err() != nil {
			return ctx.Err() // a folder that can't be read is passed over
		}
		if name != "." && !strings.HasPrefix(e.Name(), ".") && strings.Contains(strings.ToLower(name), text) {
			out = append(out, entry(name, e))
		}
		if len(out) >= limit {
			return fs.SkipAll
		}
		return nil
	})
	return out, err
}

// Describe implements connect.Connection.
func (f *Folder) Describe(ctx context.Context, name string) (*connect.Description, error) {
	return connect.DescribeFile(ctx, f, name)
}

// Sample implements connect.Connection.
func (f *Folder) Sample(ctx context.Context, name string, rows int) (batch.Wire, error) {
	return connect.SampleFile(ctx, f, name, rows)
}

// Match implements step.Files.
func (f *Folder) Match(_ context.Context, pattern string) ([]step.FileInfo, error) {
	if !doublestar.ValidatePattern(pattern) {
		return nil, fmt.Errorf("%q is not a pattern of file names", pattern)
	}
	r, err := f.root()
	if err != nil {
		return nil, err
	}
	defer r.Close()
	names, err := doublestar.Glob(r.FS(), path.Clean(pattern), doublestar.WithFilesOnly(), doublestar.WithNoHidden())
	if err != nil {
		return nil, explain(err, pattern)
	}
	slices.Sort(names)
	out := make([]step.FileInfo, 0, len(names))
	for _, n := range names {
		if info, err := r.Stat(n); err == nil {
			out = append(out, step.FileInfo{Name: n, Size: info.Size(), Changed: info.ModTime()})
		}
	}
	return out, nil
}

// Open implements step.Files.
func (f *Folder) Open(_ context.Context, name string) (io.ReadCloser, error) {
	r, err := f.root()
	if err != nil {
		return nil, err
	}
	defer r.Close()
	file, err := r.Open(name)
	if err != nil {
		return nil, explain(err, name)
	}
	return file, nil
}

// Close implements connect.Connection.
func (f *Folder) Close() error { return nil }
