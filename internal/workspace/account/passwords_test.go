package account_test

import (
	"crypto/sha256"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	kit "ivytable.example/ivytable/internal/testkit"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/store"
	"ivytable.example/ivytable/internal/workspace"
)

var linkInLetter = regexp.MustCompile(`http://console\.example/password/([\w-]+)`)

// links returns the secrets of the links to choose a password that were mailed, by
// address.
func links(t *testing.T, l *kit.Kit) map[string][]string {
	t.Helper()
	out := map[string][]string{}
	for _, x := range l.Letters(t) {
		if found := linkInLetter.FindStringSubmatch(x.Text); found != nil {
			out[x.To[0]] = append(out[x.To[0]], found[1])
		}
	}
	return out
}

const chosen = "four words on a quay"

func TestSomebodyNewChoosesAPassword(t *testing.T) {
	l, ines := k.Hands(t, "choose")
	const who = "liv.strand@merrowline.example"
	made, err := l.Directory.Create(ctx, ines, api.NewPersonEntry{Address: who, Name: "Liv Strand", Attributes: map[string]string{"preferredLanguage": "de-AT"}, PasswordLink: true})
	if err != nil || made.SignsIn {
		t.Fatalf("%+v, %v", made, err)
	}
	letters := l.Letters(t)
	if len(letters) != 1 || letters[0].To[0] != who || letters[0].Subject != "Wählen Sie Ihr Passwort für die E-Mail-Gruppen" || !strings.Contains(letters[0].Text, "Ines Skerry hat Ihnen") {
		t.Fatalf("%+v", letters)
	}
	secret := linkInLetter.FindStringSubmatch(letters[0].Text)[1]
	if _, err := l.Account.Authenticate(ctx, store.SessionCredential, secret); err == nil {
		t.Error("the link itself signs in")
	}
	for range 2 { // looking at it changes nothing
		if p, err := l.Account.Link(ctx, secret); err != nil || p.Address != who || p.Name != "Liv Strand" {
			t.Fatalf("%+v, %v", p, err)
		}
	}
	for password, want := range map[string]string{"short": "has 5 characters", "": "has 0 characters", strings.Repeat("x", 201): "200 is the most", "Liv Strand": "your name or address",
		"liv.strand2026": "your name or address", who: "your name or address", "bad\xffutf-8 here": "UTF-8"} {
		if _, says := kit.KindOf(t, l.Account.Choose(ctx, workspace.Actor{}, secret, password)); !strings.Contains(says, want) {
			t.Errorf("%q: %s", password, says)
		}
	}
	if err := l.Account.Choose(ctx, workspace.Actor{}, secret, chosen); err != nil {
		t.Fatal(err)
	}
	if _, err := l.Account.SignInToSend(ctx, "192.0.2.1", who, chosen); err != nil {
		t.Errorf("the password that was chosen: %v", err)
	}
	if kind, _ := kit.KindOf(t, l.Account.Choose(ctx, workspace.Actor{}, secret, chosen+"s")); kind != workspace.NotFound {
		t.Error("a link was used twice")
	}
	if p, _ := l.People.Read(ctx, ines, who); !p.SignsIn {
		t.Error("an administrator does not see that there is a password")
	}
	if p, _ := l.People.Read(ctx, l.Actor(t, kit.Member), who); p.SignsIn {
		t.Error("a member sees that there is a password")
	}
	h, err := l.History.OfPerson(ctx, ines, who, "", 5)
	if err != nil || h.Items[0].Kind != "person.password" || h.Items[0].Via != "link" || strings.Contains(fmt.Sprint(h.Items), chosen) {
		t.Errorf("%+v, %v", h.Items, err)
	}
}

func TestAForgottenPassword(t *testing.T) {
	l, ines := k.Hands(t, "forgotten")
	if _, err := l.Member.Add(ctx, ines, l.Make(t, "With an outsider", func(n *api.NewGroup) { n.Externals = "owners" }).Address,
		api.NewMembers{People: []api.NewPerson{{Address: "pilot@port.example"}}, Quiet: true}, 0); err != nil {
		t.Fatal(err)
	}
	l.Queued(t)
	for _, who := range []string{"nobody@merrowline.example", "pilot@port.example", kit.Left, "crowd-0@merrowline.example"} {
		if err := l.Account.AskLink(ctx, who); err != nil {
			t.Errorf("the answer about %s differs: %v", who, err)
		}
	}
	if mailed := links(t, l); len(mailed) != 0 {
		t.Errorf("links went to %v", mailed)
	}
	if kind, _ := kit.KindOf(t, l.Account.AskLink(ctx, "no address")); kind != workspace.Invalid {
		t.Error("what is no address is taken")
	}
	for range 5 {
		if err := l.Account.AskLink(ctx, strings.ToUpper(kit.Member)); err != nil {
			t.Fatal(err)
		}
	}
	mailed := links(t, l)[kit.Member]
	if len(mailed) != 3 {
		t.Fatalf("%d links were mailed for five wishes", len(mailed))
	}
	_, session, err := l.Account.SignIn(ctx, "192.0.2.1", api.SignIn{Address: kit.Member, Password: kit.Password})
	if err != nil {
		t.Fatal(err)
	}
	for range 8 {
		_, _, _ = l.Account.SignIn(ctx, "192.0.2.1", api.SignIn{Address: kit.Member, Password: "wrong again and again"})
	}
	if kind, _ := kit.KindOf(t, kit.Last(l.Account.SignInToSend(ctx, "192.0.2.1", kit.Member, kit.Password))); kind != workspace.Throttled {
		t.Error("wrong passwords are not counted")
	}
	var all sync.WaitGroup
	errs := make([]error, 3)
	for i := range errs {
		all.Go(func() {
			errs[i] = l.Account.Choose(ctx, workspace.Actor{}, mailed[i%2], fmt.Sprintf("%s %d", chosen, i))
		})
	}
	all.Wait()
	won := slices.IndexFunc(errs, func(err error) bool { return err == nil })
	for i, err := range errs {
		if i != won && (won < 0 || err == nil) {
			t.Fatalf("three at once: %v", errs)
		}
	}
	if _, err := l.Account.SignInToSend(ctx, "192.0.2.1", kit.Member, fmt.Sprintf("%s %d", chosen, won)); err != nil {
		t.Errorf("the password of who won: %v", err)
	}
	if _, err := l.Account.Authenticate(ctx, store.SessionCredential, session); err == nil {
		t.Error("whoever was signed in before still is")
	}
	if kind, _ := kit.KindOf(t, kit.Last(l.Account.Link(ctx, mailed[2]))); kind != workspace.NotFound {
		t.Error("an older link still works")
	}
}

func TestALinkOfWhoHasLeft(t *testing.T) {
	l, ines := k.Hands(t, "leftlink")
	if err := l.Account.SendLink(ctx, ines, kit.Member); err != nil {
		t.Fatal(err)
	}
	secret := links(t, l)[kit.Member][0]
	if _, err := l.Directory.Depart(ctx, ines, kit.Member, api.Departure{}, 0); err != nil {
		t.Fatal(err)
	}
	if kind, _ := kit.KindOf(t, l.Account.Choose(ctx, workspace.Actor{}, secret, chosen)); kind != workspace.NotFound {
		t.Error("who has left chooses a password")
	}
	if kind, says := kit.KindOf(t, l.Account.SendLink(ctx, ines, kit.Member)); kind != workspace.Conflict || !strings.Contains(says, "who are here") {
		t.Errorf("%v %s", kind, says)
	}
	if kind, _ := kit.KindOf(t, l.Account.SendLink(ctx, ines, "nobody@merrowline.example")); kind != workspace.NotFound {
		t.Error("a link to nobody")
	}
}

func TestOnesOwnPassword(t *testing.T) {
	l, _ := k.Hands(t, "ownpassword")
	here, _, err := l.Account.SignIn(ctx, "192.0.2.1", api.SignIn{Address: kit.Member, Password: kit.Password})
	if err != nil {
		t.Fatal(err)
	}
	_, elsewhere, err := l.Account.SignIn(ctx, "192.0.2.1", api.SignIn{Address: kit.Member, Password: kit.Password})
	if err != nil {
		t.Fatal(err)
	}
	token, err := l.Account.CreateToken(ctx, here, api.NewToken{Name: "script"})
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		change api.PasswordChange
		field  string
	}{{api.PasswordChange{Current: "not it at all", Password: chosen}, "current"}, {api.PasswordChange{Current: kit.Password, Password: "short"}, "password"}} {
		if kind, says := kit.KindOf(t, l.Account.ChangePassword(ctx, here, c.change)); kind != workspace.Invalid || !strings.Contains(says, c.field+":") {
			t.Errorf("%v %s", kind, says)
		}
	}
	if err := l.Account.ChangePassword(ctx, here, api.PasswordChange{Current: kit.Password, Password: chosen}); err != nil {
		t.Fatal(err)
	}
	if _, err := l.Account.SignInToSend(ctx, "192.0.2.1", kit.Member, kit.Password); err == nil {
		t.Error("the old password is still good")
	}
	if _, err := l.Account.SignInToSend(ctx, "192.0.2.1", kit.Member, chosen); err != nil {
		t.Error(err)
	}
	if _, err := l.Account.Authenticate(ctx, store.SessionCredential, elsewhere); err == nil {
		t.Error("another session goes on")
	}
	if _, err := l.Account.Authenticate(ctx, store.TokenCredential, token.Secret); err == nil {
		t.Error("a token goes on, though nobody said so")
	}
	if token, err = l.Account.CreateToken(ctx, here, api.NewToken{Name: "script"}); err != nil {
		t.Fatal(err)
	}
	if err := l.Account.ChangePassword(ctx, here, api.PasswordChange{Current: chosen, Password: chosen + " again", KeepTokens: true}); err != nil {
		t.Fatal(err)
	}
	if _, err := l.Account.Authenticate(ctx, store.TokenCredential, token.Secret); err != nil {
		t.Errorf("a token that was to be kept ended: %v", err)
	}
}

func TestAnImportMailsLinks(t *testing.T) {
	l, ines := k.Hands(t, "importlinks")
	file := "mail,name\nfresh-1@merrowline.example,Fresh One\nfresh-2@merrowline.example,Fresh Two\nhand-0@merrowline.example,Hand Nil\n"
	for _, links := range []bool{false, true} {
		kit.Preview(t, ines, func(by workspace.Actor) error {
			return kit.Last(l.Directory.Import(ctx, by, api.Import{Text: file, Links: links}))
		})
	}
	if mailed := links(t, l); len(mailed) != 0 {
		t.Errorf("a look at it mailed %v", mailed)
	}
	if _, err := l.Directory.Import(ctx, ines, api.Import{Text: file, Links: true}); err != nil {
		t.Fatal(err)
	}
	mailed := links(t, l)
	if len(mailed) != 2 || len(mailed["fresh-1@merrowline.example"]) != 1 || mailed["fresh-1@merrowline.example"][0] == mailed["fresh-2@merrowline.example"][0] {
		t.Errorf("%v", mailed)
	}
}

// Who leaves keeps nothing that opens a door, also for the day of their return.
func TestDepartureEndsCredentials(t *testing.T) {
	l, ines := k.Hands(t, "departure_ends")
	petra := l.Actor(t, kit.Colleague)
	_, session, err := l.Account.SignIn(ctx, "192.0.2.1", api.SignIn{Address: kit.Colleague, Password: kit.Password})
	if err != nil {
		t.Fatal(err)
	}
	token, err := l.Account.CreateToken(ctx, petra, api.NewToken{Name: "script"})
	if err != nil {
		t.Fatal(err)
	}
	if err := l.Account.SendLink(ctx, ines, kit.Colleague); err != nil {
		t.Fatal(err)
	}
	link := links(t, l)[kit.Colleague][0]
	kept := func() (kept []string) {
		for kind, secret := range map[string]string{"session": session, "token": token.Secret, "link": link} {
			sum := sha256.Sum256([]byte(secret))
			if _, _, err := l.Read().CredentialByHash(sum[:]); err == nil {
				kept = append(kept, kind)
			} else if !errors.Is(err, store.ErrNotFound) {
				t.Fatal(err)
			}
		}
		return kept
	}
	if got := kept(); len(got) != 3 {
		t.Fatalf("there are %v", got)
	}
	if _, err := l.Directory.Depart(ctx, ines, kit.Colleague, api.Departure{}, 0); err != nil {
		t.Fatal(err)
	}
	if got := kept(); len(got) > 0 {
		t.Errorf("after the departure there are %v", got)
	}
	if _, err := l.Account.CreateToken(ctx, petra, api.NewToken{Name: "as they left"}); !workspace.IsKind(err, workspace.SignedOut) { // their request was under way
		t.Errorf("a token was made as they left: %v", err)
	}
	secret := "a session that was made as they left"
	sum := sha256.Sum256([]byte(secret))
	l.Write(t, func(tx *store.Tx) error {
		return tx.AddCredential(store.Credential{ID: store.NewID(), Kind: store.SessionCredential, Hash: sum[:], PersonID: petra.Person.ID, CreatedAt: time.Now(), ExpiresAt: time.Now().Add(time.Hour)})
	})
	if _, err := l.Directory.Return(ctx, ines, kit.Colleague, 0); err != nil {
		t.Fatal(err)
	}
	if _, err := l.Account.Authenticate(ctx, store.SessionCredential, secret); err == nil {
		t.Error("a session that was made as they left is good when they return")
	}
	if _, err := l.Account.SignInToSend(ctx, "192.0.2.1", kit.Colleague, kit.Password); err == nil {
		t.Error("the password of before is good when they return")
	}
}
