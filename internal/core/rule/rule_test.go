package rule

import (
	"slices"
	"strings"
	"testing"

	"ivytable.example/ivytable/internal/core/fault"
)

var (
	tove = NewSubject("tove.alder@merrowline.example", "Tove Alder", true, "2026-03-01T08:00:00Z", map[string]string{
		"department": "Dispatch", "title": "Night Dispatcher", "locality": "Gannet Quay", "country": "XF", "employeeNumber": "ML1003",
		"externalId": "aBc", "roles": "first aider; crane driver", "givenName": "Tove", "manager": "oda.fenn@merrowline.example"})
	jonas = NewSubject("jonas.keel@crew.merrowline.example", "Jonas Keel", true, "2025-03-01T08:00:00Z", map[string]string{"title": "Deckhand"})
	gone  = NewSubject("rurik.gale@merrowline.example", "Rurik Größ", false, "", map[string]string{"department": "WORKSHOP"})
)

func TestCreatedKeepsItsMicroseconds(t *testing.T) {
	s := NewSubject("x@merrowline.example", "X", true, "2025-03-01T08:00:00.000002Z", nil)
	for text, want := range map[string]Verdict{"gt \"2025-03-01T08:00:00.000001Z\"": Match, "gt \"2025-03-01T08:00:00.000002Z\"": NoMatch, "eq \"2025-03-01T08:00:00Z\"": NoMatch} {
		if r, err := Parse("meta.created " + text); err != nil || r.Eval(s) != want {
			t.Errorf("created %s: %v; want %v", text, err, want)
		}
	}
}

func TestEval(t *testing.T) {
	for _, c := range []struct {
		rule string
		want [3]Verdict // of tove, jonas, gone
	}{
		{`department eq "Dispatch"`, [3]Verdict{Match, Unknown, NoMatch}},
		{`DEPARTMENT Eq "dispatch"`, [3]Verdict{Match, Unknown, NoMatch}},
		{`department eq "workshop"`, [3]Verdict{NoMatch, Unknown, Match}},
		{`department ne "Dispatch"`, [3]Verdict{NoMatch, Unknown, Match}},
		{`not (department eq "Dispatch")`, [3]Verdict{NoMatch, Unknown, Match}},
		{`department pr`, [3]Verdict{Match, NoMatch, Match}},
		{`not (department pr)`, [3]Verdict{NoMatch, Match, NoMatch}},
		{`department eq null`, [3]Verdict{NoMatch, Match, NoMatch}},
		{`department ne null`, [3]Verdict{Match, NoMatch, Match}},
		{`title co "dispatch"`, [3]Verdict{Match, NoMatch, Unknown}},
		{`title sw "night"`, [3]Verdict{Match, NoMatch, Unknown}},
		{`title ew "hand"`, [3]Verdict{NoMatch, Match, Unknown}},
		{`employeeNumber gt "ML1002"`, [3]Verdict{Match, Unknown, Unknown}},
		{`employeeNumber ge "ML1003" and employeeNumber le "ML1003"`, [3]Verdict{Match, Unknown, Unknown}},
		{`employeeNumber lt "ml1003"`, [3]Verdict{NoMatch, Unknown, Unknown}},
		{`externalId eq "aBc"`, [3]Verdict{Match, Unknown, Unknown}},
		{`externalId eq "abc"`, [3]Verdict{NoMatch, Unknown, Unknown}},
		{`active eq true`, [3]Verdict{Match, Match, NoMatch}},
		{`active ne true`, [3]Verdict{NoMatch, NoMatch, Match}},
		{`displayName ew "GRÖSS"`, [3]Verdict{NoMatch, NoMatch, Match}}, // folding takes ß for ss
		{`meta.created gt "2026-01-01T00:00:00Z"`, [3]Verdict{Match, NoMatch, Unknown}},
		{`meta.created le "2025-03-01T09:00:00+01:00"`, [3]Verdict{NoMatch, Match, Unknown}},
		{`userName ew "@crew.merrowline.example"`, [3]Verdict{NoMatch, Match, NoMatch}},
		{`emails co "merrowline"`, [3]Verdict{Match, Match, Match}},
		{`emails[type eq "work" and primary eq true]`, [3]Verdict{Match, Match, Match}},
		{`addresses[type eq "work" and locality eq "Gannet Quay"]`, [3]Verdict{Match, Unknown, Unknown}},
		{`addresses[type eq "home" and locality eq "Gannet Quay"]`, [3]Verdict{NoMatch, Unknown, Unknown}},
		{`addresses[not (locality sw "North") and (country eq "XF" or country eq "XN")]`, [3]Verdict{Match, Unknown, Unknown}},
		{`addresses pr`, [3]Verdict{Match, NoMatch, NoMatch}},
		{`urn:ietf:params:scim:schemas:core:2.0:User:addresses pr`, [3]Verdict{Match, NoMatch, NoMatch}},
		{"displayName co \"gr\u00f6\"", [3]Verdict{NoMatch, NoMatch, Match}},
		{"displayName co \"gro\u0308\"", [3]Verdict{NoMatch, NoMatch, Match}}, // one letter, of two code points
		{`roles eq "crane driver"`, [3]Verdict{Match, Unknown, Unknown}},
		{`roles.value ne "crane driver"`, [3]Verdict{Match, Unknown, Unknown}}, // one value that fits is enough
		{`name.givenName eq "tove"`, [3]Verdict{Match, Unknown, Unknown}},
		{`manager eq "oda.fenn@merrowline.example"`, [3]Verdict{Match, Unknown, Unknown}},
		{`urn:ietf:params:scim:schemas:extension:enterprise:2.0:User:department eq "Dispatch"`, [3]Verdict{Match, Unknown, NoMatch}},
		{`urn:ietf:params:scim:schemas:core:2.0:User:title pr`, [3]Verdict{Match, Match, NoMatch}},
		// not binds tighter than and, and tighter than or
		{`title eq "x" and title eq "y" or userName sw "tove"`, [3]Verdict{Match, NoMatch, Unknown}},
		{`userName sw "tove" or title eq "x" and title eq "y"`, [3]Verdict{Match, NoMatch, Unknown}},
		{`(userName sw "tove" or title pr) and title eq "Deckhand"`, [3]Verdict{NoMatch, Match, NoMatch}},
		{`not (userName sw "tove") and title pr`, [3]Verdict{NoMatch, Match, NoMatch}},
		{`not(not(userName sw "tove"))`, [3]Verdict{Match, NoMatch, NoMatch}},
		// what is unknown does not matter where the rest decides
		{`department eq "Dispatch" and userName sw "tove"`, [3]Verdict{Match, NoMatch, NoMatch}},
		{`department eq "Dispatch" or title eq "Deckhand"`, [3]Verdict{Match, Match, Unknown}},
	} {
		r, err := Parse(c.rule)
		if err != nil {
			t.Errorf("%s: %v", c.rule, err)
			continue
		}
		for i, s := range []Subject{tove, jonas, gone} {
			if got := r.Eval(s); got != c.want[i] {
				t.Errorf("%s of %s: %v; want %v", c.rule, s.single["displayName"], got, c.want[i])
			}
		}
	}
}

func TestParseErrors(t *testing.T) {
	for _, c := range []struct {
		rule string
		at   int
		says string
	}{
		{``, 0, "empty"},
		{`   `, 0, "empty"},
		{`department`, 10, "breaks off"},
		{`department eq`, 13, "breaks off"},
		{`department eq Deck`, 14, "double quotes"},
		{`department eq "Deck`, 14, "does not end"},
		{`department eq "De\q"`, 14, "can't be read"},
		{`department is "Deck"`, 11, "operator"},
		{`department eq "Deck" title pr`, 21, "and, or, or the end"},
		{`department eq "Deck" and`, 24, "breaks off"},
		{`(department eq "Deck"`, 21, "breaks off"},
		{`department eq "Deck")`, 20, "can't stand here"},
		{`not department eq "Deck"`, 4, "( after not"},
		{`locality eq "x"`, 0, "Write addresses.locality."},
		{`depratment eq "x"`, 0, "no attribute depratment"},
		{`groups eq "x"`, 0, "nest that group"},
		{`addresses eq "x"`, 0, "Name one"},
		{`addresses[street eq "x"]`, 10, "addresses has no part street"},
		{`addresses[locality eq "x"`, 25, "breaks off"},
		{`title[value eq "x"]`, 0, "can't have brackets"},
		{`emails[addresses[type pr]]`, 7, "can't have brackets"},
		{`active eq "true"`, 10, "without quotes"},
		{`active gt true`, 7, "no meaning"},
		{`title eq 7`, 9, "double quotes"},
		{`title gt null`, 9, "Use eq, ne or pr"},
		{`meta.created gt "yesterday"`, 16, "2026-11-23T00:00:00Z"},
		{`meta.created co "2026-11-23T00:00:00Z"`, 13, "no meaning"},
		{`urn:ietf:params:scim:schemas:core:2.0:User:department pr`, 0, "no attribute"},
		{`title eq "x" & title pr`, 13, "no meaning here"},
		{strings.Repeat("(", 30) + "title pr" + strings.Repeat(")", 30), 20, "deep"},
		{strings.Repeat("title pr or ", 250) + "title pr", 2400, "more than 200"},
		{strings.Repeat("x", 5000), 4000, "the most"},
	} {
		_, err := Parse(c.rule)
		e, ok := err.(*fault.Fault)
		if !ok {
			t.Errorf("%.60s: no error", c.rule)
		} else if e.At != c.at || !strings.Contains(e.Error(), c.says) {
			t.Errorf("%.60s: at %d: %v; want at %d: %s", c.rule, e.At, e, c.at, c.says)
		}
	}
}

func TestExplain(t *testing.T) {
	r, err := Parse(`(department eq "Dispatch" or department eq "Safety") and title co "Night" and not (locality pr)`)
	if err == nil || !strings.Contains(err.Error(), "addresses.locality") {
		t.Fatalf("%v", err)
	}
	r, err = Parse(`(department eq "Dispatch" or department eq "Safety") and title co "Night" and not (addresses.locality eq "Gannet Quay")`)
	if err != nil {
		t.Fatal(err)
	}
	e := r.Explain(tove)
	if e.Verdict != NoMatch || e.Distance != 1 || e.Failed[0].Text != `addresses.locality eq "Gannet Quay"` || e.Failed[0].Says != "addresses.locality is Gannet Quay." || len(e.Parts) != 4 {
		t.Errorf("of Tove: %+v", e)
	}
	e = r.Explain(jonas)
	if e.Verdict != NoMatch || e.Distance != 3 || e.Failed[0].Lacks != "department" || e.Failed[1].Says != "title is Deckhand." || e.Failed[2].Lacks != "addresses.locality" {
		t.Errorf("of Jonas: %+v", e)
	}
	if e = mustParse(t, `addresses[type eq "home"] or department eq "Deck"`).Explain(tove); e.Distance != 1 || e.Parts[0].Says != "No value of addresses fits." {
		t.Errorf("with brackets: %+v", e)
	}
	if e = r.Explain(NewSubject("a@b.example", "A", true, "", map[string]string{"department": "safety", "title": "night watch", "locality": "North Ness"})); e.Verdict != Match || e.Failed != nil {
		t.Errorf("of one who matches: %+v", e)
	}
}

func mustParse(t *testing.T, text string) *Rule {
	t.Helper()
	r, err := Parse(text)
	if err != nil {
		t.Fatalf("%s: %v", text, err)
	}
	return r
}

func TestAttributes(t *testing.T) {
	var got []string
	for _, a := range mustParse(t, `title pr and (department eq "x" or department eq "y") and addresses[locality pr]`).Attributes() {
		got = append(got, a.Path)
	}
	if !slices.Equal(got, []string{"title", "addresses.locality", "department"}) {
		t.Errorf("%v", got)
	}
	for _, a := range Attributes() {
		if People.find(a.Path, "") == nil || a.Label == "" {
			t.Errorf("%+v can't be written", a)
		}
		if strings.HasPrefix(a.Path, "department") == jonas.Lacks(a) {
			continue
		}
	}
	if !jonas.Lacks(*People.find("department", "")) || tove.Lacks(*People.find("roles", "")) {
		t.Error("Lacks is wrong")
	}
}

func TestExpect(t *testing.T) {
	for _, c := range []struct{ text, what, begun, attribute, choice string }{
		{"", "attribute", "", "", "department"},
		{"dep", "attribute", "dep", "", "department"},
		{"addr", "attribute", "addr", "", "addresses.locality"},
		{"department ", "operator", "", "", "sw"},
		{"department e", "operator", "e", "", "eq"},
		{"department eq ", "value", "", "department", ""},
		{`department eq "De`, "value", "De", "department", ""},
		{`department eq "Deck" `, "join", "", "", "and"},
		{`department eq "Deck" an`, "join", "an", "", "and"},
		{`department pr `, "join", "", "", "or"},
		{`department eq "Deck" and `, "attribute", "", "", "title"},
		{`not (`, "attribute", "", "", "title"},
		{`addresses[`, "attribute", "", "", "locality"},
		{`addresses[locality eq "Ga`, "value", "Ga", "addresses.locality", ""},
		{`addresses[locality eq "x"] `, "join", "", "", "and"},
		{`active eq `, "value", "", "active", "true"},
		{`active `, "operator", "", "", "pr"},
	} {
		e := Expect(c.text, len(c.text))
		if e.What != c.what || e.Begun != c.begun || e.Attribute != c.attribute || c.choice != "" && !slices.Contains(e.Choices, c.choice) {
			t.Errorf("%q: %+v; want %s %q", c.text, e, c.what, c.choice)
		}
	}
	if e := Expect(`department eq "x" and ti`, 13); e.What != "value" && e.What != "operator" {
		t.Errorf("in the middle: %+v", e)
	}
}

func FuzzParse(f *testing.F) {
	for _, s := range []string{`department eq "Deck"`, `not (title pr) and a`, `addresses[type eq "work" and locality ne null] or active eq true`, `((title pr))`, `"`, `[`, `emails[`, `x:y.z gt "\u00e9"`} {
		f.Add(s, len(s))
	}
	f.Fuzz(func(t *testing.T, text string, at int) {
		Expect(text, at)
		r, err := Parse(text)
		if err != nil {
			if e := err.(*fault.Fault); e.At < 0 || e.At > len(text) || e.Says == "" || e.Mend == "" {
				t.Fatalf("%q: %+v", text, e)
			}
			return
		}
		for _, s := range []Subject{tove, jonas, gone} {
			e := r.Explain(s)
			if (e.Verdict == Match) != (e.Distance == 0) || e.Distance != r.Distance(s) {
				t.Fatalf("%q: verdict %v at a distance of %d", text, e.Verdict, e.Distance)
			}
			again, err := Parse("(" + text + ")")
			if err == nil && again.Eval(s) != e.Verdict {
				t.Fatalf("%q: %v, but in parentheses %v", text, e.Verdict, again.Eval(s))
			}
		}
	})
}

// same is fold without making what it folds: it has to say what fold would.
func FuzzSame(f *testing.F) {
	for _, pair := range [][2]string{{"Deck", "deck"}, {"Straße", "STRASSE"}, {"", ""}, {"Deck", "decks"}, {"e\u0301", "é"}, {"K", "\u212a"}, {"İ", "i"}, {"a\x80", "A\x80"}} {
		f.Add(pair[0], pair[1])
	}
	f.Fuzz(func(t *testing.T, a, b string) {
		if got, want := same(a, Fold(b)), Fold(a) == Fold(b); got != want {
			t.Errorf("%q and %q are the same: %v, folded %q and %q", a, b, got, Fold(a), Fold(b))
		}
	})
}
