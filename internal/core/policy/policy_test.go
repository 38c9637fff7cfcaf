package policy

import (
	"strings"
	"testing"
)

func TestPost(t *testing.T) {
	members := Default()
	open := Default()
	open[Post], open[Holding] = Anyone, HoldNobody
	held := open
	held[Holding] = HoldOutsiders
	closed := Default()
	closed[Post] = Nobody
	strict := Default()
	strict[Suspicious] = SuspiciousRefuse
	lax := Default()
	lax[Suspicious] = SuspiciousDeliver
	everyone := Default()
	everyone[Holding] = HoldEveryone
	newcomers := Default()
	newcomers[Holding] = HoldNewcomers
	colleagues := Default()
	colleagues[Post], colleagues[Holding] = Workspace, HoldNonMembers

	member := Author{Rung: Members, Workspace: true, Proven: true}
	claimed := Author{Rung: Members, Workspace: true}
	stranger := Author{Rung: Anyone}
	with := func(a Author, s Override) Author { a.Override = s; return a }
	for _, c := range []struct {
		name    string
		p       Policy
		a       Author
		outcome Outcome
		rule    string
	}{
		{"a member who signed in", members, member, Allow, "post"},
		{"a member who only claims to be", members, claimed, Hold, "suspicious.hold"},
		{"the same, refused by setting", strict, claimed, Refuse, "suspicious.refuse"},
		{"the same, delivered by setting", lax, claimed, Allow, "post"},
		{"an external member without proof", members, Author{Rung: Members}, Hold, "suspicious.hold"},
		{"an external member with proof", members, Author{Rung: Members, Proven: true}, Allow, "post"},
		{"a colleague", members, Author{Rung: Workspace, Workspace: true, Proven: true}, Refuse, "post"},
		{"a colleague where the workspace may, held", colleagues, Author{Rung: Workspace, Workspace: true, Proven: true}, Hold, "hold.non_members"},
		{"a stranger", members, stranger, Refuse, "post"},
		{"a stranger where anyone may", open, stranger, Allow, "post"},
		{"a stranger where anyone may and outsiders wait", held, stranger, Hold, "hold.outsiders"},
		{"an external member where outsiders wait", held, Author{Rung: Members}, Allow, "post"},
		{"somebody who claims our domain where anyone may", open, Author{Rung: Anyone, Workspace: true}, Hold, "suspicious.hold"},
		{"an owner where nobody may", closed, Author{Rung: Owners, Workspace: true, Proven: true}, Refuse, "post"},
		{"a barred owner", open, with(Author{Rung: Owners, Proven: true}, Barred), Refuse, "person.barred"},
		{"a trusted stranger", held, with(stranger, Trusted), Allow, "person.trusted"},
		{"a trusted member without proof", members, with(claimed, Trusted), Hold, "suspicious.hold"},
		{"a held member", members, with(member, Held), Hold, "person.held"},
		{"a member where everyone waits", everyone, member, Hold, "hold.everyone"},
		{"a moderator where everyone waits", everyone, Author{Rung: Moderators, Workspace: true, Proven: true}, Allow, "post"},
		{"a newcomer", newcomers, Author{Rung: Members, Workspace: true, Proven: true, Newcomer: true}, Hold, "hold.newcomers"},
		{"an old hand", newcomers, member, Allow, "post"},
	} {
		d := c.p.Post(c.a)
		if d.Outcome != c.outcome || d.RuleName() != c.rule {
			t.Errorf("%s: %v by %s; want %v by %s", c.name, d.Outcome, d.RuleName(), c.outcome, c.rule)
		}
		reasons := d.Reasons()
		if len(reasons) == 0 {
			t.Fatalf("%s: no reasons", c.name)
		}
		found := false
		for _, r := range reasons {
			found = found || r.Rule == c.rule
			if r.Says == "" || !strings.HasSuffix(r.Says, ".") {
				t.Errorf("%s: %s says %q, which is no sentence", c.name, r.Rule, r.Says)
			}
			if (r.Mend != "") != (r.Rule == c.rule && d.Outcome != Allow) {
				t.Errorf("%s: %s has mend %q", c.name, r.Rule, r.Mend)
			}
		}
		if !found {
			t.Errorf("%s: the reasons %v lack the rule that settled it", c.name, reasons)
		}
	}
}

// Opening the answer for posting never takes the right to write from anybody, and a
// stricter hold never lets more through.
func TestPostIsMonotonic(t *testing.T) {
	each(func(p Policy, a Author) {
		if p[Post] < Anyone {
			wider := p
			wider[Post]++
			if got, was := wider.Post(a), p.Post(a); got.Outcome < was.Outcome {
				t.Fatalf("%+v by %+v: %v, but wider: %v", p, a, was.Outcome, got.Outcome)
			}
		}
		if p[Holding] < HoldEveryone {
			stricter := p
			stricter[Holding]++
			if got, was := stricter.Post(a), p.Post(a); got.Outcome > was.Outcome {
				t.Fatalf("%+v by %+v: %v, but holding more: %v", p, a, was.Outcome, got.Outcome)
			}
		}
		if proven := a; !a.Proven {
			proven.Proven = true
			if got, was := p.Post(proven), p.Post(a); got.Outcome < was.Outcome {
				t.Fatalf("%+v by %+v: %v, but proven: %v", p, a, was.Outcome, got.Outcome)
			}
		}
	})
}

func each(f func(Policy, Author)) {
	p := Default()
	for p[Post] = Nobody; p[Post] <= Anyone; p[Post]++ {
		for p[Holding] = HoldNobody; p[Holding] <= HoldEveryone; p[Holding]++ {
			for p[Suspicious] = SuspiciousDeliver; p[Suspicious] <= SuspiciousRefuse; p[Suspicious]++ {
				for rung := Owners; rung <= Anyone; rung++ {
					for bits := 0; bits < 16; bits++ {
						for s := NoOverride; s <= Held; s++ {
							f(p, Author{rung, bits&1 != 0, bits&2 != 0, bits&4 != 0, bits&8 != 0, s})
						}
					}
				}
			}
		}
	}
}

func TestPostAllocatesNothing(t *testing.T) {
	p := Default()
	if n := testing.AllocsPerRun(100, func() {
		if d := p.Post(Author{Rung: Members, Workspace: true, Proven: true}); d.Outcome != Allow {
			t.Fatal(d.RuleName())
		}
	}); n != 0 {
		t.Errorf("Post allocates %v times", n)
	}
}

func TestMendsHold(t *testing.T) {
	p := Default()
	stranger := Author{Rung: Anyone}
	r := p.Post(stranger).Reasons()
	if want := "Add the person to the group with a role that may, or let anyone write to it."; r[0].Mend != want {
		t.Errorf("mend %q; want %q", r[0].Mend, want)
	}
	p[Post], p[Holding] = Anyone, HoldNobody
	if d := p.Post(stranger); d.Outcome != Allow {
		t.Errorf("after the mend: %v", d.Outcome)
	}
}

func TestAllows(t *testing.T) {
	p := Default()
	for _, c := range []struct {
		q    Setting
		rung Audience
		want Outcome
		says string
	}{
		{Find, Workspace, Allow, "People of the workspace can find the group."},
		{Find, Anyone, Refuse, "Only people of the workspace can find the group."},
		{SeePeople, Members, Allow, "Its members can see who is in it."},
		{SpeakAs, Owners, Refuse, "Nobody can write as the group."},
	} {
		d := p.Allows(c.q, c.rung)
		if d.Outcome != c.want || d.Says() != c.says && !strings.HasPrefix(c.says, "Only") {
			t.Errorf("%v by %v: %v, %q", c.q, c.rung, d.Outcome, d.Says())
		}
	}
}

func TestCheckAndWarnings(t *testing.T) {
	if f := append(Default().Check(), Default().Warnings()...); len(f) != 0 {
		t.Errorf("the default policy: %v", f)
	}
	for _, c := range []struct {
		set   string // name=value, separated by spaces
		field string
		hard  bool
	}{
		{"read=anyone", "read", true},
		{"see_people=anyone", "see_people", true},
		{"find=members join.how=freely", "join.audience", true},
		{"find=nobody", "join.audience", true},
		{"find=anyone join.audience=anyone", "externals", true},
		{"speak_as=anyone", "speak_as", true},
		{"add_people=anyone", "add_people", true},
		{"post=anyone hold=nobody", "hold", false},
		{"post=nobody", "post", false},
		{"suspicious=deliver", "suspicious", false},
		{"find=anyone see_people=anyone", "see_people", false},
		{"find=anyone join.audience=anyone join.how=freely externals=owners", "join.how", false},
		{"add_people=workspace", "add_people", false},
		{"write_owners=owners", "write_owners", false},
	} {
		p := Default()
		for _, kv := range strings.Fields(c.set) {
			name, value, _ := strings.Cut(kv, "=")
			if err := p.Set(name, value); err != nil {
				t.Fatal(err)
			}
		}
		faults := p.Warnings()
		if c.hard {
			faults = p.Check()
		}
		ok := false
		for _, f := range faults {
			ok = ok || strings.TrimPrefix(f.Field, "policy.") == c.field && f.Says != "" && f.Mend != ""
		}
		if !ok {
			t.Errorf("%s: %v; want one about %s", c.set, faults, c.field)
		}
	}
}

func TestPrivacy(t *testing.T) {
	for v := PrivacyMembers; v < PrivacyMixed; v++ {
		if got := Default().WithPrivacy(v); got.Privacy() != v {
			t.Errorf("%v fills in %v", v, got.Privacy())
		}
	}
	p := Default()
	p[Read] = Workspace
	if p.Privacy() != PrivacyMixed {
		t.Errorf("read by the workspace, seen by members: %v", p.Privacy())
	}
}

func TestWords(t *testing.T) {
	p := Default()
	if got, want := p.Sentence(), "Only members read it. Anyone in the workspace may ask to join. Strangers can't write to it."; got != want {
		t.Errorf("%q; want %q", got, want)
	}
	p[JoinAudience] = Nobody
	p[Post] = Anyone
	if got, want := p.Sentence(), "Only members read it. People come in by invitation only. Strangers can write to it; their mail waits for approval."; got != want {
		t.Errorf("%q; want %q", got, want)
	}
	ins := p.StandIns()
	if len(ins) != 4 || strings.Join(ins[3].Can, ", ") != "write to it, after approval" || strings.Join(ins[2].Cannot, ", ") != "see who is in it, read it, add people, join unless invited" {
		t.Errorf("stand-ins: %+v", ins)
	}
}

func TestEffect(t *testing.T) {
	before, after := Default(), Default()
	n := Population{Owners: 2, Moderators: 1, Members: 14, Colleagues: 223}
	if got := Effect(before, after, n); len(got) != 0 {
		t.Errorf("no change has the effect %v", got)
	}
	after[Post], after[WriteOwners], after[Holding] = Anyone, Owners, HoldNobody
	got := Effect(before, after, n)
	want := []string{
		"The 223 colleagues and all strangers can write to it from now on.",
		"The 1 moderator, 14 members and 223 colleagues lose this: they no longer write to its owners.",
		"No mail waits for approval.",
	}
	if len(got) != 3 {
		t.Fatalf("%d changes: %+v", len(got), got)
	}
	for i, s := range got {
		if s.Says != want[i] {
			t.Errorf("change %d: %q; want %q", i, s.Says, want[i])
		}
	}
}

func FuzzSet(f *testing.F) {
	f.Add("post", "anyone")
	f.Add("privacy", "mixed")
	f.Add("join.audience", "")
	f.Fuzz(func(t *testing.T, name, value string) {
		p := Default()
		if err := p.Set(name, value); err == nil && p.Get(name) != value {
			t.Fatalf("%q set to %q reads %q", name, value, p.Get(name))
		} else if err != nil && p != Default() {
			t.Fatalf("%q to %q failed and changed the policy", name, value)
		}
	})
}

var sink Decision

func BenchmarkPost(b *testing.B) {
	p := Default()
	a := Author{Rung: Members, Workspace: true, Proven: true}
	b.ReportAllocs()
	for b.Loop() {
		sink = p.Post(a)
	}
}
