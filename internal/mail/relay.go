package mail

import (
	"context"
	"errors"
	"fmt"
	"io"
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

// Answered reports whether an error is an answer of the relay about a message or a
// recipient; permanent, that it will stay however often it is tried. A relay that is closing
// (421) has not answered.
func Answered(err error) (answered, permanent bool) {
	var e *smtp.SMTPError
	if !errors.As(err, &e) || e.Code == 421 {
		return false, false
	}
	return true, e.Code >= 500 && e.Code < 600
}

// Reply is what the relay said, with its code.
func Reply(err error) string {
	var e *smtp.SMTPError
	if !errors.As(err, &e) {
		return oneLine(err.Error())
	}
	if e.EnhancedCode[0] > 0 {
		return oneLine(fmt.Sprintf("%d %d.%d.%d %s", e.Code, e.EnhancedCode[0], e.EnhancedCode[1], e.EnhancedCode[2], e.Message))
	}
	return oneLine(fmt.Sprintf("%d %s", e.Code, e.Message))
}

// Outgoing is one message as it is handed to the relay.
type Outgoing struct {
	From     string
	Header   []byte
	EightBit bool // the body has octets over 127
	Message  io.Reader
}

// Send hands one message to the relay for recipients and returns a result for each: nil
// means that the relay has taken it over. The error is that of the attempt as a whole, which
// came to nothing for anybody; it may be that the relay took the message and could not say so.
func (k *RelayClient) Send(ctx context.Context, m Outgoing, to []string) ([]error, error) {
	results := make([]error, len(to))
	err := k.try(ctx, m, to, results)
	if answered, _ := Answered(err); err != nil && answered { // after DATA: it holds for those who were taken
		for i := range results {
			if results[i] == nil {
				results[i] = err
			}
		}
		return results, nil
	}
	if err != nil && k.c != nil {
		k.c.Close() // without QUIT: a message that is not whole must not be ended
		k.c = nil
	}
	return results, err
}

func (k *RelayClient) try(ctx context.Context, m Outgoing, to []string, results []error) error {
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
			return fmt.Errorf("greet the relay: %s", Reply(err))
		}
	}
	if err := k.c.Mail(m.From, k.options(m)); err != nil {
		return fmt.Errorf("name the sender: %w", err)
	}
	taken := 0
	for i, a := range to {
		if results[i] = k.c.Rcpt(a, nil); results[i] == nil {
			taken++
		} else if answered, _ := Answered(results[i]); !answered {
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
	if _, err := io.Copy(d, m.Message); err != nil {
		return fmt.Errorf("send the message: %s", err)
	}
	if err := d.Close(); err != nil {
		return fmt.Errorf("finish the message: %w", err)
	}
	return nil
}

// options says what kind of octets follow, where the relay understands that
// (RFC 6152, RFC 6531).
func (k *RelayClient) options(m Outgoing) *smtp.MailOptions {
	var o smtp.MailOptions
	header := has8Bit(m.Header)
	if ok, _ := k.c.Extension("8BITMIME"); ok && (header || m.EightBit) {
		o.Body = smtp.Body8BitMIME
	}
	if ok, _ := k.c.Extension("SMTPUTF8"); ok && header {
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
