package mailaddr

import (
	"strings"
	"testing"

	"ivytable.example/ivytable/internal/core/fault"
)

func TestParse(t *testing.T) {
	long := strings.Repeat("a", 65)
	for _, c := range []struct{ in, key, says string }{
		{"Night-Dispatch@MerrowLine.example", "night-dispatch@merrowline.example", ""},
		{" <ines.skerry@merrowline.example> ", "ines.skerry@merrowline.example", ""},
		{"o'hara+x@a.example", "o'hara+x@a.example", ""},
		{"", "", "empty"},
		{"@a.example", "", "before the @ is empty"},
		{"plain", "", "no @"},
		{long + "@a.example", "", "65 octets"},
		{"a b@a.example", "", "space"},
		{"a\x00b@a.example", "", "control character (U+0000)"},
		{"a\r\nRcpt@a.example", "", "control character (U+000D)"},
		{".a@a.example", "", "dot at its edge"},
		{"a..b@a.example", "", "two in a row"},
		{`"a b"@a.example`, "", `'"'`},
		{"nіght@a.example", "", "only looks like"},
		{"løn@a.example", "", "can't stand before"},
		{"a@", "", "after the @ is empty"},
		{"a@localhost", "", "only one part"},
		{"a@-x.example", "", "hyphen"},
		{"a@127.0.0.1", "", "ends in a number"},
		{"a@x..example", "", "empty, too long"},
		{"a@bücher.example", "", "'ü'"},
		{"a@x_y.example", "", "'_'"},
		{"a@" + strings.Repeat("a.", 130) + "example", "", "254 is the most"},
	} {
		a, err := Parse(c.in)
		if c.says == "" {
			if err != nil || a.Key() != c.key {
				t.Errorf("Parse(%q) = %q, %v; want %q", c.in, a.Key(), err, c.key)
			}
			continue
		}
		if err == nil || !strings.Contains(err.Error(), c.says) {
			t.Errorf("Parse(%q): error %v; want one that says %q", c.in, err, c.says)
		}
		if e, ok := err.(*fault.Fault); ok && (e.Given != c.in || e.Mend == "") {
			t.Errorf("Parse(%q): error gives %q and mend %q", c.in, e.Given, e.Mend)
		}
	}
}

func TestKeysCoarsen(t *testing.T) {
	for _, c := range []struct {
		a, b              string
		key, alike, loose bool
	}{
		{"Team-10@a.example", "team-10@A.example", true, true, true},
		{"team-10@a.example", "team-lo@a.example", false, true, true},
		{"night_dispatch@a.example", "night.dispatch@a.example", false, true, true},
		{"nightdispatch@a.example", "night-dispatch@a.example", false, false, true},
		{"modern@a.example", "modem@a.example", false, false, true},
		{"engineer@a.example", "engineers@a.example", false, false, true},
		{"deck@a.example", "dock@a.example", false, false, false},
		{"deck@a.example", "deck@b.example", false, false, false},
		{"gas@a.example", "ga@a.example", false, false, false},
	} {
		a, b := must(t, c.a), must(t, c.b)
		if got := [3]bool{a.Key() == b.Key(), a.Alike() == b.Alike(), a.Loose() == b.Loose()}; got != [3]bool{c.key, c.alike, c.loose} {
			t.Errorf("%s ~ %s: key, alike, loose = %v", c.a, c.b, got)
		}
	}
}

func must(t *testing.T, s string) Address {
	t.Helper()
	a, err := Parse(s)
	if err != nil {
		t.Fatal(err)
	}
	return a
}

func TestDerive(t *testing.T) {
	for _, c := range []struct{ name, want, says string }{
		{"Night Dispatch", "night-dispatch", ""},
		{"  Gannet Quay — Ticket  Office! ", "gannet-quay-ticket-office", ""},
		{"Strøm & Søn", "strom-son", ""},
		{"Große Fähre", "grosse-fahre", ""},
		{"Captain's Table", "captains-table", ""},
		{"Ναύτης", "naytis", ""},
		{"Речной порт", "rechnoi-port", ""},
		{"ﬁnance №5", "finance-no5", ""},
		{"İzmir", "izmir", ""},
		{"Shift 2 🚢 deck", "shift-2-deck", ""},
		{"夜班", "", "'夜'"},
		{"🚢🚢", "", "no letter or digit"},
		{"---", "", "no letter or digit"},
		{strings.Repeat("harbour ", 30), "harbour-harbour-harbour-harbour-harbour-harbour-harbour-harbour", ""},
	} {
		got, err := Derive(c.name)
		if got != c.want || (c.says == "") != (err == nil) || err != nil && !strings.Contains(err.Error(), c.says) {
			t.Errorf("Derive(%q) = %q, %v; want %q, %q", c.name, got, err, c.want, c.says)
		}
	}
}

func TestOfficial(t *testing.T) {
	for local, want := range map[string]bool{"admin": true, "Admin": true, "adm1n": true, "administrator": true, "ssladmin": true, "ssl.admin": true, "info": true, "lnfo": true, "support": true, "supp0rt": true, "sales": true,
		"admin-office": false, "information": false, "crew-support": false, "dispatch": false} {
		if (Official(local) != "") != want {
			t.Errorf("Official(%q) = %q", local, Official(local))
		}
	}
}

func TestReserved(t *testing.T) {
	for local, want := range map[string]bool{"Postmaster": true, "abuse": true, "deck-owners": true, "deck-bounces": true, "deck-request": true, "p0stmaster": true, "no_reply": true, "no.reply": true, "MAILER_daemon": true, "deck_owners": true, "deck.request": true, "request": false, "postmasters": false, "owners": false, "scunthorpe": false} {
		if (Reserved(local) != "") != want {
			t.Errorf("Reserved(%q) = %q", local, Reserved(local))
		}
	}
}

func FuzzParse(f *testing.F) {
	for _, s := range []string{"a@b.example", "<a@b.example>", "a@@b.example", "\x00@b.c", "é@x.example"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, s string) {
		a, err := Parse(s)
		if err != nil {
			return
		}
		if strings.ContainsAny(a.String(), "\r\n\x00 <>") {
			t.Fatalf("%q parsed to %q", s, a)
		}
		b, err := Parse(a.Key())
		if err != nil || b.Key() != a.Key() || b.Alike() != a.Alike() || b.Loose() != a.Loose() {
			t.Fatalf("the key of %q does not stand for it: %q, %v", s, b, err)
		}
	})
}

func FuzzDerive(f *testing.F) {
	for _, s := range []string{"Night Dispatch", "ß", "İ", "a\u0301", "--a--", strings.Repeat("ж", 80)} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, s string) {
		local, err := Derive(s)
		if err != nil {
			return
		}
		if err := CheckLocal(local); err != nil {
			t.Fatalf("Derive(%q) = %q: %v", s, local, err)
		}
		if again, err := Derive(local); err != nil || again != local {
			t.Fatalf("Derive(%q) = %q, then %q, %v", s, local, again, err)
		}
	})
}

func TestNearlySame(t *testing.T) {
	for _, c := range []struct {
		a, b string
		want bool
	}{
		{"merowline.example", "merrowline.example", true}, {"merrowlien.example", "merrowline.example", true}, {"Merrowlines.example", "merrowline.example", true},
		{"merrowline.exmple", "merrowline.example", true}, {"merrowline.example", "merrowline.example", false}, {"gannetport.example", "merrowline.example", false},
		{"crew.merrowline.example", "merrowline.example", false}, {"", "ab", true}, {"", "abc", false},
	} {
		if got := NearlySame(c.a, c.b); got != c.want {
			t.Errorf("NearlySame(%s, %s) = %v", c.a, c.b, got)
		}
	}
}

func TestSkeletonAndRomanise(t *testing.T) {
	for in, want := range map[string][2]string{"Pаyroll": {"payroll", "payroll"}, "Größe": {"große", "grosse"}, "ＡＢＣ": {"abc", "abc"}, "Директор": {"диpektop", "direktor"}, "社長": {"社長", "社長"}} {
		if got := [2]string{Skeleton(in), Romanise(in)}; got != want {
			t.Errorf("%s: %q; want %q", in, got, want)
		}
	}
}
