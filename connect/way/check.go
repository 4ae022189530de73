package way

import (
	"context"
	"fmt"
	"net"
	"time"

	"welkin/connect"
)

// Checks collects the lines of a check list in their order: each is not tried until
// it was.
type Checks struct {
	Lines []connect.CheckLine
	next  int
}

// Begin lists what will be tried.
func Begin(whats ...string) *Checks {
	c := &Checks{}
	for _, w := range whats {
		c.Lines = append(c.Lines, connect.CheckLine{What: w, State: connect.NotTried})
	}
	return c
}

// Good says that the next line is good.
func (c *Checks) Good(format string, args ...any) {
	c.Lines[c.next].State, c.Lines[c.next].Found = connect.Good, fmt.Sprintf(format, args...)
	c.next++
}

// Note says that the next line is neither good nor bad.
func (c *Checks) Note(found, remedy string) {
	c.Lines[c.next].State, c.Lines[c.next].Found, c.Lines[c.next].Remedy = connect.Note, found, remedy
	c.next++
}

// Bad says that the next line is bad, and what to change; it gives all lines.
func (c *Checks) Bad(err error, remedy, setting string) []connect.CheckLine {
	l := &c.Lines[c.next]
	l.State, l.Found, l.Remedy, l.Setting = connect.Bad, err.Error(), remedy, setting
	c.next++
	return c.Lines
}

// Reach tries the lines that say whether a machine is reached: its name, or the
// tunnel, and its port. It tells whether one should go on.
func (c *Checks) Reach(ctx context.Context, w *Way, host, address string) bool {
	if w.Tunnel.Used() {
		if _, err := w.open(ctx); err != nil {
			c.Bad(err, "Correct the tunnel's machine, user, password or key.", "ssh_host")
			return false
		}
		c.Good("through %s, as %s", w.Tunnel.Host, w.Tunnel.User)
	} else {
		list, err := net.DefaultResolver.LookupHost(ctx, host)
		if err != nil {
			c.Bad(Explain(err, host, address), "Correct the host, or ask for its name to be made known.", "host")
			return false
		}
		c.Good("%s is %s", host, list[0])
	}
	began := time.Now()
	conn, err := w.Dial(ctx, "tcp", address)
	if err != nil {
		c.Bad(Explain(err, host, address), "Correct host and port, start the service, or open the firewall for the address "+outgoing(host)+".", "port")
		return false
	}
	_ = conn.Close()
	c.Good("%s answers in %s; Welkin comes from %s", address, time.Since(began).Round(10*time.Microsecond), outgoing(host))
	return true
}

// ReachLines are the first lines of kinds that call Reach.
func (t Tunnel) ReachLines() []string {
	if t.Used() {
		return []string{"the tunnel opens", "the port answers"}
	}
	return []string{"the name resolves", "the port answers"}
}

// outgoing is the address from which Welkin calls a host, for firewalls.
func outgoing(host string) string {
	conn, err := net.Dial("udp", net.JoinHostPort(host, "9")) // sends nothing
	if err != nil {
		return "this machine"
	}
	defer conn.Close()
	if a, ok := conn.LocalAddr().(*net.UDPAddr); ok {
		return a.IP.String()
	}
	return "this machine"
}
