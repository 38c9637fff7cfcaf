package post_test

import (
	"strings"
	"testing"
	"unicode"

	"ivytable.example/ivytable/internal/api"
	kit "ivytable.example/ivytable/internal/testkit"
	"ivytable.example/ivytable/internal/workspace/post"
)

// held sends a message that waits, with a header and a body as they are, and reads it.
func held(t testing.TB, l *kit.Kit, ref, header, body string) api.HeldPost {
	t.Helper()
	to, err := l.Post.Find(ctx, kit.Address(t, ref), false)
	if err != nil {
		t.Fatal(err)
	}
	a := kit.Arrived(t, "visitor@gannetport.example", false, "Look", body, to)
	a.Header = append(a.Header, header...)
	if err := l.Post.Accept(ctx, a); err != nil {
		t.Fatal(err)
	}
	bram := l.Actor(t, kit.Moderator)
	p, err := l.Waiting.List(ctx, bram, ref, []string{"post"}, "", 200)
	if err != nil || len(p.Items) == 0 {
		t.Fatalf("%+v, %v", p, err)
	}
	out, err := l.Post.Held(ctx, bram, p.Items[len(p.Items)-1].ID)
	if err != nil {
		t.Fatal(err)
	}
	return out
}

// safe reports whether nothing in what is shown does more than stand there.
func safe(p api.HeldPost) bool {
	all := p.From + p.To + p.Date + p.Text + p.Unreadable
	for _, f := range p.Files {
		all += f.Name + f.Type
	}
	return !strings.ContainsFunc(all, func(r rune) bool { return r != '\n' && r != '\t' && unicode.IsControl(r) || unicode.In(r, unicode.Cf) })
}

const part = "Content-Type: multipart/mixed; boundary=b\r\n"

var messages = []struct {
	name, header, body string
	text               string // that is in it
	not                string // that is not
	files              int
}{
	{"plain", "", "Good day.\r\n\r\nWe come on Sunday.\r\n", "We come on Sunday.", "\r", 0},
	{"in the characters of another", "Content-Type: text/plain; charset=iso-8859-1\r\nContent-Transfer-Encoding: quoted-printable\r\n", "Gr=FC=DFe\r\n", "Grüße", "=FC", 0},
	{"markup", "Content-Type: text/html; charset=utf-8\r\n", "<title>x</title><style>p{}</style><p>Hello <b>there</b><script>steal()</script><img src=http://track.example/1.gif onerror=steal()></p><p>See <a href=\"https://phish.example/x\">our page</a></p>", "See our page <https://phish.example/x>", "steal", 0},
	{"markup that never ends", "Content-Type: text/html\r\n", "<p>Before<script>steal() <p>after", "Before", "steal", 0},
	{"both", "Content-Type: multipart/alternative; boundary=b\r\n", "--b\r\nContent-Type: text/plain\r\n\r\nThe plain one\r\n--b\r\nContent-Type: text/html\r\n\r\n<p>The other one</p>\r\n--b--\r\n", "The plain one", "The other one", 0},
	{"with files", part, "--b\r\nContent-Type: text/plain\r\n\r\nSee the plan.\r\n--b\r\nContent-Type: application/pdf; name=\"plan.pdf\"\r\nContent-Disposition: attachment; filename=\"=?utf-8?q?pl=C3=A4n=E2=80=AEfdp.exe?=\"\r\nContent-Transfer-Encoding: base64\r\n\r\nJVBERi0=\r\n--b\r\nContent-Type: text/html\r\nContent-Disposition: attachment; filename=x.html\r\n\r\n<script>steal()</script>\r\n--b--\r\n", "See the plan.", "steal", 2},
	{"a name that turns", "Content-Type: text/plain; charset=utf-8\r\n", "a\u202eb\u200bc\x00\x1b[31md", "abc[31md", "\u202e", 0},
	{"no end of parts", part, "--b\r\nContent-Type: text/plain\r\n\r\nFirst\r\n--b\r\nContent-Type: multipart/mixed; boundary=c\r\n\r\n--c\r\n", "First", "--c", 0},
	{"an encoding that nobody knows", "Content-Transfer-Encoding: x-rot13\r\n", "Uryyb", "", "", 0},
	{"characters that nobody knows", "Content-Type: text/plain; charset=x-klingon\r\n", "Hello", "Hello", "", 0},
	{"much of it", "", strings.Repeat("0123456789abcdef", 10_000), "0123456789abcdef", "", 0},
	{"deep", "Content-Type: multipart/mixed; boundary=b0\r\n", deep(60), "", "", 0},
	{"many parts", part, strings.Repeat("--b\r\nContent-Type: text/plain\r\nContent-Disposition: attachment; filename=a\r\n\r\nx\r\n", 500) + "--b--\r\n", "", "", 50},
	{"nothing", "", "", "", "", 0},
}

func deep(n int) string {
	var b strings.Builder
	for i := range n {
		at := string(rune('0' + i%10))
		b.WriteString("--b" + at + "\r\nContent-Type: multipart/mixed; boundary=b" + string(rune('0'+(i+1)%10)) + "\r\n\r\n")
	}
	return b.String()
}

func TestHeldMessagesAreShownSafely(t *testing.T) {
	l := k.Fresh(t, "post_preview")
	g := l.Make(t, "Shown", func(n *api.NewGroup) { n.PolicyPatch = kit.Policy("post=anyone hold=outsiders") })
	for _, c := range messages {
		p := held(t, l, g.Address, c.header, c.body)
		if !safe(p) || !strings.Contains(p.Text, c.text) || c.not != "" && strings.Contains(p.Text, c.not) || len(p.Files) != c.files || len(p.Text) > 32<<10+100 {
			p.Text = p.Text[:min(len(p.Text), 500)]
			t.Errorf("%s: %+v", c.name, p)
		}
		if c.name == "much of it" && !p.Cut || c.name == "plain" && (p.Cut || p.Markup) || c.name == "deep" && p.Unreadable == "" {
			t.Errorf("%s: cut %v, markup %v, %q", c.name, p.Cut, p.Markup, p.Unreadable)
		}
	}
}

// Whatever a message is built of, it is shown within bounds, and nothing in it acts.
func FuzzHeld(f *testing.F) {
	for _, c := range messages {
		f.Add(c.header, c.body)
	}
	f.Fuzz(func(t *testing.T, header, body string) {
		p := post.Show([]byte(header+"\r\n"), strings.NewReader(body))
		if !safe(p) || len(p.Text) > 32<<10+100 || len(p.Files) > 50 {
			t.Errorf("%+v", p)
		}
	})
}
