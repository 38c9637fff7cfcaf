package roster

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"unicode/utf16"
)

func flat(l List) []string {
	var out []string
	for _, e := range l.Entries {
		out = append(out, fmt.Sprintf("%d %s <%s> %s", e.Line, e.Name, e.Address, e.Role))
	}
	return out
}

func TestPaste(t *testing.T) {
	for _, c := range []struct {
		text string
		want []string
	}{
		{"", nil},
		{" \n\n", nil},
		{"a@b.example", []string{"1  <a@b.example> "}},
		{"a@b.example, c@d.example;e@f.example", []string{"1  <a@b.example> ", "1  <c@d.example> ", "1  <e@f.example> "}},
		{"a@b.example, c@d.example,\n e@f.example\t g@h.example", []string{"1  <a@b.example> ", "1  <c@d.example> ", "2  <e@f.example> ", "2  <g@h.example> "}},
		{"a@b.example c@d.example", []string{"1  <a@b.example> ", "1  <c@d.example> "}},
		{"Tove Alder <tove@b.example>, Oda Fenn <oda@b.example>", []string{"1 Tove Alder <tove@b.example> ", "1 Oda Fenn <oda@b.example> "}},
		{"Alder, Tove <tove@b.example>; Fenn, Oda <oda@b.example>", []string{"1 Alder, Tove <tove@b.example> ", "1 Fenn, Oda <oda@b.example> "}},
		{"Tove <tove@b.example>, Oda <oda@b.example>; x@y.example", []string{"1 Tove <tove@b.example> ", "1 Oda <oda@b.example> ", "1  <x@y.example> "}},
		{"Tove <tove@b.example>, oda@b.example; x@y.example", []string{"1 Tove <tove@b.example> ", "1  <oda@b.example> ", "1  <x@y.example> "}},
		{"Tove <tove@b.example> Oda <oda@b.example> x@y.example", []string{"1 Tove <tove@b.example> ", "1 Oda <oda@b.example> ", "1  <x@y.example> "}},
		{"Alder, Tove <tove@b.example>, Fenn, Oda <oda@b.example>", []string{"1 Tove Alder <tove@b.example> ", "1 Oda Fenn <oda@b.example> "}},
		{"Tove Alder, Oda Fenn <oda@b.example>", []string{"1 Tove Alder <> ", "1 Oda Fenn <oda@b.example> "}},
		{`"Alder, Tove" <tove@b.example>, <oda@b.example>`, []string{"1 Alder, Tove <tove@b.example> ", "1  <oda@b.example> "}},
		{`"Tove \"T;\" Alder" <tove@b.example>; x@y.example`, []string{`1 Tove "T;" Alder <tove@b.example> `, "1  <x@y.example> "}},
		{"Tove Alder\nOda Fenn", []string{"1 Tove Alder <> ", "2 Oda Fenn <> "}},
		{"<mailto:a@b.example>, mailto:c@d.example", []string{"1  <a@b.example> ", "1  <c@d.example> "}},
		{"not an address@", []string{"1 not an <address@> "}},
		// line ends of every kind
		{"a@b.example\rc@d.example\re@f.example", []string{"1  <a@b.example> ", "2  <c@d.example> ", "3  <e@f.example> "}},
		{"a@b.example\r\nc@d.example\u2028e@f.example\u2029g@h.example", []string{"1  <a@b.example> ", "2  <c@d.example> ", "3  <e@f.example> ", "4  <g@h.example> "}},
		// links
		{"mailto:a@b.example?subject=Hi%20there, MAILTO:c@d.example\nMailto:e%40f.example", []string{"1  <a@b.example> ", "1  <c@d.example> ", "2  <e@f.example> "}},
		{"<MAILTO:a@b.example?cc=x>", []string{"1  <a@b.example> "}},
		// groups of addresses, and fields that were copied whole
		{"Night shift: a@b.example, Tove <c@d.example>, e@f.example;", []string{"1  <a@b.example> ", "1 Tove <c@d.example> ", "1  <e@f.example> "}},
		{"Deck: a@b.example; Engine: c@d.example;", []string{"1  <a@b.example> ", "1  <c@d.example> "}},
		{"undisclosed-recipients:;", nil},
		{"To: Tove Alder\r\n <tove@b.example>, oda@b.example,\r\n\tpetra@b.example\r\nCc: x@y.example", []string{"1 Tove Alder <tove@b.example> ", "1  <oda@b.example> ", "1  <petra@b.example> ", "4  <x@y.example> "}},
		// what stands around addresses
		{"Write to a@b.example.", []string{"1 Write to <a@b.example> "}},
		{"'a@b.example', “c@d.example”, [e@f.example], (g@h.example), i@j.example>, <k@l.example", []string{"1  <a@b.example> ", "1  <c@d.example> ", "1  <e@f.example> ", "1  <g@h.example> ", "1  <i@j.example> ", "1  <k@l.example> "}},
		{"a@b.example (Tove Alder), c@d.example", []string{"1 Tove Alder <a@b.example> ", "1  <c@d.example> "}},
		{"a\u200b@b.exam\u00adple，c＠d.example；e@f．example", []string{"1  <a@b.example> ", "1  <c@d.example> ", "1  <e@f.example> "}},
		{"\u202aa@b.example\u202c\u00a0\ufeff", []string{"1  <a@b.example> "}},
		// names beside addresses
		{"Tove Alder tove@b.example", []string{"1 Tove Alder <tove@b.example> "}},
		{"tove@b.example Tove Alder", []string{"1 Tove Alder <tove@b.example> "}},
		{"Tove tove@b.example Oda oda@b.example", []string{"1 Tove <tove@b.example> ", "1 Oda <oda@b.example> "}},
		{"pilot@port.example\tAnna Pilot", []string{"1 Anna Pilot <pilot@port.example> "}},
		{"Anna Pilot\tpilot@port.example\t+49 1", []string{"1 Anna Pilot <pilot@port.example> "}},
		{`"odd name"@b.example, "a,b"@c.example`, []string{`1  <"odd name"@b.example> `, `1  <"a,b"@c.example> `}},
		// nothing but separators
		{",,;; ,\t;\n <> ; . ;", nil},
	} {
		l, err := Read([]byte(c.text), nil)
		if got := flat(l); err != nil || l.Table || !slices.Equal(got, c.want) {
			t.Errorf("%q: %q, table %v, %v; want %q", c.text, got, l.Table, err, c.want)
		}
	}
}

func TestTable(t *testing.T) {
	for _, c := range []struct {
		name, text string
		delimiter  rune
		want       []string
	}{
		{"commas", "Name,E-Mail\r\nTove Alder,tove@b.example\r\n", ',', []string{"2 Tove Alder <tove@b.example> "}},
		{"semicolons", "first name;LAST NAME;email;Role;Shoe size\nTove;Alder;tove@b.example;Owner;38\n", ';', []string{"2 Tove Alder <tove@b.example> owner"}},
		{"tabs", "address\tname\n tove@b.example \t Tove \n", '\t', []string{"2 Tove <tove@b.example> "}},
		{"bars", "address|role\ntove@b.example|moderator\n", '|', []string{"2  <tove@b.example> moderator"}},
		{"one column", "Email\na@b.example\n\nc@d.example\n", ',', []string{"2  <a@b.example> ", "4  <c@d.example> "}},
		{"quotes and lines within them", "name,address\n\"Alder, \"\"T\"\"\nTove\",tove@b.example\nx,y@z.example\n", ',', []string{"2 Alder, \"T\"\nTove <tove@b.example> ", "4 x <y@z.example> "}},
		{"a name in the address", "mail\nTove Alder <tove@b.example>\n", ',', []string{"2 Tove Alder <tove@b.example> "}},
		{"short lines and empty ones", "address,name,role\na@b.example\n,,\n,Oda Fenn,\n", ',', []string{"2  <a@b.example> ", "4 Oda Fenn <> "}},
		{"a comma too many", "name,address,\nTove,tove@b.example,\nOda,oda@b.example,,,\n", ',', []string{"2 Tove <tove@b.example> ", "3 Oda <oda@b.example> "}},
		{"a comma too many, without a heading", "name,address\nTove,tove@b.example,\nOda,oda@b.example,\n", ',', []string{"2 Tove <tove@b.example> ", "3 Oda <oda@b.example> "}},
		{"CR alone", "name;mail\rTove;tove@b.example\rOda;oda@b.example\r", ';', []string{"2 Tove <tove@b.example> ", "3 Oda <oda@b.example> "}},
		{"a separator that is said", "sep=;\nname;mail\nTove;tove@b.example\n", ';', []string{"3 Tove <tove@b.example> "}},
		{"a heading that is not known", "Kontakt;Telefon\na@b.example;1\nc@d.example;2\n", ';', []string{"2  <a@b.example> ", "3  <c@d.example> "}},
		{"addresses under a heading that is not known", "Abteilung;Kontakt\nDeck;a@b.example\nDeck;<mailto:c@d.example>\n", ';', []string{"2  <a@b.example> ", "3  <c@d.example> "}},
		{"a quote within a field", "name,address\nTove \"T\" Alder,tove@b.example\n", ',', []string{"2 Tove \"T\" Alder <tove@b.example> "}},
		{"links and stops", "mail\nmailto:a@b.example?x=y\nc@d.example.\n", ',', []string{"2  <a@b.example> ", "3  <c@d.example> "}},
		{"the same heading twice", "email,mail\na@b.example,c@d.example\n", ',', []string{"2  <a@b.example> "}},
	} {
		l, err := Read([]byte(c.text), nil)
		if got := flat(l); err != nil || !l.Table || l.Delimiter != c.delimiter || !slices.Equal(got, c.want) {
			t.Errorf("%s: %q, %q, %v; want %q", c.name, got, l.Delimiter, err, c.want)
		}
	}
	l, err := Read([]byte("mail;Abteilung;Ort\na@b.example;Deck;Gannet Quay\n"), map[string]string{"Ort": "region"})
	if err != nil || l.Entries[0].Fields["department"] != "Deck" || l.Entries[0].Fields["region"] != "Gannet Quay" {
		t.Errorf("%+v, %v", l, err)
	}
	if l, err := Read([]byte("Kontakt\na@b.example\n"), map[string]string{"Kontakt": Address}); err != nil || !l.Table || l.Entries[0].Address != "a@b.example" {
		t.Errorf("with a mapping alone: %+v, %v", l, err)
	}
}

// A line that can't be read is listed, and the others are read.
func TestLinesThatCannotBeRead(t *testing.T) {
	l, err := Read([]byte("name,address\nAlder, Tove,t@b.example\nOda,oda@b.example\n"), nil)
	if err != nil || len(l.Entries) != 2 || !strings.Contains(l.Entries[0].Wrong, "3 fields, but there are 2 headings") || l.Entries[0].Line != 2 || l.Entries[1].Wrong != "" || l.Entries[1].Address != "oda@b.example" {
		t.Errorf("%+v, %v", l.Entries, err)
	}
}

// What a mapping says has to be about the list, and of what there is.
func TestMappings(t *testing.T) {
	const text = "Kontakt;Telefon\nTove;tove@b.example\n"
	if l, err := Read([]byte(text), map[string]string{" kontakt": Name, "TELEFON": Address}); err != nil || len(l.Entries) != 1 || l.Entries[0].Name != "Tove" || l.Entries[0].Address != "tove@b.example" {
		t.Errorf("%+v, %v", l.Entries, err)
	}
	for _, c := range []struct {
		text    string
		mapping map[string]string
		says    string
	}{
		{text, map[string]string{"Kontakt": Name, "Telefno": Address}, `no heading "Telefno": there are Kontakt, Telefon`},
		{text, map[string]string{"Telefon": "adress"}, `can't stand for "adress": choose active, address`},
		{"a@b.example", map[string]string{"Telefon": Address}, "no headings"},
	} {
		if _, err := Read([]byte(c.text), c.mapping); err == nil || !strings.Contains(err.Error(), c.says) {
			t.Errorf("%q by %v: %v", c.text, c.mapping, err)
		}
	}
}

func TestEncodings(t *testing.T) {
	const text = "name,address\nGröß,g@b.example\n"
	sixteen := func(big bool) []byte {
		var b []byte
		for _, u := range append([]uint16{0xfeff}, utf16.Encode([]rune(text))...) {
			if big {
				b = append(b, byte(u>>8), byte(u))
			} else {
				b = append(b, byte(u), byte(u>>8))
			}
		}
		return b
	}
	for name, b := range map[string][]byte{"UTF-8": []byte(text), "UTF-8 ": []byte("\ufeff" + text), "UTF-16": sixteen(false), "UTF-16 ": sixteen(true), "Windows-1252": []byte("name,address\nGr\xf6\xdf,g@b.example\n")} {
		if l, err := Read(b, nil); err != nil || l.Encoding != strings.TrimSpace(name) || l.Entries[0].Name != "Größ" {
			t.Errorf("%s: %+v, %v", name, l, err)
		}
	}
	for _, c := range []struct {
		b    string
		says string
	}{
		{"PK\x03\x04xxxx", "spreadsheet"},
		{"a\x00b", "NUL"},
		{"\xff\xfea", "breaks off"},
		{"a@b.example\nGr\x81\n", "Line 2"},
		{"name,address\n\"Tove,t@b.example\n", "quoted field"},
		{"name,address\na \"b\" c,x@y.example\n\"Tove,t@b.example\nc,d@e.example\n", "quoted field"},
		{strings.Repeat("x", MaxBytes+1), "the most"},
	} {
		if _, err := Read([]byte(c.b), nil); err == nil || !strings.Contains(err.Error(), c.says) {
			t.Errorf("%.20q: %v; want %q", c.b, err, c.says)
		}
	}
	if _, err := Read([]byte("a,b\n"), map[string]string{"a": Name, "b": Name}); err == nil || !strings.Contains(err.Error(), "both stand for name") {
		t.Errorf("two columns for one: %v", err)
	}
	if _, err := Read([]byte(strings.Repeat("a@b.example\n", MaxLines+1)), nil); err == nil {
		t.Error("a list without end was read")
	}
}

func TestColumns(t *testing.T) {
	for _, c := range Columns() {
		if Column(c) != c && c != "address" {
			t.Errorf("the heading %s stands for %q", c, Column(c))
		}
	}
}

func FuzzRead(f *testing.F) {
	for _, s := range []string{"a@b.example, x", "name;mail\n\"a\";b", "Alder, Tove <t@b>", "\xff\xfea\x00", "<<>>;\"", "Gr\xf6\xdf"} {
		f.Add([]byte(s))
	}
	f.Fuzz(func(t *testing.T, b []byte) {
		l, err := Read(b, nil)
		if err != nil {
			return
		}
		if given := 0; !l.Table && l.Encoding == "UTF-8" {
			for _, e := range l.Entries {
				given += strings.Count(e.Given, "@")
			}
			if want := strings.Count(plain(string(b)), "@"); given != want {
				t.Errorf("%d of %d addresses were read in %q: %+v", given, want, b, l.Entries)
			}
		}
		for _, e := range l.Entries {
			if e.Line < 1 || e.Line > 1+strings.Count(string(b), "\n")+len(b) {
				t.Errorf("an entry on line %d", e.Line)
			}
			if !l.Table && e.Name == "" && e.Address == "" && e.Given == "" {
				t.Errorf("an entry of nothing in %q", b)
			}
		}
	})
}

// What was made safe for a spreadsheet is read as it was; an apostrophe of a name stays.
func TestApostropheOfASpreadsheet(t *testing.T) {
	l, err := Read([]byte("mail,name,department\na@b.example,'=cmd(),'-Deck\nc@d.example,'t Hooft,'\n"), nil)
	if err != nil || len(l.Entries) != 2 || l.Entries[0].Name != "=cmd()" || l.Entries[0].Fields["department"] != "-Deck" || l.Entries[1].Name != "'t Hooft" {
		t.Errorf("%+v, %v", l.Entries, err)
	}
}
