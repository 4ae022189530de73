// Package filestore makes a connection of anything that keeps files by name: it
// browses, searches and matches by lists, and loads files whole or not at all.
// filestore.go reads, draft.go writes. The kinds s3 and sftp are made with it.
package filestore

import (
	"cmp"
	"context"
	"fmt"
	"io"
	"path"
	"slices"
	"strings"
	"time"

	"github.com/bmatcuk/doublestar/v4"

	"welkin/connect"
	"welkin/core/batch"
	"welkin/core/step"
)

// Place keeps files by names with / between the parts. What it opens should be a
// format.Random where it can be. Errors are sentences.
type Place interface {
	// List goes through what lies in a folder, "" for the top: its files and folders,
	// or with deep all files below it. It ends when see is false.
	List(ctx context.Context, folder string, deep bool, see func(Info) bool) error
	Open(ctx context.Context, name string) (io.ReadCloser, error)
	// Put keeps a file of a known size, over any of that name.
	Put(ctx context.Context, name string, r io.Reader, size int64) error
	// Rename gives a file another name, over any of that name.
	Rename(ctx context.Context, from, to string) error
	// Remove takes a file away; that it is not there is no error.
	Remove(ctx context.Context, name string) error
	// Exists tells whether there is a file.
	Exists(ctx context.Context, name string) (bool, error)
}

// Info is a file or folder.
type Info struct {
	Name    string
	Folder  bool
	Size    int64
	Changed time.Time
}

// Files is a connection made of a Place, short of its check list.
type Files struct{ Place Place }

var _ step.Files = Files{}

// Browse implements connect.Connection.
func (f Files) Browse(ctx context.Context, at string) ([]connect.Entry, error) {
	out := []connect.Entry{}
	err := f.Place.List(ctx, strings.Trim(at, "/"), false, func(i Info) bool {
		if !hidden(i.Name) {
			out = append(out, entry(i))
		}
		return len(out) < mostBrowsed
	})
	slices.SortFunc(out, func(a, b connect.Entry) int {
		if a.Opens != b.Opens {
			if a.Opens {
				return -1
			}
			return 1
		}
		return cmp.Compare(a.Name, b.Name)
	})
	return out, err
}

// mostBrowsed is how many entries of one folder are listed.
const mostBrowsed = 10_000

func hidden(name string) bool {
	return strings.HasPrefix(name, ".") || strings.Contains(name, "/.")
}

func entry(i Info) connect.Entry {
	out := connect.Entry{Path: i.Name, Name: path.Base(i.Name), Type: "file"}
	if i.Folder {
		out.Type, out.Opens = "folder", true
		return out
	}
	out.Bytes, out.Detail = &i.Size, i.Changed.UTC().Format(time.RFC3339)
	return out
}

// Search implements connect.Connection.
func (f Files) Search(ctx context.Context, text string, limit int) ([]connect.Entry, error) {
	out := []connect.Entry{}
	text = strings.ToLower(text)
	err := f.Place.List(ctx, "", true, func(i Info) bool {
		if !hidden(i.Name) && strings.Contains(strings.ToLower(i.Name), text) {
			out = append(out, entry(i))
		}
		return len(out) < limit
	})
	return out, err
}

// Describe implements connect.Connection.
func (f Files) Describe(ctx context.Context, name string) (*connect.Description, error) {
	return connect.DescribeFile(ctx, f, name)
}

// Sample implements connect.Connection.
func (f Files) Sample(ctx context.Context, name string, rows int) (batch.Wire, error) {
	return connect.SampleFile(ctx, f, name, rows)
}

// Match implements step.Files: only the folder above the first part that varies is
// listed.
func (f Files) Match(ctx context.Context, pattern string) ([]step.FileInfo, error) {
	pattern = strings.TrimPrefix(path.Clean(pattern), "/")
	if !doublestar.ValidatePattern(pattern) {
		return nil, fmt.Errorf("%q is not a pattern of file names", pattern)
	}
	base, _ := doublestar.SplitPattern(pattern)
	if base == "." {
		base = ""
	}
	var out []step.FileInfo
	err := f.Place.List(ctx, base, true, func(i Info) bool {
		if fits, _ := doublestar.Match(pattern, i.Name); fits && !hidden(i.Name) {
			out = append(out, step.FileInfo{Name: i.Name, Size: i.Size, Changed: i.Changed})
		}
		return true
	})
	slices.SortFunc(out, func(a, b step.FileInfo) int { return cmp.Compare(a.Name, b.Name) })
	return out, err
}

// Open implements step.Files.
func (f Files) Open(ctx context.Context, name string) (io.ReadCloser, error) {
	return f.Place.Open(ctx, name)
}
