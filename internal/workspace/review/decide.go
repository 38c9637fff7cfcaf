package review

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/core/access"
	"ivytable.example/ivytable/internal/core/event"
	"ivytable.example/ivytable/internal/core/mailaddr"
	"ivytable.example/ivytable/internal/core/number"
	"ivytable.example/ivytable/internal/store"
	"ivytable.example/ivytable/internal/workspace"
)

// Accept says of findings that they are known and fine, or, with an empty reason, that they are not any more.
func (s *Service) Accept(ctx context.Context, by workspace.Actor, n api.FindingsAccepted) (api.FindingsDecided, error) {
	var out api.FindingsDecided
	if err := by.Allow(access.ChangeReview); err != nil {
		return out, err
	}
	reason := strings.TrimSpace(n.Reason)
	if reason == "" && n.Until != "" {
		return out, workspace.Wrong("reason", "", "Say why it is fine until %s.", n.Until)
	}
	err := s.k.Do(ctx, by, func(c *workspace.Change) error {
		if err := c.Allow(access.ChangeReview); err != nil {
			return err
		}
		t, err := c.Terms()
		if err != nil {
			return err
		}
		var until *time.Time
		if n.Until != "" {
			if until, err = t.LookAgain(c.Now(), "until", n.Until); err != nil {
				return err
			}
		}
		all, err := chosen(c, n.FindingsChoice)
		if err != nil {
			return err
		}
		now := c.Now()
		for i := range all {
			f := &all[i]
			if f.AcceptedAt, f.AcceptedBy, f.AcceptedWhy, f.AcceptedUntil, f.AcceptedN = &now, c.By.String(), reason, until, f.N; reason == "" {
				f.AcceptedAt, f.AcceptedBy, f.AcceptedUntil, f.AcceptedN = nil, "", nil, 0
			}
		}
		out.Decided = len(all)
		if out.Says = fmt.Sprintf("%s: known and fine.", workspace.UpperFirst(titles(all))); reason == "" {
			out.Says = fmt.Sprintf("%s: to be looked at again.", workspace.UpperFirst(titles(all)))
		}
		c.Says(out.Says)
		if err := c.Tx.SaveFindings(all); err != nil {
			return err
		}
		return record(c, all, func(what string) event.Fact { return event.FindingAccepted{What: what, Reason: reason, Until: n.Until} })
	})
	return out, err
}

// record writes one entry into the history: about the group, where all findings are of one.
func record(c *workspace.Change, all []store.Finding, fact func(what string) event.Fact) error {
	groups, people, err := subjects(&c.View, all)
	if err != nil {
		return err
	}
	if len(groups) == 1 && len(people) == 0 {
		for _, g := range groups {
			return c.Record(fact(titles(all)), &g)
		}
	}
	if err := c.RecordWhole(fact(titles(all))); err != nil {
		return err
	}
	var ids []uuid.UUID
	for id := range groups {
		ids = append(ids, id)
	}
	slices.SortFunc(ids, func(a, b uuid.UUID) int { return slices.Compare(a[:], b[:]) })
	for _, id := range ids {
		g := groups[id]
		of := slices.DeleteFunc(slices.Clone(all), func(f store.Finding) bool { return f.Subject != id })
		if err := c.RecordPart(fact(titles(of)), &g); err != nil {
			return err
		}
	}
	return nil
}

// Assign gives findings to somebody to mend: to the owners of each group, or to one person, who owns the groups, helps with them or
// is an administrator. Each gets one letter about all that is theirs. "nobody" takes them back.
func (s *Service) Assign(ctx context.Context, by workspace.Actor, n api.FindingsAssigned) (api.FindingsDecided, error) {
	var out api.FindingsDecided
	if err := by.Allow(access.ChangeReview); err != nil {
		return out, err
	}
	err := s.k.Do(ctx, by, func(c *workspace.Change) error {
		if err := c.Allow(access.ChangeReview); err != nil {
			return err
		}
		to, err := assignee(&c.View, n.To)
		if err != nil {
			return err
		}
		all, err := chosen(c, n.FindingsChoice)
		if err != nil {
			return err
		}
		groups, _, err := subjects(&c.View, all)
		if err != nil {
			return err
		}
		var ids []uuid.UUID
		for id := range groups {
			ids = append(ids, id)
		}
		owners, err := c.Read.Owners(ids)
		if err != nil {
			return err
		}
		out = api.FindingsDecided{Refused: []api.FindingRefused{}}
		refuse := func(f store.Finding, format string, args ...any) {
			out.Refused = append(out.Refused, api.FindingRefused{ID: f.ID.String(), Says: fmt.Sprintf(format, args...)})
		}
		now := c.Now()
		var given []store.Finding
		letters := map[string][]store.Finding{}
		for _, f := range all {
			g, ofGroup := groups[f.Subject]
			who := to
			var told []store.OwnerRow
			switch {
			case n.To == "nobody":
				f.AssignedTo, f.AssignedBy, f.AssignedAt = nil, "", nil
				given = append(given, f)
				continue
			case n.To == "owners":
				told = slices.DeleteFunc(slices.Clone(owners[f.Subject]), func(o store.OwnerRow) bool { return !o.Active })
				if len(told) == 0 {
					refuse(f, "%s", refusedWhy(ofGroup, g.Name))
					continue
				}
				if who, err = c.Read.Person(told[0].MemberID); err != nil {
					return err
				}
			case ofGroup:
				may, err := canMend(&c.View, who, &g, owners[f.Subject])
				if err != nil {
					return err
				}
				if !may {
					refuse(f, "%s neither owns %s nor helps with it, so they can't mend it.", who.Name, g.Name)
					continue
				}
			}
			if all, err := findAll(&c.View, who, told, f.Named()); err != nil {
				return err
			} else if !all {
				refuse(f, "It names a group that %s can't find.", map[bool]string{true: "an owner of " + g.Name, false: who.Name}[n.To == "owners"])
				continue
			}
			f.AssignedTo, f.AssignedBy, f.AssignedAt = &who.ID, c.By.String(), &now
			given = append(given, f)
			if n.To != "owners" {
				letters[who.Address] = append(letters[who.Address], f)
			}
			for _, o := range told { // every owner is told, one is named
				letters[o.Address] = append(letters[o.Address], f)
			}
		}
		out.Decided = len(given)
		whose := map[bool]string{true: to.Name, false: "the owners of each group"}[to.ID != uuid.Nil]
		if out.Says = fmt.Sprintf("%s: given to %s.", workspace.UpperFirst(titles(given)), whose); n.To == "nobody" {
			out.Says = fmt.Sprintf("%s: nobody's to mend any more.", workspace.UpperFirst(titles(given)))
		}
		if len(out.Refused) > 0 {
			out.Says += fmt.Sprintf(" %s could not be given.", workspace.UpperFirst(number.Of(len(out.Refused), "finding")))
		}
		c.Says(out.Says)
		if len(given) == 0 {
			return workspace.Fail(workspace.Conflict, "%s", out.Refused[0].Says)
		}
		if err := c.Tx.SaveFindings(given); err != nil {
			return err
		}
		if err := tell(c, letters, groups, n.Note); err != nil {
			return err
		}
		return record(c, given, func(what string) event.Fact {
			f := event.FindingAssigned{What: what, Note: strings.TrimSpace(n.Note)}
			if f.To = whose; n.To == "nobody" {
				f.To = ""
			}
			return f
		})
	})
	return out, err
}

func refusedWhy(ofGroup bool, name string) string {
	if !ofGroup {
		return "It is about a person, so it has no owners. Give it to somebody."
	}
	return name + " has no owner who is here. Give it to somebody."
}

// assignee reads to whom findings are given; the zero person for the owners of each group, and for nobody.
func assignee(v *workspace.View, to string) (p store.Person, err error) {
	if to == "owners" || to == "nobody" {
		return p, nil
	}
	a, err := mailaddr.Parse(to)
	if err == nil {
		p, err = v.Read.PersonByKey(a.Key())
	}
	switch {
	case err != nil && !errors.Is(err, store.ErrNotFound) && a.Key() != "":
		return p, err
	case err != nil || !p.Active || p.External:
		return p, workspace.Wrong("to", workspace.Cut(to, 100), "There is nobody %q in the workspace. Give an address, or owners, or nobody.", workspace.Cut(to, 100))
	}
	return p, nil
}

// canMend reports whether somebody can mend what is wrong about a group.
func canMend(v *workspace.View, p store.Person, g *store.Group, owners []store.OwnerRow) (bool, error) {
	if access.Role(p.WorkspaceRole) == access.Administrator || slices.ContainsFunc(owners, func(o store.OwnerRow) bool { return o.MemberID == p.ID }) {
		return true, nil
	}
	powers, err := v.PowersOf(p, g)
	return powers != 0, err
}

// findAll reports whether somebody, and the owners of a group, find all of some groups.
func findAll(v *workspace.View, who store.Person, owners []store.OwnerRow, groups []uuid.UUID) (bool, error) {
	if len(groups) == 0 {
		return true, nil
	}
	ids := []uuid.UUID{who.ID}
	for _, o := range owners {
		ids = append(ids, o.MemberID)
	}
	people, err := v.Read.PeopleByID(ids)
	if err != nil {
		return false, err
	}
	for _, p := range people {
		their := *v
		their.By = workspace.Actor{Person: p}
		if all, err := finds(&their, groups); err != nil || !all {
			return false, err
		}
	}
	return true, nil
}

// tell writes each of those to whom something was given one letter.
func tell(c *workspace.Change, letters map[string][]store.Finding, groups map[uuid.UUID]store.Group, note string) error {
	_, people, err := subjects(&c.View, flat(letters))
	if err != nil {
		return err
	}
	addresses := make([]string, 0, len(letters))
	for a := range letters {
		addresses = append(addresses, a)
	}
	slices.Sort(addresses)
	for _, to := range addresses {
		language := "en"
		var items []workspace.Item
		for _, f := range letters[to] {
			name, link := people[f.Subject].Name, "/people/"+people[f.Subject].Address
			if g, ok := groups[f.Subject]; ok {
				name, link, language = g.Name, workspace.GroupPath(&g, ""), g.Language
			}
			items = append(items, workspace.Item{Text: name + ": " + f.Says, Link: c.Link(link)})
		}
		l := c.Letter(workspace.LetterFindings, language, "/mine", map[string]string{"by": c.By.Name(), "count": workspace.Counted(language, len(items), "thing"), "note": strings.TrimSpace(note), "address": to})
		l.Items = items
		if err := c.Send(nil, []string{to}, l); err != nil {
			return err
		}
	}
	return nil
}

func flat(letters map[string][]store.Finding) (out []store.Finding) {
	for _, all := range letters {
		out = append(out, all...)
	}
	return out
}
