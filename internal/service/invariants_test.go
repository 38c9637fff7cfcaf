package service_test

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"reflect"
	"slices"
	"strings"
	"sync"
	"testing"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/service"
	"ivytable.example/ivytable/internal/store"
	kit "ivytable.example/ivytable/internal/testkit"
	"ivytable.example/ivytable/internal/workspace"
	"ivytable.example/ivytable/internal/workspace/group"
	"ivytable.example/ivytable/internal/workspace/member"
	"ivytable.example/ivytable/internal/workspace/people"
	"ivytable.example/ivytable/internal/workspace/review"
)

// agrees checks that what is counted is what is there: the counts in each group's
// row against its members, one way or another listed, and an owner in each.
func agrees(t *testing.T, l *kit.Kit, ines workspace.Actor) {
	t.Helper()
	page, err := l.Group.List(ctx, ines, group.Query{Limit: 200})
	if err != nil {
		t.Fatal(err)
	}
	l.Agrees(t)
	for _, g := range page.Items {
		var c api.Counts
		seen := map[string]bool{}
		for cursor := ""; ; {
			m, err := l.Members(ines, g.Address, member.Query{Limit: 50, Cursor: cursor})
			if err != nil {
				t.Fatal(err)
			}
			for _, x := range m.Items {
				if seen[x.ID] {
					t.Errorf("%s has %s twice", g.Name, x.Address)
				}
				seen[x.ID] = true
				switch {
				case x.Kind == "group":
					c.Nested++
				case !x.Active:
					c.Departed++
				case x.Role == "owner":
					c.Owners++
				case x.Role == "moderator":
					c.Moderators++
				default:
					c.Members++
				}
				if x.External {
					c.External++
				}
			}
			if cursor = m.Next; cursor == "" {
				break
			}
		}
		c.People, c.More = g.Counts.People, g.Counts.More // below
		if c != g.Counts {
			t.Errorf("%s counts %+v, but has %+v", g.Name, g.Counts, c)
		}
		if c.Owners == 0 {
			t.Errorf("%s has lost its owners", g.Name)
		}
		if e, err := l.Member.EffectiveMembers(ctx, ines, g.Address, "", "", 1); err != nil || int(e.Total) != g.Counts.People {
			t.Errorf("%s is said to reach %d, and reaches %d, %v", g.Name, g.Counts.People, e.Total, err)
		}
		if n, err := l.Member.Nesting(ctx, ines, g.Address); err != nil || n.Depth > n.Deepest {
			t.Errorf("%s is %d deep, %v", g.Name, n.Depth, err)
		}
	}
}

// cachesWell checks that the lists of a workspace that has been asked before are those
// of one that is started now on the same tables, for everybody who asks.
func cachesWell(t *testing.T, l *kit.Kit, askers []string) {
	t.Helper()
	s, err := store.Open(ctx, l.DSN)
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	started, err := service.New(ctx, s, workspace.Options{Now: l.Now, PublicURL: "http://console.example"})
	if err != nil {
		t.Fatal(err)
	}
	same := func(what string, list func(*service.Service) (any, error)) {
		t.Helper()
		want, err := list(started)
		got, err2 := list(l.Service)
		if err != nil || err2 != nil || !reflect.DeepEqual(got, want) {
			t.Errorf("%s is cached as\n%+v, %v\nbut is\n%+v, %v", what, got, err2, want, err)
		}
	}
	for _, who := range askers {
		as := l.Actor(t, who)
		if !as.Person.Active {
			continue // has left, and lists nothing
		}
		for _, scope := range []string{"", "mine", "owned", "joinable"} {
			same("the groups of "+who+" "+scope, func(s *service.Service) (any, error) {
				return s.Group.List(ctx, as, group.Query{Scope: scope, Sort: "-people", Limit: 5})
			})
		}
	}
	ines := l.Actor(t, kit.Administrator)
	same("the directory", func(s *service.Service) (any, error) {
		return s.People.List(ctx, ines, people.Query{Limit: 5})
	})
	page, err := l.Group.List(ctx, ines, group.Query{Limit: 200})
	if err != nil {
		t.Fatal(err)
	}
	for _, g := range page.Items {
		same("who is in "+g.Name, func(s *service.Service) (any, error) {
			page, _, err := s.Member.List(ctx, ines, g.Address, member.Query{Limit: 5})
			return page, err
		})
	}
}

// crowd is a workspace with people, groups and a way to do something at random.
type crowd struct {
	*kit.Kit
	ines   workspace.Actor
	people []string
	groups []string
}

func newCrowd(t *testing.T, schema string) *crowd {
	l := k.Fresh(t, schema)
	c := &crowd{Kit: l, ines: l.Actor(t, kit.Administrator), people: []string{kit.Owner, kit.Moderator, kit.Member, kit.Colleague, kit.Auditor}}
	for i := range 15 {
		address := fmt.Sprintf("hand-%02d@merrowline.example", i)
		if _, err := l.Directory.Create(ctx, c.ines, api.NewPersonEntry{Address: address, Name: fmt.Sprintf("Hand %d", i), Attributes: map[string]string{"department": "Deck"}}); err != nil {
			t.Fatal(err)
		}
		c.people = append(c.people, address)
	}
	for i := range 6 {
		g := l.Make(t, fmt.Sprintf("Crowd %d", i), func(n *api.NewGroup) {
			n.Externals, n.Join = "owners", &api.JoinPatch{How: []string{"freely", "asking"}[i%2]}
			n.Leave = []string{"free", "asking", "fixed"}[i%3]
		})
		c.groups = append(c.groups, g.Address)
	}
	if _, err := l.Rules.Set(ctx, c.ines, c.groups[0], api.NewRule{Expression: `department eq "Deck"`, Confirm: true}, 0); err != nil {
		t.Fatal(err)
	}
	return c
}

// step does one thing at random. What people can be told not to do is no failure;
// anything else is.
func (c *crowd) step(t *testing.T, r *rand.Rand) {
	group, who := c.groups[r.IntN(len(c.groups))], c.people[r.IntN(len(c.people))]
	role := []string{"member", "moderator", "owner"}[r.IntN(3)]
	as := workspace.Actor{}
	if p, err := c.Read().PersonByKey(who); err == nil {
		as = workspace.Actor{Person: p, Via: "api"}
	}
	outside := fmt.Sprintf("pilot-%d@port.example", r.IntN(4))
	var err error
	switch r.IntN(13) {
	case 0:
		_, err = c.Member.Add(ctx, c.ines, group, api.NewMembers{People: []api.NewPerson{{Address: who, Role: role}, {Address: outside}}}, 0)
	case 1:
		_, err = c.Member.Add(ctx, c.ines, group, api.NewMembers{People: []api.NewPerson{{Address: c.groups[r.IntN(len(c.groups))]}}}, 0)
	case 2:
		_, err = c.Member.Change(ctx, c.ines, group, api.MembersPatch{Members: []string{who, c.people[r.IntN(len(c.people))], outside}, Role: role}, 0)
	case 3:
		_, err = c.Member.Change(ctx, c.ines, group, api.MembersPatch{Members: []string{who, outside, kit.Owner}, Remove: true}, 0)
	case 4:
		_, err = c.Joining.Join(ctx, as, group, api.JoinRequest{})
	case 5:
		_, err = c.Joining.Leave(ctx, as, group, api.JoinRequest{})
	case 6:
		var p api.Page[api.Request]
		if p, err = c.Joining.Requests(ctx, c.ines, "", false, "", 5); err == nil && len(p.Items) > 0 {
			var ids []string
			for _, x := range p.Items {
				ids = append(ids, x.ID)
			}
			_, err = c.Joining.Decide(ctx, c.ines, api.Decisions{IDs: ids, Verdict: []string{"approve", "decline"}[r.IntN(2)]})
		}
	case 7:
		err = c.Rules.SetOverride(ctx, c.ines, group, who, api.NewOverride{Override: []string{"barred", "none", "held"}[r.IntN(3)]}, 0)
	case 8:
		_, err = c.Directory.Change(ctx, c.ines, who, api.PersonPatch{Attributes: map[string]string{"department": []string{"Deck", "Engine", ""}[r.IntN(3)]}}, 0)
	case 9:
		if who != kit.Owner {
			_, err = c.Directory.Depart(ctx, c.ines, who, api.Departure{Successor: kit.Owner}, 0)
		}
	case 10:
		_, err = c.Directory.Return(ctx, c.ines, who, 0)
	case 11:
		_, err = c.Member.Add(ctx, c.ines, group, api.NewMembers{List: &api.PeopleList{Of: c.groups[r.IntN(len(c.groups))]}}, 0)
	case 12:
		address := strings.Replace(group, "@", fmt.Sprintf("-%d@", r.IntN(3)), 1)
		_, err = c.Group.Change(ctx, c.ines, group, api.GroupPatch{Address: &address}, 0)
		if err == nil {
			_, err = c.Group.Change(ctx, c.ines, address, api.GroupPatch{Address: &group}, 0)
		}
	}
	if e := new(workspace.Error); err != nil && !errors.As(err, &e) {
		t.Errorf("%v", err)
	}
}

// followsRules checks that those are in by rule whom the rule takes, who are not barred and
// not in by hand.
func (c *crowd) followsRules(t *testing.T) {
	t.Helper()
	in := map[string]bool{}
	m, err := c.Members(c.ines, c.groups[0], member.Query{Limit: 200})
	if err != nil {
		t.Fatal(err)
	}
	for _, x := range m.Items {
		in[x.Address] = x.ByRule
	}
	barred := map[string]bool{}
	s, err := c.Member.Overrides(ctx, c.ines, c.groups[0], "", 100)
	if err != nil {
		t.Fatal(err)
	}
	for _, x := range s.Items {
		barred[x.Address] = x.Override == "barred"
	}
	for _, who := range append(slices.Clone(c.people), kit.Administrator, kit.Left) {
		p, err := c.Read().PersonByKey(who)
		if err != nil {
			t.Fatal(err)
		}
		byRule, is := in[who]
		matches := p.Active && strings.Contains(string(p.Attributes), `"Deck"`)
		switch {
		case matches && !is && !barred[who]:
			t.Errorf("%s matches, but is not in it", who)
		case !matches && byRule:
			t.Errorf("%s does not match, but is in by rule", who)
		case barred[who] && is:
			t.Errorf("%s is barred, but in it", who)
		}
	}
}

func TestWhateverPeopleDoTheCountsAgree(t *testing.T) {
	c := newCrowd(t, "crowd")
	r := rand.New(rand.NewPCG(17, 4))
	some := []string{kit.Administrator, kit.Owner, kit.Member, kit.Colleague}
	for range 24 {
		for range 15 {
			c.step(t, r)
		}
		agrees(t, c.Kit, c.ines)
		cachesWell(t, c.Kit, some)
		reviewsWell(t, c.Kit, c.ines)
	}
}

func TestWhateverPeopleDoAtOnceTheCountsAgree(t *testing.T) {
	c := newCrowd(t, "crowdatonce")
	var all sync.WaitGroup
	for i := range 6 {
		all.Go(func() {
			r := rand.New(rand.NewPCG(uint64(i), 9))
			for range 30 {
				c.step(t, r)
				if _, err := c.Group.List(ctx, c.ines, group.Query{Sort: "-people", Limit: 5}); err != nil {
					t.Error(err)
				}
			}
		})
	}
	all.Wait()
	agrees(t, c.Kit, c.ines)
	cachesWell(t, c.Kit, []string{kit.Administrator, kit.Owner, kit.Member})
	reviewsWell(t, c.Kit, c.ines)
}

// By hand nobody is put into the group with the rule here, so that who is in it
// follows from the directory alone.
func TestWhoIsInByRuleFollowsFromTheDirectory(t *testing.T) {
	c := newCrowd(t, "crowdruled")
	r := rand.New(rand.NewPCG(3, 1))
	for range 8 {
		for range 25 {
			who := c.people[r.IntN(len(c.people))]
			var err error
			switch r.IntN(6) {
			case 0, 1, 2:
				_, err = c.Directory.Change(ctx, c.ines, who, api.PersonPatch{Attributes: map[string]string{"department": []string{"Deck", "Engine", ""}[r.IntN(3)]}}, 0)
			case 3:
				if _, err = c.Directory.Depart(ctx, c.ines, who, api.Departure{}, 0); err != nil {
					_, err = c.Directory.Return(ctx, c.ines, who, 0)
				}
			case 4:
				if who != kit.Owner {
					err = c.Rules.SetOverride(ctx, c.ines, c.groups[0], who, api.NewOverride{Override: "barred"}, 0)
				}
			case 5:
				lines := "address,department\n"
				for _, x := range c.people {
					if p, _ := c.Read().PersonByKey(x); p.Active && r.IntN(3) == 0 {
						lines += x + "," + []string{"Deck", "Engine"}[r.IntN(2)] + "\n"
					}
				}
				if _, err = c.Directory.Import(ctx, c.ines, api.Import{Text: lines}); err == nil {
					_, err = c.Rules.Release(ctx, c.ines, c.groups[0], 0)
				}
			}
			if e := new(workspace.Error); err != nil && !errors.As(err, &e) {
				t.Fatal(err)
			}
		}
		c.followsRules(t)
	}
}

// A rule is set again and again while people change: each is seen by one of the
// two sides, and by the rule that stands in the end.
func TestARuleThatIsSetWhilePeopleChange(t *testing.T) {
	c := newCrowd(t, "crowdset")
	for round := range 6 {
		var all sync.WaitGroup
		for i := range 4 {
			all.Go(func() {
				r := rand.New(rand.NewPCG(uint64(round), uint64(i)))
				for range 12 {
					who := c.people[r.IntN(len(c.people))]
					if _, err := c.Directory.Change(ctx, c.ines, who, api.PersonPatch{Attributes: map[string]string{"department": []string{"Deck", "Engine"}[r.IntN(2)]}}, 0); err != nil {
						t.Errorf("change %s: %v", who, err)
					}
				}
			})
		}
		all.Go(func() {
			for _, text := range []string{`department eq "Engine"`, `title pr`, `department eq "Deck"`} {
				if _, err := c.Rules.Set(ctx, c.ines, c.groups[0], api.NewRule{Expression: text, Confirm: true}, 0); err != nil {
					t.Errorf("set %s: %v", text, err)
				}
			}
		})
		all.Wait()
		c.followsRules(t)
		agrees(t, c.Kit, c.ines)
	}
}

// reviewsWell checks that what follows changes finds what a look at everything finds. That somebody's department has changed, and
// that two groups have come to have nearly the same people, is found by the latter alone.
func reviewsWell(t *testing.T, l *kit.Kit, ines workspace.Actor) {
	t.Helper()
	all := func() map[string]string {
		out := map[string]string{}
		for cursor := ""; ; {
			p, err := l.Review.List(ctx, ines, review.Query{Cursor: cursor, Limit: 100})
			if err != nil {
				t.Fatal(err)
			}
			for _, f := range p.Items {
				if f.Kind == "owner_elsewhere" || f.Kind == "same_people" || f.Kind == "rule_unfilled" {
					continue
				}
				about := f.Person
				if about == nil {
					about = f.Group
				}
				out[f.Kind+" "+about.Address] = f.Says
			}
			if cursor = p.Next; cursor == "" {
				return out
			}
		}
	}
	if err := l.Review.Follow(ctx); err != nil {
		t.Fatal(err)
	}
	followed := all()
	if err := l.Review.Everything(ctx); err != nil {
		t.Fatal(err)
	}
	for key, says := range all() {
		if followed[key] != says {
			t.Errorf("%s: followed %q, looked at %q", key, followed[key], says)
		}
		delete(followed, key)
	}
	for key, says := range followed {
		t.Errorf("%s: followed %q, looked at nothing", key, says)
	}
}
