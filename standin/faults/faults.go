// Package faults stands between a client and a server and injects what goes wrong on
// the way: connections that are cut in the middle, replies that are slow, a machine
// that refuses.
package faults

import (
	"io"
	"net"
	"sync"
	"sync/atomic"
	"time"
)

// Proxy passes connections on to another address on loopback.
type Proxy struct {
	listener net.Listener
	to       string
	left     atomic.Int64 // bytes of replies until connections are cut; none are when it is negative
	slow     atomic.Int64 // how long each portion of a reply waits
	refuse   atomic.Bool
	mu       sync.Mutex
	open     map[net.Conn]bool
	done     sync.WaitGroup
}

// New passes on to an address.
func New(to string) (*Proxy, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	p := &Proxy{listener: l, to: to, open: map[net.Conn]bool{}}
	p.left.Store(-1)
	p.done.Add(1)
	go p.accept()
	return p, nil
}

// Port is where it listens.
func (p *Proxy) Port() int { return p.listener.Addr().(*net.TCPAddr).Port }

// CutAfter cuts all connections once so many more bytes of replies went through; with
// a negative number none are cut any more.
func (p *Proxy) CutAfter(bytes int64) { p.left.Store(bytes) }

// Slow lets each portion of a reply wait.
func (p *Proxy) Slow(by time.Duration) { p.slow.Store(int64(by)) }

// Refuse closes new connections at once.
func (p *Proxy) Refuse(yes bool) { p.refuse.Store(yes) }

// Close ends the proxy and all that is open.
func (p *Proxy) Close() {
	_ = p.listener.Close()
	p.cut()
	p.done.Wait()
}

func (p *Proxy) cut() {
	p.mu.Lock()
	defer p.mu.Unlock()
	for c := range p.open {
		_ = c.Close()
	}
}

func (p *Proxy) accept() {
	defer p.done.Done()
	for {
		client, err := p.listener.Accept()
		if err != nil {
			return
		}
		if p.refuse.Load() || p.left.Load() == 0 {
			_ = client.Close()
			continue
		}
		server, err := net.Dial("tcp", p.to)
		if err != nil {
			_ = client.Close()
			continue
		}
		p.mu.Lock()
		p.open[client], p.open[server] = true, true
		p.mu.Unlock()
		p.done.Add(2)
		go func() {
			defer p.done.Done()
			_, _ = io.Copy(server, client)
			_ = server.Close()
		}()
		go func() {
			defer p.done.Done()
			p.reply(client, server)
			_ = client.Close()
			_ = server.Close()
			p.mu.Lock()
			delete(p.open, client)
			delete(p.open, server)
			p.mu.Unlock()
		}()
	}
}

func (p *Proxy) reply(client, server net.Conn) {
	buffer := make([]byte, 16<<10)
	for {
		n, err := server.Read(buffer)
		if n > 0 {
			time.Sleep(time.Duration(p.slow.Load()))
			if left := p.left.Load(); left >= 0 {
				n = int(min(int64(n), left))
				if p.left.Add(-int64(n)) <= 0 {
					_, _ = client.Write(buffer[:n])
					p.cut()
					return
				}
			}
			if _, werr := client.Write(buffer[:n]); werr != nil {
				return
			}
		}
		if err != nil {
			return
		}
	}
}
