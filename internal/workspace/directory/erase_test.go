package directory_test

import (
	"database/sql"
	"encoding/json"
	"slices"
	"strings"
	"testing"

	"ivytable.example/ivytable/internal/api"
	kit "ivytable.example/ivytable/internal/testkit"
	"ivytable.example/ivytable/internal/workspace"
)

// What names somebody is taken out of the history and the directory, and the chain of seals holds.
func TestErasingAPerson(t *testing.T) {
	ines := k.Actor(t, kit.Administrator)
	seal := func() {
		t.Helper()
		if err := k.History.Seal(ctx); err != nil {
			t.Fatal(err)
		}
	}
	whole := func(when string) {
		t.Helper()
		v, err := k.History.Verify(ctx, ines, nil)
		if err != nil || len(v.Faults) > 0 {
			t.Errorf("%s: %+v, %v", when, v.Faults, err)
		}
	}
	gone := person(t, "Mara Ericson", "")
	like := person(t, "Mara Ericsons", "")
	g := k.Make(t, "Erasing", func(n *api.NewGroup) {
		n.Owners = []string{gone, kit.Owner}
		n.Description = "Run by Mara Ericson, " + gone + "; not by Mara Ericsons."
	}).Address
	// somebody of the same name, who came into a group by her, and one with a longer name
	namesake := kit.First(k.Directory.Create(ctx, ines, api.NewPersonEntry{Address: "mara.two@" + kit.Domain, Name: "Mara Ericson"})).Address
	longer := person(t, "Mara Ericson Holm", "")
	by := k.Actor(t, gone)
	if _, err := k.Member.Add(ctx, by, g, api.NewMembers{People: []api.NewPerson{{Address: namesake}, {Address: longer}}}, 0); err != nil {
		t.Fatal(err)
	}
	if _, err := k.Group.Change(ctx, k.Actor(t, kit.Owner), g, api.GroupPatch{Description: new("Run by Mara Ericson, but not this one.")}, 0); err != nil {
		t.Fatal(err)
	}
	says := "Ask Mara Ericson."
	if _, err := k.Group.Change(ctx, by, g, api.GroupPatch{Welcome: &says}, 0); err != nil {
		t.Fatal(err)
	}
	newer := "mara.new@" + kit.Domain
	if _, err := k.Directory.Change(ctx, ines, gone, api.PersonPatch{Address: &newer}, 0); err != nil {
		t.Fatal(err)
	}
	n := api.Erasure{Reason: "Their letter of the third"}
	if _, err := k.Directory.Erase(ctx, ines, newer, n, 0); !workspace.IsKind(err, workspace.Conflict) || !strings.Contains(err.Error(), "is here") {
		t.Errorf("somebody who is here: %v", err)
	}
	if _, err := k.Directory.Depart(ctx, ines, newer, api.Departure{}, 0); err != nil {
		t.Fatal(err)
	}
	if _, err := k.Directory.Erase(ctx, ines, newer, n, 0); !workspace.IsKind(err, workspace.Conflict) || !strings.Contains(err.Error(), "not sealed yet") {
		t.Errorf("before the last entries are sealed: %v", err)
	}
	seal()
	whole("before")
	for _, bad := range []string{"", " ", "mara ericson asked", "By " + newer, "By " + gone} {
		if _, err := k.Directory.Erase(ctx, ines, newer, api.Erasure{Reason: bad}, 0); !workspace.IsKind(err, workspace.Invalid) {
			t.Errorf("%q: %v", bad, err)
		}
	}
	p := kit.Preview(t, ines, func(by workspace.Actor) error { return kit.Last(k.Directory.Erase(ctx, by, newer, n, 0)) })
	whole("after a look")
	out, err := k.Directory.Erase(ctx, ines, newer, n, 0)
	if err != nil || out.Entries < 4 || p.Total != out.Entries || !strings.Contains(out.Says, "Others are called Mara Ericson too") {
		t.Fatalf("%+v, %v; it was said to be %d", out, err, p.Total)
	}
	seal()
	whole("afterwards")
	var left string
	k.SQL(t, "SELECT COALESCE(GROUP_CONCAT(CONCAT(id, ' ', kind, ' ', actor, ' ', data) SEPARATOR ' | '), '') FROM history WHERE CONCAT(actor, data) REGEXP 'mara\\\\.(ericson|new)@'", &left)
	if left != "" {
		t.Errorf("it stands in the history still: %s", left)
	}
	for text, want := range map[string]bool{"Mara Ericsons": true, `"name":"Mara Ericson","address":"mara.two@`: true, `"name":"Mara Ericson Holm"`: true, "Run by Mara Ericson, but not this one.": true, "Ask Mara Ericson.": false,
		"Run by Mara Ericson, mara": false, `"name":"Mara Ericson","address":"erased`: false, `An erased person Holm`: false} {
		// an entry that was cleaned has its fields in the order of the alphabet
		var n, m int
		k.SQL(t, "SELECT COUNT(*) FROM history WHERE INSTR(data, '"+text+"')", &n)
		if a, b, both := strings.Cut(text, ","); both && strings.HasPrefix(text, `"name"`) {
			k.SQL(t, "SELECT COUNT(*) FROM history WHERE data REGEXP '"+strings.ReplaceAll(b, ".", `\\.`)+`[^}]*`+a+"'", &m)
		}
		if (n+m > 0) != want {
			t.Errorf("%s stands in %d entries", text, n+m)
		}
	}
	if q, err := k.People.Read(ctx, ines, out.Address); err != nil || q.Name != "An erased person" || len(q.Attributes) != 0 {
		b, _ := json.Marshal(q)
		t.Errorf("%s, %v", b, err)
	}
	for _, a := range []string{gone, newer} {
		if _, err := k.People.Read(ctx, ines, a); !workspace.IsKind(err, workspace.NotFound) {
			t.Errorf("%s is known still: %v", a, err)
		}
	}
	if q, err := k.People.Read(ctx, ines, like); err != nil || q.Name != "Mara Ericsons" {
		t.Errorf("%+v, %v", q, err)
	}
	// nobody can be made of them again
	again := "Mara Again"
	for what, err := range map[string]error{"returns": kit.Last(k.Directory.Return(ctx, ines, out.Address, 0)), "is called otherwise": kit.Last(k.Directory.Change(ctx, ines, out.Address, api.PersonPatch{Name: &again}, 0)),
		"is erased again": kit.Last(k.Directory.Erase(ctx, ines, out.Address, n, 0))} {
		if !workspace.IsKind(err, workspace.Conflict) || !strings.Contains(err.Error(), "erased") {
			t.Errorf("%s: %v", what, err)
		}
	}
	// their addresses are free
	if _, err := k.Directory.Create(ctx, ines, api.NewPersonEntry{Address: gone, Name: "Somebody New"}); err != nil {
		t.Errorf("%v", err)
	}
	seal()
	// another erasure takes its own out of the same entries
	if _, err := k.Directory.Depart(ctx, ines, namesake, api.Departure{}, 0); err != nil {
		t.Fatal(err)
	}
	seal()
	if second, err := k.Directory.Erase(ctx, ines, namesake, n, 0); err != nil || second.Entries == 0 {
		t.Errorf("%+v, %v", second, err)
	}
	seal()
	whole("after two")
	// whoever edits an entry can't pass that off as an erasure, nor edit what is left of one
	for _, x := range []struct{ what, kind, edit, back string }{
		{"an entry that was erased", "edited", "UPDATE history SET data = REPLACE(data, 'An erased person', 'Oda Fenn') WHERE data LIKE '%An erased person%' ORDER BY id LIMIT 1", "UPDATE history SET data = REPLACE(data, 'Oda Fenn', 'An erased person') WHERE data LIKE '%Oda Fenn%' AND id IN (SELECT entry FROM history_left) ORDER BY id LIMIT 1"},
		{"an entry that is said to be", "erased", "UPDATE history_seals SET names = seal, salt = REPEAT(CHAR(0), 16) WHERE names IS NULL ORDER BY place DESC LIMIT 1", ""},
	} {
		k.SQL(t, x.edit)
		v, err := k.History.Verify(ctx, ines, nil)
		if err != nil || !slices.ContainsFunc(v.Faults, func(f api.SealFault) bool { return f.Kind == x.kind }) {
			t.Errorf("%s: %+v, %v", x.what, v.Faults, err)
		}
		if x.back != "" {
			k.SQL(t, x.back)
			whole(x.what + ", put back")
		}
	}
}

// Somebody who took part in everything is named nowhere once they are erased, but in bodies of mail.
func TestNothingNamesWhoWasErased(t *testing.T) {
	l := k.Fresh(t, "erased_everywhere")
	ines := l.Actor(t, kit.Administrator)
	const name, address, later = "Zelda Quill", "zelda.quill@" + kit.Domain, "zq@" + kit.Domain
	if _, err := l.Directory.Create(ctx, ines, api.NewPersonEntry{Address: address, Name: name, Attributes: map[string]string{"department": "Deck"}}); err != nil {
		t.Fatal(err)
	}
	l.SetPassword(t, address)
	zelda := l.Actor(t, address)
	must := func(err error) {
		t.Helper()
		if err != nil {
			t.Fatal(err)
		}
	}
	g := l.Make(t, "Erased From", func(n *api.NewGroup) {
		n.Owners = []string{address, kit.Owner}
		n.Externals = "owners"
		n.Description = "Ask " + name + " (" + address + ")."
		n.Welcome = "Zelda Quill welcomes you."
		n.PolicyPatch = kit.Policy("post=members hold=outsiders")
	})
	other := l.Make(t, "Erased Other", func(n *api.NewGroup) { n.PolicyPatch = kit.Policy("join.how=asking") })
	must(kit.Last(l.Joining.Join(ctx, zelda, other.Address, api.JoinRequest{Note: "It is me, Zelda Quill."})))
	must(kit.Last(l.Member.Add(ctx, zelda, g.Address, api.NewMembers{People: []api.NewPerson{{Address: "pilot@gannetport.example"}, {Address: kit.Colleague}}}, 0)))
	must(kit.Last(l.Member.Add(ctx, zelda, g.Address, api.NewMembers{Way: "invite", People: []api.NewPerson{{Address: "guest@gannetport.example"}}}, 0)))
	must(l.Rules.SetOverride(ctx, zelda, g.Address, "bad@gannetport.example", api.NewOverride{Override: "barred", Reason: "Rude to " + name}, 0))
	must(l.Rules.SetOverride(ctx, l.Actor(t, kit.Owner), other.Address, address, api.NewOverride{Override: "held", Reason: "new"}, 0))
	must(kit.Last(l.Joining.CreateLink(ctx, zelda, g.Address, api.NewJoinLink{Note: "from Zelda Quill"})))
	must(kit.Last(l.Views.Save(ctx, zelda, "", api.NewView{Name: "Of Zelda Quill", List: "groups", Filter: `owner eq "` + address + `"`}, 0)))
	must(kit.Last(l.Bulk.Begin(ctx, ines, api.NewBulk{Groups: []string{other.Address}, Owners: &api.OwnersChange{Add: []string{address}}})))
	must(l.Bulk.Run(ctx))
	must(kit.Last(l.Round.Begin(ctx, ines, api.NewRound{Name: "A round", Questions: []string{"needed"}, DueOn: l.Now().AddDate(0, 0, 20).Format("2006-01-02"), StandIn: address, Note: "Ask " + name})))
	must(l.Round.Run(ctx))
	must(l.Send(t, g.Address, address, true, "of Zelda Quill, today"))
	must(l.Send(t, g.Address, address, false, "Waits"))
	l.Undelivered(t, g.Address)
	must(kit.Last(l.Directory.Change(ctx, ines, address, api.PersonPatch{Address: new(later)}, 0)))
	must(kit.Last(l.Directory.Depart(ctx, ines, later, api.Departure{}, 0)))
	l.Letters(t)
	must(l.History.Seal(ctx))
	out, err := l.Directory.Erase(ctx, ines, later, api.Erasure{Reason: "A letter"}, 0)
	must(err)
	must(l.History.Seal(ctx))
	l.Agrees(t)

	db := kit.First(sql.Open("mysql", l.DSN))
	defer db.Close()
	rows := kit.First(db.Query(`SELECT table_name, column_name FROM information_schema.columns WHERE table_schema = DATABASE()
		AND data_type IN ('varchar', 'text', 'mediumtext', 'longtext', 'tinytext', 'blob', 'mediumblob', 'longblob', 'varbinary', 'json')`))
	defer rows.Close()
	columns := 0
	for rows.Next() {
		var table, column string
		must(rows.Scan(&table, &column))
		if column == "short_body" || column == "octets" || column == "edits" {
			continue
		}
		columns++
		for _, word := range []string{"zelda", "quill", later} {
			var n int
			var such sql.NullString
			must(db.QueryRow("SELECT COUNT(*), MIN(LEFT(CONVERT(`"+column+"` USING utf8mb4), 400)) FROM `"+table+"` WHERE LOWER(CONVERT(`"+column+"` USING utf8mb4)) LIKE ?", "%"+word+"%").Scan(&n, &such))
			if n > 0 {
				t.Errorf("%s stands in %d rows of %s.%s: %s", word, n, table, column, such.String)
			}
		}
	}
	if columns < 100 || !strings.HasPrefix(out.Address, "erased-") {
		t.Errorf("%d columns looked at; %+v", columns, out)
	}
}
