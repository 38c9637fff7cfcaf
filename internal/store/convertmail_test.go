package store

import (
	"strings"
	"testing"

	"github.com/google/uuid"
)

// Mail that was kept whole, with a row for each recipient, is all there afterwards.
func TestConvertMail(t *testing.T) {
	long := strings.Repeat("x", BodyRow+10)
	const sent, held = "01935c1e-7a10-7000-8000-3f1f2a9c5b11", "01935c1e-7a10-7000-8000-3f1f2a9c5b12"
	message := func(id, state, raw string) string {
		return "INSERT INTO messages (id, kind, state, part, message_id, sender, author, proven, subject, size, raw, decision, received_at, decided_by, reason) VALUES ('" +
			id + "', 'post', '" + state + "', 0, '<1@x>', 'deck-bounces@a.example', 'a@b.example', TRUE, 'Swap', 1, '" + raw + "', '{\"outcome\":\"allow\"}', '2026-11-20 10:00:00', '', '')"
	}
	recipient := func(name string, state int, says string) string {
		return "INSERT INTO deliveries (message_id, recipient, state, attempts, next_at, done_at, last_error) VALUES ('" + sent + "', '" + name + "', " +
			string(rune('0'+state)) + ", 1, '2026-11-20 10:00:01', '2026-11-20 10:00:02', '" + says + "')"
	}
	s := upgraded(t, "ivytable_store_mail", 49, message(sent, "accepted", "Subject: Swap\r\nFrom: a@b.example\r\n\r\n"+long), message(held, "waiting", "Subject: no body\r\n\r\n"),
		recipient("b@x.example", 1, ""), recipient("a@x.example", 1, ""), recipient("c@x.example", 2, "no such box"), recipient("d@x.example", 0, "busy"))
	id := parseID(t, sent)
	all, err := s.Messages([]uuid.UUID{id, parseID(t, held)}, true)
	if err != nil || len(all) != 2 || string(all[id].Header) != "Subject: Swap\r\nFrom: a@b.example\r\n" || all[id].Size != len(long) {
		t.Fatalf("messages: %+v, %v", all, err)
	}
	one, _ := s.Body(id, 0)
	two, err := s.Body(id, 1)
	if err != nil || string(one)+string(two) != long {
		t.Errorf("its body: %d and %d octets, %v", len(one), len(two), err)
	}
	p, err := s.Progress([]uuid.UUID{id}, 10)
	if x := p[id]; err != nil || x.HandedOver != 2 || len(x.Failures) != 1 || x.Failures[0].Recipient != "c@x.example" || !x.Failures[0].GivenUp || x.Failures[0].Reply != "no such box" || len(x.Jobs) != 1 {
		t.Errorf("progress: %+v, %v", x, err)
	}
	jobs, err := s.ClaimJobs(NewID(), 0, 10)
	if err != nil || len(jobs) != 1 || string(jobs[0].Recipients) != "d@x.example\n" {
		t.Errorf("jobs: %+v, %v", jobs, err)
	}
	m, err := s.Mailing(parseID(t, held))
	if err != nil || m.State != Waiting {
		t.Errorf("what waited: %+v, %v", m, err)
	}
}
