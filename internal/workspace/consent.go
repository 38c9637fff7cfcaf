package workspace

import (
	"maps"
	"slices"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/core/admission"
	"ivytable.example/ivytable/internal/core/event"
	"ivytable.example/ivytable/internal/core/fault"
	"ivytable.example/ivytable/internal/store"
)

// endContradicted ends what was agreed about a group in others, and about others in it, where the
// group's policy, which was just changed, contradicts it. Nothing leaves: it is asked for again, and
// both sides are told.
func (c *Change) endContradicted(g *store.Group) error {
	all, err := c.Tx.LockConsentsOf(g.ID)
	if err != nil || len(all) == 0 {
		return err
	}
	var others []uuid.UUID
	for _, x := range all {
		others = append(others, x.GroupID, x.OuterID)
	}
	groups, err := c.Tx.SharedGroups(others)
	if err != nil {
		return err
	}
	groups[g.ID] = *g
	for _, x := range all {
		outer, inner := groups[x.OuterID], groups[x.GroupID]
		why := x.Agreed().Contradicted(c.Door(&outer), c.Door(&inner))
		if why == "" {
			continue
		}
		now := c.Now()
		x.Scope, x.AskedBy, x.AskedAt, x.DecidedBy, x.DecidedAt = admission.AskedFor, c.By.String(), now, "", nil
		if err := c.Tx.SaveConsent(x); err != nil {
			return err
		}
		c.Warn([]*fault.Fault{fault.New("", "", "%s So what the owners of %s agreed to about its being in %s ends, and they are asked again. Meanwhile its people get the mail, and are neither seen nor counted there.", why, inner.Name, outer.Name)})
		var told []string
		for _, side := range []*store.Group{&inner, &outer} {
			to, err := c.NoticeRecipients(side)
			if err != nil {
				return err
			}
			to = slices.DeleteFunc(to, func(a string) bool { return slices.Contains(told, a) })
			told = append(told, to...)
			path := "/waiting"
			if side == &outer {
				path = GroupPath(&outer, "people")
			}
			if err := c.Send(side, to, c.ConsentLetter(LetterConsentOver, side, &outer, &inner, path, map[string]string{"why": why})); err != nil {
				return err
			}
			if err := c.Record(event.ConsentOver{Outer: WhoGroup(&outer), Inner: WhoGroup(&inner), Why: why}, side); err != nil {
				return err
			}
		}
	}
	return nil
}

// ConsentLetter is a letter about one group in another, to those who run one of the two.
func (v *View) ConsentLetter(kind string, side, outer, inner *store.Group, path string, fill map[string]string) Letter {
	all := map[string]string{"by": v.By.Name(), "outer": outer.Name, "outer_address": outer.Address, "outer_description": outer.Description, "inner": inner.Name, "inner_address": inner.Address}
	maps.Copy(all, fill)
	return v.GroupLetter(kind, side, path, all)
}
