package step

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"time"

	"welkin/core/batch"
	"welkin/core/schema"
)

// Growing reads a table by a column that grows: a number given out in order, or the
// time of the last change.
type Growing struct {
	Column   string `json:"column" jsonschema:"title=column,description=A column that is greater in rows that are new or changed"`
	LookBack string `json:"look_back,omitempty" jsonschema:"title=look back,description=How far before the last row reading begins again since some rows are committed late: a duration such as 10m or a number; nothing when left out"`
	First    string `json:"first,omitempty" jsonschema:"title=first run,description=From the start or from now; or a value behind which it begins,enum=start,enum=now"`
}

// First runs.
const (
	FromStart = "start"
	FromNow   = "now"
)

// growingPosition is how far a column was read.
type growingPosition struct {
	Column string  `json:"column"`
	UpTo   *string `json:"up_to"` // nil when there was no row yet
}

// growingSource reads rows whose column grew.
type growingSource struct {
	*tableSource
	*Growing
	column schema.Column
	back   time.Duration // for instants
	less   int64         // for numbers
}

func (g *Growing) bind(c *Context, source *tableSource, have *schema.Schema) *growingSource {
	at := c.column("growing.column", have, g.Column)
	if at < 0 {
		return nil
	}
	out := &growingSource{tableSource: source, Growing: g, column: have.Columns[at]}
	t := out.column.Type
	switch {
	case t.Kind != schema.Int && !t.Temporal():
		c.Problem("growing.column", "%s is %s; rows are found by a whole number or a time that grows", g.Column, t)
		return nil
	case g.LookBack == "":
	case t.Kind == schema.Int:
		if n, fault := batch.ParseInt(g.LookBack); fault != nil || n < 0 {
			c.Problem("growing.look_back", "%q is no number of 0 or more, as %s has", g.LookBack, g.Column)
		} else {
			out.less = n
		}
	default:
		d, err := time.ParseDuration(g.LookBack)
		if err != nil || d < 0 {
			c.Problem("growing.look_back", "%q is no duration; write it as 90s, 10m or 2h", g.LookBack)
		}
		out.back = d
	}
	if g.First != "" && g.First != FromStart && g.First != FromNow {
		if fault := batch.AppendText(batch.NewBuilder(t), t, g.First); fault != nil {
			c.Problem("growing.first", "a first run begins at the start, now, or behind a value of %s: %s", g.Column, fault.Sentence)
		}
	}
	if c.Failed() {
		return nil
	}
	return out
}

// From implements Positioned: rows above the last value read and up to the greatest
// there is now, so that rows which come during the run are neither lost nor doubled.
func (s *growingSource) From(ctx context.Context, slice Slice) (Source, func() (json.RawMessage, error), error) {
	var after, upTo growingPosition
	if err := readPosition(slice.After, &after); err != nil {
		return nil, nil, err
	}
	if err := readPosition(slice.UpTo, &upTo); err != nil {
		return nil, nil, err
	}
	if after.Column != "" && after.Column != s.Column {
		return nil, nil, fmt.Errorf("the position is one of the column %q, not of %q; set it back to the start, or to a value of %s", after.Column, s.Column, s.Column)
	}
	mark := upTo.UpTo
	if slice.UpTo == nil {
		var err error
		if mark, err = s.greatest(ctx); err != nil {
			return nil, nil, err
		}
	}
	from := after.UpTo
	if slice.After == nil {
		switch s.First {
		case "", FromStart:
		case FromNow:
			from = mark
		default:
			from = &s.First
		}
	}
	read := s.read
	read.Between = &Between{Column: s.Column, Type: s.column.Type}
	reached := growingPosition{Column: s.Column, UpTo: mark}
	switch {
	case mark == nil: // no row at all
		reached.UpTo = from
		return emptySource{read.Schema}, position(reached), nil
	case from != nil:
		above, err := s.lookedBack(*from)
		if err != nil {
			return nil, nil, err
		}
		read.Between.Above = above
	}
	read.Between.UpTo = *mark
	return &tableSource{s.db, read}, position(reached), nil
}

func position(p any) func() (json.RawMessage, error) {
	return func() (json.RawMessage, error) { return json.Marshal(p) }
}

// greatest gives the greatest value there is, nil for none.
func (s *growingSource) greatest(ctx context.Context) (*string, error) {
	reader, err := s.db.Read(ctx, TableRead{Table: s.read.Table, Relation: s.read.Relation, Query: s.read.Query, Columns: []string{s.Column},
		Schema: schema.New(s.column), Greatest: true})
	if err != nil {
		return nil, err
	}
	defer reader.Close()
	var out *string
	for {
		c, err := reader.Next(ctx)
		if err == io.EOF {
			return out, nil
		}
		if err != nil {
			return nil, err
		}
		if c.Batch.N > 0 && !c.Batch.Cols[0].IsNull(0) {
			text := batch.Text(c.Batch.Cols[0], s.column.Type, 0)
			out = &text
		}
	}
}

// lookedBack gives a value as much lower as the look-back says.
func (s *growingSource) lookedBack(v string) (string, error) {
	switch {
	case s.less > 0:
		n, fault := batch.ParseInt(v)
		if fault != nil {
			return "", fmt.Errorf("the position %q is no whole number; set it back", v)
		}
		return fmt.Sprint(n - s.less), nil
	case s.back > 0:
		at, fault := batch.ParseTimestamp(v)
		if fault != nil {
			return "", fmt.Errorf("the position %q is no time; set it back", v)
		}
		t := s.column.Type
		if t.Kind == schema.Date {
			t = schema.Of(schema.Timestamp)
		}
		earlier := time.UnixMicro(int64(at)).Add(-s.back)
		to := batch.NewBuilder(t)
		if fault := batch.AppendText(to, t, earlier.UTC().Format("2006-01-02 15:04:05.999999Z07:00")); fault != nil {
			return "", fmt.Errorf("looking back from %s: %s", v, fault.Sentence)
		}
		return batch.Text(to.NewArray(), t, 0), nil
	}
	return v, nil
}

// emptySource has no rows.
type emptySource struct{ schema *schema.Schema }

// Open implements Source.
func (s emptySource) Open(context.Context, int64) (Reader, error) { return s, nil }

// Next implements Reader.
func (s emptySource) Next(context.Context) (Chunk, error) { return Chunk{}, io.EOF }

// Close implements Reader.
func (s emptySource) Close() error { return nil }
