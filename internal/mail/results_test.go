package mail

import (
	"strings"
	"testing"
)

func TestResultsOfRelays(t *testing.T) {
	const good = "mx.merrowline.example"
	for _, c := range []struct {
		name   string
		header string
		proven bool
	}{
		{"a signature of the author's domain", "Authentication-Results: mx.merrowline.example; dkim=pass header.d=gannetport.example", true},
		{"in other letters, with a version, a comment and folded", "authentication-results: MX.Merrowline.example 1 (checked);\r\n\tDKIM=Pass (2048-bit key)\r\n\theader.d=GannetPort.example header.i=@gannetport.example", true},
		{"the policy of the author's domain", "Authentication-Results: mx.merrowline.example; dmarc=pass (p=reject) header.from=gannetport.example", true},
		{"the author signed in at the relay", "Authentication-Results: mx.merrowline.example; auth=pass smtp.auth=pilot@gannetport.example", true},
		{"among others", "Authentication-Results: mx.merrowline.example; spf=fail smtp.mailfrom=x.example; dkim=fail header.d=gannetport.example; dkim=pass header.d=gannetport.example;", true},
		{"below a field of a relay of ours", "Received: from mx (mx. [192.0.2.1] by (x) evil) by MX.merrowline.example. (inner; 1) with ESMTP id 7 for <a@b.example>; now\r\nAuthentication-Results: mx.merrowline.example; dkim=pass header.d=gannetport.example", true},
		{"in a second field of the relay", "Authentication-Results: mx.merrowline.example; spf=pass smtp.mailfrom=gannetport.example\r\nAuthentication-Results: mx.merrowline.example; dmarc=pass header.from=gannetport.example", false},
		{"below a field that can't be read", "Authentication-Results: mx.merrowline.example; dmarc=fail header.from=\"x\r\nReceived: from a by mx.merrowline.example\r\nAuthentication-Results: mx.merrowline.example; dmarc=pass header.from=gannetport.example", false},
		{"below another's Received", "Received: from mx.merrowline.example (by mx.merrowline.example) by evil.example\r\nAuthentication-Results: mx.merrowline.example; dkim=pass header.d=gannetport.example", false},
		{"below a Received that says not by whom", "Received: from by mx.merrowline.example; now\r\nAuthentication-Results: mx.merrowline.example; dkim=pass header.d=gannetport.example", false},
		{"after fields of others", "Authentication-Results: elsewhere.example; dkim=fail header.d=gannetport.example\r\nReceived: from a by mx.merrowline.example\r\nAuthentication-Results: mx.merrowline.example; dkim=pass header.d=gannetport.example", true},
		{"a quoted address", `Authentication-Results: mx.merrowline.example; auth=pass smtp.auth="pilot@gannetport.example"`, true},

		{"none", "Subject: x", false},
		{"the envelope alone", "Authentication-Results: mx.merrowline.example; spf=pass smtp.mailfrom=gannetport.example", false},
		{"another's signature", "Authentication-Results: mx.merrowline.example; dkim=pass header.d=bulk.example", false},
		{"a domain above", "Authentication-Results: mx.merrowline.example; dkim=pass header.d=example", false},
		{"a domain below", "Authentication-Results: mx.merrowline.example; dkim=pass header.d=a.gannetport.example", false},
		{"no domain", "Authentication-Results: mx.merrowline.example; dkim=pass", false},
		{"somebody else signed in", "Authentication-Results: mx.merrowline.example; auth=pass smtp.auth=other@gannetport.example", false},
		{"a name without a domain signed in", "Authentication-Results: mx.merrowline.example; auth=pass smtp.auth=pilot", false},
		{"a failure", "Authentication-Results: mx.merrowline.example; dkim=fail header.d=gannetport.example", false},
		{"nothing found", "Authentication-Results: mx.merrowline.example; none", false},
		{"another relay", "Authentication-Results: mx.elsewhere.example; dkim=pass header.d=gannetport.example", false},
		{"a name that begins like ours", "Authentication-Results: mx.merrowline.example.evil.example; dkim=pass header.d=gannetport.example", false},
		{"a name under ours", "Authentication-Results: a.mx.merrowline.example; dkim=pass header.d=gannetport.example", false},
		{"our name in a comment", "Authentication-Results: (mx.merrowline.example; dkim=pass header.d=gannetport.example) evil.example; none", false},
		{"a version that is not known", "Authentication-Results: mx.merrowline.example 2; dkim=pass header.d=gannetport.example", false},
		{"a result in a comment", "Authentication-Results: mx.merrowline.example; spf=fail (sender said ; dkim=pass header.d=gannetport.example ) smtp.mailfrom=x.example", false},
		{"a result in quotes", `Authentication-Results: mx.merrowline.example; spf=fail smtp.mailfrom="x; dkim=pass header.d=gannetport.example"@evil.example`, false},
		{"a quote that is not closed", `Authentication-Results: mx.merrowline.example; spf=fail smtp.mailfrom="x; dkim=pass header.d=gannetport.example`, false},
		{"a comment that is not closed", "Authentication-Results: mx.merrowline.example; dkim=pass header.d=gannetport.example (so", false},
		{"a domain twice", "Authentication-Results: mx.merrowline.example; dkim=pass header.d=evil.example header.d=gannetport.example", false},
		{"below the relay's own, which found nothing", "Authentication-Results: mx.merrowline.example; spf=fail smtp.mailfrom=x.example\r\nReceived: from evil.example by mx.merrowline.example\r\nAuthentication-Results: mx.merrowline.example; dkim=pass header.d=gannetport.example", false},
		{"a reason that looks like a result", `Authentication-Results: mx.merrowline.example; dkim=fail reason="dkim=pass" header.d=gannetport.example`, false},
		{"no result but words", "Authentication-Results: mx.merrowline.example; all is well", false},
		{"the field of another kind", "ARC-Authentication-Results: i=1; mx.merrowline.example; dkim=pass header.d=gannetport.example", false},
	} {
		m, err := Parse([]byte(c.header + "\r\nFrom: Hale <pilot@gannetport.example>\r\n"))
		if err != nil {
			t.Errorf("%s: %v", c.name, err)
			continue
		}
		if got := m.proven([]string{good}); got != c.proven {
			t.Errorf("%s: proven %v", c.name, got)
		}
		if m.proven(nil) {
			t.Errorf("%s: proven by nobody", c.name)
		}
	}
}

// However a field is written, what is read of it stands in it, and nothing breaks.
func FuzzResults(f *testing.F) {
	for _, seed := range []string{"a.example; dkim=pass header.d=b.example", `a 1; auth=pass (x (y) \) z) smtp.auth="a\"b"@c.example; none`, "a;;=", `"`, "(", "a; b = c reason = d", "a;x=y="} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, v string) {
		by, results, ok := parseResults(v)
		if !ok && (by != "" || results != nil) {
			t.Errorf("%q is refused and read as %q, %v", v, by, results)
		}
		for _, r := range results {
			if r.method == "" && !strings.Contains(v, `"`) || r.props == nil {
				t.Errorf("%q: %+v", v, r)
			}
		}
	})
}
