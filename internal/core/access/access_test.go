package access

import (
	"slices"
	"strings"
	"testing"

	"ivytable.example/ivytable/internal/core/expand"
	"ivytable.example/ivytable/internal/core/policy"
)

var (
	nobody        = Subject{}
	colleague     = Subject{SignedIn: true}
	auditor       = Subject{SignedIn: true, Role: Auditor}
	administrator = Subject{SignedIn: true, Role: Administrator}
)

// The whole of permission, by the rung on which somebody stands. Each text has the
// first letter of those who may: owner, moderator, member (p, for plain member),
// colleague, auditor, administrator (x).
func TestMay(t *testing.T) {
	p := policy.Default() // found by the workspace, seen by members, added to by owners
	for do, want := range map[Action]string{
		ReadGroup: "ompcax", OwnPart: "ompcax", SeeDeparted: "oax", SeePeople: "ompax", AddPeople: "ox", ChangePeople: "ox", ChangeGroup: "ox", ChangePolicy: "ox", ChangeTerm: "x", HoldGroup: "x",
		RenewGroup: "ox", RetireGroup: "ox", RestoreGroup: "ox", DecidePosts: "omx", DecideRequests: "omx", ManageLinks: "omx", SetOverrides: "omx",
		ChangeRule: "ox", ReadHistory: "oax", Rehearse: "omax", "unheard of": "",
	} {
		got := ""
		for _, who := range []struct {
			letter string
			s      Subject
			r      Relation
		}{
			{"o", colleague, RelationOf(expand.Owner, false, false)}, {"m", colleague, RelationOf(expand.Moderator, false, false)},
			{"p", colleague, RelationOf(expand.Member, false, false)}, {"c", colleague, RelationOf(0, false, false)},
			{"a", auditor, RelationOf(0, false, false)}, {"x", administrator, RelationOf(0, false, false)},
		} {
			if who.s.May(do, who.r, &p) {
				got += who.letter
			}
			if nobody.May(do, who.r, &p) {
				t.Errorf("nobody may %s", do)
			}
		}
		if got != want {
			t.Errorf("%s: %q may; want %q", do, got, want)
		}
		if do != ReadGroup && do != OwnPart && want != "" && !strings.HasSuffix(do.Refusal(), ".") {
			t.Errorf("%s is refused with %q", do, do.Refusal())
		}
	}
	if len(onGroup) != 20 || len(administrator.OnGroup(Relation{}, &p)) != 17 || len(nobody.OnGroup(Relation{}, &p)) != 0 {
		t.Error("the list of what may be done to a group")
	}
}

// What is said of a permission is what is decided, for everybody and everything.
func TestWhyIsMay(t *testing.T) {
	for find := policy.Nobody; find <= policy.Anyone; find++ {
		var p policy.Policy
		p[policy.Find], p[policy.SeePeople], p[policy.AddPeople] = find, find, find
		for _, s := range []Subject{nobody, colleague, auditor, administrator} {
			for rung := policy.Owners; rung <= policy.Anyone; rung++ {
				for _, row := range append(onGroup, permit{action: "unheard of"}) {
					r := Relation{Rung: rung}
					told := s.Why(row.action, r, &p)
					if (told.Outcome == policy.Allow) != s.May(row.action, r, &p) {
						t.Errorf("%+v on rung %d, %s: %v by %s", s, rung, row.action, told.Outcome, told.Rule)
					}
					if len(told.Reasons) == 0 || told.Reasons[0].Rule != told.Rule || !strings.HasSuffix(told.Reasons[0].Says, ".") && row.action != ReadGroup && row.action != OwnPart {
						t.Errorf("%+v on rung %d, %s: %+v", s, rung, row.action, told)
					}
				}
			}
		}
	}
}

// What the policy answers decides, up and down the ladder.
func TestMayAsThePolicySays(t *testing.T) {
	for answer := policy.Nobody; answer <= policy.Anyone; answer++ {
		var p policy.Policy
		p[policy.Find], p[policy.SeePeople], p[policy.AddPeople] = answer, answer, answer
		for rung := policy.Owners; rung <= policy.Anyone; rung++ {
			for _, do := range []Action{ReadGroup, SeePeople, AddPeople} {
				if got, want := colleague.May(do, Relation{Rung: rung}, &p), answer >= rung; got != want {
					t.Errorf("%s on rung %d with the answer %d: %v", do, rung, answer, got)
				}
			}
		}
	}
}

func TestMayHere(t *testing.T) {
	for do, want := range map[Action]string{
		CreateGroup: "x", SearchPeople: "cax", ReadTerms: "ax", ChangeTerms: "x", ReadWorkspaceHistory: "ax", ReadNaming: "ax", ChangeNaming: "x",
		ReadStartingPoints: "cax", ChangeStartingPoints: "x", ReadDeparted: "ax", ChangeDirectory: "x", "unheard of": "",
	} {
		got := ""
		for i, s := range []Subject{colleague, auditor, administrator} {
			if s.MayHere(do, false) {
				got += "cax"[i : i+1]
			}
		}
		if got != want || nobody.MayHere(do, true) {
			t.Errorf("%s: %q may; want %q", do, got, want)
		}
	}
	if !colleague.MayHere(CreateGroup, true) || auditor.MayHere(CreateGroup, true) {
		t.Error("where everybody creates groups, auditors do not")
	}
	if got := colleague.OnWorkspace(true); !slices.Equal(got, []Action{CreateGroup, SearchPeople, ReadStartingPoints, ReadOutside, ReadPublic, ReadCeilings}) {
		t.Errorf("a colleague may %v", got)
	}
}

func TestRelation(t *testing.T) {
	for _, c := range []struct {
		own              expand.Role
		inside, outsider bool
		want             policy.Audience
	}{
		{expand.Owner, false, false, policy.Owners}, {expand.Moderator, true, false, policy.Moderators}, {expand.Member, false, true, policy.Members},
		{0, true, false, policy.Members}, {0, true, true, policy.Members}, {0, false, true, policy.Anyone}, {0, false, false, policy.Workspace},
	} {
		if got := RelationOf(c.own, c.inside, c.outsider); got.Rung != c.want || got.Role != c.own {
			t.Errorf("%+v: %+v", c, got)
		}
	}
}

// A visitor may what a group lets anyone, and is asked about nothing else; where there are no public pages,
// there are no visitors.
func TestVisitors(t *testing.T) {
	visitor := Subject{Visitor: true}
	for _, relation := range []Relation{RelationOf(0, false, true), RelationOf(expand.Member, false, true), RelationOf(expand.Owner, false, false)} {
		for a := policy.Nobody; a <= policy.Anyone; a++ {
			p := policy.Default()
			p[policy.Find], p[policy.SeePeople], p[policy.AddPeople] = policy.Anyone, a, a
			for _, row := range onGroup {
				want := row.action == ReadGroup || row.action == SeePeople && a == policy.Anyone
				if may, why := visitor.May(row.action, relation, &p), visitor.Why(row.action, relation, &p); may != want || may != (why.Outcome == policy.Allow) {
					t.Errorf("%s of %s: %v, %+v", row.action, a.Who(), may, why)
				}
				if (Subject{}).May(row.action, relation, &p) {
					t.Errorf("nobody may %s", row.action)
				}
			}
		}
	}
}
