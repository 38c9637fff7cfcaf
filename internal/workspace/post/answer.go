package post

import (
	"errors"
	"slices"
	"strings"

	"ivytable.example/ivytable/internal/core/mailaddr"
	"ivytable.example/ivytable/internal/core/policy"
	"ivytable.example/ivytable/internal/store"
	"ivytable.example/ivytable/internal/workspace"
)

// maxAnswers is how many automatic answers a group sends in a day: those who wrote to it may be invented.
const maxAnswers = 500

// answer returns the automatic answer that a message to g, which was taken in or held, is due, "" for none;
// that it was given is noted. By RFC 3834, 2: nothing that a program or a list sent is answered, nothing
// goes but to the return path, and to nobody twice within the group's period. What claims to be written by
// somebody of the workspace and is not proven is not answered either, and who is in the group needs no answer.
func answer(c *workspace.Change, g *store.Group, a Arrived, m store.Mailing) (string, error) {
	text := g.Mail.Answer
	if text == "" || Mailbox(m.Mailbox) != ToGroup || a.Automatic || a.Listed {
		return "", nil
	}
	back, err := mailaddr.Parse(a.ReturnPath)
	if err != nil || !person(back.Local()) || !a.Proven && back.Key() != a.Author.Key() {
		return "", nil
	}
	domains, err := c.Domains()
	if err != nil {
		return "", err
	}
	if slices.Contains(domains, back.Domain()) {
		if !a.Proven {
			return "", nil
		}
		if _, err := c.Read.GroupByAddress(back.Key()); !errors.Is(err, store.ErrNotFound) { // two that answer each other
			return "", err
		}
	}
	if p, err := c.Read.PersonByKey(a.writer().Key()); err == nil {
		if r, err := c.RelationOf(p, g); err != nil || r.Rung <= policy.Members {
			return "", err
		}
	} else if !errors.Is(err, store.ErrNotFound) {
		return "", err
	}
	now := c.Now()
	if due, err := c.Tx.Answer(g.ID, back.Key(), now, now.Add(-g.Mail.Period())); err != nil || !due {
		return "", err
	}
	n, err := c.Tx.Spend(g.ID, now, "answers", 1)
	if err != nil || n > maxAnswers {
		return "", err
	}
	return text, nil
}

// person reports whether somebody may read mail to a local part: not the programs that RFC 3834, 2 names,
// and what lists and returned mail use.
func person(local string) bool {
	local = strings.ToLower(local)
	for _, name := range []string{"mailer-daemon", "postmaster", "noreply", "no-reply", "donotreply", "do-not-reply", "bounce", "bounces"} {
		if local == name {
			return false
		}
	}
	for _, end := range []string{"-request", "-owner", "-owners", "-bounces", "-relay"} {
		if strings.HasSuffix(local, end) {
			return false
		}
	}
	return !strings.HasPrefix(local, "owner-") && !strings.HasPrefix(local, "bounce-") && !strings.HasPrefix(local, "bounces+")
}

// sendAnswer writes an automatic answer in the name of the group.
func sendAnswer(c *workspace.Change, g *store.Group, a Arrived, text string) error {
	l := c.GroupLetter(workspace.LetterAnswer, g, "", map[string]string{"subject": a.Subject, "answer": text, "notice": g.Mail.Notice})
	l.Answers = &workspace.InAnswer{MessageID: a.MessageID, Name: g.Name, Address: g.Address}
	return c.Send(g, []string{a.ReturnPath}, l)
}
