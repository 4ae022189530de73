// Package webhook is the connection kind for an address of Welkin's own to which others
// send JSON: each object that came is a row of its one table, inbox. webhook.go has the
// kind, read.go reads. The rows are kept by whoever opens the connection (Inbox).
package webhook

import (
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base64"
	"errors"
	"fmt"
	"strings"
	"time"

	"welkin/connect"
	"welkin/connect/way"
	"welkin/core/batch"
	"welkin/core/step"
)

// Kind is the webhook kind.
var Kind = connect.Kind{
	Name: "webhook", Holds: connect.HoldsTables, Secrets: []string{"secret"},
	Help: "Rows that other systems send here as JSON, to an address that only they know.",
	New:  func() connect.Settings { return &Settings{} },
	Open: func(ctx context.Context, s connect.Settings) (connect.Connection, error) {
		inbox, _ := ctx.Value(inboxKey{}).(Inbox)
		return &Hook{settings: s.(*Settings), inbox: inbox}, nil
	},
}

// Settings of an address.
type Settings struct {
	Secret  string `json:"secret,omitempty" jsonschema:"title=secret,format=password,description=Signs the address; kept encrypted. Another secret makes another address"`
	MostKiB int    `json:"most_kib,omitempty" jsonschema:"title=KiB at most,description=What one call may send: 1024 when left out"`
}

// Validate implements connect.Settings.
func (s *Settings) Validate() error {
	switch {
	case len(s.Secret) < 12:
		return errors.New("secret is missing; give one of 12 characters or more, by which the address is signed")
	case s.MostKiB < 0 || s.MostKiB > 64<<10:
		return fmt.Errorf("most_kib is up to %d", 64<<10)
	}
	return nil
}

// Most is how many bytes one call may send.
func (s *Settings) Most() int64 {
	if s.MostKiB == 0 {
		return 1 << 20
	}
	return int64(s.MostKiB) << 10
}

// Sign gives the part of the address that only those know who were told.
func (s *Settings) Sign(number int64) string {
	m := hmac.New(sha256.New, []byte(s.Secret))
	fmt.Fprintf(m, "welkin hook %d", number)
	return base64.RawURLEncoding.EncodeToString(m.Sum(nil)[:24])
}

// Signed tells whether that part is right, without telling by the time it takes.
func (s *Settings) Signed(number int64, sign string) bool {
	return hmac.Equal([]byte(s.Sign(number)), []byte(sign))
}

// Message is one object that came.
type Message struct {
	N    int64
	Came time.Time
	Body string // JSON
}

// Inbox keeps the messages of one connection, numbered in the order in which they were
// kept.
type Inbox interface {
	// Number is that of the connection.
	Number() int64
	// Messages gives messages above one number and up to another (0 for all) in order,
	// at most so many.
	Messages(ctx context.Context, above, upTo int64, limit int) ([]Message, error)
	// Newest gives the number of the newest message and how many there are.
	Newest(ctx context.Context) (n, count int64, err error)
}

type inboxKey struct{}

// WithInbox gives a context in which a connection of this kind is opened.
func WithInbox(ctx context.Context, i Inbox) context.Context {
	return context.WithValue(ctx, inboxKey{}, i)
}

// Hook is an open connection.
type Hook struct {
	settings *Settings
	inbox    Inbox
}

var (
	_ connect.Connection = (*Hook)(nil)
	_ step.Tables        = (*Hook)(nil)
)

// Table is the name of the one table.
const Table = "inbox"

var errNoInbox = errors.New("messages are kept by an installation of Welkin alone; there is none here")

// Path is the path of the address.
func (h *Hook) Path() string {
	return fmt.Sprintf("/hooks/%d/%s", h.inbox.Number(), h.settings.Sign(h.inbox.Number()))
}

// Check implements connect.Connection.
func (h *Hook) Check(ctx context.Context) []connect.CheckLine {
	c := way.Begin("the address", "what came")
	if h.inbox == nil || h.inbox.Number() == 0 {
		c.Note("there is one once the connection is saved", "")
		return c.Lines
	}
	c.Good("POST JSON to %s of this installation; whoever knows the address may send", h.Path())
	n, count, err := h.inbox.Newest(ctx)
	if err != nil {
		return c.Bad(err, "Look whether Welkin's own database answers.", "")
	}
	c.Good("%d messages, the newest has the number %d", count, n)
	return c.Lines
}

// Browse implements connect.Connection.
func (h *Hook) Browse(ctx context.Context, _ string) ([]connect.Entry, error) {
	return h.Search(ctx, "", 1)
}

// Search implements connect.Connection.
func (h *Hook) Search(ctx context.Context, text string, _ int) ([]connect.Entry, error) {
	if !strings.Contains(Table, strings.ToLower(text)) {
		return []connect.Entry{}, nil
	}
	e := connect.Entry{Path: Table, Name: Table, Type: "table"}
	if h.inbox != nil {
		if _, count, err := h.inbox.Newest(ctx); err == nil {
			e.Rows = &count
		}
	}
	return []connect.Entry{e}, nil
}

// Describe implements connect.Connection.
func (h *Hook) Describe(ctx context.Context, name string) (*connect.Description, error) {
	t, err := h.Table(ctx, name)
	if err != nil {
		return nil, err
	}
	if t == nil {
		return nil, fmt.Errorf("there is no table %q; there is %s", name, Table)
	}
	return &connect.Description{Path: name, Columns: t.Schema.Columns, Keys: t.Keys, Rows: &t.Rows}, nil
}

// Sample implements connect.Connection.
func (h *Hook) Sample(ctx context.Context, name string, rows int) (batch.Wire, error) {
	t, err := h.Table(ctx, name)
	if err != nil {
		return batch.Wire{}, err
	}
	if t == nil {
		return batch.Wire{}, fmt.Errorf("there is no table %q; there is %s", name, Table)
	}
	r, err := h.Read(ctx, step.TableRead{Table: name, Schema: t.Schema, Limit: int64(rows)})
	if err != nil {
		return batch.Wire{}, err
	}
	defer r.Close()
	c, err := r.Next(ctx)
	if err != nil {
		return batch.ToWire(t.Schema, nil, rows), nil
	}
	return batch.ToWire(t.Schema, []*batch.Batch{c.Batch}, rows), nil
}

// Close implements connect.Connection.
func (h *Hook) Close() error { return nil }
