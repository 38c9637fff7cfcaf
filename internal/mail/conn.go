package mail

import (
	"errors"
	"io"
	"net"
	"net/netip"
	"sync"
	"sync/atomic"
	"time"
)

// Limits bound what everybody together, and one source, can take of the mail server. A
// source is an address of IPv4, or a /64 of IPv6.
type Limits struct {
	Connections   int   // in all
	BySource      int   // connections of one source; relays that are trusted have no such limit
	Messages      int   // that come in at once
	Octets        int64 // of messages that come in at once
	WithoutResult time.Duration
}

// DefaultLimits are those of the service.
var DefaultLimits = Limits{Connections: 2500, BySource: 100, Messages: 1000, Octets: 2 << 30, WithoutResult: 10 * time.Minute}

const (
	perMessage = 15 * time.Minute // for one message to come in
	perBlock   = 3 * time.Minute  // for the next of its octets (RFC 5321, 4.5.3.2.5)
	lingering  = 5 * time.Second  // for the client to read the last answer
)

// source is where a connection comes from, as far as limits tell sources apart.
func source(a net.Addr) netip.Prefix {
	t, ok := a.(*net.TCPAddr)
	if !ok {
		return netip.Prefix{}
	}
	ip := t.AddrPort().Addr().Unmap()
	bits := 32
	if ip.Is6() {
		bits = 64
	}
	p, _ := ip.Prefix(bits)
	return p
}

// doors counts who is in.
type doors struct {
	limits   Limits
	mu       sync.Mutex
	all      int
	by       map[netip.Prefix]int
	messages int
	octets   atomic.Int64
}

// enter lets a connection in, or says why not.
func (d *doors) enter(from netip.Prefix, trusted bool) (no string) {
	d.mu.Lock()
	defer d.mu.Unlock()
	switch {
	case d.all >= d.limits.Connections:
		return "Too many connections are open here. Try again later."
	case !trusted && d.by[from] >= d.limits.BySource:
		return "Too many connections are open from where you are. Close one, or try again later."
	}
	d.all++
	d.by[from]++
	return ""
}

func (d *doors) leave(from netip.Prefix) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.all--
	if d.by[from]--; d.by[from] == 0 {
		delete(d.by, from)
	}
}

// begin lets a message come in.
func (d *doors) begin() bool {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.messages >= d.limits.Messages {
		return false
	}
	d.messages++
	return true
}

func (d *doors) end(octets int) {
	d.octets.Add(-int64(octets))
	d.mu.Lock()
	defer d.mu.Unlock()
	d.messages--
}

var errFull = errors.New("too many octets come in at once")

// bounded counts the octets of a message that comes in, and fails where there are too many
// of all messages together.
type bounded struct {
	to io.Writer
	d  *doors
	n  int
}

func (b *bounded) Write(p []byte) (int, error) {
	b.n += len(p)
	if b.d.octets.Add(int64(len(p))) > b.d.limits.Octets {
		return 0, errFull
	}
	return b.to.Write(p)
}

// conn is a connection whose patience has an end: a client that has nothing to show for its
// time is sent away, however busy it keeps the line. When it is closed, the client is given
// the time to read why.
type conn struct {
	net.Conn
	d      *doors
	from   netip.Prefix
	result atomic.Int64 // when a message was last taken, or the connection began; in Unix nanoseconds
	data   atomic.Int64 // when the message began that comes in; 0: none does
	closed atomic.Bool
}

func newConn(c net.Conn, d *doors, from netip.Prefix) *conn {
	out := &conn{Conn: c, d: d, from: from}
	out.hasResult()
	return out
}

func (c *conn) hasResult() { c.result.Store(time.Now().UnixNano()) }

// receiving says that a message comes in, or that it has come.
func (c *conn) receiving(on bool) {
	at := int64(0)
	if on {
		at = time.Now().UnixNano()
	}
	c.data.Store(at)
}

// SetReadDeadline sets a deadline that is no later than the patience with the client.
func (c *conn) SetReadDeadline(t time.Time) error {
	if end := time.Unix(0, c.result.Load()).Add(c.d.limits.WithoutResult); t.After(end) {
		t = end
	}
	return c.Conn.SetReadDeadline(t)
}

// Read reads; while a message comes in, with the time that it is given.
func (c *conn) Read(p []byte) (int, error) {
	if at := c.data.Load(); at != 0 {
		t, end := time.Now().Add(perBlock), time.Unix(0, at).Add(perMessage)
		if t.After(end) {
			t = end
		}
		if err := c.Conn.SetReadDeadline(t); err != nil {
			return 0, err
		}
	}
	return c.Conn.Read(p)
}

// Close ends the connection: to our side at once, to the client's when it has closed too,
// since what it has not read by then would be lost with what it still sends.
func (c *conn) Close() error {
	if c.closed.Swap(true) {
		return net.ErrClosed
	}
	w, ok := c.Conn.(interface{ CloseWrite() error })
	if !ok || w.CloseWrite() != nil {
		c.d.leave(c.from)
		return c.Conn.Close()
	}
	go func() {
		defer c.d.leave(c.from)
		defer c.Conn.Close()
		_ = c.Conn.SetDeadline(time.Now().Add(lingering))
		_, _ = io.Copy(io.Discard, io.LimitReader(c.Conn, 2*MaxMessage))
	}()
	return nil
}

// only is a listener with one connection.
type only struct {
	c    net.Conn
	done bool
}

func (l *only) Accept() (net.Conn, error) {
	if l.done {
		return nil, net.ErrClosed
	}
	l.done = true
	return l.c, nil
}
func (l *only) Close() error   { return nil }
func (l *only) Addr() net.Addr { return l.c.LocalAddr() }
