package mail_test

import (
	"bytes"
	"fmt"
	"io"
	"slices"
	"strings"
	"testing"
	"time"

	mime "github.com/emersion/go-message"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/mail"
	kit "ivytable.example/ivytable/internal/testkit"
	"ivytable.example/ivytable/internal/workspace/post"
)

// arrive sends a message to a group as it comes by SMTP.
func arrive(t *testing.T, l *kit.Kit, g api.Group, author, id, answers, text string) {
	t.Helper()
	header := "From: <" + author + ">\r\nTo: <" + g.Address + ">\r\nSubject: About " + id + "\r\nMessage-ID: <" + id + "@x.example>\r\nContent-Type: text/plain; charset=utf-8\r\n"
	if answers != "" {
		header += "References: <" + answers + "@x.example> <between@x.example>\r\n"
	}
	m, err := mail.Parse([]byte(header))
	if err != nil {
		t.Fatal(err)
	}
	to, err := l.Post.Find(ctx, kit.Address(t, g.Address), false)
	if err != nil {
		t.Fatal(err)
	}
	mark, err := l.Post.Marker(ctx)
	if err != nil {
		t.Fatal(err)
	}
	a, err := m.For([]post.Destination{to}, mail.Trace{From: "x", By: "y", With: "ESMTP", ID: id, At: l.Now(), Mark: mark}, []string{"merrowline.example"}, strings.NewReader(text))
	if err != nil {
		t.Fatal(err)
	}
	a.Proven, a.Body, a.Size = true, strings.NewReader(text), len(text)
	if err := l.Post.Accept(ctx, a); err != nil {
		t.Fatal(err)
	}
}

func choose(t *testing.T, l *kit.Kit, g api.Group, who, delivery string) {
	t.Helper()
	if _, err := l.Member.ChangeOne(ctx, l.Actor(t, who), g.Address, who, api.MemberPatch{Delivery: delivery}, 0); err != nil {
		t.Fatal(err)
	}
}

// parts reads the messages of a digest.
func parts(t *testing.T, raw string) (contents string, messages []string) {
	t.Helper()
	e, err := mime.Read(strings.NewReader(raw))
	if err != nil {
		t.Fatal(err)
	}
	outer := e.MultipartReader()
	first, err := outer.NextPart()
	if err != nil {
		t.Fatal(err)
	}
	b, _ := io.ReadAll(first.Body)
	second, err := outer.NextPart()
	if err != nil {
		t.Fatal(err)
	}
	if kind, _, _ := second.Header.ContentType(); kind != "multipart/digest" {
		t.Errorf("the second part is %s", kind)
	}
	inner := second.MultipartReader()
	for {
		p, err := inner.NextPart()
		if err == io.EOF {
			return string(b), messages
		} else if err != nil {
			t.Fatal(err)
		}
		m, _ := io.ReadAll(p.Body)
		messages = append(messages, string(m))
	}
}

// Who chose digests gets the messages of a day together, once, at their hour, octet for octet; nobody gets one in which nothing is.
func TestDigest(t *testing.T) {
	l := k.Fresh(t, "mail_digest")
	g := l.Make(t, "Daily")
	choose(t, l, g, kit.Member, "digest")
	run := func() map[string][]string {
		t.Helper()
		if err := l.Post.SendDigests(ctx); err != nil {
			t.Fatal(err)
		}
		return l.Queued(t)
	}
	if sent := run(); len(sent) != 0 {
		t.Fatalf("at once: %v", sent)
	}
	for i := range 3 {
		l.MoveBy(time.Minute)
		arrive(t, l, g, kit.Owner, fmt.Sprintf("m%d", i), "", fmt.Sprintf("Text %d\r\n--not a boundary\r\nGr\xc3\xbc\xc3\x9fe\r\n", i))
	}
	if sent := l.Queued(t); slices.Contains(sent["About m0"], kit.Member) || len(sent["About m0"]) != 2 {
		t.Errorf("by itself it went to %v", sent["About m0"])
	}
	if sent := run(); len(sent) != 0 {
		t.Errorf("before the hour: %v", sent)
	}
	l.Move(1)
	if err := l.Post.SendDigests(ctx); err != nil {
		t.Fatal(err)
	}
	letters := l.Letters(t)
	if len(letters) != 1 || !slices.Equal(letters[0].To, []string{kit.Member}) || !strings.Contains(letters[0].Subject, "Daily") || !strings.Contains(letters[0].Subject, "3 messages") {
		t.Fatalf("the digest: %+v", letters)
	}
	contents, messages := parts(t, letters[0].Text)
	if len(messages) != 3 || !strings.Contains(contents, "1. About m0") || !strings.Contains(contents, "3. About m2") {
		t.Errorf("%d messages; contents %q", len(messages), contents)
	}
	for i, m := range messages {
		if !strings.Contains(m, fmt.Sprintf("Message-Id: <m%d@x.example>", i)) && !strings.Contains(m, fmt.Sprintf("Message-ID: <m%d@x.example>", i)) || !bytes.Contains([]byte(m), fmt.Appendf(nil, "\r\n\r\nText %d\r\n--not a boundary\r\nGr\xc3\xbc\xc3\x9fe", i)) {
			t.Errorf("message %d is %q", i, m)
		}
	}
	for _, field := range []string{"List-Id: <daily.merrowline.example>", "List-Unsubscribe: <http://console.example/groups/"} {
		if !strings.Contains(letters[0].Text, field) {
			t.Errorf("it lacks %s", field)
		}
	}
	l.Move(1)
	if sent := run(); len(sent) != 0 {
		t.Errorf("a day on which nothing came: %v", sent)
	}
	choose(t, l, g, kit.Member, "each")
	arrive(t, l, g, kit.Owner, "later", "", "Later")
	if sent := l.Queued(t); !slices.Contains(sent["About later"], kit.Member) {
		t.Errorf("each again, it went to %v", sent)
	}
	l.Move(1)
	if sent := run(); len(sent) != 0 {
		t.Errorf("who gets none any more: %v", sent)
	}
}

// Two instances write each digest once.
func TestDigestsOnce(t *testing.T) {
	l := k.Fresh(t, "mail_digest_once")
	g := l.Make(t, "Once A Day")
	for _, who := range []string{kit.Member, kit.Moderator} {
		choose(t, l, g, who, "digest")
	}
	if err := l.Post.SendDigests(ctx); err != nil {
		t.Fatal(err)
	}
	l.MoveBy(time.Minute)
	arrive(t, l, g, kit.Owner, "once", "", "Once")
	l.Queued(t)
	l.Move(1)
	done := make(chan error)
	for range 8 {
		go func() { done <- l.Post.SendDigests(ctx) }()
	}
	for range 8 {
		if err := <-done; err != nil {
			t.Error(err)
		}
	}
	var to []string
	for _, x := range l.Letters(t) {
		to = append(to, x.To...)
	}
	slices.Sort(to)
	if want := []string{kit.Member, kit.Moderator}; len(to) != 2 || !slices.Contains(to, want[0]) || !slices.Contains(to, want[1]) {
		t.Errorf("digests went to %v", to)
	}
}

// The hour is that of whoever gets it, in their zone.
func TestDigestTime(t *testing.T) {
	l := k.Fresh(t, "mail_digest_time")
	g := l.Make(t, "Evenings")
	member := l.Actor(t, kit.Member)
	if _, err := l.Pause.SetDigestTime(ctx, member, kit.Member, api.DigestTime{Hour: 18}); err == nil {
		t.Error("who gets none can set their hour")
	}
	choose(t, l, g, kit.Member, "digest")
	if err := l.Post.SendDigests(ctx); err != nil {
		t.Fatal(err)
	}
	if _, err := l.Pause.SetDigestTime(ctx, member, kit.Member, api.DigestTime{Hour: 18, Zone: "Nowhere/Here"}); err == nil {
		t.Error("a zone that is none")
	}
	s, err := l.Pause.SetDigestTime(ctx, member, kit.Member, api.DigestTime{Hour: 18, Zone: "Asia/Tokyo"})
	if err != nil || s.Says != "Digests come at 18:00 in Asia/Tokyo." {
		t.Fatalf("%+v, %v", s, err)
	}
	d, err := l.Read().DigestTime(member.Person.ID)
	if err != nil || d.DueAt.UTC().Hour() != 9 || d.DueAt.Sub(l.Now()) > 24*time.Hour || !d.DueAt.After(l.Now()) {
		t.Errorf("it is due at %v, now %v, %v", d.DueAt, l.Now(), err)
	}
}

// Who takes part in conversations only gets the answers in those in which they wrote.
func TestConversations(t *testing.T) {
	l := k.Fresh(t, "mail_conversations")
	g := l.Make(t, "Talk")
	choose(t, l, g, kit.Member, "conversations")
	gets := func(id string) bool {
		t.Helper()
		return slices.Contains(l.Queued(t)["About "+id], kit.Member)
	}
	arrive(t, l, g, kit.Owner, "first", "", "First")
	if gets("first") {
		t.Error("one in which they did not write")
	}
	arrive(t, l, g, kit.Owner, "answer", "first", "Answer")
	if gets("answer") {
		t.Error("an answer to it")
	}
	arrive(t, l, g, kit.Member, "own", "first", "Mine")
	l.Queued(t)
	arrive(t, l, g, kit.Owner, "back", "first", "Back")
	if !gets("back") {
		t.Error("an answer after they wrote")
	}
	arrive(t, l, g, kit.Moderator, "new", "", "New")
	if gets("new") {
		t.Error("another conversation")
	}
}

// A post that waited for approval is in the digest of the day on which it was let through, not lost with that on which it came; and
// whatever comes in a day is in one of its digests.
func TestDigestsLeaveNothingOut(t *testing.T) {
	l := k.Fresh(t, "mail_digest_all")
	g := l.Make(t, "Everything", func(n *api.NewGroup) { n.PolicyPatch = kit.Policy("hold=everyone") })
	choose(t, l, g, kit.Member, "digest")
	next := func() (all []kit.Letter) {
		t.Helper()
		if err := l.Post.SendDigests(ctx); err != nil {
			t.Fatal(err)
		}
		for _, x := range l.Letters(t) {
			if slices.Equal(x.To, []string{kit.Member}) && strings.Contains(x.Subject, "Everything, ") {
				all = append(all, x)
			}
		}
		return all
	}
	next()
	l.MoveBy(time.Minute)
	arrive(t, l, g, kit.Member, "held", "", "Held")
	l.Move(1)
	if got := next(); len(got) != 0 {
		t.Fatalf("while it waits: %v", got)
	}
	w, err := l.Waiting.List(ctx, l.Actor(t, kit.Owner), g.Address, []string{"post"}, "", 10)
	if err != nil || len(w.Items) != 1 {
		t.Fatalf("%+v, %v", w.Items, err)
	}
	if err := l.Decide(l.Actor(t, kit.Owner), w.Items[0].ID, "approve", ""); err != nil {
		t.Fatal(err)
	}
	l.Letters(t)
	l.Move(1)
	got := next()
	if len(got) != 1 {
		t.Fatalf("once it was let through: %d digests", len(got))
	}
	if _, messages := parts(t, got[0].Text); len(messages) != 1 || !strings.Contains(messages[0], "Held") {
		t.Errorf("it has %q", messages)
	}
	if _, err := l.Reach.ChangePolicy(ctx, l.Actor(t, kit.Owner), g.Address, api.PolicyPatch{Hold: "nobody"}, 0); err != nil {
		t.Fatal(err)
	}
	for i := range 230 {
		arrive(t, l, g, kit.Owner, fmt.Sprintf("many-%d", i), "", "x")
	}
	l.Letters(t)
	l.Move(1)
	seen := 0
	for i, x := range next() {
		if !strings.HasSuffix(x.Subject, fmt.Sprintf("(%d/3)", i+1)) {
			t.Errorf("digest %d is called %q", i, x.Subject)
		}
		_, messages := parts(t, x.Text)
		seen += len(messages)
	}
	if seen != 230 {
		t.Errorf("%d of 230 messages are in digests", seen)
	}
}
