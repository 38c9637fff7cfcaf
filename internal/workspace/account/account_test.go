package account_test

import (
	"fmt"
	"strings"
	"testing"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/localdb/dbtest"
	"ivytable.example/ivytable/internal/store"
	kit "ivytable.example/ivytable/internal/testkit"
	"ivytable.example/ivytable/internal/workspace"
	"ivytable.example/ivytable/internal/workspace/account"
)

func TestSignIn(t *testing.T) {
	l := k.Fresh(t, "sign_in")
	if _, _, err := l.Account.SignIn(ctx, "192.0.2.1", api.SignIn{Address: strings.ToUpper(kit.Member), Password: kit.Password}); err != nil {
		t.Fatal(err)
	}
	for _, c := range [][2]string{{kit.Member, "wrong"}, {"nobody@merrowline.example", kit.Password}, {"no address", "x"}, {kit.Left, kit.Password}, {kit.Member, ""}} {
		_, _, err := l.Account.SignIn(ctx, "192.0.2.1", api.SignIn{Address: c[0], Password: c[1]})
		if kind, says := kit.KindOf(t, err); kind != workspace.SignedOut || says != "The address or the password is wrong." {
			t.Errorf("%v: %d, %s", c, kind, says)
		}
	}
	for range 10 {
		_, _, _ = l.Account.SignIn(ctx, "192.0.2.1", api.SignIn{Address: kit.Colleague, Password: "wrong"})
	}
	_, _, err := l.Account.SignIn(ctx, "192.0.2.1", api.SignIn{Address: kit.Colleague, Password: kit.Password})
	if kind, says := kit.KindOf(t, err); kind != workspace.Throttled || !strings.Contains(says, "Try again in 15 minutes") {
		t.Errorf("after ten wrong ones: %d, %s", kind, says)
	}
	if _, _, err := l.Account.SignIn(ctx, "192.0.2.1", api.SignIn{Address: kit.Owner, Password: kit.Password}); err != nil {
		t.Errorf("somebody else meanwhile: %v", err)
	}
}

func TestCredentialsEnd(t *testing.T) {
	a, secret, err := k.Account.SignIn(ctx, "192.0.2.1", api.SignIn{Address: kit.Member, Password: kit.Password})
	if err != nil {
		t.Fatal(err)
	}
	if got, err := k.Account.Authenticate(ctx, "session", secret); err != nil || got.Person.Address != kit.Member {
		t.Errorf("%+v, %v", got, err)
	}
	if _, err := k.Account.Authenticate(ctx, "token", secret); err == nil {
		t.Error("a session served as a token")
	}
	token, err := k.Account.CreateToken(ctx, a, api.NewToken{Name: "nightly"})
	if err != nil {
		t.Fatal(err)
	}
	if err := k.Account.RevokeToken(ctx, k.Actor(t, kit.Owner), token.ID); err == nil {
		t.Error("somebody else revoked a token")
	}
	if err := k.Account.RevokeToken(ctx, a, token.ID); err != nil {
		t.Error(err)
	}
	if _, err := k.Account.Authenticate(ctx, "token", token.Secret); err == nil {
		t.Error("a revoked token opens")
	}
	if err := k.Account.SignOut(ctx, a); err != nil {
		t.Fatal(err)
	}
	if _, err := k.Account.Authenticate(ctx, "session", secret); err == nil {
		t.Error("a session that was signed out of opens")
	}
}

func TestSetUp(t *testing.T) {
	dsn, err := dbtest.Schema(k.DSN, "ivytable_set_up")
	if err != nil {
		t.Fatal(err)
	}
	s, err := store.Open(ctx, dsn)
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	set := account.New(workspace.New(s, workspace.Options{}))
	ines := kit.Administrator
	for _, c := range []struct {
		domains        []string
		address        string
		name, password string
		says           string
	}{
		{[]string{"not a domain"}, ines, "Ines", kit.Password, "one part"},
		{[]string{kit.Domain}, ines, " ", kit.Password, "name is empty"},
		{[]string{kit.Domain}, ines, "Ines", "short", "5 characters; it needs at least 12"},
		{[]string{kit.Domain}, ines, "Ines", account.SamplePassword, "which everybody knows"},
		{[]string{kit.Second}, ines, "Ines", kit.Password, "in one of the domains"},
	} {
		if err := set.SetUp(ctx, c.domains, c.address, c.name, c.password); err == nil || !strings.Contains(err.Error(), c.says) {
			t.Errorf("%v; want %q", err, c.says)
		}
	}
	if n, err := s.Reads(ctx).CountPeople(); n != 0 || err != nil {
		t.Errorf("something half-done is left: %d people, %v", n, err)
	}
	if err := set.SetUp(ctx, []string{kit.Domain}, ines, "Ines Skerry", kit.Password); err != nil {
		t.Fatal(err)
	}
	if err := set.SetUp(ctx, []string{kit.Domain}, ines, "Ines Skerry", kit.Password); err == nil {
		t.Error("set up twice")
	}
	if a, _, err := set.SignIn(ctx, "192.0.2.1", api.SignIn{Address: kit.Administrator, Password: kit.Password}); err != nil || !a.Administers() {
		t.Errorf("%+v, %v", a.Person, err)
	}
}

// Wrong passwords shut out the source that tries them, not the person, and a hundred at once
// are no more than one after another.
func TestWrongPasswordsShutOutTheirSource(t *testing.T) {
	l := k.Fresh(t, "shut_out")
	const bad, good = "203.0.113.7", "192.0.2.44"
	right := make(chan error, 16)
	for range cap(right) {
		go func() {
			_, _, err := l.Account.SignIn(ctx, good, api.SignIn{Address: kit.Owner, Password: kit.Password})
			right <- err
		}()
	}
	for range cap(right) {
		if err := <-right; err != nil {
			t.Errorf("one of many at once with the right password: %v", err)
		}
	}
	tried := make(chan error, 200)
	for i := range cap(tried) {
		go func() {
			_, _, err := l.Account.SignIn(ctx, bad, api.SignIn{Address: kit.Member, Password: fmt.Sprintf("guess %d", i)})
			tried <- err
		}()
	}
	for range 5 {
		if _, _, err := l.Account.SignIn(ctx, good, api.SignIn{Address: kit.Member, Password: kit.Password}); err != nil {
			t.Errorf("who they are, meanwhile: %v", err)
		}
	}
	wrong := 0
	for range cap(tried) {
		kind, says := kit.KindOf(t, <-tried)
		switch {
		case kind == workspace.SignedOut:
			wrong++
		case kind != workspace.Throttled || !strings.Contains(says, "Try again in"):
			t.Errorf("%v %s", kind, says)
		}
	}
	if wrong == 0 || wrong > 8 {
		t.Errorf("%d of 200 guesses at once were tried", wrong)
	}
	for wrong < 8 { // the rest were turned away before they counted
		if _, _, err := l.Account.SignIn(ctx, bad, api.SignIn{Address: kit.Member, Password: "guess"}); err == nil {
			t.Fatal("guessed")
		}
		wrong++
	}
	if _, _, err := l.Account.SignIn(ctx, bad, api.SignIn{Address: kit.Member, Password: kit.Password}); !workspace.IsKind(err, workspace.Throttled) {
		t.Errorf("the source goes on: %v", err)
	}
	if _, _, err := l.Account.SignIn(ctx, bad, api.SignIn{Address: kit.Owner, Password: kit.Password}); err != nil {
		t.Errorf("somebody else from there, as in one office: %v", err)
	}
	for i := range 8 { // of IPv6 a source is a network
		_, _, _ = l.Account.SignIn(ctx, fmt.Sprintf("2001:db8::%d", i), api.SignIn{Address: kit.Colleague, Password: "guess"})
	}
	if _, _, err := l.Account.SignIn(ctx, "2001:db8::ffff:3", api.SignIn{Address: kit.Colleague, Password: kit.Password}); !workspace.IsKind(err, workspace.Throttled) {
		t.Errorf("another address of the same place: %v", err)
	}
	if _, _, err := l.Account.SignIn(ctx, "2001:db8:0:1::1", api.SignIn{Address: kit.Colleague, Password: kit.Password}); err != nil {
		t.Errorf("another place: %v", err)
	}
	if err := l.Account.ForgetExpired(ctx); err != nil {
		t.Error(err)
	}
}
