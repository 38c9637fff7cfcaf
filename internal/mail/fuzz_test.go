package mail

import (
	"bytes"
	"strings"
	"testing"

	"ivytable.example/ivytable/internal/workspace/post"
)

// Whatever comes in, what goes out of it is a message with the same body, one author, no line
// that another relay would read otherwise, and none of what goes to nobody.
func FuzzMessage(f *testing.F) {
	for _, s := range []string{
		"From: a@b.example\r\nSubject: x\r\n\r\nbody\r\n", "From: a@b.example\r\nBcc: c@d.example\r\nList-Id: <x.y>\r\nIvy-Passed: deck.merrowline.example 00\r\n\r\n..\r\n.\r\n",
		"From: =?utf-8?q?F=C3=A4hre?= <a@b.example>\r\nSubject: =?x-unknown?b?////?=\r\n folded\r\n\r\n", "From: a@b.example\r\nAuthentication-Results: (c(d)) \"merrowline.example\"; auth=pass\r\n\r\nx",
		"From: a@b.example\n\nx", "From: (comment) a@b.example\r\nAuto-Submitted: auto-replied\r\n\r\n", "\r\n", ":\r\n\r\n", "From: group: a@b.example;\r\n\r\n", "From: a@b.example\r\nX: \xff\xfe\r\n\r\n\x80",
	} {
		f.Add(s)
	}
	to := []post.Destination{{Name: "Deck", Address: "deck@merrowline.example"}, {Name: "Deck", Address: "deck@merrowline.example", Mailbox: post.ToOwners}}
	f.Fuzz(func(t *testing.T, raw string) {
		m, body, err := read(raw)
		if err != nil {
			if strings.ContainsAny(err.Error(), "\r\n") {
				t.Errorf("an answer of two lines: %q", err)
			}
			return
		}
		if at := strings.Index(raw, "\r\n\r\n"); at >= 0 && !strings.HasPrefix(raw, "\r\n") && string(body) != raw[at+4:] {
			t.Fatalf("the body %q is read as %q", raw[at+4:], body)
		}
		for _, d := range to {
			out, _, err := pass(m, body, d)
			if err != nil {
				continue
			}
			if !bytes.HasSuffix(out, body) {
				t.Fatalf("the body was changed: %q", out)
			}
			again, body2, err := read(string(out))
			if err != nil || !bytes.Equal(body2, body) {
				t.Fatalf("what goes out can't be read: %v\n%q", err, out)
			}
			if again.Author.Key() != m.Author.Key() || len(again.header.Values("From")) != 1 {
				t.Errorf("the author %s became %s", m.Author, again.Author)
			}
			for _, name := range private {
				if again.header.Has(name) {
					t.Errorf("%s goes out: %q", name, out)
				}
			}
			if d.Mailbox == post.ToGroup && (len(again.header.Values("List-Id")) != 1 || len(again.header.Values(passed)) == 0) {
				t.Errorf("it goes out without the group's fields: %q", out)
			}
		}
	})
}
