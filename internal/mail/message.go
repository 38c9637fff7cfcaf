package mail

import (
	"bufio"
	"bytes"
	"cmp"
	"crypto/sha256"
	"fmt"
	"io"
	"mime"
	netmail "net/mail"
	"slices"
	"strings"
	"time"
	"unicode"

	"github.com/emersion/go-message"
	"github.com/emersion/go-message/mail"
	"github.com/emersion/go-message/textproto"
	"github.com/emersion/go-smtp"
	"golang.org/x/text/unicode/norm"

	"ivytable.example/ivytable/internal/core/mailaddr"
	"ivytable.example/ivytable/internal/workspace/post"
)

// Bounds of a message, in octets.
const (
	MaxMessage  = 25 << 20
	MaxHeader   = 256 << 10
	maxReceived = 50 // Received fields, after which a message goes round in circles (RFC 5321, 6.3)
)

// Message is the header of a message as it came.
type Message struct {
	Author    mailaddr.Address
	ID        string // with its angle brackets; "" where it has none
	Subject   string // decoded
	Automatic bool   // written by no person (RFC 3834, 5)
	Sender    string // the address in its Sender field, "" for none
	Name      string // of the author, "" for none
	Strict    bool   // the author's domain asks others to refuse what does not prove itself
	header    textproto.Header
	raw       []byte
	answer    bool // an automatic answer
}

func refusal(code int, enhanced smtp.EnhancedCode, format string, args ...any) *smtp.SMTPError {
	return &smtp.SMTPError{Code: code, EnhancedCode: enhanced, Message: fmt.Sprintf(format, args...)}
}

// Parse reads the header of a message. Its error is an *smtp.SMTPError that can be answered
// to whoever sent it.
func Parse(header []byte) (Message, error) {
	m := Message{raw: header}
	if name := misnamed(header); name != "" {
		return m, refusal(554, smtp.EnhancedCode{5, 6, 0}, "The header can't be read: %q is no name of a field.", name)
	}
	var err error
	if m.header, err = textproto.ReadHeader(bufio.NewReader(io.MultiReader(bytes.NewReader(header), strings.NewReader("\r\n")))); err != nil {
		return m, refusal(554, smtp.EnhancedCode{5, 6, 0}, "The header can't be read: a line in it is no field.")
	}
	for _, name := range once {
		if n := len(m.header.Values(name)); n > 1 {
			return m, refusal(554, smtp.EnhancedCode{5, 6, 0}, "The message has %d %s fields; there can be one (RFC 5322, 3.6).", n, name)
		}
	}
	h := mail.Header{Header: message.Header{Header: m.header}}
	authors, err := h.AddressList("From")
	if err != nil { // perhaps only since a name is in a charset that nobody knows
		authors, err = leniently.ParseList(m.header.Get("From"))
	}
	if err != nil || len(authors) != 1 {
		return m, refusal(554, smtp.EnhancedCode{5, 6, 0}, "The message needs one author in its From field; it has %d that can be read.", len(authors))
	}
	if m.Author, err = mailaddr.Parse(authors[0].Address); err != nil {
		return m, refusal(554, smtp.EnhancedCode{5, 6, 0}, "The author's address can't be read: %s", oneLine(err.Error()))
	}
	m.Name = oneLine(authors[0].Name)
	if sender, err := h.AddressList("Sender"); err == nil && len(sender) == 1 {
		m.Sender = sender[0].Address
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
	if h.Has("Auto-Submitted") {
		what := submitted(h.Get("Auto-Submitted"))
		m.Automatic, m.answer = what != "no", what == "auto-replied"
	}
	return m, nil
}

// submitted reads the keyword of an Auto-Submitted field, in lower case: comments may stand anywhere, and parameters after it (RFC 3834, 5). It is "" where
// the field can't be read, which no person's program writes.
func submitted(value string) string {
	parts, ok := lexResults(value)
	if !ok || len(parts) == 0 || len(parts[0]) != 1 {
		return ""
	}
	return strings.ToLower(parts[0][0])
}

// leniently reads addresses whose names are in charsets that nobody knows.
var leniently = netmail.AddressParser{WordDecoder: &mime.WordDecoder{CharsetReader: func(_ string, in io.Reader) (io.Reader, error) { return in, nil }}}

// once are the fields of which there is one: whoever reads the first and whoever reads the
// last would see different messages (RFC 5322, 3.6; RFC 2045).
var once = []string{"From", "Sender", "Reply-To", "To", "Cc", "Bcc", "Message-Id", "In-Reply-To", "References", "Subject", "Date",
	"Mime-Version", "Content-Type", "Content-Transfer-Encoding", "Content-Disposition", "Auto-Submitted"}

// misnamed returns the first name in a header that is none (RFC 5322, 3.6.8), cut short. One
// with a space before its colon is another field for some readers.
func misnamed(header []byte) string {
	for line := range bytes.SplitSeq(header, []byte("\r\n")) {
		if len(line) == 0 || line[0] == ' ' || line[0] == '\t' {
			continue
		}
		name, _, found := bytes.Cut(line, []byte(":"))
		if !found || len(name) == 0 || bytes.ContainsFunc(name, func(r rune) bool { return r <= ' ' || r > '~' }) {
			return oneLine(strings.ToValidUTF8(string(name[:min(len(name), 60)]), "?"))
		}
	}
	return ""
}

func oneLine(s string) string {
	return strings.Map(func(r rune) rune {
		if r < ' ' || r == 0x7f {
			return ' '
		}
		return r
	}, s)
}

// plain is a text as a server can answer with it: one line of ASCII (RFC 5321, 4.2).
func plain(s string) string {
	s = strings.Map(func(r rune) rune {
		switch {
		case unicode.Is(unicode.Mn, r): // an accent, on its own
			return -1
		case r > '~':
			return '?'
		}
		return r
	}, norm.NFKD.String(oneLine(s)))
	return s[:min(len(s), 480)]
}

// ours are the fields that a group sets (RFC 2369, RFC 2919); private are those that go no
// further, to nobody.
var (
	ours    = []string{"List-Id", "List-Post", "List-Owner", "List-Help", "List-Subscribe", "List-Unsubscribe", "List-Unsubscribe-Post", "List-Archive", "Precedence"}
	private = []string{"Return-Path", "Bcc", "Resent-Bcc"}
)

// passed is the field in which a group leaves its mark on a message: the group's identity,
// and a code that only this workspace can make.
const passed = "Ivy-Passed"

// claims reports whether a field of authentication results (RFC 8601, 2.2) says that it was
// made by one of some hosts, or by one under them.
func claims(value string, hosts ...string) bool {
	depth := 0
	value = strings.TrimLeftFunc(value, func(r rune) bool { // comments and white space
		switch {
		case r == '(':
			depth++
		case r == ')' && depth > 0:
			depth--
		default:
			return depth > 0 || r <= ' '
		}
		return true
	})
	by, _, _ := strings.Cut(strings.TrimLeft(value, `"`), ";")
	by = strings.ToLower(strings.Trim(strings.Fields(by + " x")[0], `".`))
	for _, h := range hosts {
		if h = strings.ToLower(h); by == h || strings.HasSuffix(by, "."+h) {
			return true
		}
	}
	return false
}

// Spoken returns a message as somebody writes it in the name of a group: as the group alone, or named as
// the sender (RFC 5322, 3.6.2).
func (m Message) Spoken(as bool, name, address string) Message {
	m.header = m.header.Copy()
	m.header.Del("Sender")
	if !as {
		m.header.Set("Sender", (&netmail.Address{Name: name, Address: address}).String())
	}
	return m
}

// Trace is what the Received field says of how a message came.
type Trace struct {
	From string // the name that the client gave, and its address
	By   string
	With string // ESMTP or ESMTPA (RFC 3848)
	ID   string // unique for this message
	At   time.Time
	Mark func(listID string) string // the code of a group on a message that it passes on
}

// ListID returns the identity of a group's mail (RFC 2919): its address with a dot
// for the @.
func ListID(address string) string { return strings.Replace(address, "@", ".", 1) }

// Header returns what of the header goes out to every destination, with the message's
// identity: the author's, or one made from the trace and a domain where there was none. What
// is private, what others say in our name or that of one of our domains, marks that are
// not ours, and what is apart for each destination are taken out.
func (m Message) Header(tr Trace, domains []string, apart []string) (header []byte, id string, err error) {
	h := m.header.Copy()
	for _, name := range apart {
		h.Del(name)
	}
	marks := h.FieldsByKey(passed)
	for marks.Next() {
		if by, code, _ := strings.Cut(strings.TrimSpace(marks.Value()), " "); by == "" || code != tr.Mark(by) {
			marks.Del() // nobody but us can make one
		}
	}
	for _, name := range slices.Concat(private, ours) {
		h.Del(name)
	}
	results := h.FieldsByKey("Authentication-Results")
	for results.Next() {
		if claims(results.Value(), append(domains, tr.By)...) {
			results.Del()
		}
	}
	if id = m.ID; id == "" {
		id = "<" + tr.ID + "@" + domains[0] + ">"
		h.Set("Message-Id", id)
	}
	if !h.Has("Date") {
		h.Add("Date", tr.At.Format(time.RFC1123Z))
	}
	header, err = written(h)
	return header, id, err
}

// written writes fields, without the empty line after them.
func written(h textproto.Header) ([]byte, error) {
	var b bytes.Buffer
	if err := textproto.WriteHeader(&b, h); err != nil {
		return nil, fmt.Errorf("write the header: %w", err)
	}
	return bytes.TrimSuffix(b.Bytes(), []byte("\r\n")), nil
}

// Fields returns what goes before the header to one destination, with the fields that are apart for
// each: as the group wants them, or as they came. A message that has been
// through the group before is refused, and so is an automatic answer to its members.
func (m Message) Fields(d post.Destination, tr Trace, apart []string, top textproto.Header) ([]byte, error) {
	var h textproto.Header
	for _, name := range apart {
		value := top.Get(name)
		if d.Mailbox == post.ToGroup {
			switch name {
			case "Subject":
				value = d.Texts.Subject(m.header.Get(name))
			case "Reply-To":
				if value = d.Texts.ReplyTo(d.Address); value == "" && m.renamed(d) && !m.header.Has("Reply-To") {
					value = m.Author.String()
				}
			case "From":
				if m.renamed(d) {
					value = phrase(cmp.Or(m.Name, m.Author.String())+" via "+d.Name) + " <" + d.Address + ">"
				}
			}
		}
		raw, _ := m.header.Raw(name) // nil where there is none
		switch {
		case value != "" && value != m.header.Get(name):
			h.Add(name, value)
		case raw != nil:
			h.AddRaw(raw)
		}
	}
	local, domain, _ := strings.Cut(d.Address, "@")
	if d.Mailbox != post.ToGroup {
		for _, name := range slices.Backward(ours) { // of another list, whose mail its owners get
			for fields := m.header.FieldsByKey(name); fields.Next(); {
				raw, err := fields.Raw()
				if err != nil {
					return nil, fmt.Errorf("read the header: %w", err)
				}
				h.AddRaw(raw)
			}
		}
	} else {
		id := ListID(d.Address)
		for marks := m.header.FieldsByKey(passed); marks.Next(); {
			if by, code, _ := strings.Cut(strings.TrimSpace(marks.Value()), " "); strings.EqualFold(by, id) && code == tr.Mark(by) {
				return nil, refusal(554, smtp.EnhancedCode{5, 4, 6}, "This message has been through %s before.", d.Address)
			}
		}
		if m.answer {
			return nil, refusal(550, smtp.EnhancedCode{5, 7, 1}, "An automatic answer is not passed on to the people of %s (RFC 3834).", d.Address)
		}
		post := "<mailto:" + d.Address + ">"
		if d.Closed {
			post = "NO"
		}
		h.Add("Precedence", "list")
		h.Add("List-Owner", "<mailto:"+local+mailaddr.OwnersSuffix+"@"+domain+">")
		h.Add("List-Post", post)
		h.Add("List-Id", phrase(d.Name)+" <"+id+">")
		h.Add(passed, id+" "+tr.Mark(id))
	}
	h.Add("Received", fmt.Sprintf("from %s by %s with %s id %s; %s", tr.From, tr.By, tr.With, tr.ID, tr.At.Format(time.RFC1123Z)))
	return written(h)
}

// renamed reports whether a message goes on to a group in the group's name: that of somebody outside, where the group has it so.
func (m Message) renamed(d post.Destination) bool {
	return d.Mailbox == post.ToGroup && !slices.Contains(d.Domains, m.Author.Domain()) && d.Texts.Renames(m.Strict)
}

// For returns a message as it goes to some destinations: all but its body, who proved what,
// and the envelope it came in. domains are those of the workspace.
func (m Message) For(to []post.Destination, tr Trace, domains []string, body io.Reader) (post.Arrived, error) {
	a := post.Arrived{Author: m.Author, Subject: m.Subject, Automatic: m.Automatic, Listed: m.header.Has("List-Id") || m.header.Has("Precedence")}
	var err error
	var first []string
	tops := make([]textproto.Header, len(to))
	edits := make([][]post.Edit, len(to))
	var places []slot // where a footer goes; nil: not looked for yet
	apart := map[string]bool{}
	for i, d := range to {
		if d.Mailbox != post.ToGroup {
			continue
		}
		apart["Subject"] = apart["Subject"] || d.Texts.Tag != ""
		apart["Reply-To"] = apart["Reply-To"] || d.Texts.Reply != "" || m.renamed(d)
		apart["From"] = apart["From"] || m.renamed(d)
		if d.Texts.Footer == "" {
			continue
		}
		if places == nil {
			places = append(slots(m.header, body), slot{})
		}
		edits[i], tops[i] = footed(places[:len(places)-1], d.Texts.Footer)
		for _, name := range []string{"Content-Type", "Content-Transfer-Encoding"} {
			apart[name] = apart[name] || tops[i].Has(name)
		}
	}
	var names []string // in the order in which they are written
	for _, name := range []string{"Content-Transfer-Encoding", "Content-Type", "Reply-To", "Subject", "From"} {
		if apart[name] {
			names = append(names, name)
		}
	}
	for i, d := range to {
		x := post.Incoming{To: d, Edits: edits[i]}
		if x.Fields, err = m.Fields(d, tr, names, tops[i]); err != nil {
			return a, err
		}
		local, domain, _ := strings.Cut(d.Address, "@")
		if d.Mailbox != post.ToAdministrators { // who get no report of what does not reach them
			x.Sender = local + mailaddr.BouncesSuffix + "@" + domain
		}
		a.To, first = append(a.To, x), append(first, domain)
	}
	a.Header, a.MessageID, err = m.Header(tr, append(first, domains...), names)
	a.Thread = m.thread(a.MessageID)
	return a, err
}

// thread is the conversation that a message is in: by the first message that it refers to, which is where the conversation began (RFC
// 5322, 3.6.4; RFC 5256, REFERENCES), else by itself.
func (m Message) thread(id string) []byte {
	for _, field := range []string{m.header.Get("References"), m.header.Get("In-Reply-To")} {
		from, to := strings.IndexByte(field, '<'), strings.IndexByte(field, '>')
		if from >= 0 && to > from {
			id = field[from : to+1]
			break
		}
	}
	sum := sha256.Sum256([]byte(id))
	return sum[:16]
}

// phrase writes a name for a header field: quoted, or as an encoded word (RFC 2047).
func phrase(name string) string {
	if e := mime.QEncoding.Encode("utf-8", name); e != name {
		return e
	}
	return strings.TrimSuffix((&netmail.Address{Name: name, Address: "a@b"}).String(), " <a@b>")
}
