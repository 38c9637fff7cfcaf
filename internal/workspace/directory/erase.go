package directory

import (
	"context"
	"errors"
	"fmt"
	"regexp"
	"strings"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/core/access"
	"ivytable.example/ivytable/internal/core/event"
	"ivytable.example/ivytable/internal/core/mailaddr"
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
		former, err := c.Read.FormerAddresses([]uuid.UUID{p.ID})
		if err != nil {
			return err
		}
		was := append([]string{p.Address}, former[p.ID]...)
		domains, err := c.Domains()
		if err != nil {
			return err
		}
		to, err := mailaddr.Parse(fmt.Sprintf("erased-%s@%s", strings.ReplaceAll(p.ID.String(), "-", "")[20:], domains[0]))
		if err != nil {
			return err
		}
		words := was
		if p.Name != p.Address {
			words = append([]string{p.Name}, was...)
		}
		clean := cleaner(p.Name, was, to.String())
		for _, w := range words {
			if strings.Contains(reason, w) {
				return workspace.Wrong("reason", nil, "The reason names the person, and is kept. Write it without.")
			}
		}
		entries, err := c.Read.EntriesAbout(p.ID, words)
		if err != nil {
			return err
		}
		if out.Entries, err = c.Tx.EraseNames(entries, c.ID(), clean); errors.Is(err, store.ErrUnsealed) {
			return workspace.Fail(workspace.Conflict, "Something about %s was recorded just now, and is not sealed yet. Try again in some seconds.", p.Name)
		} else if err != nil {
			return err
		}
		out.Address = to.String()
		out.Says = fmt.Sprintf("What names them is taken out of their entry in the directory, and out of %s of the history. It can't be undone.", entriesOf(out.Entries))
		c.Says(out.Says)
		if c.Previewing() {
			c.Report.Total = out.Entries
			return nil
		}
		if err := c.Tx.ErasePerson(&p, was, erasedName, to); err != nil {
			return err
		}
		return c.Record(event.PersonErased{Entries: out.Entries, Reason: reason}, nil, store.Affected{PersonID: p.ID})
	})
	return out, err
}

// erasable reports why somebody can't be erased.
func erasable(v *workspace.View, p store.Person) error {
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
		return workspace.Fail(workspace.Conflict, "%s is in %s, such as %s. Take them out first.", p.Name, workspace.Number(len(rows), "group"), rows[0].Name)
	}
	return nil
}

// cleaner returns what takes somebody's name and addresses out of a text. Nothing that only has their name in it, such as a longer one,
// is touched.
func cleaner(name string, addresses []string, to string) func(string) string {
	of := func(w string) *regexp.Regexp {
		return regexp.MustCompile(`(?i)(^|[^\pL\pN.@_-])` + regexp.QuoteMeta(w) + `($|[^\pL\pN@_-])`)
	}
	var all []*regexp.Regexp
	var into []string
	for _, a := range addresses {
		all, into = append(all, of(a)), append(into, to)
	}
	if strings.TrimSpace(name) != "" && !strings.Contains(name, "@") {
		all, into = append(all, of(name)), append(into, erasedName)
	}
	return func(text string) string {
		for i, r := range all {
			for range 2 { // two that stand beside each other share what is between them
				text = r.ReplaceAllString(text, "${1}"+strings.ReplaceAll(into[i], "$", "$$")+"${2}")
			}
		}
		return text
	}
}

func entriesOf(n int) string {
	if n == 1 {
		return "1 entry"
	}
	return fmt.Sprintf("%d entries", n)
}
