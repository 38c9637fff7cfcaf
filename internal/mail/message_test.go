package mail

import (
	"bytes"
	"errors"
	"flag"
	"fmt"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/emersion/go-smtp"

	"ivytable.example/ivytable/internal/workspace/post"
)

var update = flag.Bool("update", false, "write the golden files again")

func group(name, address string) post.Destination {
	return post.Destination{Name: name, Address: address}
}

var trace = Trace{From: "laptop ([127.0.0.1])", By: "mail.merrowline.example", With: "ESMTPA", ID: "01935c1e-7a10-7000-8000-3f1f2a9c5b11", At: time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC)}

// body is hard to carry: 8-bit, a lone dot, long lines, quoted-printable left as it is.
var body = "Gr\xc3\xbc\xc3\x9fe vom Kai \xe9\xff\r\n.\r\n..\r\n=E2=9C=93 =\r\n" + strings.Repeat("x", 900) + "\r\n\r\n--b\r\nContent-Transfer-Encoding: base64\r\n\r\nAAECAw==\r\n--b--"

func TestForKeepsTheBody(t *testing.T) {
	m, err := Parse([]byte("From: Tove Alder <tove.alder@merrowline.example>\r\nSubject: =?utf-8?q?F=C3=A4hre?=\r\nMessage-ID: <1@laptop>\r\n\r\n" + body))
	if err != nil {
		t.Fatal(err)
	}
	out, id, err := m.For(group("Deck", "deck@merrowline.example"), trace)
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
		m, err := Parse([]byte(c.in))
		if err != nil {
			t.Fatalf("%s: %v", name, err)
		}
		c.to.Mailbox = c.mailbox
		got, _, err := m.For(c.to, trace)
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
		{"a NUL in the body", "From: a@b.example\r\n\r\nx\x00y", 554, smtp.EnhancedCode{5, 6, 0}, "NUL at octet 22"},
		{"a NUL in the header", "From: a@b.example\r\nX: \x00\r\n\r\n", 554, smtp.EnhancedCode{5, 6, 0}, "NUL"},
		{"no author", "Subject: x\r\n\r\n", 554, smtp.EnhancedCode{5, 6, 0}, "needs one author"},
		{"two authors", "From: a@b.example, c@d.example\r\n\r\n", 554, smtp.EnhancedCode{5, 6, 0}, "it has 2"},
		{"an author without a domain", "From: root\r\n\r\n", 554, smtp.EnhancedCode{5, 6, 0}, "author"},
		{"no header", "just text\r\n\r\n", 554, smtp.EnhancedCode{5, 6, 0}, "header can't be read"},
		{"nothing", "", 554, smtp.EnhancedCode{5, 6, 0}, "needs one author"},
		{"a header over the limit", "From: a@b.example\r\n" + strings.Repeat("X-Pad: "+strings.Repeat("p", 990)+"\r\n", 300) + "\r\nx", 552, smtp.EnhancedCode{5, 3, 4}, "262144 is the most"},
		{"round in circles", received + "From: a@b.example\r\n\r\n", 554, smtp.EnhancedCode{5, 4, 6}, "in circles"},
	} {
		_, err := Parse([]byte(c.in))
		var e *smtp.SMTPError
		if !errors.As(err, &e) || e.Code != c.code || e.EnhancedCode != c.enhanced || !strings.Contains(e.Message, c.says) || strings.ContainsAny(e.Message, "\r\n") {
			t.Errorf("%s: %v; want %d %v saying %q", c.name, err, c.code, c.enhanced, c.says)
		}
	}
}

func TestForRefusesItsOwnMail(t *testing.T) {
	g := group("Deck", "deck@merrowline.example")
	m, err := Parse([]byte("From: a@b.example\r\n\r\nx"))
	if err != nil {
		t.Fatal(err)
	}
	once, _, err := m.For(g, trace)
	if err != nil {
		t.Fatal(err)
	}
	if m, err = Parse(once); err != nil {
		t.Fatal(err)
	}
	if _, _, err = m.For(g, trace); err == nil || !strings.Contains(err.Error(), "been through deck@merrowline.example before") {
		t.Errorf("a second time: %v", err)
	}
	if _, _, err = m.For(group("Other", "other@merrowline.example"), trace); err != nil {
		t.Errorf("through another group: %v", err)
	}
}

func FuzzParse(f *testing.F) {
	f.Add([]byte("From: a@b.example\r\nSubject: x\r\n\r\nbody"))
	f.Add([]byte("From: =?utf-8?q?=0D=0ABcc:_all?= <a@b.example>\r\n\r\n"))
	f.Add([]byte("From: a@b.example\r\n List-Id: <deck.merrowline.example>\r\n\r\n"))
	g := group("Deck \"x\"\u00e9", "deck@merrowline.example")
	f.Fuzz(func(t *testing.T, raw []byte) {
		m, err := Parse(raw)
		if err != nil {
			if e := new(smtp.SMTPError); !errors.As(err, &e) || e.Code < 500 || strings.ContainsAny(e.Message, "\r\n") {
				t.Fatalf("an answer that can't be given: %v", err)
			}
			return
		}
		out, id, err := m.For(g, trace)
		if err != nil {
			return
		}
		if strings.ContainsAny(m.Subject+id, "\r\n") {
			t.Fatalf("a line break in %q or %q", m.Subject, id)
		}
		if !bytes.HasSuffix(out, m.body) {
			t.Fatal("the body was changed")
		}
		again, err := Parse(out)
		if err != nil || again.Author.Key() != m.Author.Key() {
			t.Fatalf("what goes out can't be read back: %v\n%s", err, out)
		}
		if n := len(again.header.Values("List-Id")); n != 1 {
			t.Fatalf("%d List-Id fields\n%s", n, out)
		}
	})
}

func ExampleListID() {
	fmt.Println(ListID("night-dispatch@merrowline.example"))
	// Output: night-dispatch.merrowline.example
}
