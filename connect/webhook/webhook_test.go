package webhook_test

import (
	"context"
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"welkin/connect"
	"welkin/connect/connecttest"
	"welkin/connect/webhook"
	"welkin/core/step"
)

// kept is an inbox in memory.
type kept []webhook.Message

func (kept) Number() int64 { return 7 }

func (k kept) Messages(_ context.Context, above, upTo int64, limit int) (out []webhook.Message, err error) {
	for _, m := range k {
		if m.N > above && (upTo == 0 || m.N <= upTo) && len(out) < limit {
			out = append(out, m)
		}
	}
	return out, nil
}

func (k kept) Newest(context.Context) (int64, int64, error) {
	if len(k) == 0 {
		return 0, 0, nil
	}
	return k[len(k)-1].N, int64(len(k)), nil
}

func open(t *testing.T, k kept) connect.Connection {
	c, err := webhook.Kind.Open(webhook.WithInbox(t.Context(), k), &webhook.Settings{Secret: "a long enough secret"})
	require.NoError(t, err)
	return c
}

func messages(n int) kept {
	var out kept
	for i := range n {
		out = append(out, webhook.Message{N: int64(10 + i), Came: time.Date(2026, 11, 23, 10, 0, i, 0, time.UTC), Body: fmt.Sprintf(`{"hut": "H%02d", "door": {"open": true}, "late": %d}`, i%48, i)})
	}
	return out
}

func TestMessagesAreRowsOfATable(t *testing.T) {
	c := open(t, messages(20_000))
	r, err := connecttest.ReadTable(t.Context(), c, step.ReadTable{Table: "inbox"})
	require.NoError(t, err)
	n, err := connecttest.Count(t.Context(), r)
	require.NoError(t, err)
	assert.EqualValues(t, 20_000, n)
	d, err := c.Describe(t.Context(), "inbox")
	require.NoError(t, err)
	var columns []string
	for _, col := range d.Columns {
		columns = append(columns, col.Name+" "+col.Type.String())
	}
	assert.ElementsMatch(t, []string{"n int", "came_at timestamptz", "hut text", "door record{open bool}", "late int"}, columns)
	w, err := c.Sample(t.Context(), "inbox", 3)
	require.NoError(t, err)
	assert.Len(t, w.Rows, 3)
	for _, l := range c.Check(t.Context()) {
		assert.Equal(t, connect.Good, l.State)
	}
	_, err = c.Describe(t.Context(), "outbox")
	assert.ErrorContains(t, err, "there is inbox")
}

func TestOnlyNewMessagesAreRead(t *testing.T) {
	all := messages(5)
	bound := func(c connect.Connection) step.Positioned {
		ctx := &step.Context{Context: t.Context(), World: &connect.World{Open: func(context.Context, string) (connect.Connection, error) { return c, nil }}}
		b := (&step.ReadTable{Connection: "x", Table: "inbox", Growing: &step.Growing{Column: "n"}}).Bind(ctx, nil)
		require.NotNil(t, b, "%v", ctx.Problems())
		return b.Source.(step.Positioned)
	}
	count := func(p step.Positioned, s step.Slice) (int64, []byte) {
		source, reached, err := p.From(t.Context(), s)
		require.NoError(t, err)
		r, err := source.Open(t.Context(), 0)
		require.NoError(t, err)
		n, err := connecttest.Count(t.Context(), r)
		require.NoError(t, err)
		position, err := reached()
		require.NoError(t, err)
		return n, position
	}
	n, position := count(bound(open(t, all[:3])), step.Slice{})
	assert.EqualValues(t, 3, n)
	n, _ = count(bound(open(t, all)), step.Slice{UpTo: position})
	assert.EqualValues(t, 3, n)
	n, _ = count(bound(open(t, all)), step.Slice{After: position})
	assert.EqualValues(t, 2, n)
}

func TestTheAddressIsSigned(t *testing.T) {
	s := &webhook.Settings{Secret: "a long enough secret"}
	require.NoError(t, s.Validate())
	assert.True(t, s.Signed(7, s.Sign(7)))
	assert.False(t, s.Signed(8, s.Sign(7)))
	assert.False(t, (&webhook.Settings{Secret: "another long secret"}).Signed(7, s.Sign(7)))
	assert.ErrorContains(t, (&webhook.Settings{Secret: "short"}).Validate(), "12 characters")
	assert.EqualValues(t, 1<<20, s.Most())
}
