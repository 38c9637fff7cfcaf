// Package external is the external members of all groups: who vouches for them, why they are in, until
// when; what the workspace says of them; and what they decide for themselves without an account.
package external

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
	"ivytable.example/ivytable/internal/core/mailaddr"
	"ivytable.example/ivytable/internal/core/number"
	"ivytable.example/ivytable/internal/store"
	"ivytable.example/ivytable/internal/workspace"
	"ivytable.example/ivytable/internal/workspace/member"
	"ivytable.example/ivytable/internal/workspace/people"
)

// Service is external members.
type Service struct{ k *workspace.Kernel }

// New returns the service of a workspace.
func New(k *workspace.Kernel) *Service { return &Service{k} }

// Query says which external members to list. The zero value stands for all.
type Query struct {
	Q, Group, Domain, Voucher string
	Alone                     bool // nobody vouches for them who is here
	Endless                   bool
	Days                      int  // ending within so many days; 0: whenever
	Refused                   bool // the workspace would not take them any more
	Cursor                    string
	Limit                     int
}

// List lists the external members of all groups, by address: to administrators and auditors all, to
// others those of groups that they own and those for whom they vouch.
func (s *Service) List(ctx context.Context, by workspace.Actor, l Query) (api.Page[api.External], error) {
	none := api.Page[api.External]{}
	if err := by.SignedIn(); err != nil {
		return none, err
	}
	v := s.k.View(ctx, by)
	out, _, err := v.Outside()
	if err != nil {
		return none, err
	}
	q := store.ExternalQuery{Q: l.Q, Domain: strings.ToLower(strings.TrimPrefix(l.Domain, "@")), Alone: l.Alone, Endless: l.Endless, Limit: l.Limit}
	if !by.Subject().ReadsAll() {
		q.Runner = by.Person.ID
		if q.Areas, err = v.AreasFor(access.SeePeople); err != nil {
			return none, err
		}
	}
	if l.Group != "" {
		g, err := v.FindGroup(l.Group, access.ReadGroup)
		if err != nil {
			return none, err
		}
		q.Group = g.ID
	}
	if l.Voucher != "" {
		p, err := people.Find(v, l.Voucher)
		if err != nil {
			return none, err
		}
		q.Voucher = p.ID
	}
	if l.Days > 0 {
		q.EndsBy = v.Now().AddDate(0, 0, l.Days+1)
	}
	if l.Refused && out.Allowed {
		q.NotTaken, q.Outside, q.Refused = true, out.Only, out.Not
		if len(out.Only)+len(out.Not) == 0 { // everybody is taken
			return api.Page[api.External]{Items: []api.External{}}, nil
		}
	}
	if q.After, err = v.Cursor(l.Cursor, "externals", q.Runner, q.Group, q.Q, q.Domain, q.Voucher, q.Alone, q.Endless, l.Days, l.Refused); err != nil {
		return none, err
	}
	p, err := v.Read.Externals(q)
	if err != nil {
		return none, err
	}
	all, err := shapes(v, out, p.Items)
	return api.Page[api.External]{Items: all, Next: p.Next.String(), Total: p.Total}, err
}

func shapes(v *workspace.View, o workspace.Outside, rows []store.ExternalRow) ([]api.External, error) {
	var groups, vouchers []uuid.UUID
	for _, r := range rows {
		groups = append(groups, r.GroupID)
		if r.VoucherID != nil {
			vouchers = append(vouchers, *r.VoucherID)
		}
	}
	visible, err := v.Visible(groups)
	if err != nil {
		return nil, err
	}
	who, err := v.Read.PeopleByID(vouchers)
	if err != nil {
		return nil, err
	}
	rules := admission.Outside{Barred: !o.Allowed, Only: o.Only, Not: o.Not}
	out := make([]api.External, 0, len(rows))
	for _, r := range rows {
		g := visible[r.GroupID] // whoever vouches may not be able to find it any more
		_, domain, _ := strings.Cut(r.AddrKey, "@")
		x := api.External{ID: r.GroupID.String() + "." + r.MemberID.String(), Group: api.Name{Name: cmp.Or(g.Name, "A group that you can't find"), Address: g.Address}, Person: api.Name{Name: r.Name, Address: r.Address}, Domain: domain,
			Reason: r.Reason, Since: v.In(r.AddedAt), Until: v.LastDay(r.EndsAt), Delivery: r.Delivery(), Refused: rules.Refuses(r.AddrKey), MayChange: g.ID != uuid.Nil && v.May(access.ChangePeople, &g)}
		if r.VoucherID != nil {
			if p, ok := who[*r.VoucherID]; ok {
				x.Voucher, x.VoucherLeft = &api.Name{Name: p.Name, Address: p.Address}, !p.Active
			}
		}
		out = append(out, x)
	}
	return out, nil
}

// Change prolongs external members of groups, takes them out, or writes who vouches for them: each by
// itself; the results say what became of them.
func (s *Service) Change(ctx context.Context, by workspace.Actor, n api.ExternalsPatch) (api.DecidedAll, error) {
	if err := by.SignedIn(); err != nil {
		return api.DecidedAll{}, err
	}
	v := s.k.View(ctx, by)
	given := n.Until != "" || n.Voucher != "" || n.Reason != nil
	if given == n.Remove {
		return api.DecidedAll{}, workspace.Wrong("until", nil, "Say what to change: until, voucher or reason, or else remove.")
	}
	vouch, err := member.VouchOf(v, api.Vouching{Voucher: n.Voucher})
	if err != nil {
		return api.DecidedAll{}, err
	}
	until, err := member.ParseUntil(v, n.Until)
	if err != nil {
		return api.DecidedAll{}, err
	}
	var out api.DecidedAll
	err = s.k.Do(ctx, by, func(c *workspace.Change) error {
		out = api.DecidedAll{Results: []api.Decided{}}
		done := map[bool]string{true: "removed", false: "changed"}[n.Remove]
		groups, err := c.Tx.LockGroups(groupsOf(n.IDs))
		if err != nil {
			return err
		}
		c.Now()
		if err := c.RefreshActor(); err != nil {
			return err
		}
		for _, id := range n.IDs {
			one := api.Decided{ID: workspace.Cut(id, 80), Outcome: done}
			err := change(c, groups, id, patch{n, until, vouch}, &one)
			if e := new(workspace.Error); errors.As(err, &e) {
				one.Outcome, one.Says = "refused", e.Says
			} else if err != nil {
				return err
			} else {
				out.Decided++
			}
			out.Results = append(out.Results, one)
		}
		out.Says = fmt.Sprintf("%s %s.", number.Of(out.Decided, "external member"), done)
		if out.Decided < len(n.IDs) {
			out.Says = fmt.Sprintf("%d of %s %s; the others say why not.", out.Decided, number.Of(len(n.IDs), "external member"), done)
		}
		c.Report.Effects, c.Report.Total, c.Report.Ready = []api.Effect{}, len(out.Results), out.Decided
		for _, r := range out.Results {
			c.Report.Sample = append(c.Report.Sample, api.Line{Given: r.ID, Name: r.Person, Outcome: r.Outcome, Says: strings.TrimSpace(r.Group + " " + r.Says)})
		}
		c.Says(out.Says)
		return nil
	})
	return out, err
}

// groupsOf are the groups that identifiers of external members name.
func groupsOf(ids []string) (out []uuid.UUID) {
	for _, id := range ids {
		ref, _, _ := strings.Cut(id, ".")
		if g, err := uuid.Parse(ref); err == nil {
			out = append(out, g)
		}
	}
	return out
}

// patch is what is changed of external members.
type patch struct {
	api.ExternalsPatch
	until *time.Time
	vouch member.Vouch
}

// change changes one external member of a group, which is locked. Whom the actor may not know of is not there.
func change(c *workspace.Change, groups map[uuid.UUID]store.Group, id string, n patch, out *api.Decided) error {
	none := workspace.Fail(workspace.NotFound, "There is no external member %q in your groups.", workspace.Cut(id, 80))
	ref, who, _ := strings.Cut(id, ".")
	group, err := uuid.Parse(ref)
	if err != nil {
		return none
	}
	person, err := uuid.Parse(who)
	row, there := groups[group]
	if err != nil || !there {
		return none
	}
	g, err := c.Allowed(row, id, access.ChangePeople)
	if workspace.IsKind(err, workspace.NotFound) || workspace.IsKind(err, workspace.NotAllowed) {
		return none
	} else if err != nil {
		return err
	}
	p, err := c.Read.Person(person)
	if errors.Is(err, store.ErrNotFound) {
		return none
	} else if err != nil {
		return err
	}
	x, err := c.Read.External(g.ID, person)
	if errors.Is(err, store.ErrNotFound) {
		return none
	} else if err != nil {
		return err
	}
	out.Person, out.Group = p.Name, g.Name
	defer func() { groups[group] = g.Group.Group }() // another of them may be in it
	if n.Remove {
		return member.TakeOut(c, g, person, admission.Removing)
	}
	if n.Until != "" {
		if err := member.Prolong(c, g, person, n.until, n.Until); err != nil {
			return err
		}
	}
	if n.Voucher == "" && n.Reason == nil {
		return nil
	}
	was, err := member.Vouched(&c.View, x)
	if err != nil {
		return err
	}
	fact := event.ExternalsVouched{People: event.Of(workspace.Who(p)), Was: &was}
	if n.Reason != nil {
		x.Reason = strings.TrimSpace(*n.Reason)
		fact.Reason = x.Reason
	}
	if n.Voucher != "" {
		x.VoucherID, fact.Voucher = &n.vouch.By.ID, workspace.Who(n.vouch.By)
		if err := member.TellVoucher(c, &g.Group.Group, n.vouch.By, p.Address, x.Reason); err != nil {
			return err
		}
	}
	if err := c.Tx.SaveExternals([]store.ExternalMember{x}); err != nil {
		return err
	}
	return c.Record(fact, &g.Group.Group, store.Affected{PersonID: p.ID})
}

// Rules returns what the workspace says of external members.
func (s *Service) Rules(ctx context.Context, by workspace.Actor) (api.ExternalRules, error) {
	if err := by.Allow(access.ReadOutside); err != nil {
		return api.ExternalRules{}, err
	}
	o, version, err := s.k.View(ctx, by).Outside()
	return shape(o, version), err
}

func shape(o workspace.Outside, version int) api.ExternalRules {
	return api.ExternalRules{Allowed: o.Allowed, Only: append([]string{}, o.Only...), Not: append([]string{}, o.Not...), Invited: o.Invited, Days: o.Days, Version: version}
}

// domains reads names of mail domains outside the workspace.
func domains(field string, given, own []string, bad *workspace.Problems) []string {
	var out []string
	for i, d := range given {
		name := strings.ToLower(strings.TrimSpace(strings.TrimPrefix(d, "@")))
		at := fmt.Sprintf("%s[%d]", field, i)
		a, err := mailaddr.Parse("x@" + name)
		switch {
		case err != nil || !strings.Contains(name, "."):
			bad.Add(at, workspace.Cut(d, 80), "%q is no mail domain. Write one as gannetport.example.", workspace.Cut(d, 80))
		case slices.Contains(own, a.Domain()):
			bad.Add(at, d, "%s is a domain of the workspace: nobody in it is external.", a.Domain())
		default:
			out = append(out, a.Domain())
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// SetRules changes what the workspace says of external members. Those who are in groups already stay;
// it is said of how many the workspace would not take any more.
func (s *Service) SetRules(ctx context.Context, by workspace.Actor, n api.ExternalRules, version int) (api.ExternalRules, error) {
	if err := by.Allow(access.ChangeOutside); err != nil {
		return api.ExternalRules{}, err
	}
	own, err := s.k.View(ctx, by).Domains()
	if err != nil {
		return api.ExternalRules{}, err
	}
	var bad workspace.Problems
	next := workspace.Outside{Allowed: n.Allowed, Invited: n.Invited, Days: n.Days, Only: domains("only_domains", n.Only, own, &bad), Not: domains("refused_domains", n.Not, own, &bad)}
	for _, d := range next.Only {
		if slices.Contains(next.Not, d) {
			bad.Add("refused_domains", d, "%s is among the domains that are taken, too.", d)
		}
	}
	if err := bad.Err(); err != nil {
		return api.ExternalRules{}, err
	}
	err = workspace.ChangeSetting(ctx, s.k, by, access.ChangeOutside, workspace.OutsideSetting, "what the workspace says of external members", version, workspace.DefaultOutside(), func(c *workspace.Change, before workspace.Outside, current int) error {
		n = shape(next, current+2)
		changes := differences(shape(before, 0), n)
		for _, x := range changes {
			c.Effect(api.Effect{Field: x.Field, From: x.From, To: x.To, Says: x.Says})
		}
		if err := says(c, next, len(changes)); err != nil {
			return err
		}
		if err := c.Tx.SaveSetting(workspace.OutsideSetting, next, current+1); err != nil || len(changes) == 0 {
			return err
		}
		return c.Record(event.OutsideChanged{Before: event.Was(shape(before, current+1), n.Version), Changed: changes}, nil)
	})
	return n, err
}

// says says what rules come to for those who are in groups already.
func says(c *workspace.Change, o workspace.Outside, changes int) error {
	if changes == 0 {
		c.Says("Nothing changes.")
		return nil
	}
	q := store.ExternalQuery{NotTaken: true, Outside: o.Only, Refused: o.Not}
	var refused int64
	var err error
	if !o.Allowed || len(o.Only)+len(o.Not) > 0 {
		refused, err = c.Read.CountExternals(q)
	}
	words := "Changes " + number.Of(changes, "setting") + "."
	if refused > 0 {
		words += fmt.Sprintf(" %s would not be taken any more. They stay in their groups until somebody takes them out.", workspace.UpperFirst(number.Of(int(refused), "external member")))
	}
	c.Says(words)
	return err
}

func differences(before, after api.ExternalRules) (out []event.Change) {
	add := func(field string, from, to any) {
		if f, t := fmt.Sprint(from), fmt.Sprint(to); f != t {
			out = append(out, event.Change{Field: field, From: f, To: t})
		}
	}
	add("allowed", before.Allowed, after.Allowed)
	add("only_domains", strings.Join(before.Only, ", "), strings.Join(after.Only, ", "))
	add("refused_domains", strings.Join(before.Not, ", "), strings.Join(after.Not, ", "))
	add("by_letter", before.Invited, after.Invited)
	add("days", before.Days, after.Days)
	return out
}
