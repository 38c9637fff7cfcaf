package post_test

import (
	"errors"
	"fmt"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"ivytable.example/ivytable/internal/api"
	kit "ivytable.example/ivytable/internal/testkit"
	"ivytable.example/ivytable/internal/workspace"
	"ivytable.example/ivytable/internal/workspace/post"
)

// How many messages of one writer, and to one group, are taken in an hour has an end, however many come at once, and nobody can use up
// what is another's.
func TestTooManyMessages(t *testing.T) {
	l := k.Fresh(t, "post_flow")
	open := func(n *api.NewGroup) { n.PolicyPatch = kit.Policy("post=anyone hold=nobody suspicious=deliver") }
	g, other, closed := l.Make(t, "Flow", open), l.Make(t, "Other Flow", open), l.Make(t, "Closed Flow", func(n *api.NewGroup) { n.PolicyPatch = kit.Policy("post=owners") })
	l.Flow(t, 10, 25)
	var n atomic.Int32
	send := func(to, from string, proven bool) error {
		return l.Send(t, to, from, proven, fmt.Sprintf("flow %d", n.Add(1)))
	}
	tooMany := func(what string, err error, says ...string) {
		t.Helper()
		var many *post.TooMany
		if !errors.As(err, &many) || !workspace.IsKind(err, workspace.Throttled) {
			t.Errorf("%s: %v", what, err)
		}
		for _, s := range says {
			if err != nil && !strings.Contains(err.Error(), s) {
				t.Errorf("%s: it does not say %q: %v", what, s, err)
			}
		}
	}
	taken := func(what string, err error) {
		t.Helper()
		if err != nil {
			t.Errorf("%s: %v", what, err)
		}
	}
	for range 30 { // what is refused does not count
		var no *post.Refused
		if err := send(closed.Address, kit.Member, true); !errors.As(err, &no) {
			t.Fatal(err)
		}
	}
	var all sync.WaitGroup
	var took atomic.Int32
	for range 100 {
		all.Go(func() {
			if err := send(g.Address, kit.Member, true); err == nil {
				took.Add(1)
			} else {
				tooMany("one of a hundred at once", err, "More than 10 messages of "+kit.Member+" came within an hour.", "Try again later.")
			}
		})
	}
	all.Wait()
	if took.Load() != 10 {
		t.Errorf("%d messages of one were taken at once", took.Load())
	}
	tooMany("to another group", send(other.Address, kit.Member, true))
	taken("of a colleague", send(g.Address, kit.Owner, true))
	taken("that claims to be theirs", send(g.Address, kit.Member, false))
	for i := range 9 {
		taken("forged", send(g.Address, kit.Colleague, false))
		taken("of strangers", send(g.Address, fmt.Sprintf("stranger%d@elsewhere.example", i), true))
	}
	for i := range 6 { // the twentieth to the twenty-fifth of strangers
		taken("of strangers", send(g.Address, fmt.Sprintf("more%d@elsewhere.example", i), true))
	}
	tooMany("one more of a stranger", send(g.Address, "last@elsewhere.example", true), "More than 25 messages to "+g.Address)
	taken("of somebody who is known", send(g.Address, kit.Owner, true))
	for range 9 {
		taken("to another group", send(other.Address, "last@elsewhere.example", true)) // the one in vain did not count
	}
	taken("the tenth", send(other.Address, "last@elsewhere.example", true))
	tooMany("the eleventh", send(other.Address, "last@elsewhere.example", true))

	l.MoveBy(6 * time.Minute)
	taken("a tenth of an hour later", send(g.Address, kit.Member, true))
	tooMany("and no more than one", send(g.Address, kit.Member, true))
	l.Flow(t, 12, 25)
	taken("once more are taken", send(g.Address, kit.Member, true))
	taken("one more of two", send(g.Address, kit.Member, true))
	tooMany("those before count for the new bound", send(g.Address, kit.Member, true))
	l.Flow(t, 5, 25)
	tooMany("and for a lower one", send(g.Address, kit.Member, true))
}

// A message counts once, however often it was decided about because its group changed meanwhile.
func TestCountedOnce(t *testing.T) {
	l := k.Fresh(t, "post_flow_once")
	g := l.Make(t, "Flow Once")
	l.Flow(t, 100, 1000)
	stop := changing(t, l, g, "workspace", "members")
	for i := range 60 {
		if err := l.Send(t, g.Address, kit.Member, true, fmt.Sprintf("while it changes %d", i)); err != nil && err.Error() != "a group changed meanwhile" {
			t.Error(err)
		}
	}
	stop()
	for i := range 40 {
		if err := l.Send(t, g.Address, kit.Member, true, fmt.Sprintf("afterwards %d", i)); err != nil {
			t.Fatalf("message %d: %v", 60+i, err)
		}
	}
}

// Mail that comes back is nobody's message, and is not counted.
func TestReturnsAreNotCounted(t *testing.T) {
	l := k.Fresh(t, "post_flow_returns")
	g := l.Make(t, "Flow Returns")
	l.Flow(t, 1, 1)
	back, err := l.Post.Find(ctx, kit.Address(t, strings.Replace(g.Address, "@", "-bounces@", 1)), true)
	if err != nil {
		t.Fatal(err)
	}
	for range 5 {
		if err := l.Post.Accept(ctx, kit.Arrived(t, "mailer@elsewhere.example", false, "came back", "", back)); err != nil {
			t.Fatal(err)
		}
	}
}
