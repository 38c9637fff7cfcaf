package mail

import (
	"bufio"
	"bytes"
	"fmt"
	"mime"
	netmail "net/mail"
	"strings"
	"time"

	"github.com/emersion/go-message"
	"github.com/emersion/go-message/mail"
	"github.com/emersion/go-message/textproto"
	"github.com/emersion/go-smtp"

	"ivytable.example/ivytable/internal/core/mailaddr"
	"ivytable.example/ivytable/internal/workspace/post"
)

// Bounds of a message, in octets.
const (
	MaxMessage  = 25 << 20
	MaxHeader   = 256 << 10
	maxReceived = 50 // Received fields, after which a message goes round in circles (RFC 5321, 6.3)
)

// Message is a message as it came.
type Message struct {
	Author  mailaddr.Address
	ID      string // with its angle brackets; "" where it has none
	Subject string // decoded
	header  textproto.Header
	body    []byte
}

func refusal(code int, enhanced smtp.EnhancedCode, format string, args ...any) *smtp.SMTPError {
	return &smtp.SMTPError{Code: code, EnhancedCode: enhanced, Message: fmt.Sprintf(format, args...)}
}

// Parse reads a message. Its error is an *smtp.SMTPError that can be answered to
// whoever sent it.
func Parse(raw []byte) (Message, error) {
	var m Message
	if i := bytes.IndexByte(raw, 0); i >= 0 {
		return m, refusal(554, smtp.EnhancedCode{5, 6, 0}, "The message has a NUL at octet %d, which mail can't carry (RFC 5322, 4).", i)
	}
	end := bytes.Index(raw, []byte("\r\n\r\n"))
	if end < 0 {
		end = len(raw)
	}
	if end > MaxHeader {
		return m, refusal(552, smtp.EnhancedCode{5, 3, 4}, "The header has %d octets; %d is the most.", end, MaxHeader)
	}
	r := bufio.NewReader(bytes.NewReader(raw))
	var err error
	if m.header, err = textproto.ReadHeader(r); err != nil {
		return m, refusal(554, smtp.EnhancedCode{5, 6, 0}, "The header can't be read: a line in it is no field.")
	}
	m.body = raw[min(end+4, len(raw)):]
	h := mail.Header{Header: message.Header{Header: m.header}}
	authors, err := h.AddressList("From")
	if err != nil || len(authors) != 1 {
		return m, refusal(554, smtp.EnhancedCode{5, 6, 0}, "The message needs one author in its From field; it has %d that can be read.", len(authors))
	}
	if m.Author, err = mailaddr.Parse(authors[0].Address); err != nil {
		return m, refusal(554, smtp.EnhancedCode{5, 6, 0}, "The author's address can't be read: %s", oneLine(err.Error()))
	}
	if len(m.header.Values("Received")) > maxReceived {
		return m, refusal(554, smtp.EnhancedCode{5, 4, 6}, "The message went round in circles: it has more than %d Received fields.", maxReceived)
	}
	if m.Subject, err = h.Subject(); err != nil {
		m.Subject = m.header.Get("Subject") // in a charset that nobody knows; shown as it is
	}
	m.Subject = oneLine(m.Subject)
	if id := strings.TrimSpace(m.header.Get("Message-Id")); len(id) <= 900 && strings.HasPrefix(id, "<") && strings.HasSuffix(id, ">") && !strings.ContainsAny(id, " \t\r\n") {
		m.ID = id
	}
	return m, nil
}

func oneLine(s string) string {
	return strings.Map(func(r rune) rune {
		if r < ' ' || r == 0x7f {
			return ' '
		}
		return r
	}, s)
}

// ours are the fields that a group sets (RFC 2369, RFC 2919) and those that must
// not go further.
var ours = []string{"List-Id", "List-Post", "List-Owner", "List-Help", "List-Subscribe", "List-Unsubscribe", "List-Unsubscribe-Post", "List-Archive",
	"Precedence", "Return-Path", "Bcc", "Resent-Bcc"}

// Trace is what the Received field says of how a message came.
type Trace struct {
	From string // the name that the client gave, and its address
	By   string
	With string // ESMTP or ESMTPA (RFC 3848)
	ID   string // unique for this message
	At   time.Time
}

// ListID returns the identity of a group's mail (RFC 2919): its address with a dot
// for the @.
func ListID(address string) string { return strings.Replace(address, "@", ".", 1) }

// For returns the message as it goes out to a destination, with its Message-ID: the
// author's, or one made from the trace and the group's domain where there was none. A message that has
// been through the group before is refused.
func (m Message) For(d post.Destination, tr Trace) ([]byte, string, error) {
	h := m.header.Copy()
	address := d.Address
	for _, v := range h.Values("List-Id") {
		if strings.Contains(v, "<"+ListID(address)+">") {
			return nil, "", refusal(554, smtp.EnhancedCode{5, 4, 6}, "This message has been through %s before.", address)
		}
	}
	if d.Mailbox == post.ToGroup {
		for _, name := range ours {
			h.Del(name)
		}
		local, domain, _ := strings.Cut(address, "@")
		post := "<mailto:" + address + ">"
		if d.Closed {
			post = "NO"
		}
		h.Add("Precedence", "list")
		h.Add("List-Owner", "<mailto:"+local+mailaddr.OwnersSuffix+"@"+domain+">")
		h.Add("List-Post", post)
		h.Add("List-Id", phrase(d.Name)+" <"+ListID(address)+">")
	}
	id := m.ID
	if id == "" {
		id = "<" + tr.ID + "@" + address[strings.IndexByte(address, '@')+1:] + ">"
		h.Set("Message-Id", id)
	}
	if !h.Has("Date") {
		h.Add("Date", tr.At.Format(time.RFC1123Z))
	}
	h.Add("Received", fmt.Sprintf("from %s by %s with %s id %s; %s", tr.From, tr.By, tr.With, tr.ID, tr.At.Format(time.RFC1123Z)))
	var b bytes.Buffer
	b.Grow(len(m.body) + h.Len()*80)
	if err := textproto.WriteHeader(&b, h); err != nil {
		return nil, "", fmt.Errorf("write the header: %w", err)
	}
	b.Write(m.body)
	return b.Bytes(), id, nil
}

// phrase writes a name for a header field: quoted, or as an encoded word (RFC 2047).
func phrase(name string) string {
	if e := mime.QEncoding.Encode("utf-8", name); e != name {
		return e
	}
	return strings.TrimSuffix((&netmail.Address{Name: name, Address: "a@b"}).String(), " <a@b>")
}
