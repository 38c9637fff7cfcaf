package mail

import (
	"bytes"
	"fmt"
	"io"
	"strings"
	"testing"

	"github.com/emersion/go-message"
	_ "github.com/emersion/go-message/charset"

	"ivytable.example/ivytable/internal/core/texts"
	"ivytable.example/ivytable/internal/workspace/post"
)

const footer = "Merrow Line, Gannet Quay\nNight Dispatch für alle"

// through returns a message as a group with some texts passes it on.
func through(t testing.TB, raw string, x texts.Texts) string {
	t.Helper()
	m, b, err := read(raw)
	if err != nil {
		t.Fatalf("%v in %q", err, raw)
	}
	d := group("Deck", "deck@merrowline.example")
	d.Texts = x
	a, err := m.For([]post.Destination{d}, trace, []string{"merrowline.example"}, bytes.NewReader(b))
	if err != nil {
		t.Fatal(err)
	}
	body, err := io.ReadAll(post.Edited(bytes.NewReader(b), a.To[0].Edits))
	if err != nil {
		t.Fatal(err)
	}
	return string(a.To[0].Fields) + string(a.Header) + "\r\n" + string(body)
}

// leaves returns the parts of a message that people read, decoded, each after its type.
func leaves(t testing.TB, raw string) (out []string) {
	t.Helper()
	e, err := message.Read(strings.NewReader(raw))
	if err != nil {
		t.Fatalf("%v in %q", err, raw)
	}
	err = e.Walk(func(path []int, e *message.Entity, err error) error {
		if err != nil {
			return err
		}
		kind, _, _ := e.Header.ContentType()
		if strings.HasPrefix(kind, "multipart/") {
			return nil
		}
		b, err := io.ReadAll(e.Body)
		out = append(out, kind+": "+string(b))
		return err
	})
	if err != nil {
		t.Fatalf("%v in %q", err, raw)
	}
	return out
}

const from = "From: tove.alder@merrowline.example\r\nMessage-ID: <1@x>\r\nDate: Thu, 26 Nov 2026 10:00:00 +0000\r\nSubject: Tides\r\n"

func mixed(kind string, parts ...string) string {
	return from + "MIME-Version: 1.0\r\nContent-Type: " + kind + "; boundary=\"b=1\"\r\n\r\nFor old programs.\r\n--b=1\r\n" + strings.Join(parts, "\r\n--b=1\r\n") + "\r\n--b=1--\r\nafter\r\n"
}

// A footer stands below the text, decoded as it was written, whatever the message is made of; and nothing else
// of it changes.
func TestFooter(t *testing.T) {
	text := func(s string) string {
		return "text/plain: " + s + "\r\n\r\n-- \r\nMerrow Line, Gannet Quay\r\nNight Dispatch für alle"
	}
	plain := "Content-Type: text/plain; charset=utf-8\r\n\r\nHigh at ten."
	page := "Content-Type: text/html; charset=utf-8\r\n\r\n<html><body><p>High at ten.</p></body></html>"
	picture := "Content-Type: image/png\r\nContent-Transfer-Encoding: base64\r\n\r\niVBORw0KGgo="
	html := "text/html: <html><body><p>High at ten.</p></body></html>"
	for name, c := range map[string]struct {
		raw  string
		want []string // beginnings
	}{
		"nothing said":          {from + "\r\nHigh at ten.\r\n", []string{text("High at ten.") + "\r\n"}},
		"no line's end":         {from + "\r\nHigh at ten.", []string{text("High at ten.")}},
		"nothing in it":         {from + "\r\n", []string{"text/plain: \r\n-- \r\nMerrow"}},
		"ascii":                 {from + "Content-Type: text/plain; charset=us-ascii\r\nContent-Transfer-Encoding: 7bit\r\n\r\nHigh at ten.\r\n", []string{text("High at ten.") + "\r\n"}},
		"utf-8":                 {from + "Content-Type: text/plain; charset=utf-8\r\nContent-Transfer-Encoding: 8bit\r\n\r\nFlut: zehn Uhr, Fähre ß.\r\n", []string{text("Flut: zehn Uhr, Fähre ß.") + "\r\n"}},
		"latin":                 {from + "Content-Type: text/plain; charset=iso-8859-1\r\nContent-Transfer-Encoding: 8bit\r\n\r\nF\xe4hre\r\n", []string{text("Fähre") + "\r\n"}},
		"quoted":                {from + "Content-Type: text/plain; charset=utf-8\r\nContent-Transfer-Encoding: quoted-printable\r\n\r\nF=C3=A4hre\r\n", []string{text("Fähre") + "\r\n"}},
		"quoted latin":          {from + "Content-Type: text/plain; charset=iso-8859-1\r\nContent-Transfer-Encoding: quoted-printable\r\n\r\nF=E4hre", []string{text("Fähre")}},
		"quoted ascii":          {from + "Content-Type: text/plain\r\nContent-Transfer-Encoding: quoted-printable\r\n\r\nFerry\r\n", []string{text("Ferry") + "\r\n"}},
		"base64":                {from + "Content-Type: text/plain; charset=utf-8\r\nContent-Transfer-Encoding: base64\r\n\r\nSGlnaCBhdCB0ZW4=\r\n", []string{text("High at ten")}},
		"base64, one over":      {from + "Content-Type: text/plain; charset=utf-8\r\nContent-Transfer-Encoding: base64\r\n\r\nSGlnaCBhdCB0ZW4u\r\n\r\n", []string{text("High at ten.")}},
		"alternatives":          {mixed("multipart/alternative", plain, page), []string{text("High at ten."), html + "\r\n<div"}},
		"with a picture":        {mixed("multipart/mixed", plain, picture), []string{text("High at ten."), "image/png: \x89PNG"}},
		"a picture first":       {mixed("multipart/mixed", picture, plain), []string{"image/png: \x89PNG", text("High at ten.")}},
		"html alone":            {from + page, []string{html + "\r\n<div"}},
		"html of another world": {from + "Content-Type: text/html; charset=shift_jis\r\n\r\n<p>\x83t\x83F\x83\x8a\x81[</p>", []string{"text/html: <p>フェリー</p>\r\n<div"}},
		"parts in parts": {mixed("multipart/mixed", "Content-Type: multipart/alternative; boundary=in\r\n\r\n--in\r\n"+plain+"\r\n--in\r\nContent-Type: multipart/related; boundary=deep\r\n\r\n--deep\r\n"+page+"\r\n--deep\r\n"+picture+"\r\n--deep--\r\n--in--\r\n", picture),
			[]string{text("High at ten."), html + "\r\n<div", "image/png: \x89PNG", "image/png: \x89PNG"}},
		"a part that is ascii": {mixed("multipart/alternative", "Content-Transfer-Encoding: 7bit\r\nContent-Type: text/plain;\r\n charset=us-ascii; format=flowed\r\n\r\nHigh at ten.", page), []string{text("High at ten."), html + "\r\n<div"}},
		"an attached text":     {mixed("multipart/mixed", plain, "Content-Type: text/plain\r\nContent-Disposition: attachment; filename=tides.txt\r\n\r\n10:00"), []string{text("High at ten."), "text/plain: 10:00"}},
	} {
		got := leaves(t, through(t, c.raw, texts.Texts{Footer: footer}))
		if len(got) != len(c.want) {
			t.Errorf("%s: %q", name, got)
			continue
		}
		for i, want := range c.want {
			if exact := strings.HasPrefix(want, "text/plain") && !strings.HasSuffix(want, "Merrow"); !strings.HasPrefix(got[i], want) || exact && strings.TrimRight(got[i], "\r\n") != strings.TrimRight(want, "\r\n") {
				t.Errorf("%s, part %d:\n%q, want\n%q", name, i+1, got[i], want)
			}
			if strings.HasPrefix(want, "text/html") && !strings.HasSuffix(got[i], "Night Dispatch f&#252;r alle\r\n</div>\r\n") {
				t.Errorf("%s: %q", name, got[i])
			}
		}
	}
}

// What is signed or encrypted stays octet by octet, as does what can't be read.
func TestFooterLeavesAlone(t *testing.T) {
	for name, raw := range map[string]string{
		"signed":           mixed("multipart/signed; protocol=\"application/pgp-signature\"", "Content-Type: text/plain\r\n\r\nHigh.", "Content-Type: application/pgp-signature\r\n\r\nxx"),
		"encrypted":        mixed("multipart/encrypted", "Content-Type: application/pgp-encrypted\r\n\r\nVersion: 1"),
		"signed within":    mixed("multipart/mixed", "Content-Type: multipart/signed; boundary=s\r\n\r\n--s\r\n\r\nHigh.\r\n--s--", "Content-Type: text/plain\r\n\r\nx"),
		"s/mime":           from + "Content-Type: application/pkcs7-mime; name=smime.p7m\r\nContent-Transfer-Encoding: base64\r\n\r\nMIIB\r\n",
		"armoured":         from + "\r\n\r\n-----BEGIN PGP SIGNED MESSAGE-----\r\nHash: SHA256\r\n\r\nHigh.\r\n",
		"a report":         mixed("multipart/report", "Content-Type: text/plain\r\n\r\nNot delivered"),
		"no boundary":      from + "Content-Type: multipart/mixed\r\n\r\n--x\r\n\r\nHigh.\r\n--x--\r\n",
		"cut short":        from + "Content-Type: multipart/mixed; boundary=x\r\n\r\n--x\r\nContent-Type: text/plain\r\n\r\nHigh.\r\n",
		"a picture":        from + "Content-Type: image/png\r\nContent-Transfer-Encoding: base64\r\n\r\niVBORw0KGgo=\r\n",
		"an odd encoding":  from + "Content-Type: text/plain\r\nContent-Transfer-Encoding: x-uue\r\n\r\nbegin 644 x\r\n",
		"broken base64":    from + "Content-Type: text/plain; charset=utf-8\r\nContent-Transfer-Encoding: base64\r\n\r\nSGl\r\n",
		"an odd type":      from + "Content-Type: text/plain; charset=\"\r\n\r\nHigh.\r\n",
		"two octets a one": from + "Content-Type: text/plain; charset=utf-16\r\nContent-Transfer-Encoding: base64\r\n\r\n//5IAA==\r\n",
		"an odd charset":   from + "Content-Type: text/plain; charset=klingon\r\nContent-Transfer-Encoding: 8bit\r\n\r\nHigh.\r\n",
	} {
		if got, want := through(t, raw, texts.Texts{Footer: footer}), through(t, raw, texts.Texts{}); got != want {
			t.Errorf("%s:\n%q, want\n%q", name, got, want)
		}
	}
}

// A footer can't end a part of a message, or begin another.
func TestFooterIsNoBoundary(t *testing.T) {
	raw := mixed("multipart/mixed", "Content-Type: text/plain\r\n\r\nHigh.", "Content-Type: text/plain\r\nContent-Disposition: attachment\r\n\r\nx")
	got := leaves(t, through(t, raw, texts.Texts{Footer: "--b=1\n\nForged\n--b=1--\n--b=1"}))
	if len(got) != 2 || !strings.Contains(got[0], " --b=1") || got[1] != "text/plain: x" {
		t.Errorf("%q", got)
	}
	raw = mixed("multipart/mixed", "Content-Type: text/html\r\n\r\n<p>High.", "Content-Type: text/plain\r\nContent-Disposition: attachment\r\n\r\nx")
	if got = leaves(t, through(t, raw, texts.Texts{Footer: "--b=1\n\nForged\n--b=1--"})); len(got) != 2 || !strings.Contains(got[0], "&#45;-b=1--") || got[1] != "text/plain: x" {
		t.Errorf("%q", got)
	}
}

// Tag and answers stand in the header once, and a message to two groups has those of each.
func TestTagAndReplies(t *testing.T) {
	raw := from + "Reply-To: elsewhere@gannetport.example\r\n\r\nHigh at ten.\r\n"
	m, b, err := read(raw)
	if err != nil {
		t.Fatal(err)
	}
	one, two := group("Deck", "deck@merrowline.example"), group("Quay", "quay@merrowline.example")
	owners := group("Deck", "deck@merrowline.example")
	owners.Mailbox = post.ToOwners
	one.Texts, owners.Texts = texts.Texts{Tag: "Deck", Reply: "group", Footer: "Ö"}, texts.Texts{Tag: "Deck", Reply: "group"}
	a, err := m.For([]post.Destination{one, two, owners}, trace, []string{"merrowline.example"}, bytes.NewReader(b))
	if err != nil {
		t.Fatal(err)
	}
	for i, want := range []map[string]string{
		{"Subject": "[Deck] Tides", "Reply-To": "deck@merrowline.example", "Content-Type": "text/plain; charset=utf-8", "Content-Transfer-Encoding": "8bit"},
		{"Subject": "Tides", "Reply-To": "elsewhere@gannetport.example", "Content-Type": "", "Content-Transfer-Encoding": ""},
		{"Subject": "Tides", "Reply-To": "elsewhere@gannetport.example", "Content-Type": "", "Content-Transfer-Encoding": ""},
	} {
		e, err := message.Read(strings.NewReader(string(a.To[i].Fields) + string(a.Header) + "\r\n"))
		if err != nil {
			t.Fatal(err)
		}
		for name, value := range want {
			if n := len(e.Header.Values(name)); e.Header.Get(name) != value || value != "" && n != 1 || value == "" && n != 0 {
				t.Errorf("%d: %s: %q", i, name, e.Header.Values(name))
			}
		}
		if len(a.To[i].Edits) != map[bool]int{true: 1, false: 0}[i == 0] {
			t.Errorf("%d: %d edits", i, len(a.To[i].Edits))
		}
	}
}

// Whatever a message is made of, a footer changes none of its parts but at their ends, and leaves as many.
func FuzzFooter(f *testing.F) {
	for _, s := range []string{"text/plain\r\n\r\nHigh.", "multipart/mixed; boundary=x\r\n\r\n--x\r\n\r\nHigh.\r\n--x--\r\n", "text/plain; charset=utf-8\r\nContent-Transfer-Encoding: base64\r\n\r\nSGk=\r\n",
		"multipart/alternative; boundary=x\r\n\r\n--x\r\nContent-Type: text/html\r\n\r\n<p>\r\n--x\r\n\r\nx\r\n--x--", "multipart/mixed; boundary=x\r\n\r\n--x\r\nContent-Type: multipart/mixed; boundary=xx\r\n\r\n--xx\r\n\r\na\r\n--xx--\r\n--x--"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, rest string) {
		raw := from + "Content-Type: " + rest
		m, b, err := read(raw)
		if err != nil {
			return
		}
		all := slots(m.header, bytes.NewReader(b))
		edits, _ := footed(all, footer)
		at := int64(0)
		for _, e := range edits {
			if e.At < at || e.At+e.Drop > int64(len(b)) {
				t.Fatalf("an edit at %d of %d octets, after %d", e.At, len(b), at)
			}
			at = e.At + e.Drop
		}
		got, err := io.ReadAll(post.Edited(bytes.NewReader(b), edits))
		if err != nil || len(edits) == 0 && !bytes.Equal(got, b) {
			t.Fatalf("%v, %q", err, got)
		}
		if again, _ := io.ReadAll(post.Edited(bytes.NewReader(b), edits)); !bytes.Equal(again, got) {
			t.Fatal(fmt.Sprint("twice is not the same"))
		}
	})
}

// What a list or a program sends to many is known by its header, so that nothing answers it (RFC 3834, 2).
func TestListedMailIsKnown(t *testing.T) {
	for field, listed := range map[string]bool{"List-Id: <talk.x.example>": true, "Precedence: bulk": true, "X-Other: list": false} {
		m, b, err := read("From: a@b.example\r\n" + field + "\r\n\r\nHello.\r\n")
		if err != nil {
			t.Fatal(err)
		}
		a, err := m.For([]post.Destination{group("Deck", "deck@merrowline.example")}, trace, []string{"merrowline.example"}, bytes.NewReader(b))
		if err != nil || a.Listed != listed {
			t.Errorf("%s: %v, %v", field, a.Listed, err)
		}
	}
}
