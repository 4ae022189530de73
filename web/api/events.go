package api

import (
	"context"
	"fmt"
	"log/slog"
	"net/http"
	"sync"
	"time"

	"github.com/jackc/pgx/v5/pgxpool"
)

// events passes what the database notifies on to every open page.
type events struct {
	mu      sync.Mutex
	readers map[chan string]struct{}
}

func newEvents() *events { return &events{readers: map[chan string]struct{}{}} }

func (e *events) add() chan string {
	e.mu.Lock()
	defer e.mu.Unlock()
	c := make(chan string, 64)
	e.readers[c] = struct{}{}
	return c
}

func (e *events) remove(c chan string) {
	e.mu.Lock()
	defer e.mu.Unlock()
	delete(e.readers, c)
}

// tell never waits: a page that is too slow misses an event and asks again at
// the next.
func (e *events) tell(payload string) {
	e.mu.Lock()
	defer e.mu.Unlock()
	for c := range e.readers {
		select {
		case c <- payload:
		default:
		}
	}
}

// listen follows the database's notifications, connecting anew when it must.
func (e *events) listen(ctx context.Context, pool *pgxpool.Pool, log *slog.Logger) {
	for ctx.Err() == nil {
		if err := e.follow(ctx, pool); err != nil && ctx.Err() == nil {
			log.Warn("listening for live updates", "error", err)
			select {
			case <-time.After(time.Second):
			case <-ctx.Done():
			}
		}
	}
}

func (e *events) follow(ctx context.Context, pool *pgxpool.Pool) error {
	conn, err := pool.Acquire(ctx)
	if err != nil {
		return err
	}
	defer func() {
		_, _ = conn.Exec(context.WithoutCancel(ctx), `UNLISTEN *`)
		conn.Release()
	}()
	if _, err := conn.Exec(ctx, `LISTEN welkin_runs`); err != nil {
		return err
	}
	for {
		n, err := conn.Conn().WaitForNotification(ctx)
		if err != nil {
			return err
		}
		e.tell(n.Payload)
	}
}

// serveEvents streams the numbers of runs that changed, as server-sent events.
func (s *Server) serveEvents(w http.ResponseWriter, r *http.Request) {
	flush := http.NewResponseController(w)
	w.Header().Set("Content-Type", "text/event-stream")
	w.Header().Set("Cache-Control", "no-store")
	c := s.events.add()
	defer s.events.remove(c)
	_, _ = fmt.Fprint(w, ": hello\n\n")
	_ = flush.Flush()
	beat := time.NewTicker(20 * time.Second)
	defer beat.Stop()
	for {
		select {
		case <-r.Context().Done():
			return
		case run := <-c:
			_, _ = fmt.Fprintf(w, "event: run\ndata: %s\n\n", run)
		case <-beat.C:
			_, _ = fmt.Fprint(w, ": still here\n\n")
		}
		if flush.Flush() != nil {
			return
		}
	}
}
