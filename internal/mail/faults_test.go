package mail_test

import (
	"errors"
	"fmt"
	"strings"
	"testing"

	"github.com/emersion/go-smtp"

	"ivytable.example/ivytable/internal/api"
	kit "ivytable.example/ivytable/internal/testkit"
)

// recorded counts the messages of a subject, and the jobs of these.
func recorded(t *testing.T, subject string) (messages, jobs int) {
	t.Helper()
	k.SQL(t, "SELECT COUNT(*) FROM messages WHERE subject = '"+subject+"'", &messages)
	k.SQL(t, "SELECT COUNT(*) FROM jobs j JOIN mailings m ON m.id = j.mailing_id JOIN messages x ON x.id = m.message_id WHERE x.subject = '"+subject+"'", &jobs)
	return messages, jobs
}

// At whichever statement the database fails, a message is put off and nothing of it is recorded; where the answer to a commit is lost, it is
// looked up, and the message is taken once.
func TestAFaultAtEachStatementOfAMessage(t *testing.T) {
	open := k.Make(t, "Faults", func(n *api.NewGroup) { n.PolicyPatch = kit.Policy("post=anyone hold=nobody") })
	held := k.Make(t, "Faults Held", func(n *api.NewGroup) { n.PolicyPatch = kit.Policy("post=anyone hold=everyone") })
	closed := k.Make(t, "Faults Closed", func(n *api.NewGroup) { n.PolicyPatch = kit.Policy("find=anyone post=members") })
	answer := "We read this on Monday."
	answers := k.Make(t, "Faults Answered", func(n *api.NewGroup) {
		n.PolicyPatch = kit.Policy("post=anyone hold=nobody")
		n.Mail.Answer = &answer
	})
	n := 0
	for _, x := range []struct {
		name, as, from string
		to             api.Group
		refused        bool
	}{
		{"a stranger's", "", "stranger@gannetport.example", open, false},
		{"a member's", kit.Member, kit.Member, open, false},
		{"one that waits", "", "stranger@gannetport.example", held, false},
		{"one that is answered", "", "stranger@gannetport.example", answers, false},
		{"one that is refused", "", "stranger@gannetport.example", closed, true},
	} {
		for at, done := 1, false; !done; at++ {
			for _, f := range []*kit.Fault{{At: at, Deadlock: true}, {At: at}} {
				n++
				subject := fmt.Sprint("Fault ", n)
				c := dial(t, x.as)
				k.Pool.Intercept(f.Intercept)
				err := c.SendMail(x.from, []string{x.to.Address}, strings.NewReader(message(x.from, subject)))
				k.Pool.Intercept(nil)
				c.Close()
				what := fmt.Sprintf("%s, statement %d (deadlock: %t): %.150s", x.name, at, f.Deadlock, strings.Join(strings.Fields(f.Query), " "))
				messages, jobs := recorded(t, subject)
				var e *smtp.SMTPError
				switch {
				case f.Query == "":
					if done = true; (err != nil) != x.refused || !x.refused && messages == 0 {
						t.Errorf("%s: %v in the end, %d messages", x.name, err, messages)
					}
				case !errors.As(err, &e) || e.Code != 451:
					t.Errorf("%s: %v", what, err)
				case messages+jobs != 0:
					t.Errorf("%s: %d messages and %d jobs are left", what, messages, jobs)
				}
			}
		}
		if x.refused {
			continue
		}
		n++
		subject := fmt.Sprint("Fault ", n)
		c, f := dial(t, x.as), &kit.Fault{Answer: true}
		k.Pool.Intercept(f.Intercept)
		err := c.SendMail(x.from, []string{x.to.Address}, strings.NewReader(message(x.from, subject)))
		k.Pool.Intercept(nil)
		if messages, _ := recorded(t, subject); err != nil || messages != 1 || f.Query == "" {
			t.Errorf("%s, whose commit was not answered: %v, %d messages", x.name, err, messages)
		}
	}
}
