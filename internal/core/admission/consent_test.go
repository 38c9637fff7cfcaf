package admission

import (
	"strings"
	"testing"

	"ivytable.example/ivytable/internal/core/policy"
)

// Every pair of what two groups say about who sees their people and who writes to them, with every
// consent: what is seen by no more than the inner group shows, and mail from no more than could write
// to either, is what holds.
func TestContradicted(t *testing.T) {
	ladder := []policy.Audience{policy.Nobody, policy.Owners, policy.Moderators, policy.Members, policy.Workspace, policy.Anyone}
	for _, scope := range []Scope{AskedFor, Counted, Seen} {
		for _, outerSees := range ladder {
			for _, innerSees := range ladder {
				for _, outerPost := range ladder {
					for _, innerPost := range ladder {
						for _, then := range ladder {
							o, i := policy.Default(), policy.Default()
							o[policy.SeePeople], i[policy.SeePeople], o[policy.Post], i[policy.Post] = outerSees, innerSees, outerPost, innerPost
							why := Consent{scope, then}.Contradicted(Door{Name: "All Crew", Policy: &o}, Door{Name: "Deck", Policy: &i})
							holds := scope == AskedFor || (scope == Counted || outerSees <= innerSees) && (outerPost <= innerPost || outerPost <= then)
							if holds != (why == "") || why != "" && !strings.HasSuffix(why, ".") {
								t.Fatalf("%s: seen %d in %d, post %d in %d, agreed at %d: %q", scope, innerSees, outerSees, innerPost, outerPost, then, why)
							}
						}
					}
				}
			}
		}
	}
}

func TestScopes(t *testing.T) {
	for _, s := range []Scope{Counted, Seen} {
		if got, ok := ParseScope(s.String()); !ok || got != s {
			t.Errorf("%s is read as %s", s, got)
		}
	}
	for _, s := range []string{"asked", "", "all"} {
		if got, ok := ParseScope(s); ok {
			t.Errorf("%q is read as %s", s, got)
		}
	}
}

func TestOutside(t *testing.T) {
	for _, c := range []struct {
		o       Outside
		address string
		taken   bool
	}{
		{Outside{}, "a@gannetport.example", true},
		{Outside{Barred: true}, "a@gannetport.example", false},
		{Outside{Only: []string{"gannetport.example"}}, "A@Gannetport.example", true},
		{Outside{Only: []string{"gannetport.example"}}, "a@mail.gannetport.example", true},
		{Outside{Only: []string{"gannetport.example"}}, "a@notgannetport.example", false},
		{Outside{Only: []string{"gannetport.example"}}, "a@elsewhere.example", false},
		{Outside{Not: []string{"lucky-draw.example"}}, "a@x.lucky-draw.example", false},
		{Outside{Only: []string{"gannetport.example"}, Not: []string{"old.gannetport.example"}}, "a@old.gannetport.example", false},
	} {
		if why := c.o.Refuses(c.address); (why == "") != c.taken {
			t.Errorf("%+v, %s: %q", c.o, c.address, why)
		}
	}
}
