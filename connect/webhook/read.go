package webhook

import (
	"context"
	"encoding/json"
	"errors"
	"io"
	"strconv"

	"welkin/core/batch"
	"welkin/core/format"
	"welkin/core/schema"
	"welkin/core/step"
)

// The columns that every message has besides its own fields.
const (
	numberColumn = "n"
	cameColumn   = "came_at"
)

// Table implements step.Tables: the columns are the number, the time, and the fields of
// the messages that came first.
func (h *Hook) Table(ctx context.Context, name string) (*step.Table, error) {
	if name != Table {
		return nil, nil
	}
	if h.inbox == nil {
		return nil, errNoInbox
	}
	messages, err := h.inbox.Messages(ctx, 0, 0, format.SampleRecords)
	if err != nil {
		return nil, err
	}
	shape := format.Shape{}
	for _, m := range messages {
		if v, fault := batch.ParseJSON(m.Body); fault == nil {
			shape.Add(v, batch.JSONKeys)
		}
	}
	t := &step.Table{Name: name, Relation: name, Keys: []string{numberColumn}, Schema: schema.New(schema.Column{Name: numberColumn, Type: schema.Of(schema.Int)}, schema.Column{Name: cameColumn, Type: schema.Of(schema.TimestampTZ)})}
	for _, c := range shape.Columns().Columns {
		if c.Name != numberColumn && c.Name != cameColumn {
			t.Schema.Columns = append(t.Schema.Columns, c)
		}
	}
	for range t.Schema.Columns {
		t.Native = append(t.Native, step.Native{Type: "json"})
	}
	_, t.Rows, err = h.inbox.Newest(ctx)
	return t, err
}

// Query implements step.Tables.
func (h *Hook) Query(context.Context, string) (*schema.Schema, error) {
	return nil, errors.New("what came to an address is read as the table inbox; it answers no queries")
}

// Read implements step.Tables.
func (h *Hook) Read(ctx context.Context, r step.TableRead) (step.Reader, error) {
	if h.inbox == nil {
		return nil, errNoInbox
	}
	out := &reader{inbox: h.inbox, read: r, rows: format.NewRows(r.Schema, Table, nil)}
	if r.Greatest {
		n, count, err := h.inbox.Newest(ctx)
		if err != nil {
			return nil, err
		}
		if r.Schema.Columns[0].Name != numberColumn {
			return nil, errors.New("messages are read on by their number, the column n")
		}
		if out.done = true; count > 0 {
			out.rows.Add(map[string]any{numberColumn: json.Number(strconv.FormatInt(n, 10))}, n, func() string { return "" })
		}
		return out, nil
	}
	if b := r.Between; b != nil {
		if b.Column != numberColumn {
			return nil, errors.New("messages are read on by their number, the column n")
		}
		for _, end := range []struct {
			text string
			to   *int64
		}{{b.Above, &out.above}, {b.UpTo, &out.upTo}} {
			if end.text == "" {
				continue
			}
			n, fault := batch.ParseInt(end.text)
			if fault != nil {
				return nil, errors.New(fault.Sentence)
			}
			*end.to = n
		}
	}
	return out, nil
}

type reader struct {
	inbox       Inbox
	read        step.TableRead
	rows        *format.Rows
	above, upTo int64
	given       int64
	done        bool
}

// Next implements step.Reader.
func (r *reader) Next(ctx context.Context) (step.Chunk, error) {
	if !r.done {
		limit := batch.Rows
		if r.read.Limit > 0 {
			limit = int(min(int64(limit), r.read.Limit-r.given))
		}
		messages, err := r.inbox.Messages(ctx, r.above, r.upTo, limit)
		if err != nil {
			return step.Chunk{}, err
		}
		r.done = len(messages) < limit || limit == 0
		for _, m := range messages {
			r.above = m.N
			r.given++
			v, fault := batch.ParseJSON(m.Body)
			object, ok := v.(map[string]any)
			if fault != nil || !ok {
				object = map[string]any{}
			}
			object[numberColumn] = json.Number(strconv.FormatInt(m.N, 10))
			object[cameColumn] = m.Came.UTC().Format("2006-01-02 15:04:05.999999Z07:00")
			r.rows.Add(object, m.N, func() string { return m.Body })
		}
		r.done = r.done || r.read.Limit > 0 && r.given >= r.read.Limit
	}
	if r.rows.Seen() == 0 {
		return step.Chunk{}, io.EOF
	}
	got := r.rows.Chunk()
	out := step.Chunk{Batch: got.Batch, Seen: got.Seen}
	for _, bad := range got.Refused {
		out.Refused = append(out.Refused, step.Refused{Fault: bad.Fault, Column: bad.Column, Value: bad.Value, Place: Table, Row: bad.Line, Raw: bad.Raw})
	}
	return out, nil
}

// Close implements step.Reader.
func (r *reader) Close() error { return nil }
