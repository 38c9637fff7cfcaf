package mail

import (
	"bufio"
	"bytes"
	"errors"
	"flag"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/emersion/go-message/textproto"
	"github.com/emersion/go-smtp"

	"ivytable.example/ivytable/internal/workspace/post"
)

var update = flag.Bool("update", false, "write the golden files again")

func group(name, address string) post.Destination {
	return post.Destination{Name: name, Address: address}
}

var trace = Trace{From: "laptop ([127.0.0.1])", By: "mail.merrowline.example", With: "ESMTPA", ID: "01935c1e-7a10-7000-8000-3f1f2a9c5b11", At: time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC),
	Mark: func(list string) string { return fmt.Sprintf("%x", strings.ToLower(list)) }}

// read reads a message as it comes in, with its body.
func read(raw string) (Message, []byte, error) {
	r := bufio.NewReader(&strict{r: strings.NewReader(raw)})
	header, err := readHeader(r)
	if err != nil {
		return Message{}, nil, err
	}
	m, err := Parse(header)
	if err != nil {
		return m, nil, err
	}
	body, err := io.ReadAll(r)
	return m, body, err
}

// pass returns a message as it goes out to one destination.
func pass(m Message, body []byte, d post.Destination) ([]byte, string, error) {
	a, err := m.For([]post.Destination{d}, trace, []string{"merrowline.example"}, bytes.NewReader(body))
	if err != nil {
		return nil, "", err
	}
	return slices.Concat(a.To[0].Fields, a.Header, []byte("\r\n"), body), a.MessageID, nil
}

// body is hard to carry: 8-bit, a lone dot, long lines, quoted-printable left as it is.
var body = "Gr\xc3\xbc\xc3\x9fe vom Kai \xe9\xff\r\n.\r\n..\r\n=E2=9C=93 =\r\n" + strings.Repeat("x", 900) + "\r\n\r\n--b\r\nContent-Transfer-Encoding: base64\r\n\r\nAAECAw==\r\n--b--"

func TestForKeepsTheBody(t *testing.T) {
	m, b, err := read("From: Tove Alder <tove.alder@merrowline.example>\r\nSubject: =?utf-8?q?F=C3=A4hre?=\r\nMessage-ID: <1@laptop>\r\n\r\n" + body)
	if err != nil {
		t.Fatal(err)
	}
	out, id, err := pass(m, b, group("Deck", "deck@merrowline.example"))
	if err != nil {
		t.Fatal(err)
	}
	_, after, _ := bytes.Cut(out, []byte("\r\n\r\n"))
	if string(after) != body {
		t.Errorf("the body was changed:\n%q\n%q", after, body)
	}
	if id != "<1@laptop>" || m.Subject != "Fähre" || m.Author.Key() != "tove.alder@merrowline.example" {
		t.Errorf("%s, %q, %s", id, m.Subject, m.Author)
	}
}

func TestForGolden(t *testing.T) {
	for name, c := range map[string]struct {
		to      post.Destination
		mailbox post.Mailbox
		in      string
	}{
		"plain": {group("Night Dispatch", "night-dispatch@merrowline.example"), post.ToGroup,
			"Received: from a by b; Mon, 23 Nov 2026 08:59:00 +0000\r\nReturn-Path: <x@y.example>\r\nFrom: Tove Alder\r\n <tove.alder@merrowline.example>\r\nTo: night-dispatch@merrowline.example\r\n" +
				"Bcc: secret@merrowline.example\r\nList-Id: Other <other.example>\r\nList-Unsubscribe: <mailto:x@other.example>\r\nprecedence: bulk\r\nSUBJECT: swap\r\n  on Saturday?\r\nMessage-Id: <77@laptop>\r\nDate: Mon, 23 Nov 2026 09:59:00 +0100\r\nX-Odd:   kept  as it is\r\n\r\nWho can?\r\n"},
		"without-id":  {group("Größe, \"quoted\"", "groesse@merrowline.example"), post.ToGroup, "From: a@b.example\r\n\r\nx\r\n"},
		"to-owners":   {group("Deck", "deck@merrowline.example"), post.ToOwners, "From: a@b.example\r\nSubject: May I?\r\nMessage-ID: <1@b.example>\r\nDate: Mon, 23 Nov 2026 09:59:00 +0100\r\n\r\nx\r\n"},
		"header-only": {group("Deck", "deck@merrowline.example"), post.ToGroup, "From: a@b.example\r\nMessage-ID: <2@b.example>\r\nDate: Mon, 23 Nov 2026 09:59:00 +0100\r\n\r\n"},
	} {
		m, b, err := read(c.in)
		if err != nil {
			t.Fatalf("%s: %v", name, err)
		}
		c.to.Mailbox = c.mailbox
		got, _, err := pass(m, b, c.to)
		if err != nil {
			t.Fatalf("%s: %v", name, err)
		}
		path := "testdata/" + name + ".eml"
		if *update {
			if err := os.WriteFile(path, got, 0o644); err != nil {
				t.Fatal(err)
			}
		}
		want, err := os.ReadFile(path)
		if err != nil {
			t.Fatal(err)
		}
		if !bytes.Equal(got, want) {
			t.Errorf("%s:\n%s\nwant\n%s", name, got, want)
		}
	}
}

func TestParseRefuses(t *testing.T) {
	received := strings.Repeat("Received: from a by b; x\r\n", 51)
	for _, c := range []struct {
		name, in string
		code     int
		enhanced smtp.EnhancedCode
		says     string
	}{
		{"a NUL in the body", "From: a@b.example\r\n\r\nx\x00y", 554, smtp.EnhancedCode{5, 6, 0}, "Line 3 of the message has a NUL"},
		{"a NUL in the header", "From: a@b.example\r\nX: \x00\r\n\r\n", 554, smtp.EnhancedCode{5, 6, 0}, "NUL"},
		{"no author", "Subject: x\r\n\r\n", 554, smtp.EnhancedCode{5, 6, 0}, "needs one author"},
		{"two authors", "From: a@b.example, c@d.example\r\n\r\n", 554, smtp.EnhancedCode{5, 6, 0}, "it has 2"},
		{"an author without a domain", "From: root\r\n\r\n", 554, smtp.EnhancedCode{5, 6, 0}, "author"},
		{"no header", "just text\r\n\r\n", 554, smtp.EnhancedCode{5, 6, 0}, `"just text" is no name of a field`},
		{"nothing", "", 554, smtp.EnhancedCode{5, 6, 0}, "needs one author"},
		{"a header over the limit", "From: a@b.example\r\n" + strings.Repeat("X-Pad: "+strings.Repeat("p", 990)+"\r\n", 300) + "\r\nx", 552, smtp.EnhancedCode{5, 3, 4}, "more than 262144 octets"},
		{"a bare LF in the body", "From: a@b.example\r\n\r\nx\ny\r\n", 554, smtp.EnhancedCode{5, 6, 0}, "Line 3 of the message has an LF"},
		{"a bare LF that ends the header", "From: a@b.example\nSubject: x\n\nbody\r\n", 554, smtp.EnhancedCode{5, 6, 0}, "Line 1 of the message has an LF"},
		{"a bare CR", "From: a@b.example\r\nSubject: x\rBcc: y\r\n\r\n", 554, smtp.EnhancedCode{5, 6, 0}, "Line 2 of the message has a CR"},
		{"a CR at the end", "From: a@b.example\r\n\r\nx\r", 554, smtp.EnhancedCode{5, 6, 0}, "Line 3 of the message has a CR"},
		{"two From fields", "From: a@b.example\r\nfrom: c@d.example\r\n\r\n", 554, smtp.EnhancedCode{5, 6, 0}, "2 From fields"},
		{"two subjects", "From: a@b.example\r\nSubject: x\r\nSUBJECT: y\r\n\r\n", 554, smtp.EnhancedCode{5, 6, 0}, "2 Subject fields"},
		{"two content types", "From: a@b.example\r\nContent-Type: text/plain\r\nContent-type: text/html\r\n\r\n", 554, smtp.EnhancedCode{5, 6, 0}, "2 Content-Type fields"},
		{"a space before the colon", "From : c@d.example\r\nFrom: a@b.example\r\n\r\n", 554, smtp.EnhancedCode{5, 6, 0}, `"From " is no name of a field`},
		{"a name that is not ASCII", "From: a@b.example\r\nFr\xc3\xb6m: x\r\n\r\n", 554, smtp.EnhancedCode{5, 6, 0}, "is no name of a field"},
		{"round in circles", received + "From: a@b.example\r\n\r\n", 554, smtp.EnhancedCode{5, 4, 6}, "in circles"},
	} {
		_, _, err := read(c.in)
		var e *smtp.SMTPError
		if !errors.As(err, &e) || e.Code != c.code || e.EnhancedCode != c.enhanced || !strings.Contains(e.Message, c.says) || strings.ContainsAny(e.Message, "\r\n") {
			t.Errorf("%s: %v; want %d %v saying %q", c.name, err, c.code, c.enhanced, c.says)
		}
	}
}

// A group knows its own mail by a mark that nobody else can make, whatever happened to the
// message on its way.
func TestForRefusesItsOwnMail(t *testing.T) {
	deck, other := group("Deck", "deck@merrowline.example"), group("Other", "other@merrowline.example")
	through := func(raw []byte, d post.Destination) ([]byte, error) {
		t.Helper()
		m, b, err := read(string(raw))
		if err != nil {
			t.Fatal(err)
		}
		out, _, err := pass(m, b, d)
		return out, err
	}
	once, err := through([]byte("From: a@b.example\r\n\r\nx"), deck)
	if err != nil {
		t.Fatal(err)
	}
	forwarded := bytes.ReplaceAll(once, []byte("List-Id"), []byte("X-Was"))
	twice, err := through(forwarded, other)
	if err != nil {
		t.Fatalf("through another group: %v", err)
	}
	for name, raw := range map[string][]byte{"at once": once, "in other letters": bytes.ReplaceAll(once, []byte("deck.merrowline"), []byte("DECK.Merrowline")), "without its List-Id": forwarded, "by another group": twice} {
		if _, err := through(raw, deck); err == nil || !strings.Contains(err.Error(), "been through deck@merrowline.example before") {
			t.Errorf("back %s: %v", name, err)
		}
	}
	out, err := through([]byte("From: a@b.example\r\nIvy-Passed: deck.merrowline.example guessed\r\nIvy-Passed: \r\nList-Id: <deck.merrowline.example>\r\n\r\nx"), deck)
	if err != nil || bytes.Contains(out, []byte("guessed")) || bytes.Count(out, []byte("Ivy-Passed")) != 1 {
		t.Errorf("a mark that somebody made up: %s, %v", out, err)
	}
	owners := deck
	owners.Mailbox = post.ToOwners
	if _, err := through(once, owners); err != nil {
		t.Errorf("its owners can't be sent what went through it: %v", err)
	}
}

// An answer that a machine gives is not for the people of a group; what a machine writes may
// be.
func TestAutomaticAnswersStop(t *testing.T) {
	for what, stops := range map[string]bool{"auto-replied": true, "Auto-Replied; owner-email=\"x@y.example\"": true, "auto-generated": false, "no": false,
		"auto-replied (vacation)": true, "(away; no) auto-replied": true, "(\\) auto-generated) Auto-Replied (x (y))": true, "No (x)": false, "(auto-replied) no": false, "auto-notified; x=\"no\"": false, "auto replied": false, "": false} {
		m, _, err := read("From: a@b.example\r\nAuto-Submitted: " + what + "\r\n\r\nI am away.")
		if err != nil || m.Automatic == (what == "no" || what == "No (x)" || what == "(auto-replied) no") {
			t.Fatalf("%s: automatic: %v, %v", what, m.Automatic, err)
		}
		d := group("Deck", "deck@merrowline.example")
		if _, err := m.Fields(d, trace, nil, textproto.Header{}); (err != nil) != stops {
			t.Errorf("%s: %v", what, err)
		}
		d.Mailbox = post.ToBounces
		if _, err := m.Fields(d, trace, nil, textproto.Header{}); err != nil {
			t.Errorf("%s to where reports go: %v", what, err)
		}
	}
}

// What is nobody's business goes to nobody, and nobody's word is taken for ours.
func TestWhatGoesNoFurther(t *testing.T) {
	in := "From: a@b.example\r\nBcc: secret@x.example\r\nReturn-Path: <a@b.example>\r\nResent-Bcc: other@x.example\r\n" +
		"Authentication-Results: mail.merrowline.example; spf=pass\r\nAuthentication-Results: (of us) \"MAIL.merrowline.example.\" 1; auth=pass\r\n" +
		"Authentication-Results: mx.merrowline.example; auth=pass\r\nauthentication-results: merrowline.example;\r\n\tdkim=pass\r\n" +
		"Authentication-Results: mx.elsewhere.example; dkim=pass\r\nAuthentication-Results:\r\n\r\nx"
	for _, mailbox := range []post.Mailbox{post.ToGroup, post.ToOwners, post.ToBounces} {
		m, b, err := read(in)
		if err != nil {
			t.Fatal(err)
		}
		d := group("Deck", "deck@merrowline.example")
		d.Mailbox = mailbox
		out, _, err := pass(m, b, d)
		if err != nil {
			t.Fatal(err)
		}
		for _, gone := range []string{"secret@", "other@", "Return-Path", "spf=pass", "auth=pass", "merrowline.example;"} {
			if strings.Contains(string(out), gone) {
				t.Errorf("%s goes out: %s", gone, out)
			}
		}
		if !strings.Contains(string(out), "mx.elsewhere.example; dkim=pass") {
			t.Errorf("what another host found is lost: %s", out)
		}
	}
}
