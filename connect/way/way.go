// Package way is how a connection's machine is reached: directly or through an SSH
// tunnel (tunnel.go), plainly or by TLS with own certificates (tls.go). Kinds embed
// its settings and dial by it; check.go gives the lines of the check list that all
// kinds share.
package way

import (
	"context"
	"errors"
	"fmt"
	"net"
	"sync"
	"time"

	"golang.org/x/crypto/ssh"
)

// Patience is how long one attempt to reach a machine may take.
const Patience = 8 * time.Second

// Way reaches machines. It may be used by several goroutines.
type Way struct {
	Tunnel Tunnel
	mu     sync.Mutex
	client *ssh.Client
}

// Dial opens a connection to host:port, through the tunnel when there is one.
func (w *Way) Dial(ctx context.Context, network, address string) (net.Conn, error) {
	if !w.Tunnel.Used() {
		return (&net.Dialer{Timeout: Patience}).DialContext(ctx, network, address)
	}
	client, err := w.open(ctx)
	if err != nil {
		return nil, err
	}
	conn, err := client.DialContext(ctx, network, address)
	if err != nil {
		return nil, fmt.Errorf("the tunnel by %s opens, but %s does not answer behind it: %w", w.Tunnel.Host, address, err)
	}
	return &timed{Conn: conn}, nil
}

// timed gives deadlines to connections through a tunnel, which have none of their own:
// when one is over, the connection is closed.
type timed struct {
	net.Conn
	mu    sync.Mutex
	timer *time.Timer
}

// SetDeadline implements net.Conn.
func (t *timed) SetDeadline(at time.Time) error {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.timer != nil {
		t.timer.Stop()
		t.timer = nil
	}
	if !at.IsZero() {
		t.timer = time.AfterFunc(time.Until(at), func() { _ = t.Conn.Close() })
	}
	return nil
}

// SetReadDeadline implements net.Conn.
func (t *timed) SetReadDeadline(at time.Time) error { return t.SetDeadline(at) }

// SetWriteDeadline implements net.Conn: what is written is taken at once by the
// tunnel, or reading fails.
func (t *timed) SetWriteDeadline(time.Time) error { return nil }

// Close implements net.Conn.
func (t *timed) Close() error {
	_ = t.SetDeadline(time.Time{})
	return t.Conn.Close()
}

// open signs in at the tunnel's machine once.
func (w *Way) open(ctx context.Context) (*ssh.Client, error) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.client != nil {
		return w.client, nil
	}
	client, err := w.Tunnel.dial(ctx)
	if err != nil {
		return nil, &TunnelError{err}
	}
	w.client = client
	return client, nil
}

// TunnelError is a failure of the tunnel itself.
type TunnelError struct{ Err error }

func (e *TunnelError) Error() string { return e.Err.Error() }
func (e *TunnelError) Unwrap() error { return e.Err }

// Close closes the tunnel.
func (w *Way) Close() error {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.client == nil {
		return nil
	}
	err := w.client.Close()
	w.client = nil
	if errors.Is(err, net.ErrClosed) {
		return nil
	}
	return err
}
