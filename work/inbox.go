package work

import (
	"context"

	"welkin/connect/webhook"
	"welkin/store"
)

// inbox gives a connection the messages that the store keeps of it.
type inbox struct {
	store  *store.Store
	number int64
}

var _ webhook.Inbox = inbox{}

// Number implements webhook.Inbox.
func (i inbox) Number() int64 { return i.number }

// Messages implements webhook.Inbox.
func (i inbox) Messages(ctx context.Context, above, upTo int64, limit int) ([]webhook.Message, error) {
	rows, err := i.store.Inbox(ctx, i.number, above, upTo, limit)
	if err != nil {
		return nil, err
	}
	out := make([]webhook.Message, len(rows))
	for k, r := range rows {
		out[k] = webhook.Message{N: r.N, Came: r.Came, Body: r.Body}
	}
	return out, nil
}

// Newest implements webhook.Inbox.
func (i inbox) Newest(ctx context.Context) (int64, int64, error) {
	return i.store.InboxNewest(ctx, i.number)
}

// WithInbox gives a context in which a connection reads its own messages.
func WithInbox(ctx context.Context, s *store.Store, connection int64) context.Context {
	return webhook.WithInbox(ctx, inbox{s, connection})
}
