package mail_test

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"strings"
	"testing"
	"time"

	"github.com/emersion/go-smtp"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/core/mailaddr"
	"ivytable.example/ivytable/internal/mail"
	kit "ivytable.example/ivytable/internal/testkit"
)

// nested is a message so many parts deep.
func nested(deep int) string {
	var b strings.Builder
	b.WriteString("From: a@b.example\r\nSubject: deep\r\nMIME-Version: 1.0\r\nContent-Type: multipart/mixed; boundary=b0\r\n\r\n")
	for i := range deep {
		fmt.Fprintf(&b, "--b%d\r\nContent-Type: multipart/mixed; boundary=b%d\r\n\r\n", i, i+1)
	}
	return b.String() + "--b1000\r\n\r\ntext\r\n"
}

// hostile are messages that were made to do harm: what each is, what is answered, and what must not be in what goes on to the group.
var hostile = []struct {
	name, raw string
	code      int // 250: it is taken
	never     []string
}{
	{"MIME 1,000 deep", nested(1000), 250, nil},
	{"a header of 10 MB", "From: a@b.example\r\nX: " + strings.Repeat(strings.Repeat("x", 900)+"\r\n ", 11_000) + "\r\n\r\nx\r\n", 552, nil},
	{"a header of 100,000 fields", "From: a@b.example\r\n" + strings.Repeat("X: y\r\n", 100_000) + "\r\nx\r\n", 552, nil},
	{"100,000 addresses", "From: a@b.example\r\nTo: " + strings.Repeat("victim@elsewhere.example,\r\n ", 100_000) + "z@z.example\r\n\r\nx\r\n", 552, nil},
	{"charsets that don't exist", "From: =?x-none?B?////?= <a@b.example>\r\nSubject: =?x-none?Q?=FF=FE?= =?utf-8?B?4pyT?=\r\nContent-Type: text/plain; charset=x-none\r\n\r\n\xff\xfe\r\n", 250, nil},
	{"a subject that is not UTF-8", "From: a@b.example\r\nSubject: \xc3\x28\xa0\xa1\r\n\r\nx\r\n", 250, nil},
	{"a field within an encoded word", "From: a@b.example\r\nSubject: =?utf-8?Q?x=0D=0ABcc:_victim@elsewhere.example?=\r\n\r\nx\r\n", 250, []string{"\nBcc:"}},
	{"a field within a name", "From: =?utf-8?Q?x=0D=0ABcc:_victim@elsewhere.example?= <a@b.example>\r\n\r\nx\r\n", 554, nil},
	{"blind copies", "From: a@b.example\r\nBcc: victim@elsewhere.example\r\nResent-Bcc: victim@elsewhere.example\r\n\r\nx\r\n", 250, []string{"victim@"}},
	{"forged fields of a list", "From: a@b.example\r\nList-Id: <evil.example>\r\nList-Unsubscribe: <https://evil.example/>\r\nList-Unsubscribe-Post: List-Unsubscribe=One-Click\r\nList-Post: <mailto:evil@evil.example>\r\nList-Archive: <https://evil.example/a>\r\n\r\nx\r\n", 250, []string{"evil.example"}},
	{"a forged proof", "From: tove.alder@merrowline.example\r\nAuthentication-Results: merrowline.example; auth=pass smtp.auth=tove.alder@merrowline.example\r\n\r\nx\r\n", 250, []string{"auth=pass"}},
	{"two authors", "From: a@b.example\r\nFrom: tove.alder@merrowline.example\r\n\r\nx\r\n", 554, nil},
	{"two authors in one field", "From: a@b.example, tove.alder@merrowline.example\r\n\r\nx\r\n", 554, nil},
	{"a space before a colon", "From : tove.alder@merrowline.example\r\nFrom: a@b.example\r\n\r\nx\r\n", 554, nil},
	{"scripts", "From: <a@b.example>\r\nSubject: <script>alert(1)</script>\r\nContent-Type: text/html\r\n\r\n<script>alert(1)</script><img src=x onerror=alert(1)>\r\n", 250, nil},
	{"a name of 100,000 letters", "From: \"" + strings.Repeat("x", 100_000) + "\" <a@b.example>\r\n\r\nx\r\n", 554, nil},
	{"a file name that climbs", "From: a@b.example\r\nMIME-Version: 1.0\r\nContent-Type: application/octet-stream; name=\"../../../etc/passwd\"\r\nContent-Disposition: attachment; filename*=utf-8''..%2f..%2fetc%2fpasswd\r\n\r\nx\r\n", 250, nil},
	{"a boundary of nothing", "From: a@b.example\r\nMIME-Version: 1.0\r\nContent-Type: multipart/mixed; boundary=\"\"\r\n\r\n--\r\n--\r\n----\r\n", 250, nil},
	{"base64 that is none", "From: a@b.example\r\nMIME-Version: 1.0\r\nContent-Transfer-Encoding: base64\r\nContent-Type: text/plain\r\n\r\n!!!!====\x01\r\n", 250, nil},
	{"60 hops", "From: a@b.example\r\n" + strings.Repeat("Received: from x by y\r\n", 60) + "\r\nx\r\n", 554, nil},
	{"no author", "Subject: x\r\n\r\nx\r\n", 554, nil},
	{"only a body", "\r\nx\r\n", 554, nil},
}

// Nothing that was made to do harm ends the service, is shown as it is not, or is sent on with what it must not have.
func TestHostileMail(t *testing.T) {
	footer := "Below every message."
	g := k.Make(t, "Hostile", func(n *api.NewGroup) {
		n.PolicyPatch = kit.Policy("post=anyone hold=nobody suspicious=deliver find=anyone")
		n.Mail = api.MailPatch{Footer: &footer}
	})
	k.Queued(t)
	for _, c := range hostile {
		err := dial(t, "").SendMail("a@b.example", []string{g.Address}, strings.NewReader(c.raw))
		code := 250
		var no *smtp.SMTPError
		if errors.As(err, &no) {
			code = no.Code
		} else if err != nil {
			code = 0 // it was cut off
		}
		if code != c.code {
			t.Errorf("%s: %d %v; want %d", c.name, code, err, c.code)
		}
		letters := k.Letters(t)
		if (len(letters) == 1) != (c.code == 250) {
			t.Errorf("%s: %d messages went on", c.name, len(letters))
			continue
		}
		for _, l := range letters {
			head, _, _ := strings.Cut(l.Text, "\r\n\r\n")
			for _, never := range c.never {
				if strings.Contains(head, never) {
					t.Errorf("%s: %q goes on in\n%s", c.name, never, head)
				}
			}
			for _, field := range []string{"List-Id:", "List-Post:", "From:"} {
				if n := strings.Count("\n"+head, "\n"+field); n != 1 {
					t.Errorf("%s: %d times %s", c.name, n, field)
				}
			}
		}
	}
	if err := dial(t, kit.Member).SendMail(kit.Member, []string{g.Address}, strings.NewReader(message(kit.Member, "afterwards"))); err != nil {
		t.Errorf("afterwards: %v", err)
	}
	k.Queued(t)
}

// Three groups that lead to each other, by members that send mail on, let a message through each of them once.
func TestALoopOfThree(t *testing.T) {
	names := []string{"Loop One", "Loop Two", "Loop Three"}
	var groups []api.Group
	for _, n := range names {
		groups = append(groups, k.Make(t, n, func(n *api.NewGroup) {
			n.PolicyPatch = kit.Policy("post=anyone hold=nobody suspicious=deliver find=anyone")
		}))
	}
	k.Queued(t)
	raw := message("a@b.example", "round and round")
	taken := 0
	for i := range 12 {
		if err := dial(t, "").SendMail("a@b.example", []string{groups[i%3].Address}, strings.NewReader(raw)); err != nil {
			break
		}
		taken++
		letters := k.Letters(t)
		if len(letters) != 1 {
			t.Fatalf("%d went on", len(letters))
		}
		raw = strings.ReplaceAll(letters[0].Text, "\n.", "\n..") // as somebody's mail program sends it on to the next
		raw = strings.ReplaceAll(raw, "\n..", "\n.")
	}
	if taken != 3 {
		t.Errorf("it went round %d times", taken)
	}
}

// The address of a delivery is found however it was written, and nobody else's.
func FuzzReport(f *testing.F) {
	for _, s := range []string{failedFor("a@b.example", "failed", "5.1.1"), "Content-Type: text/plain\r\n\r\n<a@b.example>: 550 5.1.1 no\r\n", "Content-Type: multipart/report; boundary=x\r\n\r\n--x\r\nContent-Type: message/delivery-status\r\n\r\n\xff\r\n\r\nFinal-Recipient: rfc822;;;\r\n", nested(100)} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, raw string) {
		head, body, _ := strings.Cut(raw, "\r\n\r\n")
		r := mail.ReadReport(mailaddr.Address{}, []byte(head+"\r\n"), strings.NewReader(body))
		if len(r.Said) > 200 || len(r.Words) > 1<<17 {
			t.Errorf("%d recipients, %d octets of words", len(r.Said), len(r.Words))
		}
		for _, s := range r.Said {
			if strings.ContainsAny(s.Words, "\r\n") {
				t.Errorf("words of two lines: %q", s.Words)
			}
			if s.Lasting() && !s.Failed {
				t.Errorf("%+v", s)
			}
		}
	})
}

// What goes out is a message that a server takes, whatever came in, with a signature or without: each line ends in CRLF, and none is
// longer than 998 octets unless it came so.
func TestLinesThatGoOut(t *testing.T) {
	g := k.Make(t, "Lines", func(n *api.NewGroup) {
		n.PolicyPatch = kit.Policy("post=anyone hold=nobody suspicious=deliver find=anyone")
		n.Name = strings.Repeat("Ä long name ", 8) + "of a group"
	})
	k.Queued(t)
	if err := dial(t, "").SendMail("a@b.example", []string{g.Address}, strings.NewReader(message("a@b.example", "lines"))); err != nil {
		t.Fatal(err)
	}
	for _, l := range k.Letters(t) {
		for line := range strings.SplitSeq(l.Text, "\r\n") {
			if len(line) > 998 || strings.ContainsAny(line, "\r\n") {
				t.Errorf("a line goes out as %q", line)
			}
		}
	}
}

// 200 connections that do something, and 1,000 that do nothing, are served.
func TestManyConnections(t *testing.T) {
	limits := mail.DefaultLimits
	limits.BySource = 3000
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	s := mail.NewServer(k.Service, mail.Options{Domain: "x.example", Spool: t.TempDir(), Limits: limits, Log: slog.New(slog.DiscardHandler)})
	go s.Serve(l, mail.Transfer)
	defer func() {
		last, cancel := context.WithTimeout(ctx, time.Second)
		defer cancel()
		s.Shutdown(last)
	}()
	var idle []net.Conn
	defer func() {
		for _, c := range idle {
			c.Close()
		}
	}()
	for range 1000 {
		c, err := net.Dial("tcp", l.Addr().String())
		if err != nil {
			t.Fatal(err)
		}
		idle = append(idle, c)
	}
	g := k.Make(t, "Busy", func(n *api.NewGroup) {
		n.PolicyPatch = kit.Policy("post=anyone hold=nobody suspicious=deliver find=anyone")
	})
	k.Queued(t)
	errs := make(chan error)
	for i := range 200 {
		go func() {
			c, err := smtp.Dial(l.Addr().String())
			if err == nil {
				err = c.SendMail("a@b.example", []string{g.Address}, strings.NewReader(message("a@b.example", fmt.Sprintf("busy %d", i))))
				c.Close()
			}
			errs <- err
		}()
	}
	for range 200 {
		if err := <-errs; err != nil {
			t.Error(err)
		}
	}
	if sent := k.Queued(t); len(sent) != 200 {
		t.Errorf("%d messages went on", len(sent))
	}
}
