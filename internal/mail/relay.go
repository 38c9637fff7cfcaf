package mail

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"net"
	"time"

	"github.com/emersion/go-smtp"
)

// RelayClient hands messages to one relay over a connection that it keeps open. It is
// for one goroutine.
type RelayClient struct {
	addr   string // host:port
	domain string // by which it says hello
	c      *smtp.Client
}

// NewRelayClient returns a client of the relay at addr.
func NewRelayClient(addr, domain string) *RelayClient {
	return &RelayClient{addr: addr, domain: domain}
}

// Close ends the connection.
func (k *RelayClient) Close() {
	if k.c != nil {
		_ = k.c.Quit()
		k.c.Close()
		k.c = nil
	}
}

// Permanent reports whether an error of a delivery will stay however often it is tried.
func Permanent(err error) bool {
	var e *smtp.SMTPError
	return errors.As(err, &e) && e.Code >= 500 && e.Code < 600
}

// Send hands one message to the relay for recipients and returns a result for
// each. nil means that the relay has taken it over.
func (k *RelayClient) Send(ctx context.Context, from string, to []string, raw []byte) []error {
	results := make([]error, len(to))
	err := k.try(ctx, from, to, raw, results)
	if err != nil {
		k.Close()
		for i := range results {
			if results[i] == nil {
				results[i] = err
			}
		}
	}
	return results
}

func (k *RelayClient) try(ctx context.Context, from string, to []string, raw []byte, results []error) error {
	if k.c != nil && k.c.Reset() != nil { // the relay may have closed it meanwhile
		k.c.Close()
		k.c = nil
	}
	if k.c == nil {
		conn, err := (&net.Dialer{Timeout: 30 * time.Second}).DialContext(ctx, "tcp", k.addr)
		if err != nil {
			return fmt.Errorf("reach the relay: %w", err)
		}
		k.c = smtp.NewClient(conn)
		k.c.CommandTimeout, k.c.SubmissionTimeout = 5*time.Minute, 12*time.Minute // RFC 5321, 4.5.3.2
		if err := k.c.Hello(k.domain); err != nil {
			return fmt.Errorf("greet the relay: %w", err)
		}
	}
	if err := k.c.Mail(from, k.options(raw)); err != nil {
		return fmt.Errorf("name the sender: %w", err)
	}
	taken := 0
	for i, a := range to {
		if results[i] = k.c.Rcpt(a, nil); results[i] == nil {
			taken++
		} else if !errors.As(results[i], new(*smtp.SMTPError)) {
			return fmt.Errorf("name a recipient: %w", results[i])
		}
	}
	if taken == 0 {
		return nil
	}
	d, err := k.c.Data()
	if err != nil {
		return fmt.Errorf("begin the message: %w", err)
	}
	if _, err := d.Write(raw); err != nil {
		return fmt.Errorf("send the message: %w", err)
	}
	if err := d.Close(); err != nil {
		return fmt.Errorf("finish the message: %w", err)
	}
	return nil
}

// options says what kind of octets follow, where the relay understands that
// (RFC 6152, RFC 6531).
func (k *RelayClient) options(raw []byte) *smtp.MailOptions {
	var o smtp.MailOptions
	if ok, _ := k.c.Extension("8BITMIME"); ok && has8Bit(raw) {
		o.Body = smtp.Body8BitMIME
	}
	head, _, _ := bytes.Cut(raw, []byte("\r\n\r\n"))
	if ok, _ := k.c.Extension("SMTPUTF8"); ok && has8Bit(head) {
		o.UTF8 = true
	}
	return &o
}

func has8Bit(b []byte) bool {
	for _, c := range b {
		if c >= 0x80 {
			return true
		}
	}
	return false
}
