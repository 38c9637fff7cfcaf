package filter

import (
	"errors"
	"strings"
	"testing"

	"ivytable.example/ivytable/internal/core/fault"
	"ivytable.example/ivytable/internal/core/policy"
	"ivytable.example/ivytable/internal/core/rule"
)

func everything(rule.Attribute) bool { return true }

func TestWhatCanBeAsked(t *testing.T) {
	for list, s := range map[string]*rule.Schema{"groups": Groups, "people": People, "history": History} {
		seen := map[string]bool{}
		for _, a := range s.Attributes() {
			if a.Label == "" || seen[a.Path] || a.Kind == rule.Choice && len(a.Choices) == 0 {
				t.Errorf("%s: %+v", list, a)
			}
			seen[a.Path] = true
		}
	}
	for _, d := range policy.Describe() {
		for _, c := range d.Choices {
			if _, err := Read(Groups, d.Name+` eq "`+c.Name+`"`, everything); err != nil {
				t.Errorf("%s: %v", d.Name, err)
			}
		}
		if _, err := Read(Groups, d.Name+` gt "`+d.Choices[0].Name+`"`, everything); (err == nil) != d.Bounded {
			t.Errorf("%s follows a ladder: %v, %v", d.Name, d.Bounded, err)
		}
	}
}

func TestRead(t *testing.T) {
	for _, x := range []struct {
		s    *rule.Schema
		text string
		says string // "": it can be read
		at   int
	}{
		{Groups, `owners eq 0 and not (post eq "anyone")`, "", 0},
		{Groups, `owner eq "oda.fenn@merrowline.example"`, "", 0},
		{Groups, `days_left lt 30 and state ne "retired"`, "", 0},
		{People, `groups eq "a@b.example" or last_sign_in lt "2026-01-01T00:00:00Z"`, "", 0},
		{History, `person pr and kind eq "group.create"`, "", 0},
		{Groups, `owners eq "0"`, "whole number", 10},
		{Groups, `people gt 1.5`, "whole number", 10},
		{Groups, `post eq "everybody"`, "anyone", 8},
		{Groups, `nope eq 1`, "There is no attribute nope", 0},
		{Groups, `by_rule eq "yes"`, "true or false", 11},
		{Groups, `expires_on lt "soon"`, "2027-03-18", 14},
		{People, `owners eq 0`, "There is no attribute owners", 0},
		{History, `kind eq "group.nope"`, "group.", 8},
		{Groups, ``, "", -1},
	} {
		_, err := Read(x.s, x.text, everything)
		var f *fault.Fault
		switch {
		case x.at < 0:
			if err == nil {
				t.Error("nothing is read as a filter")
			}
		case x.says == "" && err != nil:
			t.Errorf("%s: %v", x.text, err)
		case x.says != "" && (!errors.As(err, &f) || !strings.Contains(f.Words(), x.says) || f.At != x.at):
			t.Errorf("%s: %v; want %q at %d", x.text, err, x.says, x.at)
		}
	}
}

func TestWhatIsNotSeenIsNotAsked(t *testing.T) {
	public := func(a rule.Attribute) bool { return !a.Private }
	for text, at := range map[string]int{`waiting gt 0`: 0, `owners eq 0 or not (quiet_days gt 30)`: 20} {
		_, err := Read(Groups, text, public)
		var f *fault.Fault
		if !errors.Is(err, ErrNotSeen) || !errors.As(err, &f) || f.At != at {
			t.Errorf("%s: %v", text, err)
		}
	}
	if _, err := Read(Groups, `owners eq 0`, public); err != nil {
		t.Error(err)
	}
}

// Of a list without an entry it is known that it has none; of a day that there is not, nothing is known.
func TestAnEmptyListIsKnown(t *testing.T) {
	nothing := Groups.NewSubject(nil)
	for expression, want := range map[string]rule.Verdict{
		`traits eq "archive"`: rule.NoMatch, `not (traits eq "archive")`: rule.Match, `not (finding eq "no_owner")`: rule.Match, `not (owner.address sw "a")`: rule.Match,
		`not (alias pr)`: rule.Match, `not (expires_on gt "2026-11-01")`: rule.Unknown, `not (description co "x")`: rule.Unknown,
	} {
		r, err := Groups.Parse(expression)
		if err != nil {
			t.Errorf("%s: %v", expression, err)
		} else if got := r.Eval(nothing); got != want {
			t.Errorf("%s: %s, want %s", expression, got, want)
		}
	}
}
