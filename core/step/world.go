package step

import (
	"context"
	"errors"
	"io"
	"time"

	"welkin/core/format/fixed"
	"welkin/core/schema"
)

// World is what steps may ask of the outside. Package connect gives it.
type World interface {
	// Files gives a connection that holds files.
	Files(ctx context.Context, connection string) (Files, error)
	// Tables gives a connection that holds tables.
	Tables(ctx context.Context, connection string) (Tables, error)
}

// Programs is a World that may start external programs.
type Programs interface {
	// Programs lists the programs that an administrator allows.
	Programs() []string
	// RunProgram runs one with its standard input and output, within limits; an
	// error holds the end of what it wrote on standard error.
	RunProgram(ctx context.Context, name string, limits ProgramLimits, in io.Reader, out io.Writer) error
}

// ProgramLimits bound a program.
type ProgramLimits struct {
	Time   time.Duration
	Memory int64 // bytes
}

// Layouts is a World that has saved record layouts.
type Layouts interface {
	// Layout gives the newest version of a layout by its name.
	Layout(ctx context.Context, name string) (*fixed.Layout, error)
}

// FileInfo is one file of a connection.
type FileInfo struct {
	Name    string    `json:"name"`
	Size    int64     `json:"size"`
	Changed time.Time `json:"changed"`
}

// Files is a place that holds files, by names with / between the parts.
type Files interface {
	// Match lists the files that fit a pattern (* within a folder, ** across),
	// by name.
	Match(ctx context.Context, pattern string) ([]FileInfo, error)
	Open(ctx context.Context, name string) (io.ReadCloser, error)
	// Draft begins a file that is not seen under its name before Commit.
	Draft(ctx context.Context, name string, e Epoch, step string) (Draft, error)
}

// Draft is a file being written. Its Held, Commit and Abort are a Load's.
type Draft interface {
	io.Writer
	Held() *Result
	// Prepare puts the bytes in safety under the temporary name.
	Prepare(ctx context.Context, r Result) error
	Commit(ctx context.Context) error
	Abort(ctx context.Context) error
}

// Tables is a database.
type Tables interface {
	// Table describes a table named as schema.table; nil when there is none.
	Table(ctx context.Context, name string) (*Table, error)
	// Query gives the columns of a SELECT.
	Query(ctx context.Context, sql string) (*schema.Schema, error)
	// Read reads a table or a query.
	Read(ctx context.Context, r TableRead) (Reader, error)
}

// Loader is Tables that can be loaded.
type Loader interface {
	Tables
	// Load begins to load a table.
	Load(ctx context.Context, l TableLoad) (Load, error)
}

// Explainer is Tables that speak PostgreSQL's SQL: sheets can run there, and it can
// tell how it would go about a SELECT.
type Explainer interface {
	// Explain gives the database's own words, a line for each part of its plan.
	Explain(ctx context.Context, sql string) (string, error)
}

// Filler is a Load that the database can fill by itself. Fill takes the place of
// all calls of Write.
type Filler interface {
	// Fill tells how many rows each of the relations to be counted gave. An error
	// that is ErrRow says that a row could not be computed.
	Fill(ctx context.Context, f Fill) (counts []int64, err error)
}

// Fill says by which rows a load is filled.
type Fill struct {
	With    []string // common table expressions
	From    string   // the relation whose rows are loaded
	Columns []string // its columns, in the order of the load's schema
	Count   []string // relations whose rows are counted
}

// ErrRow says that a database ended a statement because of a value in a row: a
// cast, an overflow, a division by zero.
var ErrRow = errors.New("a row can't be computed")

// Table is what a database says of one table.
type Table struct {
	Name     string         `json:"name"`
	Relation string         `json:"-"` // how a statement names it
	Schema   *schema.Schema `json:"schema"`
	Keys     []string       `json:"keys" doc:"Columns of the primary key."`
	Rows     int64          `json:"rows" doc:"The database's estimate; -1 when it has none."`
	Strange  []string       `json:"strange,omitempty" doc:"Columns of types that Welkin has not; read as text."`
	// Native holds, by column, the database's own type and limits.
	Native []Native `json:"native"`
}

// Native is a column as its database knows it.
type Native struct {
	Type       string `json:"type"`
	NotNull    bool   `json:"not_null"`
	HasDefault bool   `json:"has_default"`
	MaxLength  int    `json:"max_length,omitempty" doc:"Characters; 0 for no limit."`
	Bits       int    `json:"bits,omitempty" doc:"Width of a whole number; 0 for others."`
}

// TableRead says what to read: a table or a query, not both.
type TableRead struct {
	Table    string
	Relation string // how a statement names the table
	Query    string
	Columns  []string // nil for all
	Schema   *schema.Schema
	Keys     []string // for the origin of rows
	Limit    int64    // 0 for all
	Only     []Among  // reads rows alone that fit all of them
	Between  *Between // reads rows alone of a slice
	Greatest bool     // gives one row with the greatest value of the one column, null for none
}

// Between says that a column lies in a slice: above one value and up to another, both
// as batch.Text has them; "" for no end.
type Between struct {
	Column      string
	Type        schema.Type
	Above, UpTo string
}

// Among says that a column has one of some values.
type Among struct {
	Column string
	Type   schema.Type
	Values []string // as batch.Text has them
}

// Modes of a table load.
const (
	Append  = "append"
	Replace = "replace"
	Merge   = "merge"
)

// TableLoad says how rows go into a table.
type TableLoad struct {
	Epoch   Epoch
	Step    string
	Table   string
	Exists  *Table // nil when the table is to be made
	Schema  *schema.Schema
	Mode    string
	Keys    []string // for Merge
	OrderBy string   // a column: of rows with the same key the highest stays; "" for the last that came
	Keep    bool     // Merge: rows that match stay as they are
	NoNew   bool     // Merge: rows that match nothing are left out
	Delete  bool     // Merge: rows of the table that match nothing go
}
