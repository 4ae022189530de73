package step

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"slices"
	"time"
)

// fileDone is a file that was read, as it was then.
type fileDone struct {
	Name    string    `json:"name"`
	Size    int64     `json:"size"`
	Changed time.Time `json:"changed"`
	Sum     string    `json:"sha256"`
}

// filesPosition is how far a read of files came.
type filesPosition struct {
	Files []fileDone `json:"files"`
}

// newFiles reads the files that were not read before.
type newFiles struct {
	Source
	files *fileSource
	most  int // files of a run, 0 for all
}

// From implements Positioned. A file counts as read when its name, size and time are
// those it had then; of one that has another time alone the content is compared.
func (n *newFiles) From(ctx context.Context, slice Slice) (Source, func() (json.RawMessage, error), error) {
	var before, upTo filesPosition
	if err := readPosition(slice.After, &before); err != nil {
		return nil, nil, err
	}
	if err := readPosition(slice.UpTo, &upTo); err != nil {
		return nil, nil, err
	}
	wanted := map[string]bool{}
	for _, f := range upTo.Files {
		wanted[f.Name] = true
	}
	known := map[string]fileDone{}
	for _, f := range before.Files {
		known[f.Name] = f
	}
	source := *n.files
	source.matched = nil
	for _, f := range n.files.matched {
		if slice.UpTo != nil && !wanted[f.Name] {
			continue // came after the attempt that is done again
		}
		was, ok := known[f.Name]
		if ok && was.Size == f.Size {
			same := was.Changed.Equal(f.Changed)
			if !same {
				sum, err := n.sum(ctx, f.Name)
				if err != nil {
					return nil, nil, err
				}
				same = sum == was.Sum
			}
			if same {
				was.Changed = f.Changed.UTC()
				known[f.Name] = was
				continue
			}
		}
		if n.most == 0 || len(source.matched) < n.most {
			source.matched = append(source.matched, f)
		}
	}
	var done []fileDone
	source.done = &done
	reached := func() (json.RawMessage, error) {
		for _, f := range done {
			known[f.Name] = f
		}
		after := filesPosition{Files: []fileDone{}}
		for _, f := range known {
			after.Files = append(after.Files, f)
		}
		slices.SortFunc(after.Files, func(a, b fileDone) int { return cmp.Compare(a.Name, b.Name) })
		return json.Marshal(after)
	}
	if _, ok := n.Source.(*parquetSource); ok {
		return &parquetSource{&source}, reached, nil
	}
	return &source, reached, nil
}

// readPosition reads a position into p; there may be none.
func readPosition(position json.RawMessage, p any) error {
	if len(position) == 0 {
		return nil
	}
	if err := json.Unmarshal(position, p); err != nil {
		return fmt.Errorf("the position can't be read: %w; set it back to the start", err)
	}
	return nil
}

func (n *newFiles) sum(ctx context.Context, name string) (string, error) {
	r, err := n.files.files.Open(ctx, name)
	if err != nil {
		return "", err
	}
	defer r.Close()
	h := sha256.New()
	if _, err := io.Copy(h, r); err != nil {
		return "", fmt.Errorf("reading %s: %w", name, err)
	}
	return hex.EncodeToString(h.Sum(nil)), nil
}

// Version implements Versioned.
func (n *newFiles) Version() string { return n.files.Version() }
