package work

import (
	"sync"
	"time"

	"ivytable.example/ivytable/internal/mail"
)

const (
	maxLines = 24          // connections to the relay that are kept open
	unused   = time.Minute // after which one is closed; a relay may close it after five (RFC 5321, 4.5.3.2.7)
)

// lines are the connections to the relay that nobody uses, the one that was used last at the end.
type lines struct {
	mu   sync.Mutex
	free []line
}

type line struct {
	relay *mail.RelayClient
	since time.Time
}

// take returns the connection that was used last; nil where there is none.
func (l *lines) take() *mail.RelayClient {
	l.mu.Lock()
	defer l.mu.Unlock()
	n := len(l.free) - 1
	if n < 0 {
		return nil
	}
	relay := l.free[n].relay
	l.free = l.free[:n]
	return relay
}

// put keeps a connection, and reports whether there was room.
func (l *lines) put(relay *mail.RelayClient, now time.Time) bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	if len(l.free) >= maxLines {
		return false
	}
	l.free = append(l.free, line{relay, now})
	return true
}

// before takes out those that nobody used since a time.
func (l *lines) before(then time.Time) (old []*mail.RelayClient) {
	l.mu.Lock()
	defer l.mu.Unlock()
	for len(l.free) > 0 && l.free[0].since.Before(then) {
		old = append(old, l.free[0].relay)
		l.free = l.free[1:]
	}
	return old
}

// closeAll ends connections, all at once: a relay may be slow to say goodbye.
func closeAll(relays []*mail.RelayClient) {
	var all sync.WaitGroup
	for _, relay := range relays {
		all.Go(relay.Close)
	}
	all.Wait()
}
