package naming

import (
	"strings"
	"testing"
)

var (
	rules = Rules{Pattern: "{name} ({locality})", Words: []string{"payroll", "works council", "Директор", "社長"}, Beginnings: []string{"all", "Merrow Line"}}
	tove  = Creator{Fields: map[string]string{"locality": "Gannet Quay", "department": "Dispatch"}}
)

func TestApply(t *testing.T) {
	for _, c := range []struct {
		name, local string
		want, at    string // final name, final local part of one that was typed
		faults      string // their rules
	}{
		{"Lost Keys", "", "Lost Keys (Gannet Quay)", "", ""},
		{"Lost Keys", "keys", "Lost Keys (Gannet Quay)", "keys-gannet-quay", ""},
		{"Lost Keys (gannet quay)", "keys-gannet-quay", "Lost Keys (gannet quay)", "keys-gannet-quay", ""},
		{"", "", "", "", ""},
		{"PAYROLL night", "", "PAYROLL night (Gannet Quay)", "", "word"},
		{"Payroll-Nord", "", "Payroll-Nord (Gannet Quay)", "", "word"},
		{"Pаyroll", "", "Pаyroll (Gannet Quay)", "", "word"}, // with a Cyrillic а
		{"ＰＡＹＲＯＬＬ", "", "ＰＡＹＲＯＬＬ (Gannet Quay)", "", "word"},
		{"Páyröll", "", "Páyröll (Gannet Quay)", "", "word"},
		{"Pay\u200droll", "", "Pay\u200droll (Gannet Quay)", "", "word"},
		{"Payrolls", "", "Payrolls (Gannet Quay)", "", ""},
		{"Prepayroll", "", "Prepayroll (Gannet Quay)", "", ""},
		{"The Works  Council", "", "The Works  Council (Gannet Quay)", "", "word"},
		{"Council Works", "", "Council Works (Gannet Quay)", "", ""},
		{"директор", "", "директор (Gannet Quay)", "", "word"},
		{"Direktor", "", "Direktor (Gannet Quay)", "", "word"},
		{"副社長室", "", "副社長室 (Gannet Quay)", "", "word"},
		{"Money", "payroll", "Money (Gannet Quay)", "payroll-gannet-quay", "word"},
		{"All Hands", "", "All Hands (Gannet Quay)", "", "beginning"},
		{"Allotments", "", "Allotments (Gannet Quay)", "", ""},
		{"Merrow  Line News", "", "Merrow  Line News (Gannet Quay)", "", "beginning"},
		{"The Merrow Line", "", "The Merrow Line (Gannet Quay)", "", ""},
	} {
		r := rules.Apply(c.name, c.local, tove)
		var faults []string
		for _, f := range r.Faults {
			faults = append(faults, f.Field)
			if f.Says == "" || f.Mend == "" {
				t.Errorf("%s: a fault without words: %+v", c.name, f)
			}
		}
		if r.Name != c.want || strings.Join(faults, " ") != c.faults {
			t.Errorf("%q: %q, %v; want %q, %s", c.name, r.Name, faults, c.want, c.faults)
		}
		if c.local != "" && r.Local(c.local) != c.at {
			t.Errorf("%q at %s: %s; want %s", c.name, c.local, r.Local(c.local), c.at)
		}
	}
}

func TestExempt(t *testing.T) {
	r := rules.Apply("Payroll", "", Creator{Exempt: true})
	if r.Name != "Payroll" || r.Faults != nil || len(r.Notes) != 2 || !strings.Contains(r.Notes[0], "does not bind you") || !strings.Contains(r.Notes[1], "does not bind you") {
		t.Errorf("%+v", r)
	}
}

func TestAFieldThatIsEmptyFallsAway(t *testing.T) {
	deck := Creator{Fields: map[string]string{"department": "Deck"}}
	for _, c := range []struct{ pattern, want string }{
		{"{department}: {name} ({locality})", "Deck: Keys"},
		{"{name} ({locality})", "Keys"},
		{"{name} ({department}, {locality})", "Keys (Deck)"},
		{"{name} ({locality}, {department})", "Keys (Deck)"},
		{"{name} ({locality} / {region})", "Keys"},
		{"{locality} – {name}", "Keys"},
		{"[{locality}] {name}", "Keys"},
		{"{department} {locality} {name}", "Deck Keys"},
		{"{name}, {locality}, {department}", "Keys, Deck"},
		{"{name} of {locality}", "Keys of"},
		{"{name} (ML {locality})", "Keys (ML)"},
	} {
		r := Rules{Pattern: c.pattern}.Apply("Keys", "", deck)
		if r.Name != c.want || len(r.Notes) == 0 || !strings.Contains(r.Notes[0], "falls away") {
			t.Errorf("%s: %q, %q; want %q", c.pattern, r.Name, r.Notes, c.want)
		}
	}
	if r := (Rules{Pattern: "{department}: {name}"}).Apply("Keys", "k", deck); r.Local("k") != "deck-k" {
		t.Errorf("%+v", r)
	}
}

func TestBroken(t *testing.T) {
	r := Rules{Pattern: "{department}: {name} ({locality})", Words: []string{"payroll"}}
	has := func(field, value string) bool {
		return map[string]bool{"department deck": true, "department deck crew": true, "locality gannet quay": true, "locality north": true}[field+" "+strings.ToLower(value)]
	}
	for name, want := range map[string]string{
		"Deck: Keys (Gannet Quay)":   "",
		"deck: keys (gannet quay)":   "",
		"Deck Crew: Keys (North)":    "",
		"Keys (Gannet Quay)":         "pattern",
		"Deck: Keys":                 "pattern",
		"Deck: Payroll (North)":      "word",
		": Keys (North)":             "pattern",
		"Deck: Keys ()":              "pattern",
		"Deck:  (North)":             "pattern",
		"Deck: Keys (North) and so":  "pattern",
		"Dock: Keys (North)":         "pattern", // nobody is in it
		"Deck: Keys (North Pole)":    "pattern",
		"Deck: Keys (South) (North)": "",
		"Engine: Deck: Keys (North)": "pattern",
	} {
		var got []string
		for _, f := range r.Broken(name, "x", has) {
			got = append(got, f.Field)
		}
		if strings.Join(got, " ") != want {
			t.Errorf("%s: %v; want %q", name, got, want)
		}
	}
}

func TestCheck(t *testing.T) {
	fields := []string{"department", "locality"}
	if bad := (Rules{Pattern: "{department} {name}x", Words: []string{"a"}}).Check(fields); bad != nil {
		t.Errorf("%v", bad)
	}
	for _, c := range []struct {
		rules Rules
		field string
		says  string
	}{
		{Rules{Pattern: "{shoe} {name}"}, "pattern", `no field "shoe"`},
		{Rules{Pattern: "{name} {department"}, "pattern", "a { has no }"},
		{Rules{Pattern: "{name} department}"}, "pattern", "without its {"},
		{Rules{Pattern: "{name} {}"}, "pattern", "no field"},
		{Rules{Pattern: "{department}"}, "pattern", "{name} 0 times"},
		{Rules{Pattern: "{name} {name}"}, "pattern", "{name} 2 times"},
		{Rules{Pattern: "{name}" + strings.Repeat("x", 121)}, "pattern", "120 is the most"},
		{Rules{Pattern: "{name}a\nb"}, "pattern", "line break"},
		{Rules{Words: []string{"--"}}, "words", "no letter"},
		{Rules{Words: make([]string, 501)}, "words", ""},
		{Rules{Beginnings: []string{strings.Repeat("x", 61)}}, "beginnings", "60 is the most"},
	} {
		if bad := c.rules.Check(fields); len(bad) == 0 || bad[0].Field != c.field || !strings.Contains(bad[0].Words(), c.says) {
			t.Errorf("%+v: %v", c.rules, bad)
		}
	}
}

func FuzzApply(f *testing.F) {
	f.Add("Lost Keys", "keys", "{department}: {name}", "payroll")
	f.Add("Lost", "", "{name} ({region}, {department})", "payroll")
	f.Add("ＰＡＹ", "", "}{", "社長")
	f.Fuzz(func(t *testing.T, name, local, template, word string) {
		r := Rules{Pattern: template, Words: []string{word}, Beginnings: []string{word}}
		if r.Check([]string{"department", "region"}) != nil {
			return
		}
		out := r.Apply(name, local, tove)
		if again := r.Apply(out.Name, local, tove); again.Name != out.Name {
			t.Errorf("%q becomes %q, and then %q", name, out.Name, again.Name)
		}
		if len(r.Apply(word, "", tove).Faults) == 0 {
			t.Errorf("the reserved word %q itself is taken", word)
		}
		r.Broken(name, local, func(string, string) bool { return len(name)%2 == 0 })
	})
}

func TestUnseen(t *testing.T) {
	for name, at := range map[string]int{"Fähre Größe 夜班 🚢": 0, "It's — fine": 0, "a\u202eb": 2, "\u200bx": 1, "xy\u2028": 3, "Ä\u2066": 2, "x\x00": 2, "x\n": 2, "soft\u00adhyphen": 5, "\ufeffx": 1} {
		if _, got := Unseen(name); got != at {
			t.Errorf("%q: %d, want %d", name, got, at)
		}
	}
}
