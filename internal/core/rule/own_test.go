package rule

import (
	"strings"
	"testing"
)

func TestNamesOfOwnAttributes(t *testing.T) {
	for name, says := range map[string]string{
		"shift": "", "payGrade": "", "a1_b-c": "", strings.Repeat("x", MaxOwnName): "",
		"": "0 characters", strings.Repeat("x", MaxOwnName+1): "51 characters", "1st": "no name", "a b": "no name", "__proto__": "no name", "ключ": "no name", "a.b": "no name",
		"department": "has department already", "USERNAME": "has userName already", "addresses": "has addresses already", "locality": "has addresses already",
		"and": "something else", "Not": "something else", "true": "something else", "null": "something else", "eq": "something else", "groups": "something else",
	} {
		f := Own{Name: name, Kind: Text}.Check("groups")
		if got := ""; f != nil {
			got = f.Error()
			if says == "" || !strings.Contains(got, says) {
				t.Errorf("%q: %s; want %q", name, got, says)
			}
		} else if says != "" {
			t.Errorf("%q is taken; want %q", name, says)
		}
	}
}

func TestOwnAttributesInRules(t *testing.T) {
	s := People.With([]Own{{Name: "shift", Kind: Text}, {Name: "grade", Kind: Number}, {Name: "night", Kind: Boolean}, {Name: "since", Kind: Day}})
	who := NewSubject("a@b.example", "A", true, "2026-01-01T00:00:00Z", map[string]string{"shift": "B", "grade": "7", "night": "true", "since": "2026-03-01"})
	for text, want := range map[string]Verdict{
		`shift eq "b"`: Match, OwnSchema + `:shift eq "b"`: Match, `grade gt 6`: Match, `grade lt 7`: NoMatch, `night eq true`: Match, `since ge "2026-03-01"`: Match,
		`since lt "2026-03-01"`: NoMatch, `not (shift eq "a")`: Match,
	} {
		r, err := s.Parse(text)
		if err != nil {
			t.Errorf("%s: %v", text, err)
			continue
		}
		if got := r.Eval(who); got != want {
			t.Errorf("%s: %v, want %v", text, got, want)
		}
	}
	for _, text := range []string{`grade eq "7"`, `night eq "yes"`, `since eq "yesterday"`, `nope eq "x"`, `urn:x:shift eq "b"`} {
		if _, err := s.Parse(text); err == nil {
			t.Errorf("%s is read", text)
		}
	}
}
