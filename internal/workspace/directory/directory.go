// Package directory changes the directory of people: entries, departures and returns,
// imports. Rules of membership follow each change in the same transaction.
package directory

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/core/access"
	"ivytable.example/ivytable/internal/core/event"
	"ivytable.example/ivytable/internal/core/fault"
	"ivytable.example/ivytable/internal/core/mailaddr"
	"ivytable.example/ivytable/internal/core/rule"
	"ivytable.example/ivytable/internal/store"
	"ivytable.example/ivytable/internal/workspace"
	"ivytable.example/ivytable/internal/workspace/account"
	"ivytable.example/ivytable/internal/workspace/naming"
	"ivytable.example/ivytable/internal/workspace/people"
	"ivytable.example/ivytable/internal/workspace/rules"
)

// Service changes the directory.
type Service struct {
	k     *workspace.Kernel
	books rules.Books
}

// New returns the service of a workspace.
func New(k *workspace.Kernel) *Service { return &Service{k: k} }

// change makes a change of people, as [workspace.Once] does. The rules that they are asked
// about stay as they are until it ends.
func (s *Service) change(ctx context.Context, by workspace.Actor, request any, person *made, f func(c *workspace.Change, book *rules.Book) error) error {
	books := &s.books
	return workspace.Once(ctx, s.k, by, request, person, func(c *workspace.Change) error {
		book, err := books.Lock(c)
		if err != nil {
			return err
		}
		return f(c, book)
	})
}

// made names the person that a change was about, for a repeat of its request.
type made struct {
	ID   uuid.UUID `json:"id"`
	Note string    `json:"note,omitempty"`
}

// details reads a person after a change of theirs.
func (s *Service) details(ctx context.Context, by workspace.Actor, id uuid.UUID, err error) (api.PersonDetails, error) {
	if err != nil {
		return api.PersonDetails{}, err
	}
	v := s.k.View(ctx, by)
	p, err := v.Read.Person(id)
	if err != nil {
		return api.PersonDetails{}, err
	}
	return people.Details(v, p)
}

// checkAttributes says what is wrong with attributes of a person, and brings those of the
// organisation's own into the form in which they are kept.
func checkAttributes(v *workspace.View, p *workspace.Problems, attributes map[string]string) error {
	known, err := v.FieldNames()
	if err != nil {
		return err
	}
	own, err := v.Own()
	if err != nil {
		return err
	}
	for _, name := range sorted(attributes) {
		if i := slices.IndexFunc(own, func(o rule.Own) bool { return o.Name == name }); i >= 0 {
			value, err := own[i].Value(attributes[name])
			if err != nil {
				p.Add("attributes."+name, workspace.Cut(attributes[name], 100), "%s", workspace.Words(err))
			}
			attributes[name] = value
		}
		switch v := attributes[name]; {
		case !slices.Contains(known, name):
			p.Add("attributes."+name, workspace.Cut(v, 100), "The directory has no field %q: choose one of %s.", name, strings.Join(known, ", "))
		case len([]rune(v)) > 300:
			p.Add("attributes."+name, nil, "%s has %d characters; 300 is the most.", name, len([]rune(v)))
		}
	}
	return nil
}

func sorted[V any](m map[string]V) []string {
	out := make([]string, 0, len(m))
	for k := range m {
		out = append(out, k)
	}
	slices.Sort(out)
	return out
}

// merge puts attributes over others; an empty one takes away.
func merge(before, patch map[string]string) map[string]string {
	out := map[string]string{}
	for k, v := range before {
		out[k] = v
	}
	for k, v := range patch {
		if v = strings.TrimSpace(v); v == "" {
			delete(out, k)
		} else {
			out[k] = v
		}
	}
	return out
}

// Create puts somebody into the directory. Rules of membership take them in at once. They
// can sign in once they have chosen a password.
func (s *Service) Create(ctx context.Context, by workspace.Actor, n api.NewPersonEntry) (api.PersonDetails, error) {
	none := api.PersonDetails{}
	if err := by.Allow(access.ChangeDirectory); err != nil {
		return none, err
	}
	v := s.k.View(ctx, by)
	domains, err := v.Domains()
	if err != nil {
		return none, err
	}
	var bad workspace.Problems
	addr, err := mailaddr.Parse(n.Address)
	switch {
	case err != nil:
		bad.Add("address", workspace.Cut(n.Address, 320), "%s", workspace.Words(err))
	case !slices.Contains(domains, addr.Domain()):
		bad.Add("address", n.Address, "%s is not a domain of this workspace. Choose %s.", addr.Domain(), strings.Join(domains, " or "))
	}
	if says := people.CheckName(n.Name); says != "" {
		bad.Add("name", workspace.Cut(n.Name, 300), "%s", says)
	}
	if err := checkAttributes(v, &bad, n.Attributes); err != nil {
		return none, err
	}
	bad.OneOf("workspace_role", n.WorkspaceRole, string(access.Administrator), string(access.Auditor))
	if n.WorkspaceRole != "" || n.PasswordLink {
		if err := by.ByHand(); err != nil {
			return none, err
		}
	}
	if err := bad.Err(); err != nil {
		return none, err
	}
	attributes, err := json.Marshal(merge(nil, n.Attributes))
	if err != nil {
		return none, err
	}
	p := store.Person{Address: addr.Key(), AddrKey: addr.Key(), Name: strings.TrimSpace(n.Name), Active: true, WorkspaceRole: n.WorkspaceRole, Attributes: attributes, Version: 1}
	m := made{}
	err = s.change(ctx, by, n, &m, func(c *workspace.Change, book *rules.Book) error {
		m.Note = ""
		had, err := c.Tx.ReleaseAddresses([]string{addr.Key()})
		if err != nil {
			return err
		}
		if err := c.Allow(access.ChangeDirectory); err != nil {
			return err
		}
		p := p
		p.ID, p.CreatedAt = store.NewID(), c.Now()
		m.ID = p.ID
		if err := c.Tx.AddPeople([]store.Person{p}); err != nil {
			return err
		}
		if n.PasswordLink {
			if err := account.MailLinks(c, []store.Person{p}); err != nil {
				return err
			}
		}
		if err := c.Record(event.PersonCreated{Of: workspace.Who(p)}, nil, store.Affected{PersonID: p.ID}); err != nil {
			return err
		}
		c.Says(fmt.Sprintf("%s comes into the directory.", p.Name))
		if before, ok := had[p.AddrKey]; ok {
			m.Note = another(c, before)
			c.Warn([]*fault.Fault{{Field: "address", Says: m.Note}})
		}
		return sync(c, book, []store.Person{p}, rules.ChangedPaths(store.Person{}, p), p.Name+" came into the directory")
	})
	if errors.Is(err, store.ErrDuplicate) {
		err = naming.AddressTaken(v, err, addr.Key())
	}
	d, err := s.details(ctx, by, m.ID, err)
	d.Note = m.Note
	return d, err
}

// another says that somebody new has the address of a person who has left.
func another(c *workspace.Change, before store.Person) string {
	when := ""
	if before.DepartedAt != nil {
		when = " on " + c.In(*before.DepartedAt).Format("2 Jan 2006")
	}
	return fmt.Sprintf("%s, who left%s, had this address. This is another person: none of the groups and nothing of the history of %s is theirs. If it is the same person, let them return instead.", before.Name, when, before.Name)
}

// sync lets rules take in, and let go, people whose attributes changed.
func sync(c *workspace.Change, book *rules.Book, who []store.Person, attributes []string, cause string) error {
	moves, err := book.Plan(c, who, attributes)
	if err != nil {
		return err
	}
	if c.Previewing() {
		return moves.Tell(c)
	}
	return moves.Apply(c, cause)
}

// Change changes an entry of the directory. Rules of membership follow at once.
func (s *Service) Change(ctx context.Context, by workspace.Actor, ref string, patch api.PersonPatch, version int) (api.PersonDetails, error) {
	none := api.PersonDetails{}
	if err := by.Allow(access.ChangeDirectory); err != nil {
		return none, err
	}
	found, err := people.Find(s.k.View(ctx, by), ref)
	if err != nil {
		return none, err
	}
	var bad workspace.Problems
	if patch.Name != nil {
		if says := people.CheckName(*patch.Name); says != "" {
			bad.Add("name", workspace.Cut(*patch.Name, 300), "%s", says)
		}
	}
	if err := checkAttributes(s.k.View(ctx, by), &bad, patch.Attributes); err != nil {
		return none, err
	}
	if patch.WorkspaceRole != nil {
		if err := by.ByHand(); err != nil {
			return none, err
		}
		bad.OneOf("workspace_role", *patch.WorkspaceRole, string(access.Administrator), string(access.Auditor), noRole)
	}
	address, err := newAddress(s.k.View(ctx, by), found, patch, &bad)
	if err != nil {
		return none, err
	}
	if patch.WorkspaceRole != nil && *patch.WorkspaceRole != noRole && found.External {
		bad.Add("workspace_role", *patch.WorkspaceRole, "An address outside the workspace has no account here.")
	}
	if err := bad.Err(); err != nil {
		return none, err
	}
	by.Key = ""
	err = s.change(ctx, by, nil, &made{}, func(c *workspace.Change, book *rules.Book) error {
		before, err := c.Tx.LockPerson(found.ID)
		if err != nil {
			return err
		}
		if version > 0 && version != before.Version {
			return workspace.StaleGroup(before.Name, version, before.Version)
		}
		if err := notErased(before); err != nil {
			return err
		}
		after, changes, err := apply(before, patch)
		if err != nil {
			return err
		}
		if patch.Address != nil && address.Key() != before.AddrKey {
			changes = append([]event.Change{{Field: "address", From: before.Address, To: address.String()}}, changes...)
			if err := move(c, &after, address); err != nil {
				return err
			}
		}
		forgotten, err := forget(c, after, patch, &changes)
		if err != nil || len(changes) == 0 {
			return err
		}
		if isAdministrator(before) && !isAdministrator(after) {
			if err := keepAdministrators(c, before, 1); err != nil {
				return err
			}
		}
		if err := c.Allow(access.ChangeDirectory); err != nil {
			return err
		}
		if err := c.Tx.SavePerson(&after, after.Name != before.Name || after.AddrKey != before.AddrKey || forgotten); err != nil {
			return err
		}
		c.Says(fmt.Sprintf("The entry of %s changes.", before.Name))
		for _, x := range changes {
			c.Effect(api.Effect{Field: x.Field, From: x.From, To: x.To})
		}
		if err := c.Record(event.PersonChanged{Of: workspace.Who(after), Changed: changes}, nil, store.Affected{PersonID: after.ID}); err != nil {
			return err
		}
		return sync(c, book, []store.Person{after}, rules.ChangedPaths(before, after), "the entry of "+after.Name+" changed")
	})
	if errors.Is(err, store.ErrDuplicate) {
		err = naming.AddressTaken(s.k.View(ctx, by), err, address.Key())
	}
	return s.details(ctx, by, found.ID, err)
}

// newAddress reads the address that somebody is to have; the zero value where it stays.
func newAddress(v *workspace.View, p store.Person, patch api.PersonPatch, bad *workspace.Problems) (none mailaddr.Address, err error) {
	if patch.Address == nil {
		return none, nil
	}
	domains, err := v.Domains()
	if err != nil {
		return none, err
	}
	a, wrong := mailaddr.Parse(*patch.Address)
	switch {
	case wrong != nil:
		bad.Add("address", workspace.Cut(*patch.Address, 320), "%s", workspace.Words(wrong))
	case p.External:
		bad.Add("address", *patch.Address, "The address of somebody outside is what they are known by. Put the new one into their groups, and take the old one out.")
	case !slices.Contains(domains, a.Domain()):
		bad.Add("address", *patch.Address, "%s is not a domain of this workspace. Choose %s.", a.Domain(), strings.Join(domains, " or "))
	}
	return a, nil
}

// move gives somebody, who is locked, another address. Links by which they would choose a password
// were sent to the one before, and end.
func move(c *workspace.Change, p *store.Person, to mailaddr.Address) error {
	delegated, err := c.Delegated(p.ID)
	if err != nil {
		return err
	}
	if p.WorkspaceRole != "" || delegated { // links to choose a password go to it
		if err := c.By.ByHand(); err != nil {
			return err
		}
	}
	before := p.Address
	if _, err := c.Tx.ReleaseAddresses([]string{to.Key()}); err != nil {
		return err
	}
	if err := c.Tx.MovePerson(p, to); err != nil {
		return err
	}
	if err := c.Tx.EndOtherCredentials(store.PasswordLink, p.ID, uuid.Nil); err != nil {
		return err
	}
	if !p.Active {
		return nil
	}
	lang, _, _ := strings.Cut(people.Fields(*p)["preferredLanguage"], "-")
	l := c.Letter(workspace.LetterMoved, lang, "/account", map[string]string{"person": p.Name, "by": c.By.Name(), "from": before, "address": p.Address})
	l.Apart = true
	return c.Send(nil, []string{p.Address, before}, l)
}

// forget ends that former addresses lead to somebody that a patch does not name.
func forget(c *workspace.Change, p store.Person, patch api.PersonPatch, changes *[]event.Change) (bool, error) {
	if patch.Former == nil {
		return false, nil
	}
	all, err := c.Tx.FormerAddresses([]uuid.UUID{p.ID})
	if err != nil {
		return false, err
	}
	var keep, gone, keys []string
	for _, x := range *patch.Former {
		keep = append(keep, strings.ToLower(strings.TrimSpace(x)))
	}
	for _, x := range all[p.ID] {
		if i := slices.Index(keep, strings.ToLower(x)); i >= 0 {
			keep = slices.Delete(keep, i, i+1)
		} else {
			gone, keys = append(gone, x), append(keys, strings.ToLower(x))
		}
	}
	if len(keep) > 0 {
		return false, workspace.Wrong("former_addresses", workspace.Cut(keep[0], 320), "%s had no such address before. Only those that are there can stay or go: %s.", p.Name, strings.Join(all[p.ID], ", "))
	}
	if len(gone) == 0 {
		return false, nil
	}
	*changes = append(*changes, event.Change{Field: "former_addresses", From: strings.Join(gone, ", ")})
	return true, c.Tx.ForgetAddresses(p.ID, keys)
}

// noRole takes a role in the workspace away.
const noRole = "none"

func isAdministrator(p store.Person) bool {
	return access.Role(p.WorkspaceRole) == access.Administrator
}

func apply(p store.Person, patch api.PersonPatch) (store.Person, []event.Change, error) {
	var out []event.Change
	set := func(field, from, to string) {
		if from != to {
			out = append(out, event.Change{Field: field, From: from, To: to})
		}
	}
	if patch.Name != nil {
		name := strings.TrimSpace(*patch.Name)
		set("name", p.Name, name)
		p.Name = name
	}
	if patch.WorkspaceRole != nil {
		role := strings.TrimPrefix(*patch.WorkspaceRole, noRole)
		set("workspace_role", p.WorkspaceRole, role)
		p.WorkspaceRole = role
	}
	before := people.Fields(p)
	after := merge(before, patch.Attributes)
	for _, k := range sorted(patch.Attributes) {
		set(k, before[k], after[k])
	}
	var err error
	p.Attributes, err = json.Marshal(after)
	return p, out, err
}

// keepAdministrators refuses to lose p, an administrator, where with them all
// administrators would be lost; losing counts p and those before them.
func keepAdministrators(c *workspace.Change, p store.Person, losing int) error {
	n, err := c.Tx.LockAdministrators()
	if err == nil && n <= losing {
		return workspace.Fail(workspace.Conflict, "%s is the last administrator. Make somebody else one first.", p.Name)
	}
	return err
}
