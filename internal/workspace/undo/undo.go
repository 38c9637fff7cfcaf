// Package undo takes back what an entry of the history did.
//
// It does so by the use case that somebody would do it with by hand, with the same rules and as whoever asks: nobody undoes what they
// may not do. What was changed since the entry stands against it, and is left alone.
package undo

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strconv"
	"strings"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/core/event"
	"ivytable.example/ivytable/internal/store"
	"ivytable.example/ivytable/internal/workspace"
	"ivytable.example/ivytable/internal/workspace/area"
	"ivytable.example/ivytable/internal/workspace/attributes"
	"ivytable.example/ivytable/internal/workspace/bulk"
	"ivytable.example/ivytable/internal/workspace/consent"
	"ivytable.example/ivytable/internal/workspace/directory"
	"ivytable.example/ivytable/internal/workspace/domains"
	"ivytable.example/ivytable/internal/workspace/external"
	"ivytable.example/ivytable/internal/workspace/group"
	"ivytable.example/ivytable/internal/workspace/history"
	"ivytable.example/ivytable/internal/workspace/joining"
	"ivytable.example/ivytable/internal/workspace/life"
	"ivytable.example/ivytable/internal/workspace/member"
	"ivytable.example/ivytable/internal/workspace/naming"
	"ivytable.example/ivytable/internal/workspace/people"
	"ivytable.example/ivytable/internal/workspace/protection"
	"ivytable.example/ivytable/internal/workspace/public"
	"ivytable.example/ivytable/internal/workspace/reach"
	"ivytable.example/ivytable/internal/workspace/review"
	"ivytable.example/ivytable/internal/workspace/round"
	"ivytable.example/ivytable/internal/workspace/rules"
	"ivytable.example/ivytable/internal/workspace/views"
)

// Rooms are the use cases by which things are undone.
type Rooms struct {
	Area       *area.Service
	Attributes *attributes.Service
	Bulk       *bulk.Service
	Consent    *consent.Service
	Directory  *directory.Service
	Domains    *domains.Service
	External   *external.Service
	History    *history.Service
	Group      *group.Service
	Joining    *joining.Service
	Life       *life.Service
	Member     *member.Service
	Naming     *naming.Service
	Protection *protection.Service
	Public     *public.Service
	Reach      *reach.Service
	Review     *review.Service
	Round      *round.Service
	Rules      *rules.Service
	Views      *views.Service
}

// Service takes entries of the history back.
type Service struct {
	k *workspace.Kernel
	Rooms
}

// New returns the service of a workspace.
func New(k *workspace.Kernel, r Rooms) *Service { return &Service{k, r} }

// entry is one that is taken back.
type entry struct {
	store.Event
	group    string // its identifier, "" for none
	affected []store.Affected
	change   string // the change of many groups that takes it back
}

// Entry takes back what an entry of the history did.
func (s *Service) Entry(ctx context.Context, by workspace.Actor, id int64) (api.Undone, error) {
	v := s.k.View(ctx, by)
	row, err := history.Find(v, id)
	if err != nil {
		return api.Undone{}, err
	}
	e, err := event.Decode(event.Kind(row.Kind), row.Via, row.Data)
	if err != nil {
		return api.Undone{}, err
	}
	if u := e.Undo(); !u.Possible {
		return api.Undone{}, workspace.Fail(workspace.Conflict, "Entry %d can't be undone. %s", id, u.Says)
	}
	x := entry{Event: row}
	if row.GroupID != nil {
		x.group = row.GroupID.String()
	}
	if x.affected, err = v.Read.Affected(id); err != nil {
		return api.Undone{}, err
	}
	by.Undoes, by.Key = id, ""
	if by.Report == nil {
		by.Report = &api.Preview{}
	}
	switch err := s.undo(ctx, by, &x, e.Fact); {
	case workspace.IsKind(err, workspace.Stale):
		return api.Undone{}, workspace.Fail(workspace.Conflict, "It was changed again after entry %d. Undo the later entries first, or change it by hand.", id)
	case err != nil:
		return api.Undone{}, err
	}
	if x.change != "" {
		by.Report.Says = "The groups go back one after another."
	}
	return api.Undone{Entry: id, Says: by.Report.Says, Change: x.change}, nil
}

// one is the identifier of whom an entry is about; "" for nobody alone.
func (x *entry) one() string {
	if len(x.affected) != 1 {
		return ""
	}
	return x.affected[0].PersonID.String()
}

// undo does what takes a fact back. Every kind that says that it can be undone is here.
func (s *Service) undo(ctx context.Context, by workspace.Actor, x *entry, fact event.Fact) error {
	switch f := fact.(type) {
	case event.GroupCreated, event.GroupRestored:
		return s.life(ctx, by, x, s.Life.Retire)
	case event.GroupRetired, event.GroupLapsed, event.RoundAnswered:
		return s.life(ctx, by, x, s.Life.Restore)
	case event.GroupChanged:
		return last(s.Group.Back(ctx, by, x.group, f.Changed))
	case event.PolicyChanged:
		return last(s.Reach.Back(ctx, by, x.group, f.Changed))
	case event.GroupHeld:
		return s.life(ctx, by, x, s.Life.Release)
	case event.GroupReleased:
		return last(s.Life.Hold(ctx, by, x.group, api.Hold{Reason: f.Reason}, 0))
	case event.RuleSet:
		return s.rule(ctx, by, x, f)
	case event.RuleDeleted:
		return s.ruleAgain(ctx, by, x, f)
	case event.RuleKept:
		return last(s.Member.Back(ctx, by, x.group, x.affected, member.Before{Out: true, At: x.At}))
	case event.OverrideSet:
		return s.override(ctx, by, x, f)
	case event.OwnersSet, event.PeopleAdded, event.Joined, event.InvitationAccepted:
		return last(s.Member.Back(ctx, by, x.group, x.affected, member.Before{At: x.At}))
	case event.PeopleChanged:
		before := cmp.Or(f.Was, map[string]string{"each": "none", "none": "each"}[f.Delivery]) // of those whom it was changed of
		return last(s.Member.Back(ctx, by, x.group, x.affected, member.Before{Delivery: before, At: x.At}))
	case event.PeopleRemoved:
		return s.putBack(ctx, by, x)
	case event.PeopleInvited:
		return s.Joining.CallBackInvitations(ctx, by, x.group, x.affected, x.At)
	case event.JoinLinkCreated:
		return s.Joining.CallBackLink(ctx, by, x.group, f.Link)
	case event.ExternalsVouched:
		return s.vouching(ctx, by, x, f)
	case event.ManyChanged:
		b, err := s.Bulk.Undo(ctx, by, f.Change)
		x.change = b.ID
		return err
	case event.ConsentAsked:
		outer, inner, err := s.pair(ctx, by, x, f.Outer, f.Inner)
		if err != nil {
			return err
		}
		return s.Consent.End(ctx, by, outer, inner, "")
	case event.ConsentGiven:
		outer, inner, err := s.pair(ctx, by, x, f.Outer, f.Inner)
		if err != nil {
			return err
		}
		if f.Was == "counted" || f.Was == "seen" {
			return last(s.Consent.Give(ctx, by, inner, outer, api.NewConsent{Consent: f.Was}))
		}
		return s.Consent.End(ctx, by, inner, outer, "")
	case event.ConsentEnded:
		outer, inner, err := s.pair(ctx, by, x, f.Outer, f.Inner)
		if err != nil {
			return err
		}
		return s.in(s.Member.Add(ctx, by, outer, api.NewMembers{People: []api.NewPerson{{Address: inner}}, Quiet: true}, 0))
	case event.PersonCreated, event.PersonReturned:
		return s.person(ctx, by, x, func(ctx context.Context, by workspace.Actor, ref string, version int) (api.PersonDetails, error) {
			return s.Directory.Depart(ctx, by, ref, api.Departure{}, version)
		})
	case event.PersonDeparted:
		return s.person(ctx, by, x, s.Directory.Return)
	case event.PersonChanged:
		return last(s.Directory.Back(ctx, by, x.one(), f.Changed))
	case event.DomainAdded:
		return s.Domains.Retire(ctx, by, f.Domain, 0)
	case event.DomainLeads:
		return s.main(ctx, by, f)
	case event.DomainRetired:
		return last(s.Domains.Add(ctx, by, api.NewDomain{Name: f.Domain}))
	case event.AttributeDeclared:
		return s.Attributes.Delete(ctx, by, f.Name, 0)
	case event.AttributeChanged:
		return s.attribute(ctx, by, f)
	case event.RoundBegun:
		return last(s.Round.End(ctx, by, f.ID, 0))
	}
	return s.settings(ctx, by, fact)
}

// settings sets back what is set as a whole, as long as it is of the version that the fact gave it.
func (s *Service) settings(ctx context.Context, by workspace.Actor, fact event.Fact) error {
	switch f := fact.(type) {
	case event.ExpiryChanged:
		return set(ctx, by, f.Before, s.Life.SetTerms)
	case event.NamingChanged:
		return set(ctx, by, f.Before, s.Naming.Set)
	case event.CeilingsChanged:
		return set(ctx, by, f.Before, s.Bulk.SetCeilings)
	case event.ProtectionChanged:
		return set(ctx, by, f.Before, s.Protection.Set)
	case event.OutsideChanged:
		return set(ctx, by, f.Before, s.External.SetRules)
	case event.PublicChanged:
		return set(ctx, by, f.Before, s.Public.SetRules)
	case event.AreasChanged:
		return set(ctx, by, f.Before, s.Area.Set)
	case event.LimitsChanged:
		return set(ctx, by, f.Before, s.Review.SetLimits)
	case event.KeepingChanged:
		return set(ctx, by, f.Before, s.History.SetKeeping)
	case event.DeparturesChanged:
		return set(ctx, by, f.Before, s.Directory.SetDepartures)
	case event.StartingPointSaved:
		if f.Before.Before == nil {
			return s.Naming.DeleteStartingPoint(ctx, by, f.Name, f.Version)
		}
		return set(ctx, by, f.Before, of(f.Name, s.Naming.SaveStartingPoint))
	case event.StartingPointDeleted:
		if _, err := s.Naming.StartingPoint(ctx, by, f.Name); !workspace.IsKind(err, workspace.NotFound) {
			return workspace.Fail(workspace.Conflict, "There is another starting point %s by now. Delete that one first, or save this one under another name.", f.Name)
		}
		return set(ctx, by, event.Before{Before: f.Before.Before}, of(f.Name, s.Naming.SaveStartingPoint))
	case event.ViewSaved:
		if f.Before.Before == nil {
			return s.Views.Delete(ctx, by, f.ID, f.Version)
		}
		return set(ctx, by, f.Before, of(f.ID, s.Views.Save))
	case event.ViewDeleted:
		return set(ctx, by, event.Before{Before: f.Before.Before}, of("", s.Views.Save))
	case event.RoundChanged:
		return set(ctx, by, f.Before, of(f.ID, s.Round.Change))
	}
	return fmt.Errorf("undo: nothing takes a %s back", fact.Kind())
}

// set sets something to what it was.
func set[In, Out any](ctx context.Context, by workspace.Actor, was event.Before, do func(context.Context, workspace.Actor, In, int) (Out, error)) error {
	var in In
	if err := json.Unmarshal(was.Before, &in); err != nil {
		return fmt.Errorf("read what was before: %w", err)
	}
	return last(do(ctx, by, in, was.Version))
}

// of is a use case about what an identifier names.
func of[In, Out any](id string, do func(context.Context, workspace.Actor, string, In, int) (Out, error)) func(context.Context, workspace.Actor, In, int) (Out, error) {
	return func(ctx context.Context, by workspace.Actor, in In, version int) (Out, error) {
		return do(ctx, by, id, in, version)
	}
}

func last[T any](_ T, err error) error { return err }

// pair returns the two groups of an entry about nesting by their addresses now. The entry is kept with one of them; the other has to be the
// one that had its address then.
func (s *Service) pair(ctx context.Context, by workspace.Actor, x *entry, outer, inner event.Who) (outerAt, innerAt string, err error) {
	v := s.k.View(ctx, by)
	for _, g := range []struct {
		was event.Who
		now *string
	}{{outer, &outerAt}, {inner, &innerAt}} {
		found, err := v.LookUp(g.was.Address)
		if err != nil {
			return "", "", err
		}
		if found.ID.String() != x.group && found.CreatedAt.After(x.At) {
			v.Hush() // another group has that address by now, of which the actor may not know
			return "", "", workspace.ErrNoGroup(g.was.Address)
		}
		*g.now = found.Address
	}
	return outerAt, innerAt, nil
}

// lives are the kinds that say whether a group lives, or is under hold.
var lives = map[string][]string{
	"group.hold": {"group.hold", "group.release"},
	"":           {"group.retire", "group.lapse", "group.restore"},
}

// life does something about the life of a group, where nothing was done about it since.
func (s *Service) life(ctx context.Context, by workspace.Actor, x *entry, do func(context.Context, workspace.Actor, string, int) (api.Group, error)) error {
	v := s.k.View(ctx, by)
	g, err := v.LookUp(x.group)
	if err != nil {
		return err
	}
	kinds := lives[x.Kind]
	if kinds == nil {
		kinds = lives[""]
	}
	later, err := v.Read.EventSince(x.ID, x.ChangeID, g.ID, uuid.Nil, kinds)
	if err != nil {
		return err
	}
	if later > 0 {
		return again(x.ID, later)
	}
	return last(do(ctx, by, x.group, g.Version))
}

// person has somebody leave or return, where they did neither since.
func (s *Service) person(ctx context.Context, by workspace.Actor, x *entry, do func(context.Context, workspace.Actor, string, int) (api.PersonDetails, error)) error {
	v := s.k.View(ctx, by)
	p, err := people.Find(v, x.one())
	if err != nil {
		return err
	}
	later, err := v.Read.EventSince(x.ID, x.ChangeID, uuid.Nil, p.ID, []string{"person.depart", "person.return"})
	if err != nil {
		return err
	}
	if later > 0 {
		return again(x.ID, later)
	}
	return last(do(ctx, by, p.ID.String(), p.Version))
}

func again(entry, later int64) error {
	return workspace.Fail(workspace.Conflict, "Entry %d did the like after entry %d. Undo that one first, or change it by hand.", later, entry)
}

// main makes the mail domain the main one that was it before, where it still is the one of the entry.
func (s *Service) main(ctx context.Context, by workspace.Actor, f event.DomainLeads) error {
	all, err := s.Domains.List(ctx, by)
	if err != nil {
		return err
	}
	if now := all.Items[0]; now.Name != f.Domain {
		return workspace.Fail(workspace.Conflict, "%s is the main mail domain by now. Change it by hand.", now.Name)
	}
	return last(s.Domains.Lead(ctx, by, f.Before, 0))
}

// rule sets a rule of membership to what it was, or deletes it.
func (s *Service) rule(ctx context.Context, by workspace.Actor, x *entry, f event.RuleSet) error {
	now, err := s.Rules.Read(ctx, by, x.group)
	if err != nil {
		return err
	}
	if now.Expression != f.To || now.Guard != f.Guard {
		return workspace.Fail(workspace.Conflict, "The rule is %s by now, with a guard of %d percent. Change it by hand.", now.Expression, now.Guard)
	}
	if f.From == "" {
		return s.Rules.Delete(ctx, by, x.group, false, now.Version)
	}
	guard := f.GuardFrom
	return last(s.Rules.Set(ctx, by, x.group, api.NewRule{Expression: f.From, Guard: &guard, Confirm: true}, now.Version))
}

func (s *Service) ruleAgain(ctx context.Context, by workspace.Actor, x *entry, f event.RuleDeleted) error {
	if now, err := s.Rules.Read(ctx, by, x.group); err == nil {
		return workspace.Fail(workspace.Conflict, "It has another rule by now: %s. Change that by hand.", now.Expression)
	} else if !workspace.IsKind(err, workspace.NotFound) {
		return err
	}
	return last(s.Rules.Set(ctx, by, x.group, api.NewRule{Expression: f.Rule, Confirm: true}, 0))
}

// override sets what is settled about an address to what it was.
func (s *Service) override(ctx context.Context, by workspace.Actor, x *entry, f event.OverrideSet) error {
	now, version := "none", 0
	if o, err := s.Member.Override(ctx, by, x.group, f.Of.Address); err == nil {
		now, version = o.Override, o.Version
	} else if !workspace.IsKind(err, workspace.NotFound) {
		return err
	}
	if now != f.To {
		return workspace.Fail(workspace.Conflict, "%s is %s by now, not %s. Change it by hand.", f.Of, now, f.To)
	}
	return s.Rules.SetOverride(ctx, by, x.group, f.Of.Address, api.NewOverride{Override: f.From, Reason: "As it was before entry " + strconv.FormatInt(x.ID, 10)}, version)
}

// putBack puts those into a group again whom an entry took out.
func (s *Service) putBack(ctx context.Context, by workspace.Actor, x *entry) error {
	return s.in(s.Member.Add(ctx, by, x.group, api.NewMembers{List: &api.PeopleList{TakenOut: x.ID}}, 0))
}

// in says so where nobody came in.
func (s *Service) in(all api.AddedAll, err error) error {
	if err != nil || all.Added > 0 {
		return err
	}
	for _, r := range all.Results {
		if r.Says != "" {
			return workspace.Fail(workspace.Conflict, "%s", r.Says)
		}
	}
	return workspace.Fail(workspace.Conflict, "Nobody came in again: they are in it already, or may not be.")
}

// vouching has whoever answered for an external member before do so again.
func (s *Service) vouching(ctx context.Context, by workspace.Actor, x *entry, f event.ExternalsVouched) error {
	v := s.k.View(ctx, by)
	group, _ := uuid.Parse(x.group)
	person, _ := uuid.Parse(x.one())
	row, err := v.Read.External(group, person)
	if errors.Is(err, store.ErrNotFound) {
		return workspace.Fail(workspace.Conflict, "%s is not in it any more.", f.People)
	} else if err != nil {
		return err
	}
	now, err := member.Vouched(v, row)
	if err != nil {
		return err
	}
	if f.Voucher != (event.Who{}) && now.By.Address != f.Voucher.Address || f.Reason != "" && now.Reason != f.Reason {
		return workspace.Fail(workspace.Conflict, "%s answers for them by now (%s). Change it by hand.", now.By, now.Reason)
	}
	patch := api.ExternalsPatch{IDs: []string{group.String() + "." + person.String()}}
	if now.Reason != f.Was.Reason {
		patch.Reason = &f.Was.Reason
	}
	if f.Voucher != (event.Who{}) {
		if patch.Voucher = f.Was.By.Address; patch.Voucher == "" {
			return workspace.Fail(workspace.Conflict, "Nobody answered for %s before. Name somebody else by hand.", f.People)
		}
		if p, err := people.Find(v, patch.Voucher); err == nil && p.CreatedAt.After(x.At) {
			return workspace.Fail(workspace.Conflict, "Somebody else has the address %s by now. Name somebody by hand.", patch.Voucher)
		}
	}
	all, err := s.External.Change(ctx, by, patch)
	if err == nil && all.Decided == 0 {
		return workspace.Fail(workspace.Conflict, "%s", all.Results[0].Says)
	}
	return err
}

// attribute sets what is said of an attribute to what it was.
func (s *Service) attribute(ctx context.Context, by workspace.Actor, f event.AttributeChanged) error {
	all, err := s.Attributes.List(ctx, by)
	if err != nil {
		return err
	}
	for _, a := range all.Items {
		if a.Name != f.Name {
			continue
		}
		n := api.NewAttribute{Label: a.Label, Seen: a.Seen}
		for _, c := range f.Changed {
			is := map[string]string{"label": a.Label, "seen": strconv.FormatBool(a.Seen)}[c.Field]
			if is != c.To {
				return workspace.Fail(workspace.Conflict, "%s is %s by now. Change it by hand.", workspace.UpperFirst(strings.ReplaceAll(c.Field, "_", " ")), is)
			}
			switch c.Field {
			case "label":
				n.Label = c.From
			case "seen":
				n.Seen = c.From == "true"
			}
		}
		return last(s.Attributes.Save(ctx, by, a.Name, n, a.Version))
	}
	return workspace.Fail(workspace.Conflict, "The attribute %s is not kept any more.", f.Name)
}
