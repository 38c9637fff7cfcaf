package mail_test

import (
	"crypto/ed25519"
	"crypto/rand"
	"encoding/base64"
	"strings"
	"testing"

	"github.com/emersion/go-msgauth/dkim"

	"ivytable.example/ivytable/internal/mail"
)

// What was signed verifies, and does not once anything that counts is changed.
func TestSign(t *testing.T) {
	public, private, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	record := "v=DKIM1; k=ed25519; p=" + base64.StdEncoding.EncodeToString(public)
	look := func(name string) ([]string, error) {
		if name != "ivy1._domainkey.merrowline.example" {
			t.Errorf("asked for %s", name)
		}
		return []string{record}, nil
	}
	header := "List-Unsubscribe: <https://groups.example/own/x>\r\nList-Id: Night <night.merrowline.example>\r\nReceived: from x\r\nFrom: Tove\r\n <tove.alder@merrowline.example>\r\nSubject: =?utf-8?q?Gr=C3=BC=C3=9Fe?=\r\n\r\n"
	body := "First line  \r\n.\r\n..two dots\r\nGr\xc3\xbc\xc3\x9fe\r\n\r\n\r\n"
	field, err := mail.Sign("merrowline.example", "ivy1", private, []byte(header), strings.NewReader(header+body))
	if err != nil {
		t.Fatal(err)
	}
	verify := func(message string) error {
		all, err := dkim.VerifyWithOptions(strings.NewReader(message), &dkim.VerifyOptions{LookupTXT: look})
		if err != nil || len(all) != 1 {
			t.Fatalf("%d signatures, %v", len(all), err)
		}
		return all[0].Err
	}
	if err := verify(field + header + body); err != nil {
		t.Errorf("as it was signed: %v", err)
	}
	if err := verify("Received: from a relay\r\n" + field + header + body); err != nil {
		t.Errorf("with a field of a relay: %v", err)
	}
	for _, more := range []string{"From: Somebody <else@elsewhere.example>", "Subject: Another", "To: x@y.example", "Cc: x@y.example", "Date: Mon, 2 Jan 2006 15:04:05 -0700", "Message-Id: <x@y.example>", "Reply-To: x@y.example",
		"Sender: x@y.example", "Content-Type: text/html", "Mime-Version: 1.0", "List-Unsubscribe: <https://elsewhere.example/>", "List-Post: <mailto:x@y.example>"} {
		if verify(field+more+"\r\n"+header+body) == nil {
			t.Errorf("with another field, it verifies: %s", more)
		}
	}
	for what, m := range map[string]string{"its text": field + header + "Second" + body, "its author": field + strings.Replace(header, "tove", "oda", 1) + body, "its link": field + strings.Replace(header, "/own/x", "/own/y", 1) + body} {
		if verify(m) == nil {
			t.Errorf("%s was changed, and it verifies", what)
		}
	}
}
