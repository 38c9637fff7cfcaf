package admission

import (
	"strings"
	"testing"

	"ivytable.example/ivytable/internal/core/expand"
	"ivytable.example/ivytable/internal/core/policy"
)

var ways = []Way{Joining, Approving, Adding, Inviting, Accepting, ByLink, ByRule, HandedOver}

func door(set string) Door {
	p := policy.Default()
	for _, w := range strings.Fields(set) {
		name, value, _ := strings.Cut(w, "=")
		if err := p.Set(name, value); err != nil {
			panic(err)
		}
	}
	return Door{Name: "Night Dispatch", Owners: "night-owners@merrowline.example", Policy: &p}
}

var tove = Candidate{Name: "Tove Alder", Address: "tove.alder@merrowline.example"}

func with(c Candidate, change func(*Candidate)) Candidate { change(&c); return c }

// What holds for one way holds for all: nobody gets in by another one.
func TestNoWayRoundTheRule(t *testing.T) {
	open := door("join.how=freely externals=adders")
	for _, c := range []struct {
		name   string
		d      Door
		c      Candidate
		as     As
		status string
	}{
		{"a group that ended", Door{Name: "Old", Ended: true, Policy: open.Policy}, tove, As{Role: expand.Member, Staff: true}, "ended"},
		{"somebody barred", open, with(tove, func(c *Candidate) { c.Override = policy.Barred }), As{Role: expand.Member, Staff: true}, "barred"},
		{"a barred outsider", open, with(tove, func(c *Candidate) { c.Override, c.Kind = policy.Barred, Outsider }), As{Role: expand.Member, Staff: true}, "barred"},
		{"somebody who left", open, with(tove, func(c *Candidate) { c.Departed = true }), As{Role: expand.Member, Staff: true}, "departed"},
		{"an outsider where they are barred", door(""), with(tove, func(c *Candidate) { c.Kind = Outsider }), As{Role: expand.Member, Staff: true}, "external"},
		{"an outsider as an owner", open, with(tove, func(c *Candidate) { c.Kind = Outsider }), As{Role: expand.Owner, Staff: true}, "external"},
	} {
		for _, way := range ways {
			if v := In(way, c.d, c.c, c.as); v.Outcome != Refused || v.Status != c.status || !strings.HasSuffix(v.Says, ".") {
				t.Errorf("%s by way %d: %+v; want %s", c.name, way, v, c.status)
			}
		}
	}
	for _, way := range ways {
		in := with(tove, func(c *Candidate) { c.In = true })
		if v := In(way, open, in, As{Role: expand.Member}); v.Outcome != Already {
			t.Errorf("somebody who is in it by way %d: %+v", way, v)
		}
	}
}

func TestIn(t *testing.T) {
	outsider := with(tove, func(c *Candidate) { c.Kind = Outsider })
	group := Candidate{Name: "Deck", Address: "deck@merrowline.example", Kind: Group, Agrees: true, Depth: 2}
	member := As{Role: expand.Member}
	for _, c := range []struct {
		name    string
		way     Way
		set     string
		c       Candidate
		as      As
		outcome Outcome
		status  string
	}{
		{"joins freely", Joining, "join.how=freely", tove, member, Admitted, "new"},
		{"joins by asking", Joining, "join.how=asking", tove, member, Asked, "new"},
		{"joins where only invited people come", Joining, "join.audience=nobody", tove, member, Refused, "closed"},
		{"is approved where only invited people come", Approving, "join.audience=nobody", tove, member, Admitted, "new"},
		{"comes by link where only invited people come", ByLink, "join.audience=nobody", tove, member, Admitted, "new"},
		{"accepts", Accepting, "join.audience=nobody", tove, As{Role: expand.Owner}, Admitted, "new"},
		{"matches the rule", ByRule, "join.audience=nobody", tove, member, Admitted, "new"},
		{"is made an owner by staff", Adding, "", tove, As{Role: expand.Owner, Staff: true}, Admitted, "new"},
		{"is made an owner by somebody else", Adding, "", tove, As{Role: expand.Owner}, Refused, "refused"},
		{"is invited as a moderator by somebody else", Inviting, "", tove, As{Role: expand.Moderator}, Refused, "refused"},
		{"an outsider added by staff", Adding, "externals=owners", outsider, As{Role: expand.Member, Staff: true}, Admitted, "external"},
		{"an outsider added by others", Adding, "externals=owners", outsider, member, Refused, "external"},
		{"an outsider added where they may", Adding, "externals=adders", outsider, member, Admitted, "external"},
		{"an outsider accepts", Accepting, "externals=owners", outsider, member, Admitted, "external"},
		{"an outsider joins where there are no pages", Joining, "find=anyone join.audience=anyone externals=adders", outsider, member, Refused, "pages"},
		{"a group is nested", Adding, "", group, member, Admitted, "group"},
		{"a group is invited", Inviting, "", group, member, Refused, "group"},
		{"a group as an owner", Adding, "", group, As{Role: expand.Owner, Staff: true}, Refused, "group"},
		{"a group of somebody else", Adding, "", with(group, func(c *Candidate) { c.Agrees = false }), As{Role: expand.Member, Staff: true}, Asked, "asked"},
		{"a group of somebody else, agreed", Approving, "", with(group, func(c *Candidate) { c.Agrees = false }), member, Admitted, "group"},
		{"a group with externals where none are", Adding, "", with(group, func(c *Candidate) { c.Externals = true }), As{Role: expand.Member, Staff: true}, Refused, "external"},
		{"the same without them", Adding, "", with(group, func(c *Candidate) { c.Externals = true }), As{Role: expand.Member, Staff: true, Alone: true}, Admitted, "group"},
		{"a group with externals that owners alone bring", Adding, "externals=owners", with(group, func(c *Candidate) { c.Externals = true }), As{Role: expand.Member, Alone: true}, Refused, "external"},
		{"the same by an owner", Adding, "externals=owners", with(group, func(c *Candidate) { c.Externals = true }), As{Role: expand.Member, Staff: true}, Admitted, "group"},
		{"a group that ended", Adding, "", with(group, func(c *Candidate) { c.Ended = true }), member, Refused, "group"},
		{"a group in itself", Adding, "", with(group, func(c *Candidate) { c.Itself = true }), member, Refused, "group"},
		{"a loop", Adding, "", with(group, func(c *Candidate) { c.Path = []string{"Deck", "Night Dispatch"} }), member, Refused, "group"},
		{"as deep as may be", Adding, "", with(group, func(c *Candidate) { c.Depth = expand.MaxDepth }), member, Admitted, "group"},
		{"too deep", Adding, "", with(group, func(c *Candidate) { c.Depth = expand.MaxDepth + 1 }), member, Refused, "group"},
	} {
		v := In(c.way, door(c.set), c.c, c.as)
		if v.Outcome != c.outcome || v.Status != c.status || (v.Outcome == Refused || v.Status == "asked") != (v.Says != "") {
			t.Errorf("%s: %+v; want %d, %s", c.name, v, c.outcome, c.status)
		}
	}
}

func TestOut(t *testing.T) {
	for _, c := range []struct {
		name    string
		exit    Exit
		set     string
		m       Member
		outcome Outcome
		status  string
	}{
		{"leaves freely", Leaving, "", Member{Role: expand.Member}, Admitted, ""},
		{"leaves by asking", Leaving, "leave=asking", Member{Role: expand.Member}, Asked, "new"},
		{"an owner need not ask", Leaving, "leave=asking", Member{Role: expand.Owner, Staff: true}, Admitted, ""},
		{"nobody leaves", Leaving, "leave=fixed", Member{Role: expand.Member}, Refused, "closed"},
		{"staff leaves all the same", Leaving, "leave=fixed", Member{Role: expand.Owner, Staff: true}, Admitted, ""},
		{"is let go", LetGo, "leave=asking", Member{Role: expand.Member}, Admitted, ""},
		{"is removed where nobody leaves", Removing, "leave=fixed", Member{Role: expand.Member}, Admitted, ""},
		{"is in by rule and leaves", Leaving, "", Member{Role: expand.Member, ByRule: true}, Refused, "rule"},
		{"is in by rule and is removed", Removing, "", Member{Role: expand.Member, ByRule: true}, Refused, "rule"},
		{"is in by rule and is let go", LetGo, "", Member{Role: expand.Member, ByRule: true}, Refused, "rule"},
		{"is in by rule and is barred", Barring, "", Member{Role: expand.Member, ByRule: true}, Admitted, ""},
		{"no longer matches", RuleEnds, "leave=fixed", Member{Role: expand.Member, ByRule: true}, Admitted, ""},
		{"the last owner leaves", Leaving, "", Member{Role: expand.Owner, Staff: true, LastOwner: true}, Refused, "last_owner"},
		{"the last owner is barred", Barring, "", Member{Role: expand.Owner, LastOwner: true}, Refused, "last_owner"},
		{"is in through a nested group", Leaving, "", Member{Through: true}, Refused, "refused"},
		{"is not in it", Leaving, "", Member{}, Refused, "refused"},
		{"somebody else who is not in it", Removing, "", Member{Name: "Tove"}, Refused, "refused"},
	} {
		v := Out(c.exit, door(c.set), c.m)
		if v.Outcome != c.outcome || v.Status != c.status {
			t.Errorf("%s: %+v; want %d, %s", c.name, v, c.outcome, c.status)
		}
	}
}

func TestRole(t *testing.T) {
	for _, c := range []struct {
		name   string
		m      Member
		to     expand.Role
		status string
	}{
		{"a member becomes an owner", Member{Role: expand.Member}, expand.Owner, ""},
		{"as before", Member{Role: expand.Owner, LastOwner: true}, expand.Owner, "already"},
		{"the last owner steps down", Member{Role: expand.Owner, LastOwner: true}, expand.Member, "last_owner"},
		{"an outsider becomes a moderator", Member{Role: expand.Member, Kind: Outsider}, expand.Moderator, "external"},
		{"a group becomes an owner", Member{Role: expand.Member, Kind: Group}, expand.Owner, "group"},
	} {
		if v := Role(door(""), c.m, c.to); v.Status != c.status || (c.status == "") != (v.Outcome == Admitted) {
			t.Errorf("%s: %+v; want %s", c.name, v, c.status)
		}
	}
}

// With public pages, outsiders come by themselves as far as the policy lets anyone.
func TestOutsidersComeByThemselves(t *testing.T) {
	outsider := with(tove, func(c *Candidate) { c.Kind = Outsider })
	for set, want := range map[string]Verdict{
		"find=anyone join.audience=anyone join.how=freely externals=adders": {Admitted, "external", ""},
		"find=anyone join.audience=anyone join.how=asking externals=adders": {Asked, "new", ""},
		"find=anyone join.audience=anyone join.how=freely externals=owners": {Asked, "new", ""}, // owners alone bring them in
		"find=anyone join.audience=workspace externals=adders":              {Refused, "closed", ""},
		"find=anyone join.audience=nobody externals=adders":                 {Refused, "closed", ""},
		"find=anyone externals=barred":                                      {Refused, "external", ""},
	} {
		d := door(set)
		d.Public = true
		v := In(Joining, d, outsider, As{Role: expand.Member})
		if v.Outcome != want.Outcome || v.Status != want.Status {
			t.Errorf("%s: %+v, want %+v", set, v, want)
		}
		d.Outside = &Outside{Barred: true}
		if v := In(Joining, d, outsider, As{Role: expand.Member}); v.Outcome != Refused {
			t.Errorf("%s, where the workspace takes nobody: %+v", set, v)
		}
		if v := In(ByLink, door(set), outsider, As{Role: expand.Member}); v.Outcome != Refused {
			t.Errorf("%s, by a link: %+v", set, v)
		}
	}
}
