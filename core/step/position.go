package step

import (
	"context"
	"encoding/json"
	"time"
)

// Positioned is implemented by sources that go on from where the last run ended. A
// position belongs to pipeline and step; it is kept when the epoch is committed and
// never before. Trials read such a source from its start.
type Positioned interface {
	Source
	// From gives the source that reads a slice, and what gives the position behind it
	// once all of it was read.
	From(ctx context.Context, s Slice) (source Source, reached func() (json.RawMessage, error), err error)
}

// Slice says which part of a source is read.
type Slice struct {
	After json.RawMessage // the position from which it goes on; nil before the first run
	UpTo  json.RawMessage // the position that an earlier attempt at the same epoch reached; nil for all there is
	Now   time.Time       // the start of the epoch
}
