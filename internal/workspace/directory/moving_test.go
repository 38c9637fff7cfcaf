package directory_test

import (
	"slices"
	"strings"
	"testing"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/core/expand"
	"ivytable.example/ivytable/internal/core/mailaddr"
	kit "ivytable.example/ivytable/internal/testkit"
	"ivytable.example/ivytable/internal/workspace"
	"ivytable.example/ivytable/internal/workspace/group"
	"ivytable.example/ivytable/internal/workspace/member"
	"ivytable.example/ivytable/internal/workspace/people"
)

// Somebody whose address changes is the same person: in their groups, by their history, with
// their password, and under the address of before.
func TestAnAddressChanges(t *testing.T) {
	l, ines := k.Hands(t, "address")
	const to = "oda.marram@merrowline.example"
	g := l.Make(t, "Ferry Talk", func(n *api.NewGroup) { n.PolicyPatch = kit.Policy("post=members") })
	quiet := l.Make(t, "No Oda")
	if err := l.Rules.SetOverride(ctx, ines, quiet.Address, kit.Member, api.NewOverride{Override: "barred"}, 0); err != nil {
		t.Fatal(err)
	}
	l.Queued(t)
	address, taken, outside := to, g.Address, "oda@elsewhere.example"
	for field, p := range map[string]api.PersonPatch{"address": {Address: &outside}, "former_addresses": {Former: &[]string{"x@merrowline.example"}}} {
		if kind, says := kit.KindOf(t, kit.Last(l.Directory.Change(ctx, ines, kit.Owner, p, 0))); kind != workspace.Invalid || !strings.Contains(says, field+": ") {
			t.Errorf("%s: %v %s", field, kind, says)
		}
	}
	if kind, says := kit.KindOf(t, kit.Last(l.Directory.Change(ctx, ines, kit.Owner, api.PersonPatch{Address: &taken}, 0))); kind != workspace.Conflict || !strings.Contains(says, "the group Ferry Talk") {
		t.Errorf("an address of a group: %v %s", kind, says)
	}
	before, err := l.People.Read(ctx, ines, kit.Owner)
	if err != nil {
		t.Fatal(err)
	}
	now, err := l.Directory.Change(ctx, ines, kit.Owner, api.PersonPatch{Address: &address}, before.Version)
	if err != nil || now.ID != before.ID || now.Address != to || !slices.Equal(now.Former, []string{kit.Owner}) || len(now.Groups) != len(before.Groups) {
		t.Fatalf("%+v, %v", now, err)
	}
	if letters := l.Letters(t); len(letters) != 1 || len(letters[0].To) != 2 || !strings.Contains(letters[0].Text, to) {
		t.Errorf("letters: %+v", letters)
	}
	for _, by := range []string{to, kit.Owner, before.ID} {
		if p, err := l.People.Read(ctx, ines, by); err != nil || p.ID != before.ID {
			t.Errorf("by %s: %+v, %v", by, p, err)
		}
	}
	for _, q := range []string{"oda.fenn@merrowline.example", "oda marram", "fenn"} {
		if found, err := l.People.List(ctx, ines, people.Query{Q: q, Limit: 8}); err != nil || len(found.Items) != 1 || found.Items[0].ID != before.ID {
			t.Errorf("search for %s: %+v, %v", q, found, err)
		}
	}
	for _, from := range []string{to, kit.Owner} {
		if _, err := l.Account.SignInToSend(ctx, "192.0.2.1", from, kit.Password); err != nil {
			t.Errorf("sign in as %s: %v", from, err)
		}
		if err := l.Send(t, g.Address, from, true, "from "+from); err != nil {
			t.Errorf("mail from %s: %v", from, err)
		}
		oda := l.Actor(t, to)
		if a, _ := mailaddr.Parse(from); !kit.First(l.Post.Wrote(ctx, oda, a)) {
			t.Errorf("%s is not the author of mail from %s", oda.Person.Name, from)
		}
	}
	if h, err := l.History.OfPerson(ctx, ines, to, "", 50); err != nil || !slices.ContainsFunc(h.Items, func(e api.HistoryEntry) bool { return e.Kind == "people.add" }) {
		t.Errorf("history: %+v, %v", h.Items, err)
	}
	for _, f := range []string{`userName eq "` + kit.Owner + `"`, `emails[value eq "` + strings.ToUpper(kit.Owner) + `"]`} {
		if found, err := l.People.List(ctx, ines, people.Query{Filter: f, Limit: 8}); err != nil || len(found.Items) != 1 || found.Items[0].ID != before.ID {
			t.Errorf("%s: %+v, %v", f, found, err)
		}
	}
	if own, err := l.Group.List(ctx, ines, group.Query{Filter: `owner eq "` + kit.Owner + `"`, Limit: 8}); err != nil || len(own.Items) == 0 {
		t.Errorf("what they own, by the address of before: %+v, %v", own, err)
	}
	results, err := l.Member.Add(ctx, l.Actor(t, to), g.Address, api.NewMembers{People: []api.NewPerson{{Address: kit.Owner}, {Address: to}}}, 0)
	if err != nil || results.Results[0].Status != "member" && results.Results[0].Outcome != "already" || results.Results[1].Status != "repeated" {
		t.Errorf("both of their addresses in one list: %+v, %v", results, err)
	}
	if kind, says := kit.KindOf(t, kit.Last(l.Directory.Create(ctx, ines, api.NewPersonEntry{Address: kit.Owner, Name: "Somebody Else"}))); kind != workspace.Conflict || !strings.Contains(says, "was that of Oda Fenn") {
		t.Errorf("an address of before is given to another: %v %s", kind, says)
	}

	// who is barred stays barred
	moved := "tove.north@merrowline.example"
	if _, err := l.Directory.Change(ctx, ines, kit.Member, api.PersonPatch{Address: &moved}, 0); err != nil {
		t.Fatal(err)
	}
	for _, from := range []string{moved, kit.Member} {
		if err := l.Send(t, quiet.Address, from, true, "let me in"); err == nil {
			t.Errorf("%s, who is barred, writes", from)
		}
		if o, err := l.Member.Override(ctx, ines, quiet.Address, from); err != nil || o.Override != "barred" || o.Address != moved {
			t.Errorf("settled about %s: %+v, %v", from, o, err)
		}
	}
	if err := l.Rules.SetOverride(ctx, ines, quiet.Address, kit.Member, api.NewOverride{Override: "none"}, 0); err != nil {
		t.Fatal(err)
	}
	if _, err := l.Member.Override(ctx, ines, quiet.Address, moved); err == nil {
		t.Error("lifted under the address of before, and still barred")
	}

	// back, and forgotten
	old := kit.Owner
	now, err = l.Directory.Change(ctx, ines, to, api.PersonPatch{Address: &old}, 0)
	if err != nil || now.Address != old || !slices.Equal(now.Former, []string{to}) {
		t.Errorf("back: %+v, %v", now, err)
	}
	now, err = l.Directory.Change(ctx, ines, to, api.PersonPatch{Former: &[]string{}}, 0)
	if err != nil || len(now.Former) != 0 {
		t.Errorf("forgotten: %+v, %v", now, err)
	}
	if _, err := l.People.Read(ctx, ines, to); err == nil {
		t.Error("an address that was forgotten still leads to them")
	}
	if _, err := l.Directory.Create(ctx, ines, api.NewPersonEntry{Address: to, Name: "Oda Marram"}); err != nil {
		t.Errorf("an address that was forgotten is not free: %v", err)
	}
}

// Somebody new with the address of somebody who has left is not that person.
func TestAnAddressIsGivenAgain(t *testing.T) {
	l, ines := k.Hands(t, "again")
	g := l.Make(t, "Night Watch", func(n *api.NewGroup) {
		n.PolicyPatch = kit.Policy("post=members find=members see_people=members read=members join.audience=nobody")
	})
	left, err := l.Directory.Depart(ctx, ines, kit.Member, api.Departure{}, 0)
	if err != nil {
		t.Fatal(err)
	}
	entry := api.NewPersonEntry{Address: kit.Member, Name: "Tove Alder"}
	if look := kit.Preview(t, ines, func(by workspace.Actor) error { return kit.Last(l.Directory.Create(ctx, by, entry)) }); len(look.Warnings) != 1 || !strings.Contains(look.Warnings[0].Says, "another person") {
		t.Errorf("not told before: %+v", look.Warnings)
	}
	p, err := l.Directory.Create(ctx, ines, entry)
	if err != nil || p.ID == left.ID || len(p.Groups) != 0 || !strings.Contains(p.Note, "This is another person") {
		t.Fatalf("%+v, %v", p, err)
	}
	if err := l.Send(t, g.Address, kit.Member, true, "as a member"); err == nil {
		t.Error("writes to a group of whoever had the address before")
	}
	if h, err := l.History.OfPerson(ctx, ines, p.ID, "", 50); err != nil || len(h.Items) != 1 || h.Items[0].Kind != "person.create" {
		t.Errorf("history: %+v, %v", h.Items, err)
	}
	if _, err := l.Account.SignInToSend(ctx, "192.0.2.1", kit.Member, kit.Password); err == nil {
		t.Error("signs in with the password of whoever had the address before")
	}
	if kind, says := kit.KindOf(t, kit.Last(l.Directory.Return(ctx, ines, left.ID, 0))); kind != workspace.Conflict || !strings.Contains(says, "Somebody else has") {
		t.Errorf("%v %s", kind, says)
	}
	to := "tove.alder-2@merrowline.example"
	if _, err := l.Directory.Change(ctx, ines, left.ID, api.PersonPatch{Address: &to}, 0); err != nil {
		t.Fatal(err)
	}
	back, err := l.Directory.Return(ctx, ines, left.ID, 0)
	if err != nil || len(back.Groups) != 1 || back.Address != to || len(back.Former) != 0 {
		t.Errorf("returned: %+v, %v", back, err)
	}
	if p, err := l.People.Read(ctx, ines, kit.Member); err != nil || p.Name != "Tove Alder" || p.ID == left.ID {
		t.Errorf("the address leads to %+v, %v", p, err)
	}
}

func TestAListFindsWhomItMeans(t *testing.T) {
	l, ines := k.Hands(t, "match")
	set := func(who string, fields map[string]string) {
		t.Helper()
		if _, err := l.Directory.Change(ctx, ines, who, api.PersonPatch{Attributes: fields}, 0); err != nil {
			t.Fatal(err)
		}
	}
	set("hand-0@merrowline.example", map[string]string{"externalId": "x0", "employeeNumber": "100"})
	set("hand-1@merrowline.example", map[string]string{"employeeNumber": "101"})
	set("hand-2@merrowline.example", map[string]string{"externalId": "x2"})
	set("hand-3@merrowline.example", map[string]string{"externalId": "x3"})
	set("hand-4@merrowline.example", map[string]string{"employeeNumber": "104"})
	set("hand-5@merrowline.example", map[string]string{"employeeNumber": "104"})
	for _, who := range []string{"hand-3@merrowline.example", "hand-6@merrowline.example", "hand-7@merrowline.example"} {
		if _, err := l.Directory.Depart(ctx, ines, who, api.Departure{}, 0); err != nil {
			t.Fatal(err)
		}
	}
	g := l.Make(t, "Deck Hands", func(n *api.NewGroup) { n.Quiet = true })
	if _, err := l.Rules.Set(ctx, ines, g.Address, api.NewRule{Expression: `department eq "Harbour"`}, 0); err != nil {
		t.Fatal(err)
	}
	only := l.Make(t, "Only Hand 8", func(n *api.NewGroup) { n.Owners = []string{"hand-8@merrowline.example"} })
	const file = "mail,name,externalId,employeeNumber,department\n" +
		"h0@merrowline.example,Hand Nought,x0,999,Harbour\n" + // by external id, though the number is another
		"h1@merrowline.example,Hand 1,,101,Harbour\n" + // by employee number
		"hand-2@merrowline.example,Hand 2,other,,\n" + // the address is that of somebody with another id
		"hand-3@merrowline.example,Hand Three,new3,,\n" + // who left had another id
		"h4@merrowline.example,Hand 4,,104,\n" + // two have that number
		"hand-6@merrowline.example,Hand 6,,,\n" + // returns
		"hand-7@merrowline.example,Quite Another,,,\n" + // somebody new
		"hand-9@merrowline.example,Hand 9,x0,,\n" // the id of one, the address of another
	q := api.Import{Text: file}
	look := kit.Preview(t, ines, func(by workspace.Actor) error { return kit.Last(l.Directory.Import(ctx, by, q)) })
	if !slices.ContainsFunc(look.Effects, func(e api.Effect) bool {
		return e.Field == g.Address && strings.Contains(e.Says, "2 come in")
	}) {
		t.Errorf("effects on groups: %+v", look.Effects)
	}
	r, err := l.Directory.Import(ctx, ines, q)
	if err != nil {
		t.Fatal(err)
	}
	got := map[string]api.Line{}
	for _, x := range r.Lines {
		got[x.Address] = x
	}
	for address, want := range map[string][2]string{
		"h0@merrowline.example": {"changed", "Found by the external id."}, "h1@merrowline.example": {"changed", "Found by the employee number."},
		"hand-2@merrowline.example": {"wrong", "with the external id x2, not other"}, "hand-3@merrowline.example": {"new", "Somebody new: Hand 3"},
		"h4@merrowline.example": {"wrong", "both have the employee number 104"}, "hand-6@merrowline.example": {"returned", ""},
		"hand-7@merrowline.example": {"new", "Somebody new: Hand 7, who has left"}, "hand-9@merrowline.example": {"wrong", "The external id x0 is that of Hand 0"},
	} {
		if x := got[address]; x.Outcome != want[0] || !strings.Contains(x.Says, want[1]) {
			t.Errorf("%s: %+v; want %v", address, x, want)
		}
	}
	if p, err := l.People.Read(ctx, ines, "hand-0@merrowline.example"); err != nil || p.Address != "h0@merrowline.example" || p.Name != "Hand Nought" || p.Attributes["employeeNumber"] != "999" {
		t.Errorf("%+v, %v", p, err)
	}
	if m, err := l.Members(ines, g.Address, member.Query{Q: "h0", Limit: 10}); err != nil || m.Total != 1 || m.Items[0].Role != expand.Member.String() {
		t.Errorf("by the rule: %+v, %v", m, err)
	}
	// a list of before does not move them back
	if r, err = l.Directory.Import(ctx, ines, api.Import{Text: "mail,name\nhand-0@merrowline.example,Hand Nought\n"}); err != nil || r.Counts["same"] != 1 {
		t.Errorf("by an address of before: %+v, %v", r, err)
	}
	sync := api.Import{Text: "mail\n" + kit.Administrator + "\n", Sync: true, Force: true}
	look = kit.Preview(t, ines, func(by workspace.Actor) error { return kit.Last(l.Directory.Import(ctx, by, sync)) })
	i := slices.IndexFunc(look.Effects, func(e api.Effect) bool { return e.Field == "owners" })
	if i < 0 || look.Effects[i].Count != 2 || !strings.Contains(look.Effects[i].Says, only.Name) {
		t.Errorf("owners lost: %+v", look.Effects)
	}
}
