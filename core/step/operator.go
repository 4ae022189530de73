package step

import (
	"context"
	"fmt"
	"time"

	"welkin/core/batch"
	"welkin/core/expr"
)

// Operator is the running part of a work step. It is used by one goroutine.
type Operator interface {
	// Push takes a batch from an input, numbered from 0.
	Push(in int, b *batch.Batch, out Emitter) error
	// End says that an input has no more rows.
	End(in int, out Emitter) error
}

// Needs is implemented by operators that must have had all of some inputs before
// rows of the others: those wait until then.
type Needs interface {
	// First lists the inputs that must end first, one after the other.
	First() []int
}

// Concurrent is implemented by operators whose Push may be called by several
// goroutines at once, each with an Emitter of its own: their results are put
// back into order behind them. It is asked again for every batch.
type Concurrent interface {
	Concurrent(in int) bool
}

// Prepared is implemented by operators that can do a part of Push ahead and
// concurrently: what Prepare gives comes back with the batch, in order. Prepare
// may set rows aside and nothing else.
type Prepared interface {
	Prepare(in int, b *batch.Batch, out Emitter) (any, error)
	PushPrepared(in int, b *batch.Batch, prepared any, out Emitter) error
}

// RowWise is embedded by operators that keep nothing from row to row.
type RowWise struct{}

// Concurrent implements Concurrent.
func (RowWise) Concurrent(int) bool { return true }

// End implements Operator.
func (RowWise) End(int, Emitter) error { return nil }

// Closer is implemented by operators with something to be let go of at the end
// of a run, such as temporary files.
type Closer interface {
	Close()
}

// Emitter takes what an operator makes, and counts it. Each term of a row's
// account is told where it happens:
// in + made = out + dropped + set aside + absorbed + held.
type Emitter interface {
	Emit(b *batch.Batch) error
	// EmitTo is Emit for one of several outputs, numbered as in Bound.
	EmitTo(output int, b *batch.Batch) error
	// SetAside puts row i of b aside. It is an error when the step's policy or a
	// limit of the run says stop.
	SetAside(b *batch.Batch, i int, column, value string, fault *batch.Fault) error
	Made(rows int)
	Dropped(rows int)
	Absorbed(rows int)
	// Match counts, for steps that combine, rows that found a partner or not.
	Match(in int, matched, unmatched int)
	// Holds tells how many bytes the operator keeps. An operator that can spill
	// does so when it keeps more than Room; far past it Holds is an error.
	Holds(bytes int64) error
	// Room is how many bytes the operator may keep in memory.
	Room() int64
	// TempDir is where rows go that don't fit.
	TempDir() string
	Env() *expr.Env
	// Warn says something about this run that people should see, once.
	Warn(sentence string)
}

// Leaner is implemented by operators that keep rows and can keep fewer columns of
// them than they take in.
type Leaner interface {
	// Lean is told before the first row which columns are wanted of what comes out.
	Lean(wanted []bool)
}

// Source is the running part of a read.
type Source interface {
	// Open begins to read. limit is the number of rows wanted, 0 for all.
	Open(ctx context.Context, limit int64) (Reader, error)
}

// Versioned is implemented by sources that can tell whether what they read
// changed: then their version is another one.
type Versioned interface{ Version() string }

// Projecting is implemented by sources that can leave columns unread.
type Projecting interface {
	// Project gives the source with the columns wanted; in its batches the others
	// stand empty, as batch.Blank leaves them.
	Project(wanted []bool) Source
}

// Reader gives the rows of a source.
type Reader interface {
	// Next gives the following rows, io.EOF after the last.
	Next(ctx context.Context) (Chunk, error)
	Close() error
}

// Chunk is one portion of a source: its rows, and the records that could not
// become rows. Seen counts both.
type Chunk struct {
	Batch   *batch.Batch
	Refused []Refused
	Seen    int64
	Bytes   int64  // read from the source, for progress
	Warning string // something about this read that people should see
	Output  int    // of a source with several outputs: which one the rows belong to
}

// Refused is a row that could not be used, in its original form.
type Refused struct {
	*batch.Fault
	Column string
	Value  string
	Place  string
	Row    int64
	Key    string
	Names  []string  // the columns of Cells
	Cells  []*string // the row as it entered the step; nil when there is only Raw
	Raw    string
}

// Where words the row's origin.
func (r Refused) Where() string {
	switch {
	case r.Key != "":
		return fmt.Sprintf("%s, %s", r.Place, r.Key)
	case r.Row > 0:
		return fmt.Sprintf("%s, line %d", r.Place, r.Row)
	}
	return "a row made inside the sheet"
}

// RefusedRow makes the refusal of row i of a batch.
func RefusedRow(b *batch.Batch, i int, column, value string, fault *batch.Fault) Refused {
	r := Refused{Fault: fault, Column: column, Value: value, Names: b.Schema.Names(), Cells: b.Row(i)}
	r.Place, r.Row, r.Key = b.Origin.At(i)
	return r
}

// Epoch names one commit of a pipeline.
type Epoch struct {
	Pipeline string
	Number   int64
	Run      string
	Started  time.Time
}

// Target is the running part of a write.
type Target interface {
	// Begin starts a load of an epoch. When the target holds that epoch already,
	// the load's Held gives its result and nothing must be written.
	Begin(ctx context.Context, e Epoch) (Load, error)
}

// Load is one epoch on its way into a target.
type Load interface {
	Held() *Result
	Write(ctx context.Context, b *batch.Batch) error
	// Prepare does everything but the commit, and says what it will have done.
	Prepare(ctx context.Context) (Result, []Refused, error)
	Commit(ctx context.Context) error
	// Abort leaves the target as it was. It may be called after Commit, and then
	// does nothing.
	Abort(ctx context.Context) error
}

// Result is what a load did to its target. Rows that came in are inserted,
// updated, unchanged, left out by the step's rule, superseded by a later row of
// the same key, or refused.
type Result struct {
	Target     string `json:"target" doc:"The table or file."`
	Created    bool   `json:"created,omitempty"`
	Inserted   int64  `json:"inserted"`
	Updated    int64  `json:"updated"`
	Deleted    int64  `json:"deleted"`
	Unchanged  int64  `json:"unchanged"`
	LeftOut    int64  `json:"left_out"`
	Superseded int64  `json:"superseded"`
	Refused    int64  `json:"refused"`
	Before     int64  `json:"before" doc:"Rows in the target before."`
	After      int64  `json:"after" doc:"Rows in the target after, counted there."`
	Bytes      int64  `json:"bytes,omitempty"`
}
