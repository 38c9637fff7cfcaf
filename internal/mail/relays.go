package mail

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/base64"
	"errors"
	"fmt"
	"net"
	"strings"
	"sync"
	"time"
)

// Security is what is asked of a connection to a relay.
type Security int

// The levels.
const (
	Opportunistic Security = iota // TLS where the relay offers it (RFC 3207), whoever it is (RFC 7435); else without. With Roots it is Required.
	Required                      // TLS with a certificate of the relay's name, or no mail
	Never                         // none
)

// ParseSecurity reads a level by its name.
func ParseSecurity(name string) (Security, error) {
	for i, n := range []string{"opportunistic", "required", "never"} {
		if n == name {
			return Security(i), nil
		}
	}
	return 0, fmt.Errorf("it can't be %q: choose opportunistic, required, never", name)
}

// Relays are the mail systems that messages leave through, the one that is asked first before the others.
type Relays struct {
	Addrs    []string // HOST:PORT; with lmtp: before it, one that speaks LMTP (RFC 2033)
	Domain   string   // by which we say hello
	Security Security
	Roots    *x509.CertPool // that alone are trusted to say which machine a relay is; nil: those that the machine trusts
	User     string         // signs in (RFC 4954) where it is not ""
	Password string

	mu   sync.Mutex
	away map[string]time.Time // relays that could not be reached, and until when they are asked last
}

// asideFor is for how long a relay is asked after the others that could not be reached.
const asideFor = time.Minute

// Check reports what is wrong with the addresses.
func (r *Relays) Check() error {
	if len(r.Addrs) == 0 {
		return errors.New("there is none")
	}
	for _, a := range r.Addrs {
		host, port, err := net.SplitHostPort(strings.TrimPrefix(a, "lmtp:"))
		if err != nil || host == "" || port == "" {
			return fmt.Errorf("%q is no address of a relay: give HOST:PORT, or lmtp:HOST:PORT", a)
		}
	}
	return nil
}

// Client returns a client of these relays.
func (r *Relays) Client() *RelayClient { return &RelayClient{of: r} }

// order returns the relays in the order in which they are asked now.
func (r *Relays) order() []string {
	r.mu.Lock()
	defer r.mu.Unlock()
	var near, last []string
	for _, a := range r.Addrs {
		if time.Now().Before(r.away[a]) {
			last = append(last, a)
		} else {
			near = append(near, a)
		}
	}
	return append(near, last...)
}

func (r *Relays) reached(addr string, is bool) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.away == nil {
		r.away = map[string]time.Time{}
	}
	if is {
		delete(r.away, addr)
	} else {
		r.away[addr] = time.Now().Add(asideFor)
	}
}

// connect reaches the first relay that can be, and asks what it can do.
func (k *RelayClient) connect(ctx context.Context) error {
	var first error
	for _, addr := range k.of.order() {
		err := k.connectTo(ctx, addr)
		k.of.reached(addr, err == nil)
		if err == nil {
			return nil
		}
		if first == nil {
			first = err
		}
		if ctx.Err() != nil {
			break
		}
	}
	return first
}

// security is what is asked of a connection: who is named is asked for.
func (r *Relays) security() Security {
	if r.Security == Opportunistic && r.Roots != nil {
		return Required
	}
	return r.Security
}

func (k *RelayClient) connectTo(ctx context.Context, addr string) error {
	at, lmtp := strings.CutPrefix(addr, "lmtp:")
	k.lmtp = lmtp
	err := k.dial(ctx, at)
	if err != nil {
		return err
	}
	if err = k.secure(ctx, at); errors.Is(err, errHandshake) && k.of.security() == Opportunistic {
		k.drop() // one whose TLS is broken gets mail as one without
		if err = k.dial(ctx, at); err == nil {
			err = k.signIn(at)
		}
	} else if err == nil {
		err = k.signIn(at)
	}
	if err != nil {
		k.drop()
		return fmt.Errorf("greet the relay %s: %s", at, Reply(err))
	}
	return nil
}

// dial connects, and says hello.
func (k *RelayClient) dial(ctx context.Context, at string) error {
	conn, err := (&net.Dialer{Timeout: 30 * time.Second}).DialContext(ctx, "tcp", at)
	if err != nil {
		return fmt.Errorf("reach the relay: %w", err)
	}
	k.secured = false
	k.over(conn)
	_ = conn.SetDeadline(time.Now().Add(commandTime))
	if err = k.answer(); err == nil {
		err = k.greet()
	}
	if err != nil {
		k.drop()
		return fmt.Errorf("greet the relay %s: %s", at, Reply(err))
	}
	return nil
}

var errHandshake = errors.New("TLS with the relay failed")

// secure begins TLS, as far as it is asked for.
func (k *RelayClient) secure(ctx context.Context, at string) error {
	offered := k.can["STARTTLS"]
	switch {
	case k.of.security() == Never, k.of.security() == Opportunistic && !offered:
		return nil
	case !offered:
		return errors.New("it offers no TLS, which is required (--relay-tls)")
	}
	if err := errors.Join(k.write("STARTTLS"), k.w.Flush()); err != nil {
		return err
	}
	if err := k.answer(); err != nil {
		return fmt.Errorf("%w: %s", errHandshake, Reply(err))
	}
	if k.r.R.Buffered() > 0 { // what was said in clear must not count as said within (RFC 3207, 6)
		return errors.New("it said more than was asked before TLS began")
	}
	host, _, _ := net.SplitHostPort(at)
	conn := tls.Client(k.conn, &tls.Config{MinVersion: tls.VersionTLS12, ServerName: host, RootCAs: k.of.Roots, InsecureSkipVerify: k.of.security() == Opportunistic})
	if err := conn.HandshakeContext(ctx); err != nil {
		return fmt.Errorf("%w: %s", errHandshake, err)
	}
	k.over(conn)
	k.secured = true
	return k.greet()
}

// signIn signs in, where that is asked for: never over a line that others can read.
func (k *RelayClient) signIn(at string) error {
	if k.of.User == "" {
		return nil
	}
	host, _, _ := net.SplitHostPort(at)
	if ip := net.ParseIP(host); !k.secured && (ip == nil || !ip.IsLoopback()) {
		return errors.New("the password is not sent without TLS")
	}
	if !k.can["AUTH"] {
		return errors.New("it lets nobody sign in")
	}
	plain := base64.StdEncoding.EncodeToString([]byte("\x00" + k.of.User + "\x00" + k.of.Password)) // RFC 4616
	if err := errors.Join(k.write("AUTH PLAIN ", plain), k.w.Flush()); err != nil {
		return err
	}
	return k.answer()
}
