package mail_test

import (
	"strings"
	"testing"

	"ivytable.example/ivytable/internal/core/texts"
	"ivytable.example/ivytable/internal/mail"
	kit "ivytable.example/ivytable/internal/testkit"
	"ivytable.example/ivytable/internal/workspace/post"
)

// Mail of outsiders goes on in the group's name where that is due, with answers to the author; that of people of the workspace never.
func TestInTheGroupsName(t *testing.T) {
	domains := []string{"merrowline.example"}
	for name, c := range map[string]struct {
		from, header, reply string // of the group; more of the message; where answers go
		author              string
		strict              bool
		want, answers       string
	}{
		"kept":                          {"", "", "", "Gull <gull@elsewhere.example>", true, "From: Gull <gull@elsewhere.example>", ""},
		"always":                        {texts.ToGroup, "", "", "Gull <gull@elsewhere.example>", false, `From: "Gull via Night Dispatch" <night@merrowline.example>`, "Reply-To: gull@elsewhere.example"},
		"where due, and it is":          {texts.WhereDue, "", "", "gull@elsewhere.example", true, `From: "gull@elsewhere.example via Night Dispatch" <night@merrowline.example>`, "Reply-To: gull@elsewhere.example"},
		"where due, and it is not":      {texts.WhereDue, "", "", "gull@elsewhere.example", false, "From: gull@elsewhere.example", ""},
		"somebody of the workspace":     {texts.ToGroup, "", "", "Tove <tove.alder@merrowline.example>", true, "From: Tove <tove.alder@merrowline.example>", ""},
		"answers go to the group":       {texts.ToGroup, "", texts.ToGroup, "gull@elsewhere.example", false, `From: "gull@elsewhere.example via Night Dispatch" <night@merrowline.example>`, "Reply-To: night@merrowline.example"},
		"who said where answers are to": {texts.ToGroup, "Reply-To: desk@elsewhere.example\r\n", "", "gull@elsewhere.example", false, `From: "gull@elsewhere.example via Night Dispatch" <night@merrowline.example>`, "Reply-To: desk@elsewhere.example"},
		"a name that injects":           {texts.ToGroup, "", "", `"x <evil@evil.example>, y" <gull@elsewhere.example>`, false, "<night@merrowline.example>", "Reply-To: gull@elsewhere.example"},
	} {
		m, err := mail.Parse([]byte("From: " + c.author + "\r\nSubject: x\r\n" + c.header))
		if err != nil {
			t.Fatal(name, err)
		}
		m.Strict = c.strict
		d := post.Destination{Name: "Night Dispatch", Address: "night@merrowline.example", Domains: domains, Texts: texts.Texts{From: c.from, Reply: c.reply}}
		a, err := m.For([]post.Destination{d}, mail.Trace{Mark: func(string) string { return "x" }}, domains, strings.NewReader("x"))
		if err != nil {
			t.Fatal(name, err)
		}
		out := string(a.To[0].Fields) + string(a.Header)
		if !strings.Contains(out, c.want) || strings.Count("\r\n"+out, "\r\nFrom:") != 1 {
			t.Errorf("%s: it goes on as\n%s", name, out)
		}
		if n := strings.Count("\r\n"+out, "\r\nReply-To:"); (n == 1) != (c.answers != "") || !strings.Contains(out, c.answers) {
			t.Errorf("%s: answers go wrong:\n%s", name, out)
		}
		again, err := mail.Parse([]byte(out))
		if err != nil {
			t.Errorf("%s: what goes on can't be read: %v", name, err)
		} else if want := kit.Address(t, "night@merrowline.example"); strings.Contains(c.want, "night@") && again.Author.Key() != want.Key() {
			t.Errorf("%s: its author is %s", name, again.Author)
		}
	}
}
