// Package format holds what readers of text files share: the portions in which
// rows come (format.go) and how characters are stored (encoding.go). The formats
// themselves are in the packages below it, one each.
package format

import (
	"fmt"

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

// ErrEmpty says that a file holds no line at all.
var ErrEmpty = fmt.Errorf("the file is empty: it has neither a header nor rows")
