package member

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/core/access"
	"ivytable.example/ivytable/internal/core/admission"
	"ivytable.example/ivytable/internal/core/event"
	"ivytable.example/ivytable/internal/core/expand"
	"ivytable.example/ivytable/internal/core/number"
	"ivytable.example/ivytable/internal/store"
	"ivytable.example/ivytable/internal/workspace"
)

// Add puts people into a group, or invites them. Whoever can be added is; the results say
// why the others were not.
func (s *Service) Add(ctx context.Context, by workspace.Actor, ref string, n api.NewMembers, revision int) (api.AddedAll, error) {
	v := s.k.View(ctx, by)
	g, err := v.FindGroup(ref, access.AddPeople)
	if err != nil {
		return api.AddedAll{}, err
	}
	if err := v.Alive(&g.Group); err != nil {
		return api.AddedAll{}, err
	}
	if len(n.People) == 0 && n.List == nil {
		return api.AddedAll{}, workspace.Wrong("people", nil, "There is nobody in the list. Give at least one address.")
	}
	entries, reading := Named("people", n.People), (*api.ListReading)(nil)
	if n.List != nil {
		reading = &api.ListReading{}
		more, err := ReadList(v, "list", *n.List, reading)
		if err != nil {
			return api.AddedAll{}, err
		}
		entries = append(entries, more...)
	}
	if _, err := ParseUntil(v, n.Until); err != nil {
		return api.AddedAll{}, err
	}
	if n.Until != "" && n.Way == "invite" {
		return api.AddedAll{}, workspace.Wrong("until", n.Until, "Whoever is invited comes when they like. Give them an end once they are in.")
	}
	for i := range entries {
		entries[i].Until = cmp.Or(entries[i].Until, n.Until)
	}
	for try := 1; ; try++ {
		results, err := Resolve(v, entries)
		if err != nil {
			return api.AddedAll{}, err
		}
		out, err := s.add(ctx, by, ref, n, revision, results, reading)
		if !errors.Is(err, store.ErrDuplicate) || try == 3 { // a new outsider can be added to two groups at once
			return out, err
		}
	}
}

func (s *Service) add(ctx context.Context, by workspace.Actor, ref string, n api.NewMembers, revision int, resolved []Result, reading *api.ListReading) (out api.AddedAll, err error) {
	nesting := func(c *workspace.Change) error {
		if !hasGroups(resolved) {
			return nil
		}
		return c.Tx.LockNesting()
	}
	err = workspace.OnGroupOnce(ctx, s.k, by, ref, access.AddPeople, nesting, n, &out, func(c *workspace.Change, g *workspace.Locked) error {
		if err := g.CheckRevision(revision); err != nil {
			return err
		}
		if err := c.Alive(&g.Group.Group); err != nil {
			return err
		}
		vouch, err := VouchOf(&c.View, n.Vouching)
		if err != nil {
			return err
		}
		results := slices.Clone(resolved)
		way, done, verb := admission.Adding, Enter, "added"
		if n.Way == "invite" {
			way, done, verb = admission.Inviting, invite, "invited"
		}
		if err := Admit(&c.View, &g.Group.Group, results, way, admission.As{Staff: staff(&c.View, &g.Group), Alone: n.WithoutExternals}); err != nil {
			return err
		}
		scope, _ := admission.ParseScope(n.Consent)
		if err := done(c, g, results, Entrance{Quiet: n.Quiet, Scope: scope, Vouch: vouch}); err != nil {
			return err
		}
		tell(c.Report, results, verb)
		c.Report.List = reading
		out = api.AddedAll{Results: Shown(results), Counts: Counts(results), Says: c.Report.Says}
		for i := range results {
			if results[i].OK() || results[i].Outcome == "invited" {
				out.Added++
			}
		}
		return nil
	})
	return out, err
}

// tell puts into a report what becomes of results.
func tell(report *api.Preview, results []Result, verb string) {
	n, asked, groups := 0, 0, 0
	for i := range results {
		if results[i].OK() || results[i].Outcome == "invited" {
			n++
			if results[i].IsGroup() {
				groups++
			}
		} else if results[i].Asked() {
			asked++
		}
	}
	report.Sample, report.Total, report.Ready, report.Counts = Shown(results), len(results), n, Counts(results)
	is := map[bool]string{true: "is ", false: "are "}[n == 1]
	if strings.HasPrefix(verb, "can") {
		is = ""
	}
	switch {
	case asked > 0 && n+asked == len(results) && n == 0:
		report.Says = fmt.Sprintf("The owners of %s are asked first.", number.Of(asked, "group"))
	case asked > 0 && n+asked == len(results):
		report.Says = fmt.Sprintf("%d of %d entries %s%s; the owners of %s are asked first.", n, len(results), is, verb, number.Of(asked, "group"))
	case n < len(results):
		report.Says = fmt.Sprintf("%d of %d entries %s%s; the others say why not.", n, len(results), is, verb)
	case groups == n && n > 0:
		report.Says = fmt.Sprintf("%s %s%s.", number.Of(n, "group"), is, verb)
	default:
		report.Says = fmt.Sprintf("%s %s%s.", number.Of(n, "person"), is, verb)
	}
}

// Entrance is how people come into a group.
type Entrance struct {
	Fact  event.Fact      // nil: they were added
	Quiet bool            // they are not told
	Vouch Vouch           // for external members
	Scope admission.Scope // what is agreed about groups; Counted, where it is not said
}

// Join puts the people of results that can be into g, which is locked, counts them, tells
// them, and records it. Open requests and invitations of theirs end. Groups come in with the
// consent of those who run them, or these are asked.
func Join(c *workspace.Change, g *workspace.Locked, results []Result, how Entrance) error {
	now := c.Now()
	if err := consents(c, g, results, cmp.Or(how.Scope, admission.Counted)); err != nil {
		return err
	}
	var rows []store.Membership
	var outsiders []store.Person
	var affected []store.Affected
	var told, keys []string
	var ids []uuid.UUID
	var who []event.Who
	var external []Result
	strangers := 0
	for i := range results {
		r := &results[i]
		if !r.OK() {
			continue
		}
		if r.ID == uuid.Nil {
			r.ID = store.NewID()
			outsiders = append(outsiders, store.Person{ID: r.ID, Address: r.Line.Address, AddrKey: r.Line.Address, Name: r.Name, External: true, Active: true,
				Attributes: []byte("{}"), CreatedAt: now, Version: 1})
		}
		m := store.Membership{GroupID: g.ID, MemberID: r.ID, Kind: store.KindPerson, Role: r.Role, Mail: g.DefaultMail, AddedAt: now.Add(time.Duration(i) * time.Microsecond), AddedBy: c.By.String(), EndsAt: r.Ends}
		did := store.Affected{PersonID: r.ID, Now: r.Role.String()}
		if r.kind == admission.Group {
			m.Kind, m.Mail, did.Label = store.KindGroup, true, &r.Line.Address
		} else if r.External {
			external = append(external, *r)
		} else if r.ID != c.By.Person.ID {
			told = append(told, r.Line.Address)
		}
		rows, affected, who = append(rows, m), append(affected, did), append(who, r.who())
		ids, keys = append(ids, r.ID), append(keys, strings.ToLower(r.Line.Address))
		count(&g.Group.Group, store.MemberRow{Membership: m, External: r.External, Active: true}, r.Role, +1)
		if r.External {
			strangers++
		}
	}
	if how.Fact == nil { // by the actor, not by themselves
		if err := c.Spend(workspace.SpendOutsiders, strangers); err != nil {
			return err
		}
	}
	if len(rows) == 0 || c.Previewing() {
		return nil
	}
	if len(outsiders) > 0 {
		if err := c.Tx.AddPeople(outsiders); err != nil {
			return err
		}
	}
	if err := c.Tx.AddMemberships(rows); err != nil {
		return err
	}
	if err := c.Tx.EndRequests(g.ID, ids, store.ToJoin, now); err != nil {
		return err
	}
	if err := c.Tx.CallBackInvitations(g.ID, keys, now); err != nil {
		return err
	}
	g.TouchOwned(affected)
	if err := c.Save(g); err != nil {
		return err
	}
	if err := vouched(c, g, external, how); err != nil {
		return err
	}
	if !how.Quiet {
		if err := c.Send(&g.Group.Group, told, c.AddedLetter(&g.Group.Group, "")); err != nil {
			return err
		}
	}
	if how.Fact == nil {
		how.Fact = event.PeopleAdded{People: event.Of(who...)}
	}
	return c.Record(how.Fact, &g.Group.Group, affected...)
}

// count keeps the counts of a group in step with its memberships: one more or less has a
// role.
func count(g *store.Group, m store.MemberRow, role expand.Role, by int) {
	switch {
	case m.Kind == store.KindGroup:
		g.Nested += by
		return
	case !m.Active:
		g.Departed += by
		return
	case role == expand.Owner:
		g.Owners += by
	case role == expand.Moderator:
		g.Moderators += by
	default:
		g.Members += by
	}
	if m.External {
		g.ExternalMembers += by
	}
}
