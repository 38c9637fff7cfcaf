package store

import (
	"database/sql"
	"io/fs"
	"slices"
	"strings"
	"testing"

	"github.com/pressly/goose/v3"

	"ivytable.example/ivytable/internal/core/event"
	"ivytable.example/ivytable/internal/core/policy"
	"ivytable.example/ivytable/internal/localdb/dbtest"
)

// upgraded returns a schema as it was at a version of the tables, in which some
// statements were run, brought up to date.
func upgraded(t *testing.T, name string, version int64, statements ...string) handle {
	t.Helper()
	old, err := dbtest.Schema(dsn, name)
	if err != nil {
		t.Fatal(err)
	}
	db, err := sql.Open("mysql", old)
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	files, err := fs.Sub(migrations, "migrations")
	if err != nil {
		t.Fatal(err)
	}
	p, err := goose.NewProvider(goose.DialectMySQL, db, files, goose.WithGoMigrations(conversions...))
	if err != nil {
		t.Fatal(err)
	}
	if _, err := p.UpTo(ctx, version); err != nil {
		t.Fatal(err)
	}
	for _, q := range statements {
		if _, err := db.Exec(q); err != nil {
			t.Fatalf("%s: %v", q, err)
		}
	}
	pool, err := Open(ctx, old)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(pool.Close)
	return handle{pool, &Tx{Reads: *pool.Reads(ctx)}}
}

const oldGroup = `INSERT INTO mail_groups (id, name, address, addr_key, description, language, traits, find, see_people, read_archive, post, write_owners, add_people, speak_as, speak_for, join_audience, join_how, leaving, externals, hold, suspicious,
	owners, moderators, members, external_members, nested, renewed_at, expires_at, retired, chosen, standing, standing_by, version, created_at)
	VALUES ('0193583a-0000-7000-8000-000000000001', 'Bookings', 'bookings@old.example', 'bookings@old.example', '', 'en', '', 5, 4, 3, 2, 1, 1, 0, 2, 5, 1, 2, 1, 4, 2, 1, 0, 0, 0, 0, NOW(), '9999-01-01', 0, 0, 'Must stay', 'ines@old.example', 7, NOW())`

func TestPoliciesOfAnOlderServiceAreKept(t *testing.T) {
	s := upgraded(t, "ivytable_store_policies", 28, oldGroup,
		`INSERT INTO standings (group_id, addr_key, standing, reason, set_by, set_at) VALUES ('0193583a-0000-7000-8000-000000000001', 'x@y.example', 1, 'advertises', 'ines@old.example', NOW())`,
		`INSERT INTO starting_points (name, title, about, body, made_by, made_at) VALUES ('season', 'Season', '', '{"policy":{"privacy":"workspace","policy":{"post":"anyone","read":"members"},"join":{"how":"freely"},"hold":"everyone"},"traits":["archive","desk"],"default_delivery":"none","welcome":"Hi"}', '', NOW())`,
		`INSERT INTO idempotency (person_id, idem_key, request, group_id, created_at) VALUES ('0193583a-0000-7000-8000-000000000002', 'k', REPEAT('x', 32), '0193583a-0000-7000-8000-000000000001', NOW())`)
	g, err := s.Group(parseID(t, "0193583a-0000-7000-8000-000000000001"))
	want := strings.Fields("find=anyone see_people=workspace read=members post=moderators write_owners=owners add_people=owners speak_as=nobody speak_for=moderators join.audience=anyone join.how=asking leave=fixed externals=owners hold=everyone suspicious=refuse")
	if got := strings.Fields(g.Policy.Encode()); err != nil || !slices.Equal(got[:len(want)], want) || g.Exempt != "Must stay" || g.ExemptBy != "ines@old.example" || g.Version != 7 {
		t.Errorf("%s\n%s\n%+v, %v", g.Policy.Encode(), want, g, err)
	}
	var rows []groupSetting
	if err := s.db.WithContext(ctx).Find(&rows, "group_id = ?", g.ID).Error; err != nil || len(rows) != int(policy.Settings) {
		t.Fatalf("%d settings, %v", len(rows), err)
	}
	for _, r := range rows {
		if set, err := policy.ParseSetting(r.Setting); err != nil || g.Policy[set] != r.Value {
			t.Errorf("%+v, %v; the policy says %d", r, err, g.Policy[set])
		}
	}
	if o, err := s.Override(g.ID, "x@y.example"); err != nil || o.Kind != policy.Barred || o.Version != 1 {
		t.Errorf("%+v, %v", o, err)
	}
	all, err := s.StartingPoints()
	if err != nil || len(all) != 1 || all[0].Settings != "privacy=workspace hold=everyone join.how=freely post=anyone read=members" || all[0].Traits != "archive,desk" || all[0].Delivery != "none" || all[0].Welcome != "Hi" {
		t.Errorf("%+v, %v", all, err)
	}
	if i, err := s.Idempotency(parseID(t, "0193583a-0000-7000-8000-000000000002"), "k"); err != nil || string(i.Answer) != `{"id": "0193583a-0000-7000-8000-000000000001"}` {
		t.Errorf("%s, %v", i.Answer, err)
	}
}

// Every kind of entry that was ever written reads as a sentence.
func TestHistoryOfAnOlderServiceIsKept(t *testing.T) {
	group := "0193583a-0000-7000-8000-000000000001"
	statements := []string{oldGroup}
	for _, p := range [][2]string{{"ines@old.example", "Ines Skerry"}, {"tove@old.example", "Tove Alder"}, {"oda@old.example", "Oda Fenn"}} {
		statements = append(statements, `INSERT INTO people (id, address, addr_key, name, external, active, workspace_role, password_hash, attributes, created_at) VALUES ('`+NewID().String()+`', '`+p[0]+`', '`+p[0]+`', '`+p[1]+`', 0, 1, '', '', '{}', NOW())`)
	}
	entries := []struct{ actor, action, subject, changes, want string }{
		{"ines@old.example", "group.create", "bookings@old.example", `[{"field":"name","from":null,"to":"Bookings"},{"field":"address","from":null,"to":"bookings@old.example"},{"field":"policy","from":null,"to":"Only members read it."}]`, "Ines Skerry created Bookings at bookings@old.example: Only members read it."},
		{"ines@old.example", "group.change", "bookings@old.example", `[{"field":"aliases","from":null,"to":["a@old.example","b@old.example"]}]`, "Ines Skerry changed Bookings: aliases is a@old.example, b@old.example."},
		{"ines@old.example", "policy.change", "bookings@old.example", `[{"field":"post","from":"members","to":"anyone","says":"All strangers can write to it from now on."}]`, "Ines Skerry changed who may do what with Bookings: all strangers can write to it from now on."},
		{"ines@old.example", "group.renew", "bookings@old.example", `[{"field":"renewed_at","from":"2026-01-01T00:00:00Z","to":"2026-02-01T00:00:00Z"},{"field":"expires_at","from":"2026-06-01T00:00:00Z","to":"2026-07-01T00:00:00Z"}]`, "Ines Skerry renewed Bookings until 1 Jul 2026."},
		{"ines@old.example", "group.retire", "bookings@old.example", `[{"field":"state","from":"active","to":"retired"}]`, "Ines Skerry retired Bookings."},
		{"ines@old.example", "group.restore", "bookings@old.example", `[{"field":"state","from":"retired","to":"active"},{"field":"expires_at","from":null,"to":"never"}]`, "Ines Skerry restored Bookings."},
		{"the service", "group.lapse", "bookings@old.example", `[{"field":"state","from":"due","to":"lapsed"}]`, "The service let Bookings lapse, since nobody renewed it."},
		{"the service", "notice.send", "bookings@old.example", `[{"field":"notice_days","from":null,"to":30},{"field":"to","from":null,"to":["tove@old.example"]}]`, "The service told Tove Alder that Bookings ends soon: the notice of 30 days before."},
		{"ines@old.example", "people.add", "bookings@old.example", `[{"field":"tove@old.example","from":null,"to":"member"},{"field":"oda@old.example","from":null,"to":"owner"},{"field":"people","from":null,"to":199,"says":"and 149 more"}]`, "Ines Skerry added Tove Alder and 198 more people to Bookings."},
		{"tove@old.example", "people.join", "bookings@old.example", `[{"field":"tove@old.example","from":null,"to":"member"}]`, "Tove Alder joined Bookings."},
		{"ines@old.example", "people.change", "bookings@old.example", `[{"field":"tove@old.example","from":"member","to":"owner"}]`, "Ines Skerry gave Tove Alder the role owner in Bookings."},
		{"tove@old.example", "people.change", "bookings@old.example", `[{"field":"tove@old.example","from":"delivery each","to":"delivery none"}]`, "Tove Alder set their delivery in Bookings to no messages."},
		{"ines@old.example", "people.remove", "bookings@old.example", `[{"field":"tove@old.example","from":"member","to":null}]`, "Ines Skerry took Tove Alder out of Bookings."},
		{"tove@old.example", "people.remove", "bookings@old.example", `[{"field":"tove@old.example","from":"member","to":null}]`, "Tove Alder left Bookings."},
		{"ines@old.example", "people.invite", "bookings@old.example", `[{"field":"x@y.example","from":null,"to":"invited as member"}]`, "Ines Skerry invited x@y.example to Bookings."},
		{"tove@old.example", "request.make", "bookings@old.example", `[{"field":"request","from":null,"to":"join"}]`, "Tove Alder asked to join Bookings."},
		{"ines@old.example", "request.approve", "bookings@old.example", `[{"field":"request","from":"join","to":"approved"},{"field":"reason","from":null,"to":"Welcome."}]`, "Ines Skerry let Tove Alder join Bookings, as they had asked: Welcome."},
		{"ines@old.example", "request.decline", "bookings@old.example", `[{"field":"request","from":"leave","to":"declined"}]`, "Ines Skerry declined that Tove Alder may leave Bookings."},
		{"tove@old.example", "request.withdraw", "bookings@old.example", `[{"field":"request","from":"join","to":"withdrawn"}]`, "Tove Alder withdrew their request to join Bookings."},
		{"ines@old.example", "invitation.call_back", "bookings@old.example", `[{"field":"x@y.example","from":"invited","to":"called back"}]`, "Ines Skerry called back the invitation of x@y.example to Bookings."},
		{"x@y.example", "invitation.accept", "bookings@old.example", `[{"field":"x@y.example","from":"invited","to":"accepted"}]`, "x@y.example accepted the invitation to Bookings as member."},
		{"x@y.example", "invitation.decline", "bookings@old.example", `[{"field":"x@y.example","from":"invited","to":"declined"}]`, "x@y.example declined the invitation to Bookings."},
		{"ines@old.example", "link.create", "bookings@old.example", `[{"field":"expires_at","from":null,"to":"2027-01-02T00:00:00Z"},{"field":"most","from":null,"to":25}]`, "Ines Skerry made a join link to Bookings, good until 2 Jan 2027 for up to 25 people."},
		{"ines@old.example", "link.call_back", "bookings@old.example", `[{"field":"uses","from":null,"to":3}]`, "Ines Skerry called back the join link to Bookings, which 3 people had used."},
		{"ines@old.example", "standing.set", "bookings@old.example", `[{"field":"x@y.example","from":"none","to":"barred"},{"field":"reason","from":null,"to":"Advertises"}]`, "Ines Skerry barred x@y.example from Bookings: Advertises."},
		{"ines@old.example", "rule.set", "bookings@old.example", `[{"field":"rule","from":"","to":"title pr"},{"field":"guard","from":0,"to":20},{"field":"tove@old.example","from":null,"to":"member"}]`, "Ines Skerry set the rule of Bookings to title pr: 1 came in, 0 went out."},
		{"ines@old.example", "rule.delete", "bookings@old.example", `[{"field":"rule","from":"title pr","to":null}]`, "Ines Skerry deleted the rule of Bookings, title pr; those who were in by it stay."},
		{"ines@old.example", "rule.follow", "bookings@old.example", `[{"field":"cause","from":null,"to":"Tove changed"},{"field":"tove@old.example","from":"member","to":null}]`, "Ines Skerry took Tove Alder out of Bookings by its rule: Tove changed."},
		{"ines@old.example", "post.approve", "x@y.example", `[{"field":"subject","from":"Hello","to":"Hello"},{"field":"state","from":"waiting","to":"accepted"}]`, `Ines Skerry approved the post "Hello" by x@y.example to Bookings.`},
		{"ines@old.example", "post.decline", "x@y.example", `[{"field":"subject","from":"Hello","to":"Hello"},{"field":"reason","from":null,"to":"No"}]`, `Ines Skerry declined the post "Hello" by x@y.example to Bookings: No.`},
		{"ines@old.example", "expiry.change", "expiry policy", `[{"field":"term_days","from":0,"to":180},{"field":"notices","from":[30,15,1],"to":[30]},{"field":"groups","from":1,"to":1,"says":"Of one group, 1 gets a date."}]`, "Ines Skerry changed how long groups live: term days from 0 to 180; notices from 30, 15, 1 to 30: Of one group, 1 gets a date."},
		{"ines@old.example", "naming.change", "rules of naming", `[{"field":"suffix","from":"","to":" x"},{"field":"groups","from":1,"to":0,"says":"None breaks them."}]`, "Ines Skerry changed the rules of naming: suffix is x: None breaks them."},
		{"ines@old.example", "start.save", "season", `[{"field":"policy","from":null,"to":"Only members read it."}]`, "Ines Skerry saved the starting point season: Only members read it."},
		{"ines@old.example", "start.delete", "season", `[]`, "Ines Skerry deleted the starting point season."},
		{"ines@old.example", "person.create", "tove@old.example", `[{"field":"name","from":null,"to":"Tove Alder"}]`, "Ines Skerry put Tove Alder (tove@old.example) into the directory."},
		{"ines@old.example", "person.change", "tove@old.example", `[{"field":"department","from":"Deck","to":"Dispatch"}]`, "Ines Skerry changed the entry of Tove Alder: department from Deck to Dispatch."},
		{"ines@old.example", "person.depart", "tove@old.example", `[{"field":"active","from":true,"to":false},{"field":"bookings@old.example","from":"owned","to":"oda@old.example"}]`, "Ines Skerry marked Tove Alder as having left the organisation; Oda Fenn owns bookings@old.example now."},
		{"ines@old.example", "person.return", "tove@old.example", `[{"field":"active","from":false,"to":true}]`, "Ines Skerry marked Tove Alder as here again."},
		{"ines@old.example", "people.import", "directory of people", `[{"field":"import","from":null,"to":"Of 9 lines: 3 new, 2 changed, 1 the same, 3 wrong. 4 return. 5 are not in it and depart."}]`, "Ines Skerry imported a file of people: 3 new, 2 changed, 4 returned, 5 departed."},
		{"ines@old.example", "person.password_link", "tove@old.example", `[]`, "Ines Skerry mailed Tove Alder a link to choose a password."},
		{"tove@old.example", "person.password", "tove@old.example", `[]`, "Tove Alder chose a new password."},
		{"tove@old.example", "token.create", "nightly", `[]`, `Tove Alder made the token "nightly".`},
		{"tove@old.example", "token.revoke", "0193583a-0000-7000-8000-000000000009", `[]`, `Tove Alder revoked the token "0193583a-0000-7000-8000-000000000009".`},
		{"the service", "group.purge", "gone@old.example", `[{"field":"name","from":"Gone","to":null}]`, "The service deleted Gone for good, since nobody restored it in time."},
	}
	for _, e := range entries {
		id := "'" + group + "'"
		switch e.action {
		case "group.purge":
			id = "'0193583a-0000-7000-8000-00000000000f'"
		case "expiry.change", "naming.change", "start.save", "start.delete", "person.create", "person.change", "person.depart", "person.return", "people.import", "person.password_link", "person.password", "token.create", "token.revoke":
			id = "NULL"
		}
		statements = append(statements, `INSERT INTO history (at, actor, via, action, group_id, subject, changes, request_id) VALUES (NOW(), '`+e.actor+`', 'console', '`+e.action+`', `+id+`, '`+e.subject+`', '`+strings.ReplaceAll(e.changes, "'", "''")+`', '')`)
	}
	statements = append(statements, `INSERT INTO history_people (history_id, person_id, was, now) SELECT h.id, p.id, '', '' FROM history h, people p WHERE h.action LIKE 'request%' AND p.address = 'tove@old.example'`)
	s := upgraded(t, "ivytable_store_history", 28, statements...)
	rows, err := s.Events(parseID(t, "00000000-0000-0000-0000-000000000000"), nil, 0, 1000)
	if err != nil || len(rows) != len(entries) {
		t.Fatalf("%d entries of %d, %v", len(rows), len(entries), err)
	}
	changes := map[string]bool{}
	for i, e := range entries {
		row := rows[len(rows)-1-i]
		got, err := event.Decode(event.Kind(row.Kind), row.Via, row.Data)
		if err != nil || got.Sentence() != e.want {
			t.Errorf("%s: %v\n %s\n %s", e.action, err, got.Sentence(), e.want)
		}
		changes[row.ChangeID.String()] = true
	}
	if len(changes) != len(entries) {
		t.Errorf("%d changes of %d entries", len(changes), len(entries))
	}
}
