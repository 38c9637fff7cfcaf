package workspace_test

import (
	"slices"
	"strings"
	"sync"
	"testing"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/core/mailaddr"
	"ivytable.example/ivytable/internal/localdb/dbtest"
	kit "ivytable.example/ivytable/internal/testkit"
	"ivytable.example/ivytable/internal/workspace"
)

// life is a workspace of its own, since the time moves in it and a policy applies
// to every group.
func life(t *testing.T, schema string) *kit.Kit {
	t.Helper()
	own, err := dbtest.Schema(k.DSN, "ivytable_"+schema)
	if err != nil {
		t.Fatal(err)
	}
	l, err := kit.New(own)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(l.Store.Close)
	return l
}

var half = api.Expiry{TermDays: 180, Scope: "all", Notices: []int{30, 15, 1}, Caretaker: "caretaker@merrowline.example", TimeZone: "UTC"}

func last[T any](_ T, err error) error { return err }

func run(t *testing.T, l *kit.Kit) map[string][]string {
	t.Helper()
	if err := l.W.RunExpiry(ctx); err != nil {
		t.Fatal(err)
	}
	return l.Queued(t)
}

func TestALife(t *testing.T) {
	l := life(t, "life")
	ines, oda := l.Actor(t, kit.Administrator), l.Actor(t, kit.Owner)
	renewed, lapsed := l.Group(t, "Renewed"), l.Group(t, "Left Alone")
	effect, err := l.W.ExpiryEffect(ctx, ines, half)
	if err != nil || effect.Groups != 2 || effect.Gain != 2 || effect.Says != "Of 2 groups, 2 get a date." || len(effect.Sample) != 2 {
		t.Errorf("effect: %+v, %v", effect, err)
	}
	if _, err := l.W.SetExpiry(ctx, ines, half, 0); err != nil {
		t.Fatal(err)
	}
	if g, _ := l.W.Group(ctx, oda, renewed.Address); *g.Term.DaysLeft != 180 || g.State != "active" {
		t.Errorf("after the policy: %+v, %s", g.Term, g.State)
	}
	if again, _ := l.W.ExpiryEffect(ctx, ines, half); again.Says != "No date of a group changes." {
		t.Errorf("the same policy again: %s", again.Says)
	}

	l.Move(150)
	sent := run(t, l)
	want := "Left Alone expires in 30 days, on 22 May 2027"
	if !slices.Equal(sent[want], []string{kit.Owner}) || len(sent) != 2 {
		t.Errorf("30 days before: %v; want %q", sent, want)
	}
	if sent := run(t, l); len(sent) != 0 {
		t.Errorf("the notices came twice: %v", sent)
	}
	if g, _ := l.W.Group(ctx, oda, lapsed.Address); g.State != "due" {
		t.Errorf("30 days before it is %s", g.State)
	}
	if g, err := l.W.Renew(ctx, oda, renewed.Address); err != nil || *g.Term.DaysLeft != 180 {
		t.Errorf("renewed: %+v, %v", g.Term, err)
	}

	l.Move(29)
	if sent := run(t, l); len(sent) != 1 || sent["Left Alone expires tomorrow, on 22 May 2027"] == nil {
		t.Errorf("a day before, after a long sleep: %v", sent)
	}
	l.Move(1)
	target := kit.Address(t, lapsed.Address)
	if _, err := l.W.Target(ctx, target); err == nil {
		t.Error("its time is over, but it takes mail until somebody looks")
	}
	for what, err := range map[string]error{
		"renewed": last(l.W.Renew(ctx, oda, lapsed.Address)), "retired": last(l.W.Retire(ctx, oda, lapsed.Address, 0)),
		"changed": last(l.W.ChangePolicy(ctx, oda, lapsed.Address, api.PolicyPatch{Hold: "everyone"}, 0)),
		"joined":  last(l.W.AddMembers(ctx, oda, lapsed.Address, api.NewMembers{People: []api.NewPerson{{Address: kit.Colleague}}})),
	} {
		if err == nil {
			t.Errorf("%s after its end, before anybody looked", what)
		} else if kind, _ := kindOf(t, err); kind != workspace.Conflict {
			t.Errorf("%s: %v", what, err)
		}
	}
	if sent := run(t, l); len(sent) != 1 || sent["Left Alone has lapsed and can be restored until 21 Jun 2027"] == nil {
		t.Errorf("lapsed: %v", sent)
	}
	_, err = l.W.Target(ctx, target)
	if kind, says := kindOf(t, err); kind != workspace.Conflict || !strings.Contains(says, "has lapsed and takes no mail") {
		t.Errorf("mail to it: %d, %s", kind, says)
	}
	if p, _ := l.W.Propose(ctx, ines, workspace.Proposing{Name: "", Address: lapsed.Address}); p.Status != "taken" {
		t.Errorf("its address is %s", p.Status)
	}
	if _, err := l.W.Renew(ctx, oda, lapsed.Address); err == nil {
		t.Error("renewed after its end")
	}

	l.Move(29)
	run(t, l)
	back, err := l.W.Restore(ctx, oda, lapsed.Address)
	if err != nil || back.State != "active" || back.Counts != lapsed.Counts || *back.Term.DaysLeft != 180 || back.Sentence != lapsed.Sentence {
		t.Errorf("restored: %+v, %v", back, err)
	}
	if _, err := l.W.Target(ctx, target); err != nil {
		t.Errorf("mail to it after: %v", err)
	}

	if _, err := l.W.Retire(ctx, oda, lapsed.Address, 0); err != nil {
		t.Fatal(err)
	}
	l.Move(30)
	run(t, l)
	if _, err := l.W.Restore(ctx, ines, lapsed.Address); err == nil {
		t.Error("restored after the recovery window")
	} else if kind, _ := kindOf(t, err); kind != workspace.NotFound {
		t.Error(err)
	}
	if p, _ := l.W.Propose(ctx, ines, workspace.Proposing{Name: "", Address: lapsed.Address}); p.Status != "free" {
		t.Errorf("purged, its address is %s", p.Status)
	}
	h, err := l.W.History(ctx, ines, "", "", 50)
	var actions []string
	for _, e := range h.Items {
		if e.Subject == lapsed.Address {
			actions = append(actions, e.Action)
		}
	}
	slices.Reverse(actions)
	if got := strings.Join(actions, " "); err != nil || got != "group.create people.add notice.send notice.send group.lapse group.restore group.retire group.purge" {
		t.Errorf("history: %s, %v", got, err)
	}
}

// Two instances that run at once send each notice once and lapse each group once.
func TestExpiryRunsInSeveralInstances(t *testing.T) {
	l := life(t, "instances")
	for _, name := range []string{"Alpha", "Bravo", "Charlie", "Delta"} {
		l.Group(t, name)
	}
	if _, err := l.W.SetExpiry(ctx, l.Actor(t, kit.Administrator), half, 0); err != nil {
		t.Fatal(err)
	}
	together := func() map[string][]string {
		var all sync.WaitGroup
		for range 3 {
			all.Go(func() {
				if err := l.W.RunExpiry(ctx); err != nil {
					t.Error(err)
				}
			})
		}
		all.Wait()
		return l.Queued(t)
	}
	l.Move(165)
	if sent := together(); len(sent) != 4 || len(sent["Alpha expires in 15 days, on 22 May 2027"]) != 1 {
		t.Errorf("notices: %v", sent)
	}
	l.Move(15)
	if sent := together(); len(sent) != 4 || len(sent["Bravo has lapsed and can be restored until 21 Jun 2027"]) != 1 {
		t.Errorf("lapses: %v", sent)
	}
}

func TestStandingChosenAndCaretaker(t *testing.T) {
	l := life(t, "standing")
	ines := l.Actor(t, kit.Administrator)
	g := l.Group(t, "Standing")
	reason := "Required by law"
	if _, err := l.W.ChangeGroup(ctx, l.Actor(t, kit.Owner), g.Address, api.GroupPatch{Standing: &reason}, 0); err == nil {
		t.Error("an owner exempted a group")
	} else if kind, _ := kindOf(t, err); kind != workspace.NotAllowed {
		t.Error(err)
	}
	if _, err := l.W.SetExpiry(ctx, ines, half, 0); err != nil {
		t.Fatal(err)
	}
	if g, err := l.W.ChangeGroup(ctx, ines, g.Address, api.GroupPatch{Standing: &reason}, 0); err != nil || g.Term.ExpiresAt != nil || g.Term.Standing.By != kit.Administrator {
		t.Errorf("standing: %+v, %v", g.Term, err)
	}
	none := ""
	if g, err := l.W.ChangeGroup(ctx, ines, g.Address, api.GroupPatch{Standing: &none}, 0); err != nil || g.Term.ExpiresAt == nil {
		t.Errorf("no longer standing: %+v, %v", g.Term, err)
	}

	chosen := half
	chosen.Scope = "chosen"
	if _, err := l.W.SetExpiry(ctx, ines, chosen, 2); err != nil {
		t.Fatal(err)
	}
	if now, _ := l.W.Group(ctx, ines, g.Address); now.Term.ExpiresAt != nil {
		t.Error("a group that was not chosen has a date")
	}
	yes := true
	if now, err := l.W.ChangeGroup(ctx, ines, g.Address, api.GroupPatch{Chosen: &yes}, 0); err != nil || now.Term.ExpiresAt == nil {
		t.Errorf("chosen: %+v, %v", now.Term, err)
	}

	record, err := l.Store.GroupByAddress(ctx, g.Address)
	if err != nil {
		t.Fatal(err)
	}
	if err := l.Store.DeleteMemberships(ctx, record.ID, []uuid.UUID{l.Actor(t, kit.Owner).Person.ID}); err != nil {
		t.Fatal(err)
	}
	l.Move(160)
	for subject, to := range run(t, l) {
		if !slices.Equal(to, []string{half.Caretaker}) {
			t.Errorf("%s went to %v", subject, to)
		}
	}
}

func TestSetExpiryRefuses(t *testing.T) {
	l := life(t, "refuses")
	ines := l.Actor(t, kit.Administrator)
	for _, c := range []struct {
		with func(*api.Expiry)
		says string
	}{
		{func(e *api.Expiry) { e.TermDays = 3 }, "term_days: The term can't be 3 days: choose 7 to 3650, or 0 for no expiry."},
		{func(e *api.Expiry) { e.Scope = "some" }, `scope: The scope can't be "some"`},
		{func(e *api.Expiry) { e.Notices = []int{1, 30} }, "notices: The notice days [1 30]"},
		{func(e *api.Expiry) { e.Notices = []int{200} }, "notices: A notice can't come 200 days before"},
		{func(e *api.Expiry) { e.Caretaker = "desk" }, "caretaker: There is no @"},
		{func(e *api.Expiry) { e.TimeZone = "Tidal/Middle" }, `time_zone: There is no time zone "Tidal/Middle"`},
	} {
		e := half
		c.with(&e)
		_, err := l.W.SetExpiry(ctx, ines, e, 0)
		if err == nil {
			t.Errorf("%+v was taken", e)
			continue
		}
		if kind, says := kindOf(t, err); kind != workspace.Invalid || !strings.Contains(says, c.says) {
			t.Errorf("%d, %q; want %q", kind, says, c.says)
		}
	}
	if _, err := l.W.SetExpiry(ctx, ines, half, 7); err == nil {
		t.Error("a version that is not there was taken")
	}
}

// Of two who put the first rule in force at once, each having read that there is
// none, one wins and the other is told.
func TestTheFirstRuleIsOnes(t *testing.T) {
	l := life(t, "first_rule")
	ines := l.Actor(t, kit.Administrator)
	read, err := l.W.Expiry(ctx, ines)
	if err != nil || read.Version != 1 || read.TermDays != 0 {
		t.Fatalf("before: %+v, %v", read, err)
	}
	errs := make([]error, 2)
	var all sync.WaitGroup
	for i := range errs {
		all.Go(func() { _, errs[i] = l.W.SetExpiry(ctx, ines, half, read.Version) })
	}
	all.Wait()
	if (errs[0] == nil) == (errs[1] == nil) {
		t.Fatalf("%v; %v", errs[0], errs[1])
	}
	for _, err := range errs {
		if err != nil {
			if kind, _ := kindOf(t, err); kind != workspace.Stale {
				t.Error(err)
			}
		}
	}
	if now, err := l.W.Expiry(ctx, ines); err != nil || now.Version != 2 || now.TermDays != 180 {
		t.Errorf("after: %+v, %v", now, err)
	}
}

func TestForecast(t *testing.T) {
	l := life(t, "forecast")
	ines := l.Actor(t, kit.Administrator)
	l.Group(t, "First")
	if _, err := l.W.SetExpiry(ctx, ines, api.Expiry{TermDays: 40, Scope: "all", Notices: []int{7}, TimeZone: "UTC"}, 0); err != nil {
		t.Fatal(err)
	}
	l.Move(3)
	l.Group(t, "Second")
	weeks, err := l.W.Forecast(ctx, ines, 8)
	got := make([]int, 0, 8)
	for _, w := range weeks {
		got = append(got, w.Groups)
	}
	if err != nil || !slices.Equal(got, []int{0, 0, 0, 0, 0, 2, 0, 0}) {
		t.Errorf("%v, %v; one after 37 days, one after 40", got, err)
	}
}

func TestAddressProposals(t *testing.T) {
	k.Group(t, "Harbour Watch")
	ines := k.Actor(t, kit.Administrator)
	for _, c := range [][4]string{
		{"Slip & Way Crew", "", "free", "slip-way-crew@merrowline.example"},
		{"Harbour Watch", "", "taken", "harbour-watch@merrowline.example"},
		{"", "harbour.watch", "alike", "harbour.watch@merrowline.example"},
		{"", "harbourwatch", "free", "harbourwatch@merrowline.example"},
		{"Abuse", "", "reserved", "abuse@merrowline.example"},
		{"夜", "", "invalid", ""},
	} {
		p, err := k.W.Propose(ctx, ines, workspace.Proposing{Name: c[0], Address: c[1]})
		if err != nil || p.Status != c[2] || p.Address != c[3] || p.Says == "" {
			t.Errorf("%q %q: %+v, %v; want %s %s", c[0], c[1], p, err, c[2], c[3])
		}
	}
	p, _ := k.W.Propose(ctx, ines, workspace.Proposing{Name: "", Address: "harbourwatch"})
	if len(p.Near) != 1 || p.Near[0].How != "resembling" || !strings.Contains(p.Says, "resembles") {
		t.Errorf("near harbourwatch: %+v", p)
	}
	if _, err := mailaddr.Parse(p.Address); err != nil {
		t.Error(err)
	}
}

func TestSignIn(t *testing.T) {
	l := life(t, "sign_in")
	if _, _, err := l.W.SignIn(ctx, strings.ToUpper(kit.Member), kit.Password); err != nil {
		t.Fatal(err)
	}
	for _, c := range [][2]string{{kit.Member, "wrong"}, {"nobody@merrowline.example", kit.Password}, {"no address", "x"}, {kit.Left, kit.Password}, {kit.Member, ""}} {
		_, _, err := l.W.SignIn(ctx, c[0], c[1])
		if kind, says := kindOf(t, err); kind != workspace.SignedOut || says != "The address or the password is wrong." {
			t.Errorf("%v: %d, %s", c, kind, says)
		}
	}
	for range 10 {
		_, _, _ = l.W.SignIn(ctx, kit.Colleague, "wrong")
	}
	_, _, err := l.W.SignIn(ctx, kit.Colleague, kit.Password)
	if kind, says := kindOf(t, err); kind != workspace.Throttled || !strings.Contains(says, "Try again in 15 minutes") {
		t.Errorf("after ten wrong ones: %d, %s", kind, says)
	}
	if _, _, err := l.W.SignIn(ctx, kit.Owner, kit.Password); err != nil {
		t.Errorf("somebody else meanwhile: %v", err)
	}
}

func TestCredentialsEnd(t *testing.T) {
	a, secret, err := k.W.SignIn(ctx, kit.Member, kit.Password)
	if err != nil {
		t.Fatal(err)
	}
	if got, err := k.W.Authenticate(ctx, "session", secret); err != nil || got.Person.Address != kit.Member {
		t.Errorf("%+v, %v", got, err)
	}
	if _, err := k.W.Authenticate(ctx, "token", secret); err == nil {
		t.Error("a session served as a token")
	}
	token, err := k.W.CreateToken(ctx, a, api.NewToken{Name: "nightly"})
	if err != nil {
		t.Fatal(err)
	}
	if err := k.W.RevokeToken(ctx, k.Actor(t, kit.Owner), token.ID); err == nil {
		t.Error("somebody else revoked a token")
	}
	if err := k.W.RevokeToken(ctx, a, token.ID); err != nil {
		t.Error(err)
	}
	if _, err := k.W.Authenticate(ctx, "token", token.Secret); err == nil {
		t.Error("a revoked token opens")
	}
	if err := k.W.SignOut(ctx, a); err != nil {
		t.Fatal(err)
	}
	if _, err := k.W.Authenticate(ctx, "session", secret); err == nil {
		t.Error("a session that was signed out of opens")
	}
}
