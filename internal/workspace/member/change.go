package member

import (
	"cmp"
	"context"
	"errors"
	"fmt"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/core/access"
	"ivytable.example/ivytable/internal/core/admission"
	"ivytable.example/ivytable/internal/core/digest"
	"ivytable.example/ivytable/internal/core/event"
	"ivytable.example/ivytable/internal/core/expand"
	"ivytable.example/ivytable/internal/core/mailaddr"
	"ivytable.example/ivytable/internal/core/number"
	"ivytable.example/ivytable/internal/store"
	"ivytable.example/ivytable/internal/workspace"
)

// Target is a member that a change names, and what becomes of it.
type Target struct {
	Given string
	ID    uuid.UUID
	Row   store.MemberRow
	Err   error // why it can't be changed
	Same  bool  // it is so already
	from  string
	to    string
}

// targets finds the members of a group that identifiers and addresses name.
func targets(v *workspace.View, g *store.Group, given []string) ([]Target, error) {
	out := make([]Target, len(given))
	keys := map[int]string{}
	for i, x := range given {
		out[i] = Target{Given: workspace.Cut(x, 320), Err: workspace.Fail(workspace.NotFound, "%s is not in %s.", workspace.Cut(x, 100), g.Name)}
		if id, err := uuid.Parse(x); err == nil {
			out[i].ID = id
		} else if a, err := mailaddr.Parse(x); err == nil {
			keys[i] = a.Key()
		}
	}
	all := make([]string, 0, len(keys))
	for _, k := range keys {
		all = append(all, k)
	}
	people, err := v.Read.PeopleByKeys(all)
	if err != nil || len(keys) == 0 {
		return out, err
	}
	groups, err := v.Read.GroupsByKeys(all)
	for i, k := range keys {
		if p, ok := people[k]; ok {
			out[i].ID = p.ID
		} else if n, ok := groups[k]; ok {
			out[i].ID = n.ID
		}
	}
	return out, err
}

// change is what is done to members: a role, a delivery, or that they go.
type change struct {
	role     expand.Role // 0: as before
	delivery string      // "": as before
	ends     *ends       // nil: as before
	remove   bool
	exit     admission.Exit // how they go
	staff    bool           // an owner of the group or an administrator does it, or goes
	inner    bool           // whoever runs a group takes it out of another
	reason   string         // and why
}

func (x change) check() error {
	other := x.role != 0 || x.delivery != "" || x.ends != nil
	if other == x.remove {
		return workspace.Wrong("role", nil, "Say what to change: role, delivery or until, or else remove.")
	}
	return nil
}

// Change changes the role or the delivery of members, or takes them out, in one step.
// Whoever can be changed is; the results say why the others were not.
func (s *Service) Change(ctx context.Context, by workspace.Actor, ref string, patch api.MembersPatch, revision int) (api.MembersChanged, error) {
	role, _ := expand.ParseRole(patch.Role)
	var out api.MembersChanged
	end, err := newEnds(s.k.View(ctx, by), patch.Until)
	if err != nil {
		return out, err
	}
	x := change{role: role, delivery: patch.Delivery, ends: end, remove: patch.Remove, exit: admission.Removing, staff: true}
	if err := x.check(); err != nil {
		return out, err
	}
	err = s.k.OnGroup(ctx, by, ref, access.ChangePeople, func(c *workspace.Change, g *workspace.Locked) error {
		if err := g.CheckRevision(revision); err != nil {
			return err
		}
		all, err := apply(c, g, patch.Members, x)
		if err != nil {
			return err
		}
		out = api.MembersChanged{Results: c.Report.Sample, Says: c.Report.Says}
		for i := range all {
			if all[i].Err == nil && !all[i].Same {
				out.Changed++
			}
		}
		return nil
	})
	return out, err
}

// apply makes a change to those members that it can be made to, and says in the report
// what becomes of each.
func apply(c *workspace.Change, g *workspace.Locked, given []string, x change) ([]Target, error) {
	all, err := targets(&c.View, &g.Group.Group, given)
	if err != nil {
		return nil, err
	}
	if err := applyTo(c, g, all, x); err != nil {
		return nil, err
	}
	changed := report(c, all, func(*Target) bool { return x.remove })
	is, verb := "are", "changed"
	if changed == 1 {
		is = "is"
	}
	if x.remove {
		verb = "taken out"
	}
	c.Says(fmt.Sprintf("%d of %s of %s %s %s.", changed, number.Of(len(all), "member"), g.Name, is, verb))
	return all, nil
}

// report says of each member in the report what becomes of them, and returns how many change; gone says who goes.
func report(c *workspace.Change, all []Target, gone func(*Target) bool) (changed int) {
	for i := range all {
		t := &all[i]
		l := api.Line{Given: t.Given, Name: t.Row.Name, Address: t.Row.Address, Role: t.Row.Role.String(), External: t.Row.External, Outcome: "changed", From: t.from, To: t.to}
		switch e := new(workspace.Error); {
		case errors.As(t.Err, &e):
			l.Outcome, l.Says = "refused", e.Says
		case t.Same:
			l.Outcome, l.Says = "same", "Is so already; nothing was changed."
		default:
			changed++
			if gone(t) {
				l.Outcome = "removed"
			}
		}
		c.Report.Sample = append(c.Report.Sample, l)
	}
	c.Report.Total, c.Report.Ready = len(all), changed
	return changed
}

// applyTo is apply for members that are known.
func applyTo(c *workspace.Change, g *workspace.Locked, all []Target, x change) error {
	owners, err := activeOwners(&c.View, g.ID)
	if err != nil {
		return err
	}
	return applyKnowing(c, g, all, x, owners)
}

// applyKnowing is applyTo for a group of which it is known who owns it and is here; it keeps that in step.
func applyKnowing(c *workspace.Change, g *workspace.Locked, all []Target, x change, owners map[uuid.UUID]bool) error {
	ids := make([]uuid.UUID, 0, len(all))
	for _, t := range all {
		if t.ID != uuid.Nil {
			ids = append(ids, t.ID)
		}
	}
	rows, err := c.Tx.LockMembers(g.ID, ids)
	if err != nil {
		return err
	}
	in := make(map[uuid.UUID]store.MemberRow, len(rows))
	for _, r := range rows {
		in[r.MemberID] = r
	}
	if x.ends != nil {
		limited := *x.ends
		if limited.out, _, err = c.Outside(); err != nil {
			return err
		}
		x.ends = &limited
	}
	done := ledger{x: x}
	door := c.Door(&g.Group.Group)
	for i := range all {
		t := &all[i]
		row, ok := in[t.ID]
		if !ok {
			continue // its error says so
		}
		delete(in, t.ID) // one that is named twice is changed once
		t.Row, t.Err = row, nil
		if no, err := x.unappointed(c, g, row); err != nil {
			return err
		} else if no != "" {
			t.Err = workspace.Fail(workspace.NotAllowed, "%s", no)
			continue
		}
		v := x.decide(&c.View, door, row, row.Role == expand.Owner && owners[row.MemberID] && len(owners) == 1)
		switch v.Outcome {
		case admission.Already:
			t.Same = true
			continue
		case admission.Admitted:
		default:
			t.Err = unchanged(x, v)
			continue
		}
		if row.Role == expand.Owner && (x.remove || x.role != 0 && x.role != expand.Owner) {
			delete(owners, row.MemberID)
		} else if x.role == expand.Owner && row.Active {
			owners[row.MemberID] = true
		}
		done.add(&g.Group.Group, t)
	}
	return done.write(c, g)
}

// unappointed says why the actor may not change the role of a member so; "" where they may.
func (x change) unappointed(c *workspace.Change, g *workspace.Locked, row store.MemberRow) (string, error) {
	to := row.Role
	switch {
	case x.remove || x.ends != nil && x.ends.at != nil:
		to = 0
	case x.role != 0:
		to = x.role
	}
	if row.Kind == store.KindGroup || x.remove && x.exit != admission.Removing && row.MemberID == c.By.Person.ID { // whoever goes by themselves
		return "", nil
	}
	return c.MayAppoint(&g.Group.Group, g.Relation, row.MemberID, row.Role, to, false)
}

// decide says whether a member may be changed so.
func (x change) decide(v *workspace.View, d admission.Door, row store.MemberRow, last bool) admission.Verdict {
	m := admission.Member{Name: row.Name, Role: row.Role, ByRule: row.Ruled(), LastOwner: last, Staff: x.staff}
	switch {
	case row.Kind == store.KindGroup:
		m.Kind = admission.Group
	case row.External:
		m.Kind = admission.Outsider
	}
	if x.remove {
		return admission.Out(x.exit, d, m)
	}
	out := admission.Verdict{Outcome: admission.Already}
	if x.role != 0 {
		out = admission.Role(d, m, x.role)
	}
	if out.Outcome == admission.Already && x.delivery != "" && x.delivery != row.Delivery() {
		out = admission.Verdict{Outcome: admission.Admitted}
	}
	if x.ends != nil && (out.Outcome == admission.Already || out.Outcome == admission.Admitted) {
		if e := x.ends.decide(v, row, d.Name, last && (x.role == 0 || x.role == expand.Owner)); e.Outcome != admission.Already {
			out = e
		}
	}
	return out
}

// unchanged turns a verdict into why a member was not changed.
func unchanged(x change, v admission.Verdict) error {
	switch {
	case v.Status == "last_owner" || v.Status == "rule":
		return workspace.Fail(workspace.Conflict, "%s", v.Says)
	case x.exit == admission.Leaving && x.remove:
		return workspace.Fail(workspace.NotAllowed, "%s", v.Says)
	case !x.remove:
		return workspace.Wrong("role", x.role.String(), "%s", v.Says)
	}
	return workspace.Fail(workspace.Conflict, "%s", v.Says)
}

// ledger is what a change of members comes to.
type ledger struct {
	x        change
	ids      []uuid.UUID
	affected []store.Affected
	who      []event.Who
	groups   []uuid.UUID
	was      string // the delivery that they had; several where not all had the same
}

// several says that people had different deliveries.
const several = "several"

// add notes a member that is changed, and keeps the counts of the group in step.
func (l *ledger) add(g *store.Group, t *Target) {
	row := t.Row
	now := row.Role
	switch {
	case l.x.remove:
		now = 0
	case l.x.role != 0:
		now = l.x.role
	}
	if now != row.Role {
		count(g, row, row.Role, -1)
		if now != 0 {
			count(g, row, now, +1)
		}
	}
	did := store.Affected{PersonID: row.MemberID, Was: row.Role.String(), Now: now.String()}
	who := event.Who{Name: row.Name, Address: row.Address}
	if row.Kind == store.KindGroup {
		did.Label = &row.Address
		l.groups = append(l.groups, row.MemberID)
	} else if row.Name == row.Address {
		who.Name = ""
	}
	l.ids, l.affected, l.who = append(l.ids, row.MemberID), append(l.affected, did), append(l.who, who)
	t.from, t.to = row.Role.String(), now.String()
	if now != 0 {
		t.Row.Role = now
	}
	if l.x.ends != nil {
		t.to += ", " + map[bool]string{true: "without an end", false: "until " + l.x.ends.day}[l.x.ends.at == nil]
		t.Row.EndsAt = l.x.ends.at
	}
	if l.x.delivery != "" {
		was := row.Delivery()
		if l.was == "" {
			l.was = was
		} else if l.was != was {
			l.was = several
		}
		t.from, t.to = t.from+", "+was, t.to+", "+l.x.delivery
		t.Row.Mail, t.Row.How = store.ParseDelivery(l.x.delivery)
	}
}

func (l *ledger) write(c *workspace.Change, g *workspace.Locked) error {
	if len(l.ids) == 0 || c.Previewing() {
		return nil
	}
	var fact event.Fact = event.PeopleChanged{People: event.Of(l.who...), Role: l.x.role.String(), Delivery: l.x.delivery}
	until := ""
	if l.x.ends != nil {
		until = cmp.Or(l.x.ends.day, endless)
		fact = event.PeopleChanged{People: event.Of(l.who...), Role: l.x.role.String(), Delivery: l.x.delivery, Until: until}
	}
	if l.x.role == 0 {
		fact = event.PeopleChanged{People: event.Of(l.who...), Delivery: l.x.delivery, Until: until}
	}
	if f, ok := fact.(event.PeopleChanged); ok && l.x.delivery != "" {
		f.Was = l.was
		fact = f
	}
	var err error
	if l.x.remove {
		fact = event.PeopleRemoved{People: event.Of(l.who...), Left: l.x.exit == admission.Leaving, Ended: l.x.exit == admission.Ending}
		err = errors.Join(c.Tx.DeleteMemberships(g.ID, l.ids), c.Tx.EndRequests(g.ID, l.ids, store.ToLeave, c.Now()))
	}
	if l.x.role != 0 {
		err = errors.Join(err, c.Tx.SetRole(g.ID, l.ids, l.x.role))
	}
	if l.x.ends != nil {
		err = errors.Join(err, c.Tx.SetEnds(g.ID, l.ids, l.x.ends.at))
	}
	if l.x.delivery != "" {
		mail, how := store.ParseDelivery(l.x.delivery)
		err = errors.Join(err, c.Tx.SetMail(g.ID, l.ids, mail, how))
		if how == store.Digest {
			err = errors.Join(err, c.Tx.BeginDigests(l.ids, digest.Hour, c.Now()))
		}
	}
	g.TouchOwned(l.affected)
	if err == nil {
		err = c.Save(g)
	}
	if err == nil {
		err = c.Record(fact, &g.Group.Group, l.affected...)
	}
	if err == nil && l.x.remove && len(l.groups) > 0 {
		err = parted(c, &g.Group.Group, l.groups, l.x)
	}
	return err
}

// activeOwners returns the owners of a group who have not left the organisation.
func activeOwners(v *workspace.View, group uuid.UUID) (map[uuid.UUID]bool, error) {
	rows, err := v.Read.Owners([]uuid.UUID{group})
	out := map[uuid.UUID]bool{}
	for _, o := range rows[group] {
		if o.Active {
			out[o.MemberID] = true
		}
	}
	return out, err
}

// ChangeOne changes the role or the delivery of one member; one's own delivery whoever one
// is.
func (s *Service) ChangeOne(ctx context.Context, by workspace.Actor, ref, who string, patch api.MemberPatch, revision int) (api.Member, error) {
	role, _ := expand.ParseRole(patch.Role)
	end, err := newEnds(s.k.View(ctx, by), patch.Until)
	if err != nil {
		return api.Member{}, err
	}
	x := change{role: role, delivery: patch.Delivery, ends: end, staff: true}
	do := access.ChangePeople
	if role == 0 && end == nil && by.Is(who) {
		do = access.OwnPart
	}
	if err := x.check(); err != nil {
		return api.Member{}, err
	}
	var out api.Member
	err = s.k.OnGroup(ctx, by, ref, do, func(c *workspace.Change, g *workspace.Locked) error {
		if err := g.CheckRevision(revision); err != nil {
			return err
		}
		all, err := apply(c, g, []string{who}, x)
		if err != nil {
			return err
		}
		out = shape(&c.View, all[0].Row)
		return all[0].Err
	})
	return out, err
}

// Remove takes somebody out of a group; oneself where the group lets its members leave
// freely.
func (s *Service) Remove(ctx context.Context, by workspace.Actor, ref, who string, revision int) error {
	do := access.ReadGroup
	if by.Is(who) {
		do = access.OwnPart
	}
	return s.k.OnGroup(ctx, by, ref, do, func(c *workspace.Change, g *workspace.Locked) error {
		if err := g.CheckRevision(revision); err != nil {
			return err
		}
		x := change{remove: true, exit: admission.Removing, staff: c.May(access.ChangePeople, &g.Group)}
		if c.By.Is(who) {
			x.exit = admission.Leaving
		} else if !x.staff {
			return workspace.Fail(workspace.NotAllowed, "%s", access.ChangePeople.Refusal()) // does not tell who is in it
		}
		all, err := apply(c, g, []string{who}, x)
		if err != nil {
			return err
		}
		return all[0].Err
	})
}

// TakeOut takes one person out of g, which is locked, by a way. It is an error where they
// can't go; whoever is not in it is let be.
func TakeOut(c *workspace.Change, g *workspace.Locked, person uuid.UUID, exit admission.Exit) error {
	all := []Target{{ID: person}}
	if err := applyTo(c, g, all, change{remove: true, exit: exit, staff: c.May(access.ChangePeople, &g.Group)}); err != nil {
		return err
	}
	return all[0].Err
}

// MakeOwner makes somebody an owner of g, which is locked: in place of somebody who left.
func MakeOwner(c *workspace.Change, g *workspace.Locked, p store.Person) error {
	in, err := c.Read.MemberIDs(g.ID, []uuid.UUID{p.ID})
	if err != nil {
		return err
	}
	if in[p.ID] {
		all := []Target{{ID: p.ID}}
		if err := applyTo(c, g, all, change{role: expand.Owner, staff: true}); err != nil {
			return err
		}
		return all[0].Err
	}
	results := Oneself(p, expand.Owner)
	if err := Admit(&c.View, &g.Group.Group, results, admission.HandedOver, admission.As{Staff: true}); err != nil {
		return err
	}
	if !results[0].OK() {
		return workspace.Fail(workspace.Conflict, "%s can't take over %s. %s", p.Name, g.Name, results[0].Says)
	}
	return Join(c, g, results, Entrance{Quiet: true})
}

// CanOwn reports whether MakeOwner would make p an owner of g.
func CanOwn(v *workspace.View, g *store.Group, p store.Person) (bool, error) {
	in, err := v.Read.MemberIDs(g.ID, []uuid.UUID{p.ID})
	if err != nil || in[p.ID] {
		return in[p.ID], err
	}
	results := Oneself(p, expand.Owner)
	err = Admit(v, g, results, admission.HandedOver, admission.As{Staff: true})
	return results[0].OK(), err
}

// StepDown makes an owner of g, which is locked, what they were before: a moderator, a member, or, with 0, nobody in it.
func StepDown(c *workspace.Change, g *workspace.Locked, person uuid.UUID, to expand.Role) error {
	if to == 0 {
		return TakeOut(c, g, person, admission.Removing)
	}
	all := []Target{{ID: person}}
	if err := applyTo(c, g, all, change{role: to, staff: true}); err != nil {
		return err
	}
	return all[0].Err
}
