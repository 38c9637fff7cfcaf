package policy

import (
	"strings"
	"testing"
)

func TestPost(t *testing.T) {
	members := Default()
	open := Default()
	open.Answers[Post], open.Hold = Anyone, HoldNobody
	held := open
	held.Hold = HoldOutsiders
	closed := Default()
	closed.Answers[Post] = Nobody
	strict := Default()
	strict.Suspicious = SuspiciousRefuse
	lax := Default()
	lax.Suspicious = SuspiciousDeliver
	everyone := Default()
	everyone.Hold = HoldEveryone
	newcomers := Default()
	newcomers.Hold = HoldNewcomers
	colleagues := Default()
	colleagues.Answers[Post], colleagues.Hold = Workspace, HoldNonMembers

	member := Author{Rung: Members, Workspace: true, Proven: true}
	claimed := Author{Rung: Members, Workspace: true}
	stranger := Author{Rung: Anyone}
	with := func(a Author, s Standing) Author { a.Standing = s; return a }
	for _, c := range []struct {
		name    string
		p       Policy
		a       Author
		outcome Outcome
		rule    string
	}{
		{"a member who signed in", members, member, Allow, "post"},
		{"a member who only claims to be", members, claimed, HoldIt, "suspicious.hold"},
		{"the same, refused by setting", strict, claimed, Refuse, "suspicious.refuse"},
		{"the same, delivered by setting", lax, claimed, Allow, "post"},
		{"an external member without proof", members, Author{Rung: Members}, HoldIt, "suspicious.hold"},
		{"an external member with proof", members, Author{Rung: Members, Proven: true}, Allow, "post"},
		{"a colleague", members, Author{Rung: Workspace, Workspace: true, Proven: true}, Refuse, "post"},
		{"a colleague where the workspace may, held", colleagues, Author{Rung: Workspace, Workspace: true, Proven: true}, HoldIt, "hold.non_members"},
		{"a stranger", members, stranger, Refuse, "post"},
		{"a stranger where anyone may", open, stranger, Allow, "post"},
		{"a stranger where anyone may and outsiders wait", held, stranger, HoldIt, "hold.outsiders"},
		{"an external member where outsiders wait", held, Author{Rung: Members}, Allow, "post"},
		{"somebody who claims our domain where anyone may", open, Author{Rung: Anyone, Workspace: true}, HoldIt, "suspicious.hold"},
		{"an owner where nobody may", closed, Author{Rung: Owners, Workspace: true, Proven: true}, Refuse, "post"},
		{"a barred owner", open, with(Author{Rung: Owners, Proven: true}, Barred), Refuse, "person.barred"},
		{"a trusted stranger", held, with(stranger, Trusted), Allow, "person.trusted"},
		{"a trusted member without proof", members, with(claimed, Trusted), HoldIt, "suspicious.hold"},
		{"a held member", members, with(member, Held), HoldIt, "person.held"},
		{"a member where everyone waits", everyone, member, HoldIt, "hold.everyone"},
		{"a moderator where everyone waits", everyone, Author{Rung: Moderators, Workspace: true, Proven: true}, Allow, "post"},
		{"a newcomer", newcomers, Author{Rung: Members, Workspace: true, Proven: true, Newcomer: true}, HoldIt, "hold.newcomers"},
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
		if p.Answers[Post] < Anyone {
			wider := p
			wider.Answers[Post]++
			if got, was := wider.Post(a), p.Post(a); got.Outcome < was.Outcome {
				t.Fatalf("%+v by %+v: %v, but wider: %v", p, a, was.Outcome, got.Outcome)
			}
		}
		if p.Hold < HoldEveryone {
			stricter := p
			stricter.Hold++
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
	for p.Answers[Post] = Nobody; p.Answers[Post] <= Anyone; p.Answers[Post]++ {
		for p.Hold = HoldNobody; p.Hold <= HoldEveryone; p.Hold++ {
			for p.Suspicious = SuspiciousDeliver; p.Suspicious <= SuspiciousRefuse; p.Suspicious++ {
				for rung := Owners; rung <= Anyone; rung++ {
					for bits := 0; bits < 8; bits++ {
						for s := NoStanding; s <= Held; s++ {
							f(p, Author{rung, bits&1 != 0, bits&2 != 0, bits&4 != 0, s})
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
	if want := "Add the person to the group with a role that may, or open post to anyone."; r[0].Mend != want {
		t.Errorf("mend %q; want %q", r[0].Mend, want)
	}
	p.Answers[Post], p.Hold = Anyone, HoldNobody
	if d := p.Post(stranger); d.Outcome != Allow {
		t.Errorf("after the mend: %v", d.Outcome)
	}
}

func TestAllows(t *testing.T) {
	p := Default()
	for _, c := range []struct {
		q    Question
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

func TestSetAndGet(t *testing.T) {
	for q := Find; q < Questions; q++ {
		p := Default()
		if err := p.Set(q.String(), "owners"); err != nil || p.Get(q.String()) != "owners" {
			t.Errorf("%v: %v, %q", q, err, p.Get(q.String()))
		}
	}
	for name, values := range map[string][]string{
		"join.audience": {"nobody", "workspace", "anyone"}, "join.how": howNames, "leave": leaveNames,
		"externals": externalsNames, "hold": holdNames, "suspicious": suspiciousNames, "privacy": privacyNames[:3],
	} {
		for _, v := range values {
			p := Default()
			if err := p.Set(name, v); err != nil || p.Get(name) != v {
				t.Errorf("%s to %s: %v, %q", name, v, err, p.Get(name))
			}
		}
	}
	for _, c := range [][3]string{
		{"hold", "everybody", `hold can't be "everybody": choose nobody, outsiders, non_members, newcomers, everyone`},
		{"post", "", `post can't be "": choose nobody, owners`},
		{"join.audience", "owners", "choose nobody, workspace, anyone"},
		{"privacy", "mixed", "choose members, workspace, anyone"},
		{"colour", "green", `no question or setting "colour"`},
	} {
		p := Default()
		if err := p.Set(c[0], c[1]); err == nil || !strings.Contains(err.Error(), c[2]) || p != Default() {
			t.Errorf("%s to %q: %v; want %q", c[0], c[1], err, c[2])
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
			ok = ok || f.Field == c.field && f.Says != "" && f.Mend != ""
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
	p.Answers[Read] = Workspace
	if p.Privacy() != PrivacyMixed {
		t.Errorf("read by the workspace, seen by members: %v", p.Privacy())
	}
}

func TestWords(t *testing.T) {
	p := Default()
	if got, want := p.Sentence(), "Only members read it. Anyone in the workspace may ask to join. Strangers can't write to it."; got != want {
		t.Errorf("%q; want %q", got, want)
	}
	p.JoinAudience = Nobody
	p.Answers[Post] = Anyone
	if got, want := p.Sentence(), "Only members read it. People come in by invitation only. Strangers can write to it; their mail waits for approval."; got != want {
		t.Errorf("%q; want %q", got, want)
	}
	ins := p.StandIns()
	if len(ins) != 4 || strings.Join(ins[3].Can, ", ") != "write to it, after approval" || strings.Join(ins[2].Cant, ", ") != "read it, see who is in it, add people, join unless invited" {
		t.Errorf("stand-ins: %+v", ins)
	}
}

func TestEffect(t *testing.T) {
	before, after := Default(), Default()
	n := Population{Owners: 2, Moderators: 1, Members: 14, Colleagues: 223}
	if got := Effect(before, after, n); len(got) != 0 {
		t.Errorf("no change has the effect %v", got)
	}
	after.Answers[Post], after.Answers[WriteOwners], after.Hold = Anyone, Owners, HoldNobody
	got := Effect(before, after, n)
	want := []string{
		"The 223 colleagues and all strangers can write to it from now on.",
		"The 1 moderator, 14 members and 223 colleagues lose this: they no longer write to its owners.",
		"No mail waits for approval.",
	}
	if len(got) != 3 {
		t.Fatalf("%d shifts: %+v", len(got), got)
	}
	for i, s := range got {
		if s.Says != want[i] {
			t.Errorf("shift %d: %q; want %q", i, s.Says, want[i])
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
