package post_test

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/api"
	kit "ivytable.example/ivytable/internal/testkit"
	"ivytable.example/ivytable/internal/workspace"
	"ivytable.example/ivytable/internal/workspace/post"
)

func idsOf(jobs ...*post.Job) (ids []uuid.UUID) {
	for _, j := range jobs {
		ids = append(ids, j.Mailing)
	}
	return ids
}

// next takes a job that was handed on, and opens it.
func next(t *testing.T, h *post.Hands) *post.Job {
	t.Helper()
	select {
	case j := <-h.On():
		if err := j.Open(ctx); err != nil {
			t.Fatal(err)
		}
		return j
	case <-time.After(10 * time.Second):
		t.Fatal("no job was handed on")
	}
	return nil
}

// Messages that come at once are recorded together, and each gets the answer that it is due: those to a group that is gone by then,
// or that refuses, hold up no other.
func TestManyAtOnce(t *testing.T) {
	l := k.Fresh(t, "post_at_once")
	h := l.Post.Hands(time.Hour)
	defer h.Close(ctx)
	closed, open := l.Make(t, "Closed At Once", func(n *api.NewGroup) { n.PolicyPatch = kit.Policy("post=owners") }), l.Make(t, "Open At Once")
	digest, inner := l.Make(t, "Digest At Once"), l.Make(t, "Inner At Once", func(n *api.NewGroup) { n.People = append(n.People, api.NewPerson{Address: kit.Colleague}) })
	outer := l.Make(t, "Outer At Once", func(n *api.NewGroup) { n.People = append(n.People, api.NewPerson{Address: inner.Address}) })
	if _, err := l.Member.ChangeOne(ctx, l.Actor(t, kit.Moderator), digest.Address, kit.Moderator, api.MemberPatch{Delivery: "digest"}, 0); err != nil {
		t.Fatal(err)
	}
	groups := []api.Group{closed, open, digest, inner, outer}
	getIt := [][]string{nil, {kit.Moderator, kit.Owner, kit.Member}, {kit.Owner, kit.Member}, {kit.Moderator, kit.Owner, kit.Colleague, kit.Member}, {kit.Moderator, kit.Owner, kit.Colleague, kit.Member}}
	var all sync.WaitGroup
	errs := make([]error, 200)
	for i := range errs {
		all.Go(func() { errs[i] = l.Send(t, groups[i%5].Address, kit.Member, true, fmt.Sprintf("at once %d ", i)) })
	}
	all.Wait()
	for i, err := range errs {
		var no *post.Refused
		if i%5 == 0 && !errors.As(err, &no) || i%5 != 0 && err != nil {
			t.Errorf("message %d: %v", i, err)
		}
	}
	seen := map[string]int{}
	for range 160 {
		j := next(t, h)
		seen[j.Mailing.String()]++
		var i int
		if _, subject, _ := strings.Cut(string(j.Header), "at once "); subject != "" {
			fmt.Sscan(subject, &i)
		}
		if !slices.Equal(j.To, getIt[i%5]) {
			t.Errorf("message %d goes to %v", i, j.To)
		}
		h.Let(j)
	}
	if len(seen) != 160 {
		t.Errorf("%d of 160 messages were handed on", len(seen))
	}
	if jobs, err := l.Post.Claim(ctx, time.Hour, 100); err != nil || len(jobs) != 0 {
		t.Errorf("another worker could claim %d of them, %v", len(jobs), err)
	}
}

// Who gets messages that were recorded together was read then. A job that waits for long goes by who is in the group by its turn.
func TestWhoLeftWhileItWaited(t *testing.T) {
	l := k.Fresh(t, "post_waited")
	g := l.Make(t, "Waited")
	h := l.Post.Hands(time.Hour)
	defer h.Close(ctx)
	const messages = 40
	var all sync.WaitGroup
	for i := range messages {
		all.Go(func() {
			if err := l.Send(t, g.Address, kit.Owner, true, fmt.Sprintf("waited %d", i)); err != nil {
				t.Error(err)
			}
		})
	}
	all.Wait()
	var jobs []*post.Job
	for range messages {
		select {
		case j := <-h.On():
			jobs = append(jobs, j)
		case <-time.After(10 * time.Second):
			t.Fatalf("%d jobs were handed on", len(jobs))
		}
	}
	if err := l.Member.Remove(ctx, l.Actor(t, kit.Owner), g.Address, kit.Member, 0); err != nil {
		t.Fatal(err)
	}
	for i, j := range jobs {
		post.ReadLongAgo(j)
		if err := j.Open(ctx); err != nil {
			t.Fatal(err)
		}
		if len(j.To) != 2 || slices.Contains(j.To, kit.Member) {
			t.Errorf("message %d goes to %v", i, j.To)
		}
		h.Let(j)
	}
}

// changing changes who may write to a group, to and fro, until the function is called that it returns.
func changing(t *testing.T, l *kit.Kit, g api.Group, audiences ...string) (stop func()) {
	var all sync.WaitGroup
	done := make(chan struct{})
	all.Go(func() {
		for i := 0; ; i++ {
			select {
			case <-done:
				return
			default:
			}
			to := audiences[i%len(audiences)]
			if _, err := l.Reach.ChangePolicy(ctx, l.Actor(t, kit.Owner), g.Address, api.PolicyPatch{Policy: &api.AnswersPatch{Post: to}}, 0); err != nil {
				t.Error(err)
			}
		}
	})
	return func() { close(done); all.Wait() }
}

// A message that was decided about while its group changed is decided about again.
func TestWhatIsAcceptedHoldsForTheGroupAsItIs(t *testing.T) {
	l := k.Fresh(t, "post_changing")
	g := l.Make(t, "Changing")
	stop := changing(t, l, g, "owners", "members")
	taken := 0
	for i := range 60 {
		err := l.Send(t, g.Address, kit.Member, true, fmt.Sprintf("while it changes %d", i))
		var no *post.Refused
		if err == nil {
			taken++
		} else if !errors.As(err, &no) && err.Error() != "a group changed meanwhile" {
			t.Error(err)
		}
	}
	stop()
	if n := len(l.Queued(t)); n != taken {
		t.Errorf("%d were taken, %d are on their way", taken, n)
	}
}

// What was gathered is written down by the time that the hands are closed, and what was not begun is left for others.
func TestHandsLeaveNothingBehind(t *testing.T) {
	l := k.Fresh(t, "post_hands")
	g := l.Make(t, "In Hand")
	h := l.Post.Hands(time.Hour)
	for _, subject := range []string{"done", "not begun"} {
		if err := l.Send(t, g.Address, kit.Member, true, subject); err != nil {
			t.Fatal(err)
		}
	}
	j := next(t, h)
	for _, n := range []int{1, 2} {
		copies, err := j.Next(ctx, 1, n)
		if err != nil {
			t.Fatal(err)
		}
		if err := j.Record(ctx, results(copies[0].To, post.Sent), time.Time{}); err != nil {
			t.Fatal(err)
		}
	}
	h.Let(j)
	if err := h.Close(ctx); err != nil {
		t.Fatal(err)
	}
	p, err := l.Read().Progress(idsOf(j), 1)
	if err != nil || p[j.Mailing].HandedOver != 3 || len(p[j.Mailing].Jobs) != 0 {
		t.Errorf("what was done: %+v, %v", p, err)
	}
	rest := claim(t, l)
	if rest.Mailing == j.Mailing || len(rest.To) != 3 {
		t.Errorf("what was not begun is left as %+v", rest.To)
	}
	if err := l.Send(t, g.Address, kit.Member, true, "afterwards"); err != nil {
		t.Fatal(err)
	}
	if after := claim(t, l); len(after.To) != 3 {
		t.Errorf("what comes afterwards is left as %+v", after.To)
	}
}

// A job whose lease ran out while its worker was away is lost to it, and not recorded by it; one that is kept is nobody else's.
func TestALeaseThatIsLost(t *testing.T) {
	l := k.Fresh(t, "post_lease")
	g := l.Make(t, "Leased")
	h := l.Post.Hands(time.Hour)
	defer h.Close(ctx)
	for _, subject := range []string{"kept", "lost"} {
		if err := l.Send(t, g.Address, kit.Member, true, subject); err != nil {
			t.Fatal(err)
		}
	}
	kept, lost := next(t, h), next(t, h)
	gone := make(chan struct{})
	lost.OnLost(func() { close(gone) })
	l.SQL(t, "UPDATE jobs SET next_at = NOW(6) - INTERVAL 1 DAY WHERE mailing_id = '"+lost.Mailing.String()+"'")
	if other := claim(t, l); other.Mailing != lost.Mailing {
		t.Fatal("the other worker got the wrong one")
	}
	l.SQL(t, "UPDATE jobs SET next_at = NOW(6) - INTERVAL 1 DAY WHERE mailing_id = '"+kept.Mailing.String()+"'")
	if err := h.Keep(ctx); err != nil {
		t.Fatal(err)
	}
	select {
	case <-gone:
	default:
		t.Error("the job that was lost is worked on")
	}
	if err := lost.Record(ctx, results(lost.To, post.Sent), time.Time{}); !errors.Is(err, post.ErrLost) {
		t.Errorf("the job that was lost is recorded: %v", err)
	}
	if jobs, err := l.Post.Claim(ctx, time.Hour, 10); err != nil || len(jobs) != 0 {
		t.Errorf("%d jobs can be claimed, %v; the lease was renewed", len(jobs), err)
	}
	if err := kept.Record(ctx, results(kept.To, post.Sent), time.Time{}); err != nil {
		t.Error(err)
	}
}

// A result of a job that somebody else has by then does not keep those of others from being written down.
func TestResultsOfALostJob(t *testing.T) {
	l := k.Fresh(t, "post_lost_results")
	g := l.Make(t, "Results")
	h := l.Post.Hands(time.Hour)
	for _, subject := range []string{"kept", "lost"} {
		if err := l.Send(t, g.Address, kit.Member, true, subject); err != nil {
			t.Fatal(err)
		}
	}
	kept, lost := next(t, h), next(t, h)
	l.SQL(t, "UPDATE jobs SET worker = UUID() WHERE mailing_id = '"+lost.Mailing.String()+"'")
	for _, j := range []*post.Job{lost, kept} {
		if err := j.Record(ctx, results(j.To, post.Sent), time.Time{}); err != nil {
			t.Fatal(err)
		}
	}
	if err := h.Close(ctx); err != nil {
		t.Fatal(err)
	}
	p, err := l.Read().Progress(idsOf(kept, lost), 1)
	if err != nil || p[kept.Mailing].HandedOver != 3 || len(p[kept.Mailing].Jobs) != 0 || p[lost.Mailing].HandedOver != 0 || len(p[lost.Mailing].Jobs) != 1 {
		t.Errorf("%+v, %v", p, err)
	}
}

// While the relay is away nothing is taken in memory.
func TestNothingIsHandedOnWhileTheRelayIsAway(t *testing.T) {
	l := k.Fresh(t, "post_away")
	g := l.Make(t, "Away")
	h := l.Post.Hands(time.Hour)
	defer h.Close(context.Background())
	h.Away(true)
	if err := l.Send(t, g.Address, kit.Member, true, "away"); err != nil {
		t.Fatal(err)
	}
	if j := claim(t, l); len(j.To) != 3 {
		t.Errorf("it goes to %v", j.To)
	}
	h.Away(false)
	if err := l.Send(t, g.Address, kit.Member, true, "back"); err != nil {
		t.Fatal(err)
	}
	next(t, h)
}

// A note of when a group was written to is made once a minute, and not made by a change that was refused.
func TestWhenAGroupWasWrittenTo(t *testing.T) {
	l := k.Fresh(t, "post_noted")
	g := l.Make(t, "Noted")
	for i, by := range []time.Duration{0, time.Second, 2 * time.Minute} {
		l.MoveBy(by)
		if err := l.Send(t, g.Address, kit.Member, true, fmt.Sprint(i)); err != nil {
			t.Fatal(err)
		}
	}
	var last time.Time
	l.SQL(t, "SELECT last_at FROM group_posts", &last)
	if d := l.Now().Sub(last); d < 0 || d > time.Minute {
		t.Errorf("it was last written to %v ago", d)
	}
	if !workspace.IsKind(l.Send(t, "nobody-here@merrowline.example", kit.Member, true, "x"), workspace.NotFound) {
		t.Error("mail to nobody")
	}
}

// holdUp has the database hold up what is recorded, until the function is called that it returns.
func holdUp(t *testing.T, l *kit.Kit) (goOn func()) {
	t.Helper()
	db, err := sql.Open("mysql", l.DSN)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { db.Close() })
	lock, err := db.Conn(ctx)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { lock.Close() })
	if _, err := lock.ExecContext(ctx, "LOCK TABLES messages WRITE"); err != nil {
		t.Fatal(err)
	}
	return func() {
		t.Helper()
		if _, err := lock.ExecContext(ctx, "UNLOCK TABLES"); err != nil {
			t.Fatal(err)
		}
	}
}

// heldUp waits until something is held up.
func heldUp(t *testing.T, l *kit.Kit) {
	t.Helper()
	for deadline := time.Now().Add(10 * time.Second); time.Now().Before(deadline); time.Sleep(5 * time.Millisecond) {
		var n int
		if l.SQL(t, "SELECT COUNT(*) FROM information_schema.processlist WHERE db = DATABASE() AND info LIKE 'INSERT INTO messages%' AND state LIKE 'Waiting for table%'", &n); n > 0 {
			return
		}
	}
	t.Fatal("nothing is held up")
}

// A message that is being recorded when its group is closed to its author is refused: what was decided about it holds no more.
func TestAGroupThatIsClosedMeanwhile(t *testing.T) {
	l := k.Fresh(t, "post_closed")
	for _, plain := range []bool{true, false} { // recorded with others, and by itself
		g := l.Make(t, fmt.Sprintf("Closing %v", plain))
		if !plain {
			text := "Thank you."
			if _, err := l.Group.Change(ctx, l.Actor(t, kit.Administrator), g.Address, api.GroupPatch{Mail: api.MailPatch{Answer: &text}}, 0); err != nil {
				t.Fatal(err)
			}
		}
		goOn := holdUp(t, l)
		sent := make(chan error)
		go func() { sent <- l.Send(t, g.Address, kit.Member, true, "too late") }()
		heldUp(t, l)
		if _, err := l.Reach.ChangePolicy(ctx, l.Actor(t, kit.Owner), g.Address, api.PolicyPatch{Policy: &api.AnswersPatch{Post: "owners"}}, 0); err != nil {
			t.Fatal(err)
		}
		goOn()
		var no *post.Refused
		if err := <-sent; !errors.As(err, &no) {
			t.Errorf("plain %v: %v", plain, err)
		}
	}
	if sent := l.Queued(t); len(sent) != 0 {
		t.Errorf("recorded: %v", sent)
	}
}

// While the database holds up what is recorded, whoever gives up before their turn has come is not kept, and their message is not recorded.
func TestNobodyWaitsForever(t *testing.T) {
	l := k.Fresh(t, "post_hung")
	g := l.Make(t, "Hung")
	to, err := l.Post.Find(ctx, kit.Address(t, g.Address), false)
	if err != nil {
		t.Fatal(err)
	}
	goOn := holdUp(t, l)
	send := func(ctx context.Context, subject string) error {
		return l.Post.Accept(ctx, kit.Arrived(t, kit.Member, true, subject, "", to))
	}
	first := make(chan error)
	go func() { first <- send(ctx, "first") }()
	heldUp(t, l)
	var all sync.WaitGroup
	for i := range 20 {
		all.Go(func() {
			short, cancel := context.WithTimeout(ctx, 300*time.Millisecond)
			defer cancel()
			if err := send(short, fmt.Sprintf("gave up %d", i)); !errors.Is(err, context.DeadlineExceeded) {
				t.Errorf("message %d: %v", i, err)
			}
		})
	}
	all.Wait()
	goOn()
	if err := <-first; err != nil {
		t.Errorf("the first: %v", err)
	}
	if err := send(ctx, "afterwards"); err != nil {
		t.Errorf("afterwards: %v", err)
	}
	if sent := l.Queued(t); len(sent) != 2 {
		t.Errorf("recorded: %v", sent)
	}
}
