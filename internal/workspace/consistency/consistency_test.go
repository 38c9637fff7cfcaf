package consistency_test

import (
	"context"
	"strings"
	"testing"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/store"
	kit "ivytable.example/ivytable/internal/testkit"
	"ivytable.example/ivytable/internal/workspace"
)

var (
	ctx = context.Background()
	k   *kit.Kit
)

func TestMain(m *testing.M) { kit.Main(m, "consistency", &k, nil) }

// wrong returns which checks found something.
func wrong(c api.Consistency) string {
	var out []string
	for _, x := range c.Checks {
		if x.Wrong > 0 {
			out = append(out, x.Name)
		}
	}
	return strings.Join(out, " ")
}

// Each check finds what it is for, and nothing else; it is repaired, but for what only a person can decide.
func TestEachCheckFindsAndRepairs(t *testing.T) {
	ines := k.Actor(t, kit.Administrator)
	g := k.Make(t, "Checked", func(n *api.NewGroup) {
		n.Externals = "owners"
		n.Description = "What is checked"
	})
	inner := k.Make(t, "Checked Inner")
	add := func(who ...api.NewPerson) {
		t.Helper()
		if _, err := k.Member.Add(ctx, ines, g.Address, api.NewMembers{Quiet: true, People: who}, 0); err != nil {
			t.Fatal(err)
		}
	}
	add(api.NewPerson{Address: "pilot@gannetport.example"}, api.NewPerson{Address: inner.Address})
	if err := k.Send(t, g.Address, kit.Member, true, "Checked"); err != nil {
		t.Fatal(err)
	}
	if err := k.History.Seal(ctx); err != nil {
		t.Fatal(err)
	}
	check := func() api.Consistency { t.Helper(); return kit.First(k.Consistency.Check(ctx, ines)) }
	if c := check(); c.Wrong > 0 {
		t.Fatalf("at first: %+v", c)
	}
	id := "(SELECT id FROM mail_groups WHERE address = '" + g.Address + "')"
	damage := map[string][]string{
		"group-counts":   {"UPDATE mail_groups SET members = members + 1, external_members = 5 WHERE id = " + id},
		"group-sizes":    {"UPDATE group_sizes SET people = people + 3 WHERE group_id = " + id},
		"group-settings": {"UPDATE group_settings SET value = value + 1 WHERE setting = 'post' AND group_id = " + id},
		"search-words":   {"DELETE FROM words WHERE ref = " + id, "INSERT INTO words (kind, word, ref) SELECT 1, 'nobody', id FROM people LIMIT 1"},
		"attributes":     {"DELETE FROM person_values LIMIT 1"},
		"addresses":      {"UPDATE addresses SET kind = 3 WHERE addr_key = '" + inner.Address + "'"},
		"memberships":    {"INSERT INTO memberships (group_id, member_id, kind, role, mail, added_at, added_by) SELECT UUID(), id, 1, 1, 1, NOW(6), '' FROM people LIMIT 1"},
		"consents":       {"INSERT INTO consents (id, group_id, outer_id, scope, post, asked_by, asked_at, told, decided_by) SELECT UUID(), UUID(), id, 1, 0, '', NOW(6), 0, '' FROM mail_groups LIMIT 1"},
		"own-links":      {"INSERT INTO own_links (hash, group_id, member_id, expires_at) SELECT REPEAT('x', 32), id, UUID(), NOW(6) FROM mail_groups LIMIT 1"},
		"jobs":           {"INSERT INTO jobs (mailing_id, as_of, handed_to, attempts, next_at, reply) VALUES (UUID(), NOW(6), '', 0, NOW(6), '')"},
		"mailings":       {"INSERT INTO mailings SELECT UUID(), UUID(), group_id, kind, state, mailbox, sender, fields, decision, received_at, decided_by, reason, trouble, reported, told, edits, passed_at FROM mailings LIMIT 1"},
		"messages":       {"INSERT INTO messages SELECT UUID(), message_id, author, author_id, proven, return_path, subject, header, size, eight_bit, received_at, thread, short_body FROM messages LIMIT 1"},
		"message-bodies": {"INSERT INTO message_bodies (message_id, part, octets) VALUES (UUID(), 0, 'x')"},
		"deliveries":     {"INSERT INTO transmissions (mailing_id, at, people, first, last, recipients, mark) VALUES (UUID(), NOW(6), 1, 'a', 'a', 'a', 0)"},
		"failures":       {"INSERT INTO failures (mailing_id, recipient, given_up, attempts, at, reply) VALUES (UUID(), 'a', 0, 1, NOW(6), '')"},
		"history-seals":  {"UPDATE history SET actor = 'Somebody else' ORDER BY id LIMIT 1"},
	}
	for _, c := range check().Checks {
		if damage[c.Name] == nil {
			t.Errorf("nothing tests %s", c.Name)
		}
	}
	for name, queries := range damage {
		if name == "addresses" || name == "history-seals" {
			continue // at the end: nothing repairs them
		}
		for _, q := range queries {
			k.SQL(t, q)
		}
		if c := check(); wrong(c) != name {
			t.Errorf("%s: found %q", name, wrong(c))
		}
		if looked := kit.Preview(t, ines, func(by workspace.Actor) error { return kit.Last(k.Consistency.Repair(ctx, by)) }); !strings.Contains(looked.Says, "repaired") {
			t.Errorf("%s: looked at, it says %q", name, looked.Says)
		}
		if c := check(); wrong(c) != name {
			t.Errorf("%s: to look at it repaired it", name)
		}
		if _, err := k.Consistency.Repair(ctx, ines); err != nil {
			t.Fatal(err)
		}
		if c := check(); c.Wrong != 0 {
			t.Errorf("%s: after it was repaired: %+v", name, c)
		}
		entry := kit.First(k.History.List(ctx, ines, "", "", "", 1)).Items[0]
		if entry.Kind != "records.repair" || !strings.Contains(entry.Says, name) {
			t.Errorf("%s: the history says %q", name, entry.Says)
		}
	}
	for _, name := range []string{"addresses", "history-seals"} {
		k.SQL(t, damage[name][0])
	}
	if c := check(); wrong(c) != "addresses history-seals" {
		t.Errorf("found %q", wrong(c))
	}
	if c, err := k.Consistency.Repair(ctx, ines); err != nil || !strings.Contains(c.Says, "can't be repaired") {
		t.Errorf("%+v, %v", c, err)
	}
}

func TestWhoChecks(t *testing.T) {
	for _, who := range []string{kit.Colleague, kit.Owner} {
		if _, err := k.Consistency.Check(ctx, k.Actor(t, who)); !workspace.IsKind(err, workspace.NotAllowed) {
			t.Errorf("%s: %v", who, err)
		}
	}
	if _, err := k.Consistency.Repair(ctx, k.Actor(t, kit.Auditor)); !workspace.IsKind(err, workspace.NotAllowed) {
		t.Errorf("an auditor repairs: %v", err)
	}
	if names := store.Checks(); len(names) < 10 {
		t.Errorf("%d checks", len(names))
	}
}
