package member

import (
	"errors"
	"strings"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/core/admission"
	"ivytable.example/ivytable/internal/core/event"
	"ivytable.example/ivytable/internal/core/policy"
	"ivytable.example/ivytable/internal/store"
	"ivytable.example/ivytable/internal/workspace"
)

// consents records what is agreed about the groups of results that come into g, and asks those who
// run the others. It refuses what the two policies contradict.
func consents(c *workspace.Change, g *workspace.Locked, results []Result, scope admission.Scope) error {
	for i := range results {
		r := &results[i]
		if r.inner == nil || !r.OK() && !r.Asked() {
			continue
		}
		x, err := c.Tx.LockConsent(g.ID, r.ID)
		switch {
		case errors.Is(err, store.ErrNotFound):
			x = store.Consent{ID: store.NewID(), GroupID: r.ID, OuterID: g.ID, AskedBy: c.By.String(), AskedAt: c.Now(), Told: true}
			err = nil
		case err == nil && r.Asked():
			r.Outcome, r.Says = "already", "Its owners were asked on "+c.In(x.AskedAt).Format("2 Jan 2006")+" and have not decided yet."
			continue
		}
		if err == nil && r.Asked() {
			err = ask(c, &g.Group.Group, &r.inner.Group, x)
		} else if err == nil {
			err = agree(c, &g.Group.Group, r, x, scope)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// ask asks those who run inner whether it may be in outer.
func ask(c *workspace.Change, outer, inner *store.Group, x store.Consent) error {
	if err := c.Tx.AskConsents([]store.Consent{x}); err != nil {
		return err
	}
	to, err := c.NoticeRecipients(inner)
	if err != nil {
		return err
	}
	if err := c.Send(inner, to, c.ConsentLetter(workspace.LetterNestAsked, inner, outer, inner, "/waiting", map[string]string{"since": ""})); err != nil {
		return err
	}
	fact := event.ConsentAsked{Outer: workspace.WhoGroup(outer), Inner: workspace.WhoGroup(inner)}
	if err := c.Record(fact, outer); err != nil {
		return err
	}
	return c.Record(fact, inner)
}

// agree records that r may be in outer, unless the two policies contradict it.
func agree(c *workspace.Change, outer *store.Group, r *Result, x store.Consent, scope admission.Scope) error {
	given, why := Given(c, outer, &r.inner.Group, x, scope)
	if why != "" {
		r.refuse("refused", "%s", why)
		return nil
	}
	if err := c.Tx.SaveConsent(given); err != nil {
		return err
	}
	return c.Record(event.ConsentGiven{Outer: workspace.WhoGroup(outer), Inner: workspace.WhoGroup(&r.inner.Group), Scope: scope.String()}, &r.inner.Group)
}

// Given is a consent as it is once the actor has agreed to a scope. why says what contradicts it.
func Given(c *workspace.Change, outer, inner *store.Group, x store.Consent, scope admission.Scope) (given store.Consent, why string) {
	now := c.Now()
	x.Scope, x.Post, x.DecidedBy, x.DecidedAt = scope, outer.Policy[policy.Post], c.By.String(), &now
	if why = x.Agreed().Contradicted(c.Door(outer), c.Door(inner)); why != "" {
		why = strings.TrimSuffix(why, ".") + ": agree to its people being counted there, not seen, or change one of the two policies."
	}
	return x, why
}

// Part takes a group out of outer, which is locked, at the wish of those who run it.
func Part(c *workspace.Change, outer *workspace.Locked, inner uuid.UUID, reason string) error {
	all := []Target{{ID: inner}}
	if err := applyTo(c, outer, all, change{remove: true, exit: admission.Removing, inner: true, reason: reason}); err != nil {
		return err
	}
	return all[0].Err
}

// parted records that groups are no longer in outer, and tells the other side.
func parted(c *workspace.Change, outer *store.Group, inner []uuid.UUID, x change) error {
	groups, err := c.Read.GroupsByID(inner)
	if err != nil {
		return err
	}
	for _, id := range inner {
		g, ok := groups[id]
		if !ok {
			continue
		}
		told := &g
		if x.inner {
			told = outer
		}
		if err := Unasked(c, outer, &g, told, "ended", x.reason); err != nil {
			return err
		}
	}
	return nil
}

// Unasked records on inner's side that it is not in outer, and tells one of the two.
func Unasked(c *workspace.Change, outer, inner, told *store.Group, how, reason string) error {
	to, err := c.NoticeRecipients(told)
	if err != nil {
		return err
	}
	did := workspace.Phrase(told.Language, "nest "+how)
	if err := c.Send(told, to, c.ConsentLetter(workspace.LetterNestEnded, told, outer, inner, workspace.GroupPath(told, "people"), map[string]string{"did": did, "reason": reason})); err != nil {
		return err
	}
	return c.Record(event.ConsentEnded{Outer: workspace.WhoGroup(outer), Inner: workspace.WhoGroup(inner), How: how, Reason: reason}, inner)
}
