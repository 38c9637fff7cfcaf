package account_test

import (
	"encoding/base32"
	"errors"
	"fmt"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/pquerna/otp/totp"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/core/access"
	kit "ivytable.example/ivytable/internal/testkit"
	"ivytable.example/ivytable/internal/workspace"
	"ivytable.example/ivytable/internal/workspace/account"
	"ivytable.example/ivytable/internal/workspace/people"
)

const from = "192.0.2.1"

// signIn signs in, with a code.
func signIn(l *kit.Kit, who, code string) (workspace.Actor, error) {
	by, _, err := l.Account.SignIn(ctx, from, api.SignIn{Address: who, Password: kit.Password, Code: code})
	return by, err
}

// fieldOf is the field that an error is about.
func fieldOf(err error) string {
	var e *workspace.Error
	if errors.As(err, &e) && len(e.Problems) > 0 {
		return e.Problems[0].Field
	}
	return ""
}

// codeAt is the code that a program shows so many half minutes from now.
func codeAt(t *testing.T, secret string, steps int) string {
	t.Helper()
	code, err := totp.GenerateCode(secret, time.Now().Add(time.Duration(steps)*30*time.Second))
	if err != nil {
		t.Fatal(err)
	}
	return code
}

// factored gives somebody a second factor.
func factored(t *testing.T, l *kit.Kit, who string) (secret string, recovery []string) {
	t.Helper()
	by, err := signIn(l, who, "")
	if err != nil {
		t.Fatal(err)
	}
	f, err := l.Account.BeginFactor(ctx, by, kit.Password)
	if err != nil {
		t.Fatal(err)
	}
	codes, err := l.Account.ConfirmFactor(ctx, by, codeAt(t, f.Secret, -1))
	if err != nil {
		t.Fatal(err)
	}
	return f.Secret, codes.Codes
}

func TestSecondFactor(t *testing.T) {
	l := k.Fresh(t, "account_factor")
	by, err := signIn(l, kit.Member, "")
	if err != nil {
		t.Fatal(err)
	}
	if _, err := l.Account.BeginFactor(ctx, by, "not it"); fieldOf(err) != "password" {
		t.Errorf("begun with a wrong password: %v", err)
	}
	f, err := l.Account.BeginFactor(ctx, by, kit.Password)
	if err != nil || !strings.HasPrefix(f.Picture, "data:image/png;base64,") || !strings.HasPrefix(f.URI, "otpauth://totp/") {
		t.Fatalf("begun: %+v, %v", f, err)
	}
	if _, err := signIn(l, kit.Member, ""); err != nil {
		t.Errorf("one that is not confirmed is asked for: %v", err)
	}
	if _, err := l.Account.ConfirmFactor(ctx, by, "000000"); fieldOf(err) != "code" {
		t.Errorf("confirmed with a wrong code: %v", err)
	}
	other, err := signIn(l, kit.Member, "")
	if err != nil {
		t.Fatal(err)
	}
	codes, err := l.Account.ConfirmFactor(ctx, by, codeAt(t, f.Secret, -1))
	if err != nil || len(codes.Codes) != 10 {
		t.Fatalf("confirmed: %+v, %v", codes, err)
	}
	if n, err := l.Read().CountCredentials(account.Session, other.Person.ID, time.Time{}); err != nil || n != 1 {
		t.Errorf("%d sessions go on, %v; want the one that set it up", n, err)
	}

	if _, err := signIn(l, kit.Member, ""); fieldOf(err) != "code" || !workspace.IsKind(err, workspace.SignedOut) {
		t.Errorf("without a code: %v", err)
	}
	if _, _, err := l.Account.SignIn(ctx, from, api.SignIn{Address: kit.Member, Password: "wrong", Code: codeAt(t, f.Secret, 0)}); fieldOf(err) != "" || err == nil {
		t.Errorf("a wrong password tells that there is a second factor: %v", err)
	}
	if _, err := signIn(l, kit.Member, codeAt(t, f.Secret, -1)); fieldOf(err) != "code" {
		t.Errorf("the code that it was confirmed with, again: %v", err)
	}
	now := codeAt(t, f.Secret, 0)
	if _, err := signIn(l, kit.Member, now[:3]+" "+now[3:]); err != nil {
		t.Errorf("with a code: %v", err)
	}
	if _, err := signIn(l, kit.Member, now); fieldOf(err) != "code" {
		t.Errorf("the same code again: %v", err)
	}
	if _, err := signIn(l, kit.Member, codeAt(t, f.Secret, 20)); fieldOf(err) != "code" {
		t.Errorf("a code of ten minutes on: %v", err)
	}
	if _, err := signIn(l, kit.Member, strings.ToUpper(codes.Codes[0])); err != nil {
		t.Errorf("with a recovery code: %v", err)
	}
	if _, err := signIn(l, kit.Member, codes.Codes[0]); fieldOf(err) != "code" {
		t.Errorf("the same recovery code again: %v", err)
	}
	state, err := l.Account.Factor(ctx, by)
	if err != nil || !state.On || state.RecoveryCodes != 9 {
		t.Errorf("its state: %+v, %v", state, err)
	}
	if _, err := l.Account.SignInToSend(ctx, from, kit.Member, kit.Password); err == nil {
		t.Error("SMTP is a way round it")
	}
	if err := l.Account.EndFactor(ctx, by, api.FactorEnd{Password: kit.Password, Code: "000000"}); fieldOf(err) != "code" {
		t.Errorf("turned off with a wrong code: %v", err)
	}
	if err := l.Account.EndFactor(ctx, by, api.FactorEnd{Password: kit.Password, Code: codes.Codes[1]}); err != nil {
		t.Fatal(err)
	}
	if _, err := signIn(l, kit.Member, ""); err != nil {
		t.Errorf("turned off: %v", err)
	}
}

// Of a hundred sign-ins with one code, one succeeds.
func TestACodeIsTakenOnce(t *testing.T) {
	l := k.Fresh(t, "account_code_once")
	secret, recovery := factored(t, l, kit.Member)
	for _, code := range []string{codeAt(t, secret, 0), recovery[3]} {
		var mu sync.Mutex
		var all sync.WaitGroup
		in := 0
		for i := range 7 { // fewer than shut the source out
			all.Go(func() {
				_, _, err := l.Account.SignIn(ctx, fmt.Sprintf("198.51.100.%d", i), api.SignIn{Address: kit.Member, Password: kit.Password, Code: code})
				mu.Lock()
				defer mu.Unlock()
				if err == nil {
					in++
				}
			})
		}
		all.Wait()
		if in != 1 {
			t.Errorf("%d signed in with one code", in)
		}
	}
}

// Who has to have a second factor and has none can do nothing before there is one: not by
// session, not by a token of before, not by mail.
func TestAFactorIsDemanded(t *testing.T) {
	l := k.Fresh(t, "account_demanded")
	ines, err := signIn(l, kit.Administrator, "")
	if err != nil {
		t.Fatal(err)
	}
	token, err := l.Account.CreateToken(ctx, ines, api.NewToken{Name: "before", Scopes: []string{"everything"}})
	if err != nil {
		t.Fatal(err)
	}
	p, err := l.Protection.Read(ctx, ines)
	if err != nil {
		t.Fatal(err)
	}
	p.SecondFactor = "administrators"
	if _, err := l.Protection.Set(ctx, ines, p, p.Version); err != nil {
		t.Fatal(err)
	}
	byToken, err := l.Account.Authenticate(ctx, account.Token, token.Secret)
	if err != nil {
		t.Fatal(err)
	}
	lacks, err := signIn(l, kit.Administrator, "")
	if err != nil {
		t.Fatal(err)
	}
	for name, by := range map[string]workspace.Actor{"a session": lacks, "a token": byToken} {
		if _, err := l.People.List(ctx, by, people.Query{Limit: 1}); !workspace.IsKind(err, workspace.NotAllowed) {
			t.Errorf("by %s, people are listed: %v", name, err)
		}
		if _, err := l.Protection.Set(ctx, by, p, 0); !workspace.IsKind(err, workspace.NotAllowed) {
			t.Errorf("by %s, it was turned off: %v", name, err)
		}
		if by.Administers() {
			t.Errorf("by %s they administer", name)
		}
		if me, err := l.Me(ctx, by); err != nil || !me.LacksFactor || len(me.May) > 0 {
			t.Errorf("by %s: %+v, %v", name, me, err)
		}
	}
	if _, err := l.Account.SignInToSend(ctx, from, kit.Administrator, kit.Password); err == nil {
		t.Error("mail is sent with the password alone")
	}
	if _, err := l.Account.BeginFactor(ctx, byToken, kit.Password); !workspace.IsKind(err, workspace.NotAllowed) {
		t.Errorf("a token began a second factor: %v", err)
	}
	f, err := l.Account.BeginFactor(ctx, lacks, kit.Password)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := l.Account.ConfirmFactor(ctx, lacks, codeAt(t, f.Secret, -1)); err != nil {
		t.Fatal(err)
	}
	by, err := signIn(l, kit.Administrator, codeAt(t, f.Secret, 0))
	if err != nil || !by.Administers() {
		t.Fatalf("with it: %+v, %v", by, err)
	}
	if _, err := l.People.List(ctx, by, people.Query{Limit: 1}); err != nil {
		t.Error(err)
	}
	if byToken, err = l.Account.Authenticate(ctx, account.Token, token.Secret); err != nil || !byToken.Administers() {
		t.Errorf("the token of before, once there is one: %v", err)
	}
	if err := l.Account.EndFactor(ctx, by, api.FactorEnd{Password: kit.Password, Code: codeAt(t, f.Secret, 1)}); !workspace.IsKind(err, workspace.Conflict) {
		t.Errorf("turned off though it is demanded: %v", err)
	}
	if _, err := signIn(l, kit.Member, ""); err != nil {
		t.Errorf("a member, who needs none: %v", err)
	}
}

// Who has lost it has it taken away by an administrator, and is told.
func TestAFactorIsTakenAway(t *testing.T) {
	l := k.Fresh(t, "account_taken")
	factored(t, l, kit.Member)
	l.Letters(t)
	if err := l.Account.TakeFactor(ctx, l.Actor(t, kit.Owner), kit.Member); !workspace.IsKind(err, workspace.NotAllowed) {
		t.Errorf("by an owner: %v", err)
	}
	if err := l.Account.TakeFactor(ctx, l.Actor(t, kit.Administrator), kit.Member); err != nil {
		t.Fatal(err)
	}
	if _, err := signIn(l, kit.Member, ""); err != nil {
		t.Error(err)
	}
	letters := l.Letters(t)
	if len(letters) != 1 || letters[0].To[0] != kit.Member || letters[0].Subject != "Your second factor was turned off" {
		t.Errorf("told: %+v", letters)
	}
}

// Tokens are good for what they were made for; none makes another, and one for sending opens
// nothing else.
func TestTokens(t *testing.T) {
	l := k.Fresh(t, "account_tokens")
	by, err := signIn(l, kit.Member, "")
	if err != nil {
		t.Fatal(err)
	}
	made, err := l.Account.CreateToken(ctx, by, api.NewToken{Name: "reads"})
	if err != nil || len(made.Scopes) != 1 || made.Scopes[0] != "read" {
		t.Fatalf("without scopes: %+v, %v", made, err)
	}
	reads, err := l.Account.Authenticate(ctx, account.Token, made.Secret)
	if err != nil || reads.Cover("read") != nil || reads.Cover("people") == nil {
		t.Errorf("it is good for %v, %v", reads.Scopes, err)
	}
	if _, err := l.Account.CreateToken(ctx, reads, api.NewToken{Name: "more", Scopes: []string{"everything"}}); !workspace.IsKind(err, workspace.NotAllowed) {
		t.Errorf("a token made a token: %v", err)
	}
	all := kit.First(l.Account.Tokens(ctx, by, "", 10)).Items
	if len(all) != 1 || all[0].LastUsedAt == nil {
		t.Errorf("when it was used is not known: %+v", all)
	}
	for _, bad := range [][]string{{"send", "read"}, {"all"}} {
		if _, err := l.Account.CreateToken(ctx, by, api.NewToken{Name: "x", Scopes: bad}); fieldOf(err) != "scopes" {
			t.Errorf("%v: %v", bad, err)
		}
	}
	if _, err := l.Account.SignInToSend(ctx, from, kit.Member, made.Secret); err == nil {
		t.Error("a token for reading sends mail")
	}
	send, err := l.Account.CreateToken(ctx, by, api.NewToken{Name: "mail", Scopes: []string{"send"}})
	if err != nil {
		t.Fatal(err)
	}
	if a, err := l.Account.Authenticate(ctx, account.Token, send.Secret); err != nil || a.Cover("read") == nil || a.Cover("everything") == nil {
		t.Errorf("a password of a mail program opens more: %v, %v", a.Scopes, err)
	}
	if _, err := l.Account.SignInToSend(ctx, from, kit.Owner, send.Secret); err == nil {
		t.Error("it is good for somebody else")
	}
	sender, err := l.Account.SignInToSend(ctx, from, kit.Member, send.Secret)
	if err != nil {
		t.Fatal(err)
	}
	still := func(by workspace.Actor, want bool, when string) {
		t.Helper()
		if in, err := l.Account.StillIn(ctx, by); err != nil || in != want {
			t.Errorf("%s: still in: %v, %v", when, in, err)
		}
	}
	still(sender, true, "with a password of a mail program")
	if err := l.Account.RevokeToken(ctx, by, send.ID); err != nil {
		t.Fatal(err)
	}
	still(sender, false, "once it was revoked")
	plain, err := l.Account.SignInToSend(ctx, from, kit.Member, kit.Password)
	if err != nil {
		t.Fatal(err)
	}
	still(plain, true, "with the password")
	if err := l.Account.ChangePassword(ctx, by, api.PasswordChange{Current: kit.Password, Password: "another one, quite long"}); err != nil {
		t.Fatal(err)
	}
	still(plain, false, "once it is another")
}

// Where many sources guess at one address, its owner is told once, those from which they
// signed in before go on, and the others wait their turn.
func TestManySourcesGuess(t *testing.T) {
	l := k.Fresh(t, "account_guessed")
	if _, err := signIn(l, kit.Member, ""); err != nil {
		t.Fatal(err)
	}
	for i := range 5 {
		if _, _, err := l.Account.SignIn(ctx, fmt.Sprintf("198.51.100.%d", i), api.SignIn{Address: kit.Member, Password: "guess"}); !workspace.IsKind(err, workspace.SignedOut) {
			t.Fatalf("guess %d: %v", i, err)
		}
	}
	guess := func(source, password string) error {
		_, _, err := l.Account.SignIn(ctx, source, api.SignIn{Address: kit.Member, Password: password})
		return err
	}
	if err := guess("203.0.113.1", "guess"); !workspace.IsKind(err, workspace.SignedOut) {
		t.Errorf("the first turn: %v", err)
	}
	for i := range 20 {
		if err := guess(fmt.Sprintf("203.0.113.%d", i+2), "guess"); !workspace.IsKind(err, workspace.Throttled) {
			t.Fatalf("source %d did not wait its turn: %v", i, err)
		}
	}
	if _, err := signIn(l, kit.Member, ""); err != nil {
		t.Errorf("from where they signed in before: %v", err)
	}
	if err := guess("2001:db8::1", "x"); !workspace.IsKind(err, workspace.Throttled) {
		t.Errorf("an unknown source: %v", err)
	}
	if _, _, err := l.Account.SignIn(ctx, "203.0.113.9", api.SignIn{Address: kit.Owner, Password: kit.Password}); err != nil {
		t.Errorf("somebody else: %v", err)
	}
	letters := l.Letters(t)
	if len(letters) != 1 || letters[0].Subject != "Somebody tries passwords at your account" || letters[0].To[0] != kit.Member {
		t.Errorf("told: %+v", letters)
	}
	l.SQL(t, "UPDATE sign_in_attempts SET last_at = last_at - INTERVAL 1 HOUR")
	if err := l.Account.ForgetExpired(ctx); err != nil {
		t.Fatal(err)
	}
	var n int
	l.SQL(t, "SELECT COUNT(*) FROM sign_in_attempts WHERE source <> ''", &n)
	if n != 0 {
		t.Errorf("%d old failures are kept", n)
	}
}

// One source that tries many addresses is slowed, where nobody of these signed in from it.
func TestOneSourceGuessesAtMany(t *testing.T) {
	l := k.Fresh(t, "account_sprayed")
	if _, err := signIn(l, kit.Member, ""); err != nil {
		t.Fatal(err)
	}
	slowed := 0
	for i := range 60 {
		_, _, err := l.Account.SignIn(ctx, from, api.SignIn{Address: fmt.Sprintf("guess-%d@merrowline.example", i), Password: "guess"})
		if workspace.IsKind(err, workspace.Throttled) {
			slowed++
		}
	}
	if slowed < 5 {
		t.Errorf("%d of 60 guesses had to wait", slowed)
	}
	if _, err := signIn(l, kit.Member, ""); err != nil {
		t.Errorf("a colleague in the same office, who signed in there before: %v", err)
	}
}

// The secret of a second factor that a program made is what it is by RFC 6238, appendix B.
func TestCodesAreThoseOfTheStandard(t *testing.T) {
	secret := base32.StdEncoding.EncodeToString([]byte("12345678901234567890"))
	code, err := totp.GenerateCode(secret, time.Unix(1111111109, 0))
	if err != nil || code != "081804" {
		t.Errorf("%s, %v; want 081804", code, err)
	}
}

// A scope is asked for by every operation.
func TestNoScopeIsNothing(t *testing.T) {
	if err := (workspace.Actor{Scopes: access.Scopes{}}).Cover("read"); err == nil {
		t.Error("a token without scopes reads")
	}
	if err := (workspace.Actor{}).Cover("everything"); err != nil {
		t.Errorf("a session: %v", err)
	}
}

// Guesses at ending a second factor count as those at signing in, and nobody takes their own away by their session alone.
func TestEndingAFactorTakesNoGuesses(t *testing.T) {
	l := k.Fresh(t, "account_end_guess")
	factored(t, l, kit.Administrator)
	by := l.Actor(t, kit.Administrator)
	by.Source = "192.0.2.77"
	if err := l.Account.TakeFactor(ctx, by, kit.Administrator); !workspace.IsKind(err, workspace.Conflict) {
		t.Errorf("their own by the session: %v", err)
	}
	throttled := false
	for range 12 {
		err := l.Account.EndFactor(ctx, by, api.FactorEnd{Password: kit.Password, Code: "000000"})
		throttled = throttled || workspace.IsKind(err, workspace.Throttled)
		if err == nil {
			t.Fatal("a wrong code ended it")
		}
	}
	if !throttled {
		t.Error("twelve wrong codes, and none was refused for its number")
	}
}
