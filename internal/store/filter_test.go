package store

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/core/event"
	"ivytable.example/ivytable/internal/core/expand"
	"ivytable.example/ivytable/internal/core/filter"
	"ivytable.example/ivytable/internal/core/lifecycle"
	"ivytable.example/ivytable/internal/core/policy"
	"ivytable.example/ivytable/internal/core/rule"
)

// someTexts are what the world writes, in the ways that databases confuse.
var someTexts = []string{"Deck", "deck", "Straße", "STRASSE", "Café", "Cafe\u0301", "cafe", "İzmir", "izmir", "O'Neil", `a "quote"`, `back\slash`, "50%", "50_", "under_score", "ø", "o", "ﬁsh", "fish", "Рaypal", "trailing ", "x", "🚢 ship", "ǅ"}

func pick[T any](r *rand.Rand, from []T) T { return from[r.IntN(len(from))] }

// randomFilter writes a filter of a schema; values are what to compare someTexts with.
func randomFilter(r *rand.Rand, s *rule.Schema, values func(rule.Attribute) string, depth int) string {
	if depth > 0 {
		switch r.IntN(5) {
		case 0:
			return "not (" + randomFilter(r, s, values, depth-1) + ")"
		case 1, 2:
			return "(" + randomFilter(r, s, values, depth-1) + pick(r, []string{" and ", " or "}) + randomFilter(r, s, values, depth-1) + ")"
		}
	}
	a := pick(r, s.Attributes())
	o := pick(r, a.Operators())
	switch {
	case o == "pr":
		return a.Path + " pr"
	case r.IntN(15) == 0:
		return a.Path + pick(r, []string{" eq null", " ne null"})
	case a.Kind == rule.Boolean:
		return a.Path + " " + o + pick(r, []string{" true", " false"})
	case a.Kind == rule.Number:
		return fmt.Sprintf("%s %s %d", a.Path, o, r.IntN(12)-2)
	}
	b, _ := json.Marshal(values(a))
	return a.Path + " " + o + " " + string(b)
}

// part cuts a piece out of a text now and then, so that what holds someTexts is asked too.
func part(r *rand.Rand, s string) string {
	if all := []rune(s); r.IntN(2) == 0 && len(all) > 1 {
		from := r.IntN(len(all) - 1)
		return string(all[from : from+1+r.IntN(len(all)-from)])
	}
	return s
}

func without(a, b []string) []string {
	return slices.DeleteFunc(slices.Clone(a), func(x string) bool { return slices.Contains(b, x) })
}

// compare asks many random filters of a list and of the core.
func compare[T any](t *testing.T, s *rule.Schema, values func(*rand.Rand, rule.Attribute) string, rows []T, subject func(T) rule.Subject, name func(T) string, list func(*rule.Rule) ([]string, error)) {
	t.Helper()
	r := rand.New(rand.NewPCG(7, 26))
	matched, seen := 0, map[string]bool{}
	for range 800 {
		text := randomFilter(r, s, func(a rule.Attribute) string { return values(r, a) }, 3)
		f, err := s.Parse(text)
		if err != nil {
			t.Fatalf("%s: %v", text, err)
		}
		var want []string
		for _, row := range rows {
			if f.Eval(subject(row)) == rule.Match {
				want = append(want, name(row))
			}
		}
		got, err := list(f)
		if err != nil {
			t.Fatalf("%s: %v", text, err)
		}
		slices.Sort(want)
		slices.Sort(got)
		if !slices.Equal(got, want) {
			t.Fatalf("%s\nthe database alone: %q\nthe core alone:     %q", text, without(got, want), without(want, got))
		}
		if len(want) > 0 && len(want) < len(rows) {
			matched++
			for _, a := range f.Attributes() {
				seen[a.Path] = true
			}
		}
	}
	for _, a := range s.Attributes() {
		if !seen[a.Path] && !a.Exact && !strings.HasSuffix(a.Path, ".type") && !strings.HasSuffix(a.Path, ".primary") && !strings.HasSuffix(a.Path, ".display") {
			t.Logf("no filter that told rows apart asked about %s", a.Path)
		}
	}
	if matched < 250 {
		t.Errorf("only %d of 800 filters told rows apart", matched)
	}
}

func TestGroupsAreFilteredAsTheCoreSays(t *testing.T) {
	s := open(t)
	r := rand.New(rand.NewPCG(3, 26))
	zone, err := time.LoadLocation("Pacific/Auckland")
	if err != nil {
		t.Fatal(err)
	}
	p := lifecycle.Calendar{Zone: zone}
	now := time.Date(2026, 11, 26, 9, 30, 0, 0, time.UTC)
	at := FilterTime{Now: now, Calendar: p}
	var owners []Person
	for i := range 4 {
		q := newPerson(fmt.Sprintf("filtering-owner-%d@merrowline.example", i))
		q.Name, q.Active = pick(r, someTexts), i > 0
		owners = append(owners, q)
	}
	if err := s.AddPeople(owners); err != nil {
		t.Fatal(err)
	}
	type row struct {
		Group
		owners   []Person
		aliases  []string
		waiting  int
		lastPost time.Time
	}
	var rows []row
	for i := range 70 {
		g := newGroup(pick(r, someTexts)+pick(r, someTexts), fmt.Sprintf("filtering-%d@%s.example", i, pick(r, []string{"merrowline", "crew.merrowline"})))
		g.Description, g.Language, g.Traits = pick(r, append(someTexts, "", "")), pick(r, []string{"en", "de"}), pick(r, []string{"", "archive", "archive,desk", "desk,access", "calendar"})
		g.StartingPoint = pick(r, []string{"", "team-room", "intake"})
		g.Owners, g.Moderators, g.Members, g.ExternalMembers, g.Nested, g.Departed = r.IntN(3), r.IntN(3), r.IntN(9), r.IntN(3), r.IntN(2), r.IntN(2)
		g.ByRule = r.IntN(2) == 0
		if r.IntN(3) == 0 {
			g.Exempt = "because"
			if r.IntN(2) == 0 {
				at := p.After(now, r.IntN(12)-2).UTC()
				g.ExemptUntil = &at
			}
		}
		if r.IntN(4) == 0 {
			g.Kept = "because"
		}
		g.CreatedAt = now.Add(-time.Duration(r.IntN(12*24)) * time.Hour).Truncate(time.Microsecond)
		g.RenewedAt = g.CreatedAt.Add(time.Duration(r.IntN(1e9)) * time.Nanosecond).Truncate(time.Microsecond)
		if r.IntN(3) > 0 {
			g.ExpiresAt = p.After(now, r.IntN(12)-2).UTC()
			g.DueAt, g.TermRule = p.After(g.ExpiresAt, -5).UTC(), pick(r, someTexts)
		}
		if r.IntN(4) == 0 {
			end := now.Add(-time.Hour)
			g.EndedAt, g.Retired = &end, r.IntN(2) == 0
		}
		for _, d := range policy.Describe() {
			if r.IntN(2) == 0 {
				v, _ := d.Setting.Parse(pick(r, d.Choices).Name)
				g.Policy[d.Setting] = v
			}
		}
		add(t, s.Tx, g)
		x := row{Group: *g}
		for _, o := range owners {
			if r.IntN(4) == 0 {
				x.owners = append(x.owners, o)
				if err := s.AddMemberships([]Membership{{GroupID: g.ID, MemberID: o.ID, Kind: KindPerson, Role: expand.Owner, AddedAt: now}}); err != nil {
					t.Fatal(err)
				}
			}
		}
		if r.IntN(3) == 0 {
			x.aliases = []string{fmt.Sprintf("filtering-alias-%d@merrowline.example", i)}
			if err := s.SetAddresses(g, x.aliases, time.Now().UTC()); err != nil {
				t.Fatal(err)
			}
		}
		for range r.IntN(3) {
			x.waiting++
			if err := s.db.Exec("INSERT INTO mailings (id, message_id, group_id, kind, state, mailbox, sender, fields, decision, received_at, decided_by, reason) VALUES (?, ?, ?, 'post', 'waiting', 0, '', '', '{}', ?, '', '')", NewID(), NewID(), g.ID, now).Error; err != nil {
				t.Fatal(err)
			}
		}
		for j, state := range []string{Undecided, Approved, Undecided} {
			if r.IntN(3) > 0 {
				continue
			}
			if err := s.db.Exec("INSERT INTO requests (id, group_id, person_id, kind, note, state, made_at, decided_by, reason) VALUES (?, ?, ?, 'join', '', ?, ?, '', '')", NewID(), g.ID, owners[j].ID, state, now).Error; err != nil {
				t.Fatal(err)
			}
			if state == Undecided {
				x.waiting++
			}
		}
		for scope := range r.IntN(2) + 1 { // 0: it is asked for
			if r.IntN(3) > 0 {
				continue
			}
			if err := s.db.Exec("INSERT INTO consents (id, group_id, outer_id, scope, asked_by, asked_at) VALUES (?, ?, ?, ?, '', ?)", NewID(), g.ID, NewID(), scope, now).Error; err != nil {
				t.Fatal(err)
			}
			if scope == 0 {
				x.waiting++
			}
		}
		if r.IntN(2) == 0 {
			x.lastPost = g.CreatedAt.Add(time.Duration(r.IntN(48)) * time.Hour)
			if err := s.db.Exec("INSERT INTO group_posts (group_id, last_at) VALUES (?, ?)", g.ID, x.lastPost).Error; err != nil {
				t.Fatal(err)
			}
		}
		if err := s.db.Exec("UPDATE group_sizes SET people = ?, shown = 0 WHERE group_id = ?", g.Members*2, g.ID).Error; err != nil {
			t.Fatal(err)
		}
		rows = append(rows, x)
	}
	number := func(n int) []string { return []string{fmt.Sprint(n)} }
	yes := func(b bool) []string { return []string{fmt.Sprint(b)} }
	moment := func(t time.Time) []string { return []string{t.Format(time.RFC3339Nano)} }
	subject := func(g row) rule.Subject {
		_, domain, _ := strings.Cut(g.Address, "@")
		life := g.Life()
		v := map[string][]string{"name": {g.Name}, "address": {g.Address}, "alias": g.aliases, "domain": {domain}, "description": {g.Description}, "state": {string(life.State(now))},
			"starting_point": {g.StartingPoint}, "language": {g.Language}, "owners": number(g.Owners), "moderators": number(g.Moderators), "members": number(g.Members),
			"people": number(2 * g.Members), "external": number(g.ExternalMembers), "nested": number(g.Nested), "departed": number(g.Departed), "by_rule": yes(g.ByRule), "waiting": number(g.waiting),
			"exempt": yes(g.Exempt != ""), "created_at": moment(g.CreatedAt), "renewed_at": moment(g.RenewedAt), "under_hold": yes(g.Kept != "")}
		if g.TermRule != "" {
			v["term_rule"] = []string{g.TermRule}
		}
		if g.ExemptUntil != nil {
			v["exempt_until"] = []string{p.Day(*g.ExemptUntil).Format(time.DateOnly)}
		}
		if g.Traits != "" {
			v["traits"] = strings.Split(g.Traits, ",")
		}
		for _, o := range g.owners {
			v["owner.address"], v["owner.name"] = append(v["owner.address"], o.Address), append(v["owner.name"], o.Name)
		}
		for _, d := range policy.Describe() {
			v[d.Name] = []string{g.Policy.Get(d.Name)}
		}
		if g.EndedAt != nil {
			v["ended_at"] = moment(*g.EndedAt)
		} else if !life.Expires.IsZero() && life.Expires.After(now) {
			v["expires_on"], v["days_left"] = []string{p.Day(life.Expires).Format(time.DateOnly)}, number(p.Days(now, life.Expires))
		}
		quiet := g.CreatedAt
		if !g.lastPost.IsZero() {
			quiet, v["last_post_at"] = g.lastPost, moment(g.lastPost)
		}
		v["quiet_days"] = number(p.Days(quiet, now))
		return filter.Groups.NewSubject(v)
	}
	value := func(r *rand.Rand, a rule.Attribute) string {
		g := pick(r, rows)
		switch {
		case a.Kind == rule.Choice:
			return pick(r, a.Choices)
		case a.Kind == rule.Day:
			return p.After(now, r.IntN(12)-2).Format(time.DateOnly)
		case a.Kind == rule.DateTime:
			return pick(r, []time.Time{g.CreatedAt, g.RenewedAt, g.lastPost, g.RenewedAt.Add(300 * time.Nanosecond), now.Add(-time.Hour)}).In(zone).Format(time.RFC3339Nano)
		case a.Path == "address":
			return part(r, g.Address)
		case a.Path == "alias":
			return part(r, fmt.Sprintf("filtering-alias-%d@merrowline.example", r.IntN(70)))
		case a.Path == "domain":
			return part(r, "crew.merrowline.example")
		case a.Path == "owner.address":
			return part(r, pick(r, owners).Address)
		case a.Path == "starting_point":
			return part(r, pick(r, []string{"team-room", "intake"}))
		case a.Path == "language":
			return pick(r, []string{"en", "de", "EN"})
		}
		return part(r, pick(r, append(slices.Clone(someTexts), g.Name, strings.ToUpper(g.Name))))
	}
	compare(t, filter.Groups, value, rows, subject, func(g row) string { return g.Address }, func(f *rule.Rule) (out []string, err error) {
		p, err := s.Groups(GroupQuery{Q: "filtering", Filter: f, Time: at, Sort: ByQuiet, Limit: 200})
		if int(p.Total) != len(p.Items) {
			t.Errorf("%s: %d of %d", f, len(p.Items), p.Total)
		}
		for _, g := range p.Items {
			out = append(out, g.Address)
		}
		return out, err
	})
}

func TestPeopleAreFilteredAsTheCoreSays(t *testing.T) {
	s := open(t)
	r := rand.New(rand.NewPCG(4, 26))
	now := time.Date(2026, 11, 26, 9, 30, 0, 123456000, time.UTC)
	g := newGroup("Filtered people", "filtered-people@merrowline.example")
	add(t, s.Tx, g)
	type row struct {
		Person
		fields map[string]string
		role   expand.Role
	}
	var rows []row
	for i := range 60 {
		p := newPerson(fmt.Sprintf("sifted-%d@merrowline.example", i))
		p.Name = pick(r, someTexts) + " " + pick(r, someTexts)
		p.Active, p.External = r.IntN(4) > 0, r.IntN(5) == 0
		p.CreatedAt = now.Add(-time.Duration(r.IntN(90)) * time.Hour)
		p.WorkspaceRole = pick(r, []string{"", "", "auditor", "administrator"})
		if !p.Active {
			left := now.Add(-time.Duration(r.IntN(9)) * time.Hour)
			p.DepartedAt = &left
		}
		if r.IntN(2) == 0 {
			in := now.Add(-time.Duration(r.IntN(50)) * time.Hour)
			p.SignedInAt = &in
		}
		x := row{fields: map[string]string{}}
		for _, f := range rule.FieldNames() {
			if r.IntN(2) == 0 {
				x.fields[f] = pick(r, someTexts)
				if r.IntN(4) == 0 {
					x.fields[f] += "; " + pick(r, someTexts)
				}
			}
		}
		p.Attributes, _ = json.Marshal(x.fields)
		if x.Person = p; r.IntN(2) == 0 {
			x.role = pick(r, []expand.Role{expand.Member, expand.Owner})
			if err := s.AddMemberships([]Membership{{GroupID: g.ID, MemberID: p.ID, Kind: KindPerson, Role: x.role, AddedAt: now}}); err != nil {
				t.Fatal(err)
			}
		}
		if err := s.AddPeople([]Person{p}); err != nil {
			t.Fatal(err)
		}
		rows = append(rows, x)
	}
	subject := func(p row) rule.Subject {
		more := map[string][]string{"external": {fmt.Sprint(p.External)}, "workspace_role": {p.WorkspaceRole}}
		if p.role != 0 {
			more["groups"] = []string{g.Address}
		}
		if p.role == expand.Owner {
			more["owns"] = []string{g.Address}
		}
		if p.DepartedAt != nil {
			more["departed_at"] = []string{p.DepartedAt.Format(time.RFC3339Nano)}
		}
		if p.SignedInAt != nil {
			more["last_sign_in"] = []string{p.SignedInAt.Format(time.RFC3339Nano)}
		}
		return rule.NewSubject(p.Address, p.Name, p.Active, p.CreatedAt.Format(time.RFC3339Nano), p.fields).With(filter.People, more)
	}
	value := func(r *rand.Rand, a rule.Attribute) string {
		p := pick(r, rows)
		switch {
		case a.Kind == rule.Choice:
			return pick(r, a.Choices)
		case a.Kind == rule.DateTime:
			return p.CreatedAt.Format(time.RFC3339Nano)
		case a.Path == "userName" || a.Path == "emails.value":
			return part(r, p.Address)
		case a.Path == "groups" || a.Path == "owns":
			return part(r, g.Address)
		case strings.HasSuffix(a.Path, ".type"):
			return pick(r, []string{"work", "wórk", "home"})
		}
		return part(r, pick(r, append(slices.Clone(someTexts), p.Name, p.fields[a.Field])))
	}
	// every person is listed, so that active and external do not bind who is
	all := func(f *rule.Rule) (out []string, err error) {
		whole, err := filter.People.Parse("(active eq true or active eq false) and external pr and (" + f.String() + ")")
		if err != nil {
			return nil, err
		}
		p, err := s.People(PeopleQuery{Q: "sifted", Filter: whole, Limit: 200})
		for _, x := range p.Items {
			out = append(out, x.Address)
		}
		return out, err
	}
	name := func(p row) string { return p.Address }
	compare(t, filter.People, value, rows, subject, name, all)
	for _, text := range []string{
		`phoneNumbers[value co "e" and type eq "work"]`, `not (phoneNumbers[value co "e"])`, `roles[not (value eq "deck")]`, `not (roles[value eq "Deck"])`, `addresses[locality pr and not (region co "a")]`,
		`addresses[locality eq null]`, `not (addresses[locality pr])`, `emails[type eq "work" and primary eq true]`, `not (emails[type eq "home"])`, `addresses pr`, `not (addresses pr)`, `name[givenName co "e"]`, `phoneNumbers pr`,
		`not (phoneNumbers pr)`, `ims[type eq "home" or value sw "c"]`, `not (ims[type eq "home" or value sw "c"])`,
	} {
		f, err := filter.People.Parse(text)
		if err != nil {
			t.Fatalf("%s: %v", text, err)
		}
		var want []string
		for _, p := range rows {
			if f.Eval(subject(p)) == rule.Match {
				want = append(want, p.Address)
			}
		}
		got, err := all(f)
		slices.Sort(got)
		slices.Sort(want)
		if err != nil || !slices.Equal(got, want) {
			t.Errorf("%s\nthe database: %q\nthe core:     %q, %v", text, got, want, err)
		}
	}
}

func TestTheHistoryIsFilteredAsTheCoreSays(t *testing.T) {
	s := open(t)
	r := rand.New(rand.NewPCG(5, 26))
	now := time.Date(2026, 11, 26, 9, 30, 0, 0, time.UTC)
	var people []Person
	var groups []*Group
	for i := range 4 {
		people = append(people, newPerson(fmt.Sprintf("recorded-%d@merrowline.example", i)))
		groups = append(groups, add(t, s.Tx, newGroup(fmt.Sprintf("Recorded %d", i), fmt.Sprintf("recorded-group-%d@merrowline.example", i))))
	}
	if err := s.AddPeople(people); err != nil {
		t.Fatal(err)
	}
	type row struct {
		Event
		values map[string][]string
	}
	var rows []row
	change := NewID()
	kinds := []event.Kind{"people.add", "people.remove", "group.retire"}
	for i := range 60 {
		e := Event{ChangeID: change, At: now.Add(time.Duration(r.IntN(90)) * time.Minute), Kind: string(pick(r, kinds)), Via: pick(r, []string{"console", "api", "link"}), Data: []byte("{}"), RequestID: fmt.Sprint("recorded ", i)}
		v := map[string][]string{"kind": {e.Kind}, "via": {e.Via}, "at": {e.At.Format(time.RFC3339Nano)}}
		if r.IntN(3) > 0 {
			p := pick(r, people)
			e.ActorID, v["actor"] = &p.ID, []string{p.Address}
		}
		if r.IntN(3) > 0 {
			g := pick(r, groups)
			e.GroupID, v["group"] = &g.ID, []string{g.Address}
		}
		var affected []Affected
		for _, p := range people {
			if r.IntN(4) == 0 {
				affected, v["person"] = append(affected, Affected{PersonID: p.ID}), append(v["person"], p.Address)
			}
		}
		if r.IntN(5) == 0 {
			label := "Stranger@elsewhere.example"
			affected, v["person"] = append(affected, Affected{PersonID: AddressID(label), Label: &label}), append(v["person"], label)
		}
		if err := s.AddEvents([]Event{e}, [][]Affected{affected}); err != nil {
			t.Fatal(err)
		}
		rows = append(rows, row{e, v})
	}
	value := func(r *rand.Rand, a rule.Attribute) string {
		switch {
		case a.Kind == rule.Choice:
			if a.Path == "kind" && r.IntN(3) > 0 {
				return string(pick(r, kinds))
			}
			return pick(r, a.Choices)
		case a.Kind == rule.DateTime:
			return pick(r, rows).At.Format(time.RFC3339)
		case a.Path == "group":
			return part(r, pick(r, groups).Address)
		}
		return part(r, pick(r, append([]string{"stranger@elsewhere.example"}, pick(r, people).Address)))
	}
	compare(t, filter.History, value, rows, func(e row) rule.Subject { return filter.History.NewSubject(e.values) }, func(e row) string { return e.RequestID }, func(f *rule.Rule) (out []string, err error) {
		events, err := s.Events(uuid.Nil, f, 0, 1000)
		for _, e := range events {
			if e.ChangeID == change {
				out = append(out, e.RequestID)
			}
		}
		return out, err
	})
}
