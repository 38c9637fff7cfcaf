package erasure

import (
	"testing"

	"ivytable.example/ivytable/internal/core/seal"
)

var mara, other = seal.ID{1}, seal.ID{2}

func cleaner(shared ...string) *Cleaner {
	p := Person{ID: mara, Names: []string{"Mara Ericson", "Mara Old", "Will"}, Addresses: []string{"mara@merrowline.example", "m.old@merrowline.example"}, Shared: map[string]bool{}, Name: "An erased person", Address: "erased-1@merrowline.example"}
	for _, s := range shared {
		p.Shared[s] = true
	}
	return New(p)
}

func TestText(t *testing.T) {
	for _, c := range []struct {
		text, want string
		about      bool
		shared     []string
	}{
		{text: "Ask Mara Ericson.", want: "Ask An erased person."},
		{text: "Mara Ericson Mara Ericson, mara@merrowline.example", want: "An erased person An erased person, erased-1@merrowline.example"},
		{text: "MARA@Merrowline.example; x.mara@merrowline.example", want: "erased-1@merrowline.example; x.mara@merrowline.example"},
		{text: "mara@merrowline.example.org, tamara@merrowline.example, desk+mara@merrowline.example", want: "mara@merrowline.example.org, tamara@merrowline.example, desk+mara@merrowline.example"},
		{text: "Write to mara@merrowline.example. She knows.", want: "Write to erased-1@merrowline.example. She knows."},
		{text: "Mara Ericsons, Mara Ericson-Holm", want: "Mara Ericsons, Mara Ericson-Holm"},
		{text: "It was Mara Old who did.", want: "It was An erased person who did."},
		{text: "Will they?", want: "Will they?", about: true},
		{text: "Will", want: "An erased person", about: true},
		{text: "Will", want: "Will"},
		{text: "Ask Mara Ericson.", want: "Ask Mara Ericson.", shared: []string{"mara ericson"}},
		{text: "Ask Mara Ericson.", want: "Ask An erased person.", shared: []string{"mara ericson"}, about: true},
		{text: "mara@merrowline.example", want: "mara@merrowline.example", shared: []string{"mara@merrowline.example"}},
		{text: "mara@merrowline.example", want: "erased-1@merrowline.example", shared: []string{"mara@merrowline.example"}, about: true},
	} {
		if got := cleaner(c.shared...).Text(c.text, c.about); got != c.want {
			t.Errorf("%q, about %v, shared %v: %q, want %q", c.text, c.about, c.shared, got, c.want)
		}
	}
}

func TestEntry(t *testing.T) {
	theirs := `{"people":[{"address":"mara@merrowline.example","name":"Mara Ericson"}],"to":"Mara Ericson"}`
	namesake := `{"people":[{"address":"mara.2@merrowline.example","name":"Mara Ericson"}],"n":12345678901234567890}`
	for name, c := range map[string]struct {
		e      seal.Entry
		data   string
		actor  string
		label  string
		shared []string
	}{
		"by them":                {seal.Entry{ActorID: mara, Actor: "mara@merrowline.example", Data: []byte(namesake)}, namesake, "erased-1@merrowline.example", "", nil},
		"about them":             {seal.Entry{ActorID: other, Actor: "ines@merrowline.example", Data: []byte(theirs), Affected: []seal.Affected{{Who: mara}}}, `{"people":[{"address":"erased-1@merrowline.example","name":"An erased person"}],"to":"An erased person"}`, "ines@merrowline.example", "", nil},
		"named with others":      {seal.Entry{ActorID: other, Data: []byte(theirs)}, `{"people":[{"address":"erased-1@merrowline.example","name":"An erased person"}],"to":"Mara Ericson"}`, "", "", []string{"mara ericson"}},
		"a former name":          {seal.Entry{ActorID: other, Data: []byte(`{"of":{"address":"M.Old@merrowline.example","name":"Maid En"}}`)}, `{"of":{"address":"erased-1@merrowline.example","name":"An erased person"}}`, "", "", nil},
		"a namesake":             {seal.Entry{ActorID: other, Actor: "mara.2@merrowline.example", Data: []byte(namesake)}, "", "mara.2@merrowline.example", "", nil},
		"who has it now":         {seal.Entry{ActorID: other, Actor: "mara@merrowline.example", Data: []byte(theirs)}, "", "mara@merrowline.example", "", []string{"mara@merrowline.example", "mara ericson"}},
		"before they were known": {seal.Entry{ActorID: other, Data: []byte(`{}`), Affected: []seal.Affected{{Who: seal.ID{9}, Label: "mara@merrowline.example"}}}, `{}`, "", "erased-1@merrowline.example", nil},
	} {
		e := c.e
		changed, err := cleaner(c.shared...).Entry(&e)
		if c.data == "" {
			if changed || err != nil || string(e.Data) != string(c.e.Data) || e.Actor != c.actor {
				t.Errorf("%s: changed to %s by %s, %v", name, e.Data, e.Actor, err)
			}
			continue
		}
		if !changed || err != nil || string(e.Data) != c.data || e.Actor != c.actor {
			t.Errorf("%s: %v, %s by %s, %v", name, changed, e.Data, e.Actor, err)
		}
		if c.label != "" && e.Affected[0].Label != c.label {
			t.Errorf("%s: %q", name, e.Affected[0].Label)
		}
	}
	if _, err := cleaner().Entry(&seal.Entry{Data: []byte("{")}); err == nil {
		t.Error("what can't be read is taken for clean")
	}
}
