package policy

import (
	"strings"
	"testing"
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
			for _, s := range Effect(Default(), p, Population{1, 1, 1, 1}) {
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
