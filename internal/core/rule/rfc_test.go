package rule

import (
	"fmt"
	"strings"
	"testing"
)

// The examples of RFC 7644, 3.4.2.2, figure 2, as far as they ask about users, with
// domains that are kept for examples.
func TestTheExamplesOfTheStandard(t *testing.T) {
	omalley := NewSubject("bjensen@crew.example", "Barbara O'Malley", true, "2011-06-01T00:00:00Z", map[string]string{"familyName": "O'Malley", "title": "Bosun", "userType": "Employee", "ims": "bjensen@chat.example"})
	intern := NewSubject("jsmith@pier.example", "J. Smith", true, "2011-05-01T00:00:00Z", map[string]string{"userType": "Intern"})
	for _, c := range []struct {
		rule string
		want [2]Verdict
	}{
		{`userName eq "bjensen@crew.example"`, [2]Verdict{Match, NoMatch}},
		{`name.familyName co "O'Malley"`, [2]Verdict{Match, Unknown}},
		{`userName sw "J"`, [2]Verdict{NoMatch, Match}},
		{`urn:ietf:params:scim:schemas:core:2.0:User:userName sw "J"`, [2]Verdict{NoMatch, Match}},
		{`title pr`, [2]Verdict{Match, NoMatch}},
		{`meta.created gt "2011-05-13T04:42:34Z"`, [2]Verdict{Match, NoMatch}},
		{`meta.created ge "2011-05-13T04:42:34Z"`, [2]Verdict{Match, NoMatch}},
		{`meta.created lt "2011-05-13T04:42:34Z"`, [2]Verdict{NoMatch, Match}},
		{`meta.created le "2011-05-13T04:42:34Z"`, [2]Verdict{NoMatch, Match}},
		{`title pr and userType eq "Employee"`, [2]Verdict{Match, NoMatch}},
		{`title pr or userType eq "Intern"`, [2]Verdict{Match, Match}},
		{`userType eq "Employee" and (emails co "crew.example" or emails.value co "quay.example")`, [2]Verdict{Match, NoMatch}},
		{`userType ne "Employee" and not (emails co "crew.example" or emails.value co "quay.example")`, [2]Verdict{NoMatch, Match}},
		{`userType eq "Employee" and (emails.type eq "work")`, [2]Verdict{Match, NoMatch}},
		{`userType eq "Employee" and emails[type eq "work" and value co "@crew.example"]`, [2]Verdict{Match, NoMatch}},
		{`emails[type eq "work" and value co "@quay.example"] or ims[type eq "work" and value co "@chat.example"]`, [2]Verdict{Match, Unknown}},
	} {
		r := mustParse(t, c.rule)
		for i, s := range []Subject{omalley, intern} {
			if got := r.Eval(s); got != c.want[i] {
				t.Errorf("%s of person %d: %v; want %v", c.rule, i, got, c.want[i])
			}
		}
	}
}

// Three values go together as Kleene's tables have them.
func TestWhatIsUnknownInAndOrAndNot(t *testing.T) {
	text := map[Verdict]string{Match: `userName pr`, NoMatch: `not (userName pr)`, Unknown: `title eq "x"`}
	nobody := NewSubject("a@b.example", "A", true, "", nil)
	for a, ta := range text {
		if got := mustParse(t, "not ("+ta+")").Eval(nobody); got != Match-a {
			t.Errorf("not %v is %v", a, got)
		}
		for b, tb := range text {
			if got := mustParse(t, fmt.Sprintf("(%s) and (%s)", ta, tb)).Eval(nobody); got != min(a, b) {
				t.Errorf("%v and %v is %v", a, b, got)
			}
			if got := mustParse(t, fmt.Sprintf("(%s) or (%s)", ta, tb)).Eval(nobody); got != max(a, b) {
				t.Errorf("%v or %v is %v", a, b, got)
			}
		}
	}
}

// Every attribute takes every operator that its kind has, and refuses the others.
func TestEveryAttributeWithEveryOperator(t *testing.T) {
	for _, a := range Attributes() {
		for _, o := range operators {
			value := map[Kind]string{Text: `"x"`, Boolean: "true", DateTime: `"2026-11-23T00:00:00Z"`}[a.Kind]
			text := a.Path + " " + o + " " + value
			fits := true
			switch {
			case o == "pr":
				text = a.Path + " pr"
			case a.Kind == Boolean:
				fits = o == "eq" || o == "ne"
			case a.Kind == DateTime:
				fits = o != "co" && o != "sw" && o != "ew"
			}
			r, err := Parse(text)
			if (err == nil) != fits {
				t.Errorf("%s: %v", text, err)
			}
			if err != nil {
				continue
			}
			if used := r.Attributes(); len(used) != 1 || used[0].Path != a.Path {
				t.Errorf("%s uses %+v", text, used)
			}
			parent, part, complex := strings.Cut(a.Path, ".")
			if complex {
				inside := parent + "[" + strings.Replace(text, a.Path, part, 1) + "]"
				if _, err := Parse(inside); err != nil {
					t.Errorf("%s: %v", inside, err)
				}
			}
		}
	}
}

// A field of the directory is seen by rules under exactly one path, and a value put
// into it is found there.
func TestEveryFieldIsSeen(t *testing.T) {
	seen := map[string]string{}
	for _, a := range Attributes() {
		if a.Field == "" {
			continue
		}
		if seen[a.Field] != "" {
			t.Errorf("%s is seen as %s and %s", a.Field, seen[a.Field], a.Path)
		}
		seen[a.Field] = a.Path
		s := NewSubject("a@b.example", "A", true, "", map[string]string{a.Field: " Valüe "})
		if got := mustParse(t, a.Path+` eq "Valüe"`).Eval(s); got != Match {
			t.Errorf("%s is not found at %s: %v", a.Field, a.Path, got)
		}
		if got := mustParse(t, a.Path+` eq "VALÜE"`).Eval(s); (got == Match) == a.Exact {
			t.Errorf("%s compares in another case as %v", a.Path, got)
		}
		if s.Lacks(a) || !NewSubject("a@b.example", "A", true, "", nil).Lacks(a) {
			t.Errorf("%s: Lacks is wrong", a.Path)
		}
	}
	many := NewSubject("a@b.example", "A", true, "", map[string]string{"roles": "one; two;;three "})
	for _, v := range []string{"one", "two", "three"} {
		if mustParse(t, `roles eq "`+v+`"`).Eval(many) != Match {
			t.Errorf("one of several values is not found: %s", v)
		}
	}
	if mustParse(t, `roles[value sw "t" and value ew "o"]`).Eval(many) != Match || mustParse(t, `roles[value sw "o" and value ew "o"]`).Eval(many) != NoMatch {
		t.Error("in brackets, one value has to fit all")
	}
}
