package e2e

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/emersion/go-sasl"
	"github.com/emersion/go-smtp"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/client"
	"ivytable.example/ivytable/internal/core/mailaddr"
	"ivytable.example/ivytable/internal/core/policy"
	"ivytable.example/ivytable/internal/demo"
)

// anyPolicy is a random policy that can be saved, as a patch.
func anyPolicy(r *rand.Rand) api.PolicyPatch {
	for {
		p := policy.Default()
		for _, d := range policy.Describe() {
			if err := p.Set(d.Name, d.Choices[r.IntN(len(d.Choices))].Name); err != nil {
				panic(err)
			}
		}
		if len(p.Check()) > 0 {
			continue
		}
		var out api.PolicyPatch
		for _, d := range policy.Describe() {
			out.Set(d.Name, p.Get(d.Name))
		}
		return out
	}
}

// did says what came of a request: allow, or refuse where the rules said so.
func did(t *testing.T, err error) string {
	t.Helper()
	var no *client.Error
	switch {
	case err == nil, errors.Is(err, client.ErrLooked):
		return "allow"
	case errors.As(err, &no) && no.Status >= 400 && no.Status < 500:
		return "refuse"
	}
	t.Fatal(err)
	return ""
}

// What a rehearsal says over HTTP is what HTTP and SMTP then do, for random policies, people in every role and
// none, strangers and invented authors, proven or not.
func TestRehearsalsHoldOverTheWire(t *testing.T) {
	t.Parallel()
	p := newPlace(t)
	start(t, p.env(), "demo")
	const moderator, colleague, stranger, invented = "bram.tolley@merrowline.example", "petra.vane@merrowline.example", "stranger@elsewhere.example", "invented@merrowline.example"
	people := []string{demo.Administrator, demo.Auditor, demo.Owner, moderator, demo.Member, colleague}
	as := map[string]*client.Client{}
	for _, who := range people {
		as[who] = p.api(who)
	}
	ines := as[demo.Administrator]
	if _, err := ines.SetCeilings(ctx, api.NewCeilings{Ceilings: []api.NewCeiling{}}); err != nil { // any policy can be chosen
		t.Fatal(err)
	}
	mail := lines{p, map[string]*smtp.Client{}}
	defer func() {
		for _, c := range mail.open {
			c.Close()
		}
	}()
	r := rand.New(rand.NewPCG(11, 26))
	cases, outcomes := 0, map[string]int{}
	for i := range 36 {
		g, err := ines.CreateGroup(ctx, api.NewGroup{Name: fmt.Sprintf("Wire %d", i), Owners: []string{demo.Owner, "hale.corran@merrowline.example"}, Quiet: true, PolicyPatch: anyPolicy(r),
			People: []api.NewPerson{{Address: moderator, Role: "moderator"}, {Address: demo.Member}}})
		if err != nil {
			t.Fatal(err)
		}
		if who := []string{moderator, demo.Member, colleague, stranger}[r.IntN(4)]; who != moderator {
			if err := ines.SetOverride(ctx, g.Address, who, api.NewOverride{Override: []string{"barred", "trusted", "held"}[r.IntN(3)]}); err != nil {
				t.Fatal(err)
			}
		}
		check := func(action, who string, proven bool, got string) {
			t.Helper()
			said, err := ines.Rehearse(ctx, api.Rehearsal{Action: action, Group: g.Address, As: who, Proven: &proven})
			if err != nil {
				t.Fatal(err)
			}
			if cases++; said.Outcome != got {
				t.Errorf("%s: %s by %s, proven %v: %s, rehearsed %s by %s (%+v)", g.Address, action, who, proven, got, said.Outcome, said.Rule, g.Policy)
			}
			outcomes[got]++
		}
		for _, who := range people {
			c := as[who]
			looking := c.Looking(&api.Preview{})
			_, err := c.Group(ctx, g.Address)
			check("find", who, true, did(t, err))
			_, err = c.Members(ctx, g.Address, client.MemberList{})
			check("see_people", who, true, did(t, err))
			_, err = looking.AddMembers(ctx, g.Address, api.NewMembers{People: []api.NewPerson{{Address: "tamsin.brack@merrowline.example"}}})
			check("add_people", who, true, did(t, err))
			var asks api.Preview
			_, err = c.Looking(&asks).Join(ctx, g.Address, api.JoinRequest{})
			check("join", who, true, asked(did(t, err), asks))
			_, err = c.Looking(&asks).Leave(ctx, g.Address, api.JoinRequest{})
			check("leave", who, true, asked(did(t, err), asks))
		}
		for _, action := range []string{"post", "write_owners"} {
			to := g.Address
			if action == "write_owners" {
				to = strings.Replace(to, "@", mailaddr.OwnersSuffix+"@", 1)
			}
			for _, who := range append([]string{stranger, invented}, people...) {
				for _, proven := range []bool{true, false} {
					if proven && as[who] == nil {
						continue // nobody can sign in as them
					}
					check(action, who, proven, mail.writes(ines, g.Address, to, who, proven))
				}
			}
		}
	}
	t.Logf("%d cases: %v", cases, outcomes)
	if cases < 2000 || outcomes["allow"] < 200 || outcomes["hold"] < 100 || outcomes["refuse"] < 200 {
		t.Error("too few to say anything")
	}
}

// asked tells what was let through from what owners are asked for.
func asked(got string, p api.Preview) string {
	if got == "allow" && strings.Contains(p.Says, "have been asked") {
		return "hold"
	}
	if len(p.Problems) > 0 {
		return "refuse"
	}
	return got
}

// lines are connections by which messages are sent, one for each person who signed in, and one of nobody.
type lines struct {
	p    *place
	open map[string]*smtp.Client
}

// line returns the connection of somebody, "" for nobody; one that the service has closed is opened again.
func (l lines) line(who string) *smtp.Client {
	l.p.t.Helper()
	if c := l.open[who]; c != nil {
		if c.Reset() == nil {
			return c
		}
		c.Close()
	}
	c, err := smtp.Dial(l.p.smtp)
	if err != nil {
		l.p.t.Fatal(err)
	}
	if who != "" {
		if err := c.Auth(sasl.NewPlainClient("", who, l.p.password)); err != nil {
			l.p.t.Fatal(err)
		}
	}
	l.open[who] = c
	return c
}

// writes sends a message by SMTP, signed in where it is proven who wrote it, and says what became of it.
func (l lines) writes(ines *client.Client, group, to, who string, proven bool) string {
	t := l.p.t
	t.Helper()
	waits := func() int64 {
		w, err := ines.Waiting(ctx, group, []string{"post"}, client.Paging{Limit: 1})
		if err != nil {
			t.Fatal(err)
		}
		return w.Total
	}
	before, as := waits(), ""
	if proven {
		as = who
	}
	err := l.line(as).SendMail(who, []string{to}, strings.NewReader("From: "+who+"\r\nSubject: wire\r\n\r\nHello.\r\n"))
	var no *smtp.SMTPError
	switch {
	case errors.As(err, &no) && no.Code >= 500:
		return "refuse"
	case err != nil:
		t.Fatal(err)
	case waits() > before:
		return "hold"
	}
	return "allow"
}
