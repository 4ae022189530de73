// Package connect is the outside world: what a connection offers (connect.go),
// and how steps reach connections by name (world.go). Each kind of connection
// is a package of its own below this one; connecttest has the suite that every
// kind passes; kinds lists them.
//
// A new kind is a package with a Kind and a Connection that also implements
// step.Files or step.Tables, a line in kinds, and a test that runs the suite.
package connect

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"strings"

	"github.com/invopop/jsonschema"

	"welkin/core/batch"
	"welkin/core/schema"
)

// What a connection holds.
const (
	HoldsFiles  = "files"
	HoldsTables = "tables"
	HoldsAPI    = "replies"
)

// Kind describes a kind of connection.
type Kind struct {
	Name    string   `json:"name"`
	Help    string   `json:"help"`
	Holds   string   `json:"holds" enum:"files,tables,replies"`
	Secrets []string `json:"secrets" doc:"Settings that are kept encrypted and never shown again."`
	// New gives empty settings; their json and jsonschema tags draw the form.
	New  func() Settings                                           `json:"-"`
	Open func(ctx context.Context, s Settings) (Connection, error) `json:"-"`
}

// Settings are the settings of one kind, secrets among them.
type Settings interface {
	// Validate names the first setting that is missing or can't be.
	Validate() error
}

// Connection is an open connection. It may be used by several goroutines.
type Connection interface {
	// Check goes through what a load or a read will need, line by line. It goes
	// on after a failing line where that makes sense, and never returns nothing.
	Check(ctx context.Context) []CheckLine
	// Browse lists what is inside a path; "" is the top.
	Browse(ctx context.Context, path string) ([]Entry, error)
	// Search finds entries whose name holds a text, without regard to case.
	Search(ctx context.Context, text string, limit int) ([]Entry, error)
	// Describe gives the columns of a table or file.
	Describe(ctx context.Context, path string) (*Description, error)
	// Sample gives the first rows of a table or file.
	Sample(ctx context.Context, path string, rows int) (batch.Wire, error)
	Close() error
}

// CheckLine is one line of the check list.
type CheckLine struct {
	What    string `json:"what" doc:"Such as: the port answers."`
	State   string `json:"state" enum:"good,bad,not tried,note"`
	Found   string `json:"found" doc:"What was tried and what came of it."`
	Remedy  string `json:"remedy,omitempty" doc:"What to change, for a bad line."`
	Setting string `json:"setting,omitempty" doc:"The setting it is about."`
}

// States of a check line.
const (
	Good     = "good"
	Bad      = "bad"
	NotTried = "not tried"
	Note     = "note"
)

// Entry is one thing inside a connection.
type Entry struct {
	Path   string `json:"path"`
	Name   string `json:"name"`
	Type   string `json:"type" enum:"schema,table,view,folder,file,path"`
	Rows   *int64 `json:"rows,omitempty" doc:"The source's own estimate."`
	Bytes  *int64 `json:"bytes,omitempty"`
	Opens  bool   `json:"opens" doc:"There is something inside to browse."`
	Detail string `json:"detail,omitempty"`
}

// Description is what is known of a table or file without reading all of it.
type Description struct {
	Path    string          `json:"path"`
	Columns []schema.Column `json:"columns"`
	Keys    []string        `json:"keys,omitempty"`
	Native  []string        `json:"native,omitempty" doc:"The source's own types, by column."`
	Rows    *int64          `json:"rows,omitempty"`
	Why     []string        `json:"why,omitempty" doc:"How a file's form was found."`
}

// Decode reads a kind's settings strictly from JSON and puts its secrets in.
func (k Kind) Decode(settings json.RawMessage, secrets map[string]string) (Settings, error) {
	s := k.New()
	if len(settings) > 0 {
		dec := json.NewDecoder(bytes.NewReader(settings))
		dec.DisallowUnknownFields()
		if err := dec.Decode(s); err != nil {
			return nil, fmt.Errorf("the settings of a %s connection can't be read: %s", k.Name, strings.TrimPrefix(err.Error(), "json: "))
		}
	}
	if len(secrets) > 0 {
		text, err := json.Marshal(secrets)
		if err != nil {
			return nil, err
		}
		if err := json.Unmarshal(text, s); err != nil {
			return nil, fmt.Errorf("the secrets of a %s connection can't be read", k.Name)
		}
	}
	return s, s.Validate()
}

// JSONSchema gives the schema of the kind's settings, for its form.
func (k Kind) JSONSchema() *jsonschema.Schema {
	r := jsonschema.Reflector{Anonymous: true, DoNotReference: true, ExpandedStruct: true}
	return r.Reflect(k.New())
}
