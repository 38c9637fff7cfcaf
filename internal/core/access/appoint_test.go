package access

import (
	"testing"

	"ivytable.example/ivytable/internal/core/expand"
	"ivytable.example/ivytable/internal/core/policy"
)

// power is what of a group somebody may do that a delegation hands out, but for adding members, which a policy may let anybody do.
func power(s Subject, r Relation, p *policy.Policy) (out map[Action]bool) {
	out = map[Action]bool{}
	for _, x := range powers {
		for _, do := range x.actions {
			out[do] = do != AddPeople && s.May(do, r, p)
		}
	}
	return out
}

// From each set of powers, whatever up to three changes of roles one delegated administrator makes, or two of them together, with the help of a
// colleague whom they appoint, neither has a power by them that neither was given.
func TestNoDelegationWidensItself(t *testing.T) {
	p := policy.Default()
	s := Subject{SignedIn: true}
	const people = 4                                         // the two, a colleague, and the owner
	names := []string{"people", "owners", "posts", "policy"} // each of the others stands to them as policy does
	sets := 1 << len(names)
	given := func(set int) (out Powers) {
		var some []string
		for i, n := range names {
			if set&(1<<i) != 0 {
				some = append(some, n)
			}
		}
		out, _ = ParsePowers(some)
		return out
	}
	type state struct {
		roles [people]expand.Role
		left  int
	}
	seen := map[state]bool{}
	var try func(a, b Powers, roles [people]expand.Role, steps int)
	var had [2]map[Action]bool
	steps := 0
	relation := func(who int, a, b Powers, roles [people]expand.Role) Relation {
		r := RelationOf(roles[who], false, false)
		r.Powers = [people]Powers{a, b}[who]
		return r
	}
	try = func(a, b Powers, roles [people]expand.Role, left int) {
		for who := range 2 {
			if who == 1 && b == 0 {
				continue // a colleague, who may be made a moderator
			}
			for do, now := range power(s, relation(who, a, b, roles), &p) {
				if now && !had[0][do] && !had[1][do] {
					t.Fatalf("with %v and %v, roles %v: the first or second may %s", a, b, roles, do)
				}
			}
		}
		if left == 0 || seen[state{roles, left}] {
			return
		}
		seen[state{roles, left}] = true
		for who := range 3 { // the owner does nothing
			r := relation(who, a, b, roles)
			if !s.May(ChangePeople, r, &p) {
				continue
			}
			for of := range people {
				for to := expand.Role(0); to <= expand.Owner; to++ {
					delegate := of == 0 || of == 1 && b != 0
					if delegate && r.Powers == 0 && roles[who] == expand.Owner {
						continue // whoever was given the power to appoint owners answers for whom they appoint
					}
					if s.MayAppoint(r, Appointment{From: roles[of], To: to, Delegate: delegate}) != "" {
						continue
					}
					next := roles
					next[of] = to
					steps++
					try(a, b, next, left-1)
				}
			}
		}
	}
	for x := range sets {
		for y := range sets {
			a, b := given(x), given(y)
			if y == 0 {
				b = 0 // alone
			}
			clear(seen)
			start := [people]expand.Role{0, 0, 0, expand.Owner}
			had = [2]map[Action]bool{power(s, relation(0, a, b, start), &p), power(s, relation(1, a, b, start), &p)}
			try(a, b, start, 3)
		}
	}
	if steps < 10_000 {
		t.Errorf("only %d steps were tried", steps)
	}
}

func TestWhoAppointsOwners(t *testing.T) {
	with := func(names ...string) Relation { p, _ := ParsePowers(names); return Relation{Powers: p} }
	s := Subject{SignedIn: true}
	for _, c := range []struct {
		r    Relation
		a    Appointment
		may  bool
		what string
	}{
		{with("people"), Appointment{0, expand.Moderator, false, false}, true, "a colleague becomes a moderator"},
		{with("people"), Appointment{0, expand.Owner, false, false}, false, "a colleague becomes an owner"},
		{with("people"), Appointment{expand.Owner, 0, false, false}, false, "an owner goes"},
		{with("people"), Appointment{expand.Owner, expand.Member, false, false}, false, "an owner becomes a member"},
		{with("people"), Appointment{0, expand.Moderator, true, false}, false, "they become a moderator"},
		{with("people"), Appointment{0, expand.Member, true, false}, true, "they become a member"},
		{with("people"), Appointment{expand.Moderator, 0, true, false}, true, "they go"},
		{with("people", "owners"), Appointment{0, expand.Owner, false, false}, true, "with owners: a colleague becomes an owner"},
		{with("people", "owners"), Appointment{0, expand.Owner, true, false}, false, "with owners: they become an owner"},
		{with("create"), Appointment{0, expand.Owner, false, true}, true, "a new group has an owner"},
		{with("create"), Appointment{0, expand.Owner, true, true}, false, "they own a new group"},
		{Relation{Role: expand.Owner, Powers: with("people").Powers}, Appointment{0, expand.Owner, true, false}, true, "an owner who is one, too"},
	} {
		if got := s.MayAppoint(c.r, c.a) == ""; got != c.may {
			t.Errorf("%s: %v", c.what, got)
		}
	}
	if !s.MayActOn(with("owners"), expand.Owner) || s.MayActOn(with("people"), expand.Owner) || !s.MayActOn(with("people"), expand.Moderator) {
		t.Error("exceptions about an owner are for whoever may remove one")
	}
}
