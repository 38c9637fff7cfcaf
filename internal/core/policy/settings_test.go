package policy

import (
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"ivytable.example/ivytable/internal/core/fault"
)

// Every value of every setting can be set, got, stored and read again, and has words.
func TestTheTable(t *testing.T) {
	names := map[string]bool{}
	for _, d := range Describe() {
		if d.Name == "" || d.Asks == "" || d.Part == "" || names[d.Name] {
			t.Errorf("%+v is not described", d)
		}
		names[d.Name] = true
		seen := map[string]bool{}
		for _, c := range d.Choices {
			p := Default()
			if err := p.Set(d.Name, c.Name); err != nil || p.Get(d.Name) != c.Name || c.Label == "" || seen[c.Name] {
				t.Errorf("%s to %s: %v, %q", d.Name, c.Name, err, p.Get(d.Name))
			}
			seen[c.Name] = true
			if again, err := Decode(p.Encode()); err != nil || again != p {
				t.Errorf("%s is read as %s: %v", p.Encode(), again.Encode(), err)
			}
			for _, s := range Effect(Default(), p, Population{1, 1, 1, 1, 1}) {
				if !strings.HasSuffix(s.Says, ".") {
					t.Errorf("%s to %s says %q", d.Name, c.Name, s.Says)
				}
			}
		}
		if d.Question && (len(d.Choices) != 6 || table[d.Setting].can == "" || !strings.HasPrefix(d.Path, "policy.")) {
			t.Errorf("the question %s: %+v", d.Name, d)
		}
		if p := Default(); p.Get(d.Name) == "" {
			t.Errorf("%s has no normal value", d.Name)
		}
	}
	if len(Names()) != int(Settings)+1 || Names()[0] != "privacy" {
		t.Errorf("names: %v", Names())
	}
}

func TestSetRefuses(t *testing.T) {
	for _, c := range [][3]string{
		{"hold", "everybody", `Hold can't be "everybody". Choose nobody, outsiders, non_members, newcomers, everyone.`},
		{"post", "", `Post can't be "". Choose nobody, owners`},
		{"join.audience", "owners", "Choose nobody, workspace, anyone."},
		{"privacy", "mixed", "Choose members, workspace, anyone."},
		{"colour", "green", `no question or setting "colour"`},
	} {
		p := Default()
		if err := p.Set(c[0], c[1]); err == nil || !strings.Contains(err.Error(), c[2]) || p != Default() {
			t.Errorf("%s to %q: %v; want %q", c[0], c[1], err, c[2])
		}
	}
}

// What an older service stored lacks settings, what a newer one stored has more.
func TestDecode(t *testing.T) {
	if p, err := Decode(""); err != nil || p != Default() {
		t.Errorf("nothing stored is %s, %v", p.Encode(), err)
	}
	p, err := Decode("post=anyone colour=green hold=everyone")
	if err != nil || p[Post] != Anyone || p[Holding] != HoldEveryone || p[Find] != Workspace {
		t.Errorf("%s, %v", p.Encode(), err)
	}
	if _, err := Decode("post=martians"); err == nil {
		t.Error("a value that is not known is taken")
	}
}

// A value that is none of a type's has a name too: it may come from a damaged record.
func TestNamesOfNothing(t *testing.T) {
	if Setting(99).String() == "" || Privacy(9).String() == "" || Outcome(9).String() == "" || Override(9).String() == "" || Value(99).Who() == "" || Value(99).Audience() == "" || Post.value(99) == "" {
		t.Error("something has no name")
	}
}

// Each setting stands in the sentences once, in words that read on.
func TestSentences(t *testing.T) {
	p := Default()
	seen := map[Setting]int{}
	text := ""
	for _, s := range p.Sentences() {
		text += s.String() + "\n"
		if !strings.HasSuffix(s.String(), ".") || s.String()[0] < 'A' || s.String()[0] > 'Z' {
			t.Errorf("%q is no sentence", s)
		}
		for _, piece := range s.Pieces {
			seen[piece.Setting]++
		}
	}
	for s := range Settings {
		if seen[s] != 1 {
			t.Errorf("%s stands in %d sentences", s, seen[s])
		}
	}
	for _, want := range []string{"People of the workspace can find it.", "People of the workspace may come in by asking.", "External members are not taken.",
		"Mail from outsiders not in it waits for approval.", "Nobody may write as the group."} {
		if !strings.Contains(text, want+"\n") {
			t.Errorf("%q is not said in\n%s", want, text)
		}
	}
	p[JoinAudience] = Nobody
	if got := p.Sentences()[3].String(); got != "Nobody comes in without an invitation." {
		t.Error(got)
	}
}

// Of random whole policies, none that is accepted lets an audience see, read or enter what it may not
// find; what is refused is refused for a stated rule with a mend; and who is allowed on a rung is on each
// narrower one.
func TestEveryPolicy(t *testing.T) {
	r := rand.New(rand.NewPCG(11, 26))
	refused, accepted, warned := 0, 0, 0
	for range 200_000 {
		var p Policy
		for s := range Settings {
			c := table[s].choices
			p[s] = c[r.IntN(len(c))].value
		}
		for _, f := range append(p.Check(), p.Warnings()...) {
			if f.Says == "" || f.Mend == "" || f.Field == "" {
				t.Fatalf("%s: %+v", p.Encode(), f)
			}
		}
		for s := Find; s.Question(); s++ {
			for rung := Moderators; rung <= Anyone; rung++ {
				if p.Allows(s, rung).Outcome == Allow && p.Allows(s, rung-1).Outcome != Allow {
					t.Fatalf("%s: %s allows rung %d and not the one before", p.Encode(), s, rung)
				}
			}
		}
		if len(p.Check()) > 0 {
			refused++
			continue
		}
		accepted++
		if len(p.Warnings()) > 0 {
			warned++
		}
		for rung := Owners; rung <= Anyone; rung++ {
			for _, s := range []Setting{SeePeople, Read, JoinAudience} {
				if p[s].Includes(rung) && !p[Find].Includes(rung) {
					t.Fatalf("%s is accepted: %s goes further than find", p.Encode(), s)
				}
			}
		}
		if p[JoinAudience] == Anyone && p[Externals] == ExternalsBarred || p[SpeakAs] == Anyone || p[SpeakFor] == Anyone || p[AddPeople] == Anyone {
			t.Fatalf("%s is accepted", p.Encode())
		}
	}
	if refused == 0 || accepted == 0 || warned == 0 {
		t.Errorf("%d refused, %d accepted, %d of them warned of", refused, accepted, warned)
	}
}

// A rule about a policy depends on the settings that it names and on no others.
func TestWhatEachRuleReads(t *testing.T) {
	reads := map[Setting][]Setting{
		Find: {Find}, Leaving: {Leaving, JoinAudience, JoinHow}, SeePeople: {SeePeople, Find}, Read: {Read, Find}, Post: {Post}, WriteOwners: {WriteOwners}, AddPeople: {AddPeople}, SpeakAs: {SpeakAs}, SpeakFor: {SpeakFor},
		JoinAudience: {JoinAudience, JoinHow, Find}, JoinHow: {JoinHow, JoinAudience}, Externals: {Externals, JoinAudience}, Holding: {Holding, Post}, Suspicious: {Suspicious},
	}
	says := func(p Policy, s Setting) string {
		out := ""
		for _, rule := range []func(Policy) *fault.Fault{table[s].check, table[s].doubt} {
			if rule != nil {
				if f := rule(p); f != nil {
					out += f.Words() + "\n"
				}
			}
		}
		return out
	}
	r := rand.New(rand.NewPCG(26, 11))
	for s := range Settings {
		rules := table[s].check != nil || table[s].doubt != nil
		if rules != (len(reads[s]) > 0) {
			t.Errorf("%s has rules: %v; it reads %v", s, rules, reads[s])
		}
		var through func(p Policy, of []Setting)
		through = func(p Policy, of []Setting) {
			if len(of) > 0 {
				for _, c := range table[of[0]].choices {
					p[of[0]] = c.value
					through(p, of[1:])
				}
				return
			}
			want := says(p, s)
			for range 20 {
				q := p
				for other := range Settings {
					if c := table[other].choices; !slices.Contains(reads[s], other) {
						q[other] = c[r.IntN(len(c))].value
					}
				}
				if got := says(q, s); got != want {
					t.Fatalf("%s says %q of %s, and %q of %s", s, want, p.Encode(), got, q.Encode())
				}
			}
		}
		through(Default(), reads[s])
	}
}

// A policy that is brought down is under every ceiling, goes nowhere further than before, and
// contradicts itself no more than before.
func TestUnderCeilings(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 6))
	lowered := 0
	for range 100_000 {
		var p Policy
		var c Ceilings
		for s := range Settings {
			choices := table[s].choices
			p[s] = choices[r.IntN(len(choices))].value
			if s.Bounded() && r.IntN(3) == 0 {
				c.Bound(s, Audience(r.IntN(6)))
			}
		}
		if len(p.Check()) > 0 {
			continue
		}
		q := p.Under(c)
		if len(q.Above(c)) > 0 || len(q.Check()) > 0 || q.Under(c) != q {
			t.Fatalf("%s becomes %s: %v %v", p.Encode(), q.Encode(), q.Above(c), q.Check())
		}
		for s := range Settings {
			if q[s] > p[s] || !s.Bounded() && q[s] != p[s] {
				t.Fatalf("%s becomes %s", p.Encode(), q.Encode())
			}
			if _, err := s.Parse(s.value(q[s])); err != nil {
				t.Fatalf("%s can't be: %v", s, err)
			}
		}
		if len(p.Above(c)) == 0 && q != p {
			t.Fatalf("%s is under its ceilings and becomes %s", p.Encode(), q.Encode())
		}
		if q != p {
			lowered++
		}
	}
	if lowered < 1000 {
		t.Errorf("%d were lowered", lowered)
	}
	var c Ceilings
	c.Bound(Post, Workspace)
	c.Bound(Post, Members)
	c.Bound(Post, Anyone)
	p := Default()
	p[Post] = Workspace
	if most, bound := c.Of(Post); most != Members || !bound || p.Above(c)[0].Words() != "Who can write to it: the workspace lets this group choose members at most. Choose members, or a narrower audience." {
		t.Errorf("%v, %v", most, p.Above(c))
	}
}
