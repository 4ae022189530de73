// Package format holds what readers of files share: the portions in which rows
// come (format.go), how characters are stored (encoding.go), how files are
// compressed (compression.go), and which types the values have (guess.go for texts,
// shape.go for records and lists). The formats themselves are in the packages below
// it, one each; form finds out which one a file has, and opens it.
package format

import (
	"context"
	"fmt"
	"io"

	"welkin/core/batch"
)

// Refused is a record that could not become a row.
type Refused struct {
	*batch.Fault
	Column, Value string
	Line          int64
	Raw           string
}

// Chunk is what one step of reading gives.
type Chunk struct {
	Batch   *batch.Batch
	Refused []Refused
	Seen    int64 // records seen: rows of Batch and Refused
}

// Reader gives the rows of one file.
type Reader interface {
	// Next gives the following rows, io.EOF after the last.
	Next(ctx context.Context) (Chunk, error)
	// Close ends reading; the file itself is closed by whoever opened it.
	Close() error
}

// Random is a file that can be read at any place, as some formats must be.
type Random interface {
	io.ReaderAt
	io.Seeker
}

// ErrEmpty says that a file holds no line at all.
var ErrEmpty = fmt.Errorf("the file is empty: it has neither a header nor rows")
