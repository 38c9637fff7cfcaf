// Package public is what anyone on the internet gets to see: a page for each group that its policy lets
// anyone find, a list of them where the workspace wants one, and the way in for people who have no
// account, by an address that a letter proves. Nothing of it is there until the workspace says so.
package public

import (
	"context"
	"fmt"
	"strconv"
	"sync"
	"time"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/core/access"
	"ivytable.example/ivytable/internal/core/admission"
	"ivytable.example/ivytable/internal/core/event"
	"ivytable.example/ivytable/internal/core/expand"
	"ivytable.example/ivytable/internal/core/number"
	"ivytable.example/ivytable/internal/core/policy"
	"ivytable.example/ivytable/internal/store"
	"ivytable.example/ivytable/internal/workspace"
)

// Service is what is public.
type Service struct {
	k      *workspace.Kernel
	visits visits
}

// New returns the service of a workspace.
func New(k *workspace.Kernel) *Service { return &Service{k: k} }

// maxVisits is how many pages one network gets in a minute: far more than people look at, and too few to
// keep the service from others.
const maxVisits = 300

// visits counts the pages that networks looked at in this minute.
type visits struct {
	mu     sync.Mutex
	minute int64
	of     map[string]int
}

func (x *visits) enter(source string) error {
	x.mu.Lock()
	defer x.mu.Unlock()
	now := time.Now()
	if m := now.Unix() / 60; m != x.minute {
		x.minute, x.of = m, map[string]int{}
	}
	who := workspace.Network(source)
	if x.of[who]++; x.of[who] > maxVisits {
		return workspace.Later(60-now.Second(), "Too many pages were asked for from your network. Try again in a minute.")
	}
	return nil
}

func shape(p workspace.Public, version int, groups int64) api.PublicPages {
	return api.PublicPages{Pages: p.Pages, List: p.List, Groups: int(groups), Version: version}
}

// Rules returns what the workspace shows on the internet.
func (s *Service) Rules(ctx context.Context, by workspace.Actor) (api.PublicPages, error) {
	if err := by.Allow(access.ReadPublic); err != nil {
		return api.PublicPages{}, err
	}
	v := s.k.View(ctx, by)
	p, version, err := v.Public()
	if err != nil {
		return api.PublicPages{}, err
	}
	n, err := count(v)
	return shape(p, version, n), err
}

// count counts the groups that live and that anyone may find.
func count(v *workspace.View) (int64, error) {
	page, err := v.Read.OpenGroups("", v.Now(), store.Cursor{}, 1)
	return page.Total, err
}

// SetRules changes what the workspace shows on the internet.
func (s *Service) SetRules(ctx context.Context, by workspace.Actor, n api.PublicPages, version int) (api.PublicPages, error) {
	if err := by.Allow(access.ChangePublic); err != nil {
		return api.PublicPages{}, err
	}
	if n.List && !n.Pages {
		return api.PublicPages{}, workspace.Wrong("list", true, "A list leads to pages, and there are none. Have public pages too, or no list.")
	}
	next := workspace.Public{Pages: n.Pages, List: n.List}
	err := workspace.ChangeSetting(ctx, s.k, by, access.ChangePublic, workspace.PublicSetting, "what the workspace shows on the internet", version, workspace.Public{}, func(c *workspace.Change, before workspace.Public, current int) error {
		groups, err := count(&c.View)
		if err != nil {
			return err
		}
		n = shape(next, current+2, groups)
		var changes []event.Change
		for _, x := range []struct {
			field    string
			from, to bool
		}{{"pages", before.Pages, next.Pages}, {"list", before.List, next.List}} {
			if x.from != x.to {
				changes = append(changes, event.Change{Field: x.field, From: strconv.FormatBool(x.from), To: strconv.FormatBool(x.to)})
				c.Effect(api.Effect{Field: x.field, From: strconv.FormatBool(x.from), To: strconv.FormatBool(x.to)})
			}
		}
		c.Says(says(before, next, int(groups)))
		if err := c.Tx.SaveSetting(workspace.PublicSetting, next, current+1); err != nil || len(changes) == 0 {
			return err
		}
		return c.Record(event.PublicChanged{Before: event.Was(shape(before, current+1, 0), current+2), Changed: changes}, nil)
	})
	return n, err
}

// says says what a change means for the groups that anyone may find.
func says(before, next workspace.Public, groups int) string {
	of := fmt.Sprintf("%s, as %s", number.Of(groups, "group"), map[bool]string{true: "its policy lets anyone find it", false: "their policies let anyone find them"}[groups == 1])
	switch {
	case before == next:
		return "Nothing changes."
	case groups == 0 && next.Pages:
		return "No group lets anyone on the internet find it yet, so nothing is shown for now."
	case !next.Pages:
		return "Nothing is shown on the internet any more, and nobody outside the workspace can join by themselves. That closes the pages of " + of + "."
	case !before.Pages && next.List:
		return "Anyone on the internet sees pages of " + of + ", and a list of them."
	case !before.Pages:
		return "Anyone on the internet who knows an address sees the page of that group: of " + of + "."
	case next.List:
		return "The pages stand in a list, for anyone: of " + of + "."
	}
	return "The list goes. The pages stay for whoever knows an address: of " + of + "."
}

var errNoPage = workspace.Fail(workspace.NotFound, "There is no public page here. Check the address.")

// List lists the groups that anyone may find, where the workspace wants that.
func (s *Service) List(ctx context.Context, by workspace.Actor, q, cursor string, limit int) (api.Page[api.PublicGroupHead], error) {
	none := api.Page[api.PublicGroupHead]{}
	if err := s.visits.enter(by.Source); err != nil {
		return none, err
	}
	v := s.k.View(ctx, workspace.Actor{})
	if p, _, err := v.Public(); err != nil {
		return none, err
	} else if !p.Pages || !p.List {
		return none, errNoPage
	}
	after, err := v.Cursor(cursor, "public", q)
	if err != nil {
		return none, err
	}
	page, err := v.Read.OpenGroups(q, v.Now(), after, limit)
	return workspace.Page(page, func(g store.Group) api.PublicGroupHead {
		return api.PublicGroupHead{Name: g.Name, Address: g.Address, Description: g.Description}
	}), err
}

// find returns a group that has a public page.
func find(v *workspace.View, ref string) (store.Group, error) {
	g, err := v.LookUp(ref)
	if workspace.IsKind(err, workspace.NotFound) {
		return g, errNoPage
	} else if err != nil {
		return g, err
	}
	if !v.OnTheInternet(&g) {
		v.Hush()
		return g, errNoPage
	}
	return g, nil
}

// shown is how many people of a group its page names.
const shown = 100

// Read returns the public page of a group.
func (s *Service) Read(ctx context.Context, by workspace.Actor, ref string) (api.PublicGroup, error) {
	if err := s.visits.enter(by.Source); err != nil {
		return api.PublicGroup{}, err
	}
	v := s.k.View(ctx, workspace.Actor{})
	g, err := find(v, ref)
	if err != nil {
		return api.PublicGroup{}, err
	}
	out := api.PublicGroup{Name: g.Name, Address: g.Address, Description: g.Description, Language: g.Language}
	stranger := policy.Author{Rung: policy.Anyone, Proven: true}
	switch g.Policy.Write(policy.Post, stranger).Outcome {
	case policy.Allow:
		out.MayWrite, out.Writing = true, "Anyone may write to it. What you write goes to everybody in it."
	case policy.Hold:
		out.MayWrite, out.Writing = true, "Anyone may write to it. What you write waits until somebody who runs it lets it through."
	default:
		out.Writing = "It takes no mail from people outside."
	}
	if out.MayWrite {
		out.Notice = g.Mail.Notice
	}
	if g.Policy.Write(policy.WriteOwners, stranger).Outcome != policy.Refuse {
		out.Owners = workspace.OwnersOf(&g)
	}
	out.Joining, out.Joins = joins(v, &g)
	if v.Visitor().May(access.SeePeople, access.RelationOf(0, false, true), &g.Policy) {
		if out.People, out.Number, err = names(v, &g); err != nil {
			return out, err
		}
	}
	return out, nil
}

// names names some of those who are in a group by a membership of their own; those of groups in it have
// pages of their own to be shown on. The number is left out where there are such groups.
func names(v *workspace.View, g *store.Group) (out []string, number int, err error) {
	page, err := v.Read.Members(store.MemberQuery{Group: g.ID, Kind: store.KindPerson, Limit: shown})
	for _, m := range page.Items {
		if m.Name != m.Address && (m.Active || m.External) { // an address is nobody's name, and not for everybody
			out = append(out, m.Name)
		}
	}
	if g.Nested == 0 {
		number = g.Owners + g.Moderators + g.Members
	}
	return out, number, err
}

// joins says how somebody from outside comes in by themselves.
func joins(v *workspace.View, g *store.Group) (how, says string) {
	d := v.Door(g)
	domains := d.Outside
	d.Outside = nil // which domains are taken is said to whoever gives an address of one
	verdict := admission.In(admission.Joining, d, admission.Candidate{Kind: admission.Outsider}, admission.As{Role: expand.Member})
	switch {
	case domains != nil && domains.Barred, verdict.Outcome == admission.Refused:
		return "closed", "Nobody from outside comes in by themselves."
	case verdict.Outcome == admission.Asked:
		return "asking", "You can ask to be in it. Those who run it decide."
	}
	return "freely", "Anyone can join."
}
