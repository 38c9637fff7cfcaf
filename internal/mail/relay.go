package mail

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/textproto"
	"strconv"
	"strings"
	"time"

	"github.com/emersion/go-smtp"
)

// How long an answer of the relay may take (RFC 5321, 4.5.3.2).
const (
	commandTime = 5 * time.Minute
	dataTime    = 12 * time.Minute
)

// maxAnswer is how many octets one answer of the relay may have.
const maxAnswer = 64 << 10

// RelayClient hands messages to a relay over a connection that it keeps open. It is for one goroutine.
//
// Where the relay takes commands in groups (RFC 2920), sender, recipients and the beginning of the message go out at once, and their
// answers are read after that: one message takes two round trips, however many recipients it has.
type RelayClient struct {
	of *Relays

	lmtp      bool // the relay speaks LMTP
	secured   bool // by TLS
	conn      net.Conn
	limit     *io.LimitedReader // of one answer
	w         *bufio.Writer
	r         *textproto.Reader
	can       map[string]bool // extensions of the relay, in capitals
	unsettled bool            // a transaction is open that came to nothing, and has to be reset
}

// Close ends the connection.
func (k *RelayClient) Close() {
	if k.conn == nil {
		return
	}
	_ = k.conn.SetDeadline(time.Now().Add(time.Second))
	if k.write("QUIT") == nil && k.w.Flush() == nil {
		_ = k.answer()
	}
	k.drop()
}

// Connected reports whether there is a connection.
func (k *RelayClient) Connected() bool { return k.conn != nil }

// drop ends the connection without a word: a message that is not whole must not be ended.
func (k *RelayClient) drop() {
	if k.conn != nil {
		k.conn.Close()
		k.conn = nil
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

// TooMany reports whether an error is the answer of a relay that takes no more recipients in this transaction (RFC 5321, 4.5.3.1.10; RFC
// 3463, X.5.3): it takes the rest in another one.
func TooMany(err error) bool {
	var e *smtp.SMTPError
	return errors.As(err, &e) && e.Code == 452 && (e.EnhancedCode == smtp.EnhancedCode{4, 5, 3} || e.EnhancedCode == smtp.NoEnhancedCode)
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
	End      func() // called before the relay is asked to take the message over; nil: nothing
}

// Send hands one message to the relay for recipients and returns a result for each: nil
// means that the relay has taken it over. The error is that of the attempt as a whole, which
// came to nothing for anybody; it may be that the relay took the message and could not say so.
func (k *RelayClient) Send(ctx context.Context, m Outgoing, to []string) ([]error, error) {
	results := make([]error, len(to))
	kept := k.conn != nil
	heard, err := k.try(ctx, m, to, results)
	if err != nil && kept && !heard { // the relay had closed the connection meanwhile
		k.drop()
		_, err = k.try(ctx, m, to, results)
	}
	if answered, _ := Answered(err); err != nil && answered { // of the sender, or after DATA: it holds for those who were taken
		for i := range results {
			if results[i] == nil {
				results[i] = err
			}
		}
		return results, nil
	}
	if err != nil {
		k.drop()
	}
	return results, err
}

// try is Send over the connection there is, or a new one. It reports whether the relay has answered anything of it.
func (k *RelayClient) try(ctx context.Context, m Outgoing, to []string, results []error) (heard bool, err error) {
	if k.conn == nil {
		if err := k.connect(ctx); err != nil {
			return false, err
		}
	}
	conn := k.conn // which may be another by the time that ctx ends
	defer context.AfterFunc(ctx, func() { _ = conn.SetDeadline(time.Now()) })()
	_ = k.conn.SetDeadline(time.Now().Add(commandTime))
	e := exchange{k: k, together: k.can["PIPELINING"]}
	if k.unsettled {
		e.say(func(err error) { k.unsettled = err != nil }, "RSET")
	}
	var sender error
	e.say(func(err error) { sender = err }, "MAIL FROM:<", m.From, ">", k.options(m, to))
	taken := 0
	for i, a := range to {
		if strings.ContainsAny(a, "\r\n<> ") {
			results[i] = &smtp.SMTPError{Code: 553, EnhancedCode: smtp.EnhancedCode{5, 1, 3}, Message: "This is no address."}
			continue
		}
		if !e.together && sender != nil {
			break
		}
		e.say(func(err error) {
			if results[i] = err; err == nil {
				taken++
			}
		}, "RCPT TO:<", a, ">")
	}
	var begin error
	asked := e.together || sender == nil && taken > 0
	if asked {
		e.say(func(err error) { begin = err }, "DATA")
	}
	e.read()
	switch {
	case e.broken != nil:
		return e.heard, fmt.Errorf("name the sender and the recipients: %w", e.broken)
	case sender != nil:
		clear(results)
		return true, k.without(asked && begin == nil, fmt.Errorf("name the sender: %w", sender))
	case taken == 0:
		k.unsettled = true
		return true, k.without(asked && begin == nil, nil)
	case begin != nil:
		k.unsettled = true
		return true, fmt.Errorf("begin the message: %w", begin)
	}
	_ = k.conn.SetDeadline(time.Now().Add(dataTime))
	d := textproto.NewWriter(k.w).DotWriter()
	if _, err := io.Copy(d, m.Message); err != nil {
		return true, fmt.Errorf("send the message: %s", err)
	}
	if m.End != nil {
		m.End()
	}
	if err := d.Close(); err != nil {
		return true, fmt.Errorf("send the message: %w", err)
	}
	if k.lmtp {
		return true, k.answers(results)
	}
	if err := k.answer(); err != nil {
		return true, fmt.Errorf("finish the message: %w", err)
	}
	return true, nil
}

// answers reads what becomes of a message for each who was taken (RFC 2033, 4.2).
func (k *RelayClient) answers(results []error) error {
	if err := k.w.Flush(); err != nil {
		return fmt.Errorf("finish the message: %w", err)
	}
	for i := range results {
		if results[i] != nil {
			continue
		}
		err := k.answer()
		if answered, _ := Answered(err); err != nil && !answered {
			return fmt.Errorf("finish the message: %w", err) // those before are known, and are done again all the same
		}
		results[i] = err
	}
	return nil
}

// without ends a transaction that has no sender or no recipients: a relay that asks for the message all the same gets an empty one
// (RFC 2920, 3.1). It returns why.
func (k *RelayClient) without(begun bool, why error) error {
	if begun {
		if _, err := k.w.WriteString(".\r\n"); err != nil {
			return err
		}
		if err := errors.Join(k.w.Flush(), k.answer()); err != nil {
			if answered, _ := Answered(err); !answered {
				return err
			}
		}
		k.unsettled = false
	}
	return why
}

// exchange is some commands with what becomes of their answers: together, or one after the other.
type exchange struct {
	k        *RelayClient
	together bool
	hear     []func(error) // of each that is not answered yet
	heard    bool          // something was answered
	broken   error         // the connection is, or the relay is closing
}

// say gives the relay a command; hear gets nil, or why it was refused.
func (e *exchange) say(hear func(error), command ...string) {
	if e.broken != nil {
		return
	}
	if e.broken = e.k.write(command...); e.broken != nil {
		return
	}
	e.hear = append(e.hear, hear)
	if !e.together {
		e.read()
	}
}

// read reads the answers to what was said.
func (e *exchange) read() {
	if e.broken == nil && len(e.hear) > 0 {
		e.broken = e.k.w.Flush()
	}
	for _, hear := range e.hear {
		if e.broken != nil {
			return
		}
		err := e.k.answer()
		if answered, _ := Answered(err); err != nil && !answered {
			e.broken = err
			return
		}
		e.heard = true
		hear(err)
	}
	e.hear = e.hear[:0]
}

// over has what follows said over a connection.
func (k *RelayClient) over(conn net.Conn) {
	k.limit = &io.LimitedReader{R: conn}
	k.conn, k.w, k.r, k.unsettled = conn, bufio.NewWriterSize(conn, 32<<10), textproto.NewReader(bufio.NewReader(k.limit)), false
}

// greet says hello, and hears what the relay can do.
func (k *RelayClient) greet() error {
	k.can = map[string]bool{}
	hello := "EHLO "
	if k.lmtp {
		hello = "LHLO " // RFC 2033, 4.1
	}
	if err := errors.Join(k.write(hello, k.of.Domain), k.w.Flush()); err != nil {
		return err
	}
	k.limit.N = maxAnswer
	code, says, err := k.r.ReadResponse(0)
	if err == nil && code == 250 {
		for i, line := range strings.Split(says, "\n") {
			if name, _, _ := strings.Cut(line, " "); i > 0 {
				k.can[strings.ToUpper(name)] = true
			}
		}
		return nil
	} else if err != nil {
		return err
	}
	if k.lmtp {
		return &smtp.SMTPError{Code: code, EnhancedCode: smtp.NoEnhancedCode, Message: says}
	}
	if err := errors.Join(k.write("HELO ", k.of.Domain), k.w.Flush()); err != nil { // one of before 1995
		return err
	}
	return k.answer()
}

func (k *RelayClient) write(parts ...string) error {
	for _, p := range parts {
		if _, err := k.w.WriteString(p); err != nil {
			return err
		}
	}
	_, err := k.w.WriteString("\r\n")
	return err
}

// answer reads one answer of the relay: nil where it goes on, an *smtp.SMTPError where it refuses.
func (k *RelayClient) answer() error {
	k.limit.N = maxAnswer
	if at, err := k.r.R.Peek(4); err == nil && at[0] == '2' && at[3] == ' ' { // it goes on, in one line: what it says is of no interest
		_, err := k.r.R.ReadSlice('\n')
		for errors.Is(err, bufio.ErrBufferFull) {
			_, err = k.r.R.ReadSlice('\n')
		}
		return err
	}
	code, says, err := k.r.ReadResponse(0)
	if err != nil {
		return err
	}
	if code < 400 {
		return nil
	}
	out := &smtp.SMTPError{Code: code, EnhancedCode: smtp.NoEnhancedCode, Message: says}
	if first, rest, _ := strings.Cut(says, " "); strings.Count(first, ".") == 2 {
		var e smtp.EnhancedCode
		whole := true
		for i, part := range strings.Split(first, ".") {
			n, err := strconv.Atoi(part)
			e[i], whole = n, whole && err == nil
		}
		if whole {
			out.EnhancedCode, out.Message = e, strings.ReplaceAll(rest, "\n"+first+" ", "\n")
		}
	}
	return out
}

// options says what kind of octets follow, where the relay understands that
// (RFC 6152, RFC 6531).
func (k *RelayClient) options(m Outgoing, to []string) (out string) {
	header := has8Bit(m.Header)
	if k.can["8BITMIME"] && (header || m.EightBit) {
		out += " BODY=8BITMIME"
	}
	utf8 := header || has8Bit([]byte(m.From))
	for _, a := range to {
		utf8 = utf8 || has8Bit([]byte(a))
	}
	if k.can["SMTPUTF8"] && utf8 {
		out += " SMTPUTF8"
	}
	return out
}

func has8Bit(b []byte) bool {
	for _, c := range b {
		if c >= 0x80 {
			return true
		}
	}
	return false
}
