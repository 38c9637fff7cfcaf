package directory

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/core/access"
	"ivytable.example/ivytable/internal/core/erasure"
	"ivytable.example/ivytable/internal/core/event"
	"ivytable.example/ivytable/internal/core/mailaddr"
	"ivytable.example/ivytable/internal/core/number"
	"ivytable.example/ivytable/internal/core/seal"
	"ivytable.example/ivytable/internal/store"
	"ivytable.example/ivytable/internal/workspace"
	"ivytable.example/ivytable/internal/workspace/people"
)

// erasedName is what stands in place of the name of somebody who was erased.
const erasedName = "An erased person"

// Erase takes what names somebody out of the directory and out of the history, on their lawful request: somebody who has left the
// organisation, or somebody outside who is in no group. What happened stays in the history, and the chain of its seals holds; that names
// were taken out of entries, and why, is in it too. It can't be undone.
func (s *Service) Erase(ctx context.Context, by workspace.Actor, ref string, n api.Erasure, version int) (api.Erased, error) {
	var out api.Erased
	if err := by.Allow(access.ChangeDirectory); err != nil {
		return out, err
	}
	reason := strings.TrimSpace(n.Reason)
	if reason == "" {
		return out, workspace.Wrong("reason", "", "Say on what ground: it is kept with the erasure. Don't name the person in it.")
	}
	found, err := people.Find(s.k.View(ctx, by), ref)
	if err != nil {
		return out, err
	}
	by.Key = ""
	err = s.k.Do(ctx, by, func(c *workspace.Change) error {
		p, err := c.Tx.LockPerson(found.ID)
		if err != nil {
			return err
		}
		if err := c.Allow(access.ChangeDirectory); err != nil {
			return err
		}
		if version > 0 && version != p.Version {
			return workspace.StaleGroup(p.Name, version, p.Version)
		}
		if err := erasable(&c.View, p); err != nil {
			return err
		}
		domains, err := c.Domains()
		if err != nil {
			return err
		}
		to, err := mailaddr.Parse(fmt.Sprintf("erased-%s@%s", strings.ReplaceAll(p.ID.String(), "-", "")[20:], domains[0]))
		if err != nil {
			return err
		}
		who, err := named(&c.View, p, to)
		if err != nil {
			return err
		}
		words := slices.Concat(who.Names, who.Addresses)
		for _, w := range words {
			if strings.Contains(strings.ToLower(reason), strings.ToLower(w)) {
				return workspace.Wrong("reason", nil, "The reason names the person, and is kept. Write it without.")
			}
		}
		entries, err := c.Read.EntriesAbout(p.ID, words)
		if err != nil {
			return err
		}
		cleaner := erasure.New(who)
		left, err := c.Tx.EraseNames(entries, c.ID(), cleaner.Entry)
		if errors.Is(err, store.ErrUnsealed) {
			return workspace.Fail(workspace.Conflict, "Something about %s was recorded just now, and is not sealed yet. Try again in some seconds.", p.Name)
		} else if err != nil {
			return err
		}
		out.Entries = len(left)
		out.Address = to.String()
		out.Says = fmt.Sprintf("What names them is taken out of their entry in the directory, and out of %s of the history. It can't be undone.", number.Of(out.Entries, "entry"))
		if who.Shared[strings.ToLower(p.Name)] {
			out.Says += fmt.Sprintf(" Others are called %s too: in texts of entries that are not about this person the name stays.", p.Name)
		}
		c.Says(out.Says)
		if c.Previewing() {
			c.Report.Total = out.Entries
			return nil
		}
		alone := slices.DeleteFunc(slices.Clone(who.Addresses), func(a string) bool { return who.Shared[strings.ToLower(a)] })
		if busy, err := c.Read.BeingDelivered(alone); err != nil {
			return err
		} else if busy {
			return workspace.Fail(workspace.Conflict, "A message to %s is being delivered just now. Try again in some minutes.", p.Name)
		}
		if err := c.Tx.ErasePerson(&p, alone, words, cleaner, erasedName, to, c.Now()); err != nil {
			return err
		}
		return c.Record(event.PersonErased{Entries: out.Entries, Reason: reason, Left: seal.Digest(left).String()}, nil, store.Affected{PersonID: p.ID})
	})
	return out, err
}

// erasable reports why somebody can't be erased.
func erasable(v *workspace.View, p store.Person) error {
	if p.ErasedAt != nil {
		return workspace.Fail(workspace.Conflict, "What named them has been erased already.")
	}
	if !p.External {
		if p.Active {
			return workspace.Fail(workspace.Conflict, "%s is here. Mark them as having left the organisation first.", p.Name)
		}
		return nil
	}
	rows, err := v.Read.GroupsOf(p.ID)
	if err != nil {
		return err
	}
	if len(rows) > 0 {
		return workspace.Fail(workspace.Conflict, "%s is in %s, such as %s. Take them out first.", p.Name, number.Of(len(rows), "group"), rows[0].Name)
	}
	return nil
}

// notErased refuses to make somebody of whom nothing is known any more somebody again.
func notErased(p store.Person) error {
	if p.ErasedAt != nil {
		return workspace.Fail(workspace.Conflict, "What named them has been erased on request. Create a new entry if they come again.")
	}
	return nil
}

// named says by what somebody is named, now and before.
func named(v *workspace.View, p store.Person, to mailaddr.Address) (erasure.Person, error) {
	who := erasure.Person{ID: seal.ID(p.ID), Shared: map[string]bool{}, Name: erasedName, Address: to.String()}
	add := func(all *[]string, s string) {
		if strings.TrimSpace(s) != "" && !slices.Contains(*all, s) {
			*all = append(*all, s)
		}
	}
	former, err := v.Read.FormerAddresses([]uuid.UUID{p.ID})
	if err != nil {
		return who, err
	}
	for _, a := range append([]string{p.Address}, former[p.ID]...) {
		add(&who.Addresses, a)
	}
	if !strings.Contains(p.Name, "@") { // else it is the address
		add(&who.Names, p.Name)
	}
	entries, err := v.Read.EventsAbout(p.ID, string(event.PersonChanged{}.Kind()))
	if err != nil {
		return who, err
	}
	for _, row := range entries {
		e, err := event.Decode(event.Kind(row.Kind), row.Via, row.Data)
		if err != nil {
			return who, err
		}
		f, _ := e.Fact.(event.PersonChanged)
		for _, c := range f.Changed {
			switch c.Field {
			case "name":
				add(&who.Names, c.From)
			case "address":
				add(&who.Addresses, c.From)
			}
		}
	}
	for _, a := range who.Addresses { // one that they gave up may be another's now
		key := strings.ToLower(a)
		if q, err := v.Read.PersonByKey(key); err == nil {
			who.Shared[key] = q.ID != p.ID
		} else if !errors.Is(err, store.ErrNotFound) {
			return who, err
		}
	}
	others, err := v.Read.Called(who.Names, p.ID)
	for _, o := range others {
		for _, n := range who.Names {
			if strings.Contains(strings.ToLower(o), strings.ToLower(n)) {
				who.Shared[strings.ToLower(n)] = true
			}
		}
	}
	return who, err
}
