package mail_test

import (
	"os/exec"
	"strconv"
	"strings"
	"testing"
	"time"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/mail"
	kit "ivytable.example/ivytable/internal/testkit"
)

// python runs a script with what it reads, where the machine has an interpreter.
func python(t *testing.T, script, in string, args ...string) string {
	t.Helper()
	path, err := exec.LookPath("python3")
	if err != nil {
		t.Skip("there is no python3 here")
	}
	c := exec.Command(path, append([]string{"-c", script}, args...)...)
	c.Stdin = strings.NewReader(in)
	out, err := c.CombinedOutput()
	if err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	return string(out)
}

func portOf(t *testing.T, address string) string {
	t.Helper()
	port := address[strings.LastIndexByte(address, ':')+1:]
	if _, err := strconv.Atoi(port); err != nil {
		t.Fatal(err)
	}
	return port
}

// A client that is not ours sends by SMTP and by LMTP, and is told what it should be.
func TestAnIndependentClient(t *testing.T) {
	g := k.Make(t, "Independent", func(n *api.NewGroup) {
		n.PolicyPatch = kit.Policy("find=anyone post=anyone hold=nobody suspicious=deliver")
	})
	k.Queued(t)
	const script = `
import smtplib, sys
from email.message import EmailMessage
how, port, group = sys.argv[1:]
c = (smtplib.LMTP if how == "lmtp" else smtplib.SMTP)("127.0.0.1", int(port))
m = EmailMessage()
m["From"], m["To"], m["Subject"] = "Möwe <gull@elsewhere.example>", group, "Grüße by " + how
m.set_content("Hallo\n.\n..\nEnde\n")
m.add_attachment(b"\x00\x01\x02" * 1000, maintype="application", subtype="octet-stream", filename="käse.bin")
print(sorted(c.send_message(m, to_addrs=[group, "nothing@merrowline.example"] if how == "lmtp" else [group])))
print(sorted(c.esmtp_features))
c.quit()
`
	out := python(t, script, "", "smtp", portOf(t, addr), g.Address)
	if !strings.HasPrefix(out, "[]\n") {
		t.Errorf("by SMTP: %s", out)
	}
	for _, feature := range []string{"pipelining", "size", "8bitmime", "smtputf8", "chunking", "enhancedstatuscodes"} {
		if !strings.Contains(out, "'"+feature+"'") {
			t.Errorf("%s is not offered: %s", feature, out)
		}
	}
	if out := python(t, script, "", "lmtp", portOf(t, serve(t, options, mail.Local)), g.Address); !strings.HasPrefix(out, "['nothing@merrowline.example']\n") {
		t.Errorf("by LMTP: %s", out)
	}
	if letters := k.Letters(t); len(letters) != 2 {
		t.Errorf("%d messages went on", len(letters))
	}
}

// A reader that is not ours finds in a digest what was sent.
func TestAnIndependentReader(t *testing.T) {
	l := k.Fresh(t, "mail_reader")
	g := l.Make(t, "Read Elsewhere")
	choose(t, l, g, kit.Member, "digest")
	if err := l.Post.SendDigests(ctx); err != nil {
		t.Fatal(err)
	}
	for _, id := range []string{"one", "two", "three"} {
		l.MoveBy(time.Minute)
		arrive(t, l, g, kit.Owner, id, "", "Text of "+id+"\r\n\r\n--ivy-\r\nGr\xc3\xbc\xc3\x9fe\r\n")
	}
	l.Queued(t)
	l.Move(1)
	if err := l.Post.SendDigests(ctx); err != nil {
		t.Fatal(err)
	}
	letters := l.Letters(t)
	if len(letters) != 1 {
		t.Fatalf("%d digests", len(letters))
	}
	const script = `
import email, email.policy, sys
m = email.message_from_bytes(sys.stdin.buffer.read(), policy=email.policy.default)
assert not m.defects, m.defects
contents, digest = m.get_payload()
print(m["Subject"], "|", contents.get_content_type(), "|", digest.get_content_type())
for part in digest.get_payload():
    inner = part.get_payload(0)
    assert part.get_content_type() == "message/rfc822" and not inner.defects
    print(inner["Message-ID"], inner["List-Id"], inner.get_content().splitlines()[0])
`
	out := strings.Split(strings.TrimSpace(python(t, script, letters[0].Text)), "\n")
	if len(out) != 4 || !strings.HasSuffix(out[0], "| text/plain | multipart/digest") || !strings.HasPrefix(out[3], "<three@x.example>") || !strings.HasSuffix(out[3], "Text of three") {
		t.Errorf("it reads\n%s", strings.Join(out, "\n"))
	}
}
