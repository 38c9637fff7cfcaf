package e2e

import (
	"strings"
	"testing"
	"time"

	"github.com/pquerna/otp/totp"

	"ivytable.example/ivytable/internal/demo"
)

// Somebody sets up a second factor in the console, signs in with it there and on the command
// line, and sends mail by a password of its own.
func TestSecondFactorByConsole(t *testing.T) {
	p := newPlace(t)
	start(t, p.env(), "demo")
	code := func(secret string, steps int) string {
		c, err := totp.GenerateCode(secret, time.Now().Add(time.Duration(steps)*30*time.Second))
		if err != nil {
			t.Fatal(err)
		}
		return c
	}
	b := p.tab()
	b.do(b.SignIn("http://"+p.http, demo.Owner, demo.Password), b.Goto("http://"+p.http+"/account"), b.See("Set up a second factor"),
		b.Fill("[name=password]", demo.Password), b.Press("Set up a second factor"), b.See("Point the program"))
	secret, err := b.Eval(`document.querySelector("[data-secret]").innerText`)
	if err != nil {
		t.Fatal(err)
	}
	secret = strings.Trim(secret, `"`)
	// Kept: half a minute later the same call gives another code, which is good.
	used := code(secret, 0)
	b.do(b.Fill("[name=code]", "000000"), b.Press("Turn it on"), b.See("This is not the code"),
		b.Fill("[name=code]", used), b.Press("Turn it on"), b.See("Keep these recovery codes"))
	codes, err := b.Eval(`document.querySelector("[data-codes]").innerText`)
	if err != nil {
		t.Fatal(err)
	}
	recovery := strings.Fields(strings.NewReplacer(`"`, "", `\n`, " ").Replace(codes))
	if len(recovery) != 10 {
		t.Fatalf("recovery codes: %q", codes)
	}
	b.do(b.Press("I have kept them"), b.See("10 of 10 recovery codes"),
		b.Fill("input[placeholder='mail on my laptop']", "laptop"), b.Press("Make a password"), b.See("Copy it now"))
	own, err := b.Eval(`document.querySelector("[data-token]").innerText`)
	if err != nil {
		t.Fatal(err)
	}

	other := p.tab()
	other.do(other.Goto("http://"+p.http+"/"), other.Fill("[name=address]", demo.Owner), other.Fill("[name=password]", demo.Password), other.Press("Sign in"), other.See("Give the code"),
		other.Fill("[name=code]", used), other.Press("Sign in"), other.See("was used before"),
		other.Fill("[name=code]", code(secret, 1)), other.Press("Sign in"), other.See("Mine"))

	if exit, out := p.run(demo.Password+"\n"+recovery[0]+"\n", "sign-in", demo.Owner); exit != 0 || !strings.Contains(out, "You are signed in") {
		t.Errorf("by command line: %d %s", exit, out)
	}
	if exit, out := p.run(demo.Password+"\n"+recovery[0]+"\n", "sign-in", demo.Owner); exit == 0 {
		t.Errorf("by a recovery code again: %s", out)
	}

	raw := []byte("From: " + demo.Owner + "\r\nSubject: by a password of its own\r\n\r\nx\r\n")
	const group = "night-dispatch@merrowline.example"
	if err := p.send(demo.Owner, demo.Owner, raw, group); err == nil {
		t.Error("mail was sent by the password alone")
	}
	p.password = strings.Trim(own, `"`)
	if err := p.send(demo.Owner, demo.Owner, raw, group); err != nil {
		t.Errorf("by a password of its own: %v", err)
	}
}
