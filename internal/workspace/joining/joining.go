// Package joining is how people come into groups and go by themselves: joining, asking,
// invitations, join links, and what those who run a group decide about it.
package joining

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
	"ivytable.example/ivytable/internal/core/admission"
	"ivytable.example/ivytable/internal/core/event"
	"ivytable.example/ivytable/internal/core/expand"
	"ivytable.example/ivytable/internal/core/policy"
	"ivytable.example/ivytable/internal/store"
	"ivytable.example/ivytable/internal/workspace"
	"ivytable.example/ivytable/internal/workspace/member"
	"ivytable.example/ivytable/internal/workspace/people"
)

// Service is joining and leaving.
type Service struct{ k *workspace.Kernel }

// New returns the service of a workspace.
func New(k *workspace.Kernel) *Service { return &Service{k} }

// Join lets the actor into a group, or asks its owners where its join rule says so. A
// group that takes nobody that way says so.
func (s *Service) Join(ctx context.Context, by workspace.Actor, ref string, r api.JoinRequest) (api.JoinResult, error) {
	var out api.JoinResult
	err := workspace.OnGroupOnce(ctx, s.k, by, ref, access.ReadGroup, nil, []any{store.ToJoin, r}, &out, func(c *workspace.Change, g *workspace.Locked) error {
		var err error
		out, err = Come(c, g, r.Note, "")
		return err
	})
	return out, err
}

// Come lets the actor into g, which is locked, by themselves, or asks its owners. way is how, as the
// history says it. For an outsider who comes so nobody vouches, and they stay as long as the workspace says.
func Come(c *workspace.Change, g *workspace.Locked, note, way string) (api.JoinResult, error) {
	v, results, err := admit(c, g, c.By.Person, admission.As{Role: expand.Member}, admission.Joining)
	if err != nil {
		return api.JoinResult{}, err
	}
	if v.Outcome == admission.Asked {
		return ask(c, g, store.ToJoin, note)
	}
	how := member.Entrance{Fact: event.Joined{Way: way}, Quiet: true}
	if c.By.Person.External {
		how.Vouch.Nobody = true
		if results[0].Ends, err = staysUntil(c); err != nil {
			return api.JoinResult{}, err
		}
	}
	return done(c, "You are in %s.", g), member.Join(c, g, results, how)
}

// staysUntil is until when somebody external may be in a group who comes in now; nil: for good.
func staysUntil(c *workspace.Change) (*time.Time, error) {
	o, _, err := c.Outside()
	return c.StaysUntil(o), err
}

func done(c *workspace.Change, format string, g *workspace.Locked) api.JoinResult {
	c.Says(fmt.Sprintf(format, g.Name))
	return api.JoinResult{Outcome: "done", Says: c.Report.Says}
}

// admit decides about one person who comes in of their own will, or at their own wish, and
// returns them as member.Join takes them. The error says why they can't.
func admit(c *workspace.Change, g *workspace.Locked, p store.Person, as admission.As, way admission.Way) (admission.Verdict, []member.Result, error) {
	who, err := CandidateOf(&c.View, g.ID, p)
	if err != nil {
		return admission.Verdict{}, nil, err
	}
	v := admission.In(way, c.Door(&g.Group.Group), who, as)
	results := member.Oneself(p, as.Role)
	results[0].Outcome = "added"
	return v, results, workspace.Unadmitted(v)
}

// CandidateOf is somebody as the core decides about their coming into a group.
func CandidateOf(v *workspace.View, group uuid.UUID, p store.Person) (admission.Candidate, error) {
	o, err := v.Read.Holds(group, p.AddrKey)
	if err != nil {
		return admission.Candidate{}, err
	}
	in, err := v.Read.MemberIDs(group, []uuid.UUID{p.ID})
	who := admission.Candidate{Name: p.Name, Address: p.Address, Departed: !p.Active && !p.External, Override: o, In: in[p.ID]}
	if p.External {
		who.Kind = admission.Outsider
	}
	return who, err
}

// MemberOf is somebody who stands so with a group as the core decides about their going by themselves.
func MemberOf(v *workspace.View, g *workspace.Group, p store.Person, subject access.Subject, r access.Relation) (admission.Member, error) {
	m := admission.Member{Name: p.Name, Role: r.Role, Through: r.Role == 0 && r.Rung == policy.Members, Staff: subject.May(access.ChangePeople, r, &g.Policy)}
	if m.Role == 0 {
		return m, nil
	}
	row, err := v.Read.Membership(g.ID, p.ID)
	m.ByRule = row.ByRule
	return m, err
}

// Leave takes the actor out of a group, or asks its owners where it has to be asked for.
func (s *Service) Leave(ctx context.Context, by workspace.Actor, ref string, r api.JoinRequest) (api.JoinResult, error) {
	var out api.JoinResult
	err := workspace.OnGroupOnce(ctx, s.k, by, ref, access.OwnPart, nil, []any{store.ToLeave, r}, &out, func(c *workspace.Change, g *workspace.Locked) error {
		m, err := MemberOf(&c.View, &g.Group, c.By.Person, c.By.Subject(), g.Relation)
		if err != nil {
			return err
		}
		out, err = Go(c, g, m, r.Note)
		return err
	})
	return out, err
}

// Go takes the actor, who stands so with g, which is locked, out of it, or asks its owners.
func Go(c *workspace.Change, g *workspace.Locked, m admission.Member, note string) (api.JoinResult, error) {
	switch v := admission.Out(admission.Leaving, c.Door(&g.Group.Group), m); {
	case v.Outcome == admission.Asked:
		return ask(c, g, store.ToLeave, note)
	case v.Outcome == admission.Refused && v.Status == "closed":
		return api.JoinResult{}, workspace.Fail(workspace.NotAllowed, "%s", v.Says)
	case v.Outcome == admission.Refused:
		return api.JoinResult{}, workspace.Fail(workspace.Conflict, "%s", v.Says)
	}
	return done(c, "You are no longer in %s.", g), member.TakeOut(c, g, c.By.Person.ID, admission.Leaving)
}

// ask records a request and tells those who decide.
func ask(c *workspace.Change, g *workspace.Locked, kind, note string) (api.JoinResult, error) {
	note = strings.TrimSpace(note)
	c.Says(fmt.Sprintf("The owners of %s have been asked. You get a mail when they decide.", g.Name))
	out := api.JoinResult{Outcome: "asked", Says: c.Report.Says}
	to, err := c.NoticeRecipients(&g.Group.Group)
	if err != nil {
		return out, err
	}
	r := store.Request{ID: store.NewID(), GroupID: g.ID, PersonID: c.By.Person.ID, Kind: kind, Note: note, State: store.Undecided, MadeAt: c.Now()}
	if err := c.Tx.AddRequest(r); errors.Is(err, store.ErrDuplicate) {
		return out, workspace.Fail(workspace.Conflict, "You have asked %s already. Its owners have not decided yet.", g.Name)
	} else if err != nil {
		return out, err
	}
	l := c.GroupLetter(workspace.LetterRequest, &g.Group.Group, "/waiting", map[string]string{"person": c.By.Person.Name, "from": c.By.Person.Address, "asks": workspace.Phrase(g.Language, "asks "+kind), "note": note})
	if err := c.Send(&g.Group.Group, to, l); err != nil {
		return out, err
	}
	return out, c.Record(event.RequestMade{To: kind, Note: note}, &g.Group.Group, store.Affected{PersonID: c.By.Person.ID})
}

// Requests lists open requests: those of a group, those that the actor decides, or,
// with mine, the actor's own in every state.
func (s *Service) Requests(ctx context.Context, by workspace.Actor, ref string, mine bool, cursor string, limit int) (api.Page[api.Request], error) {
	none := api.Page[api.Request]{}
	if err := by.SignedIn(); err != nil {
		return none, err
	}
	v := s.k.View(ctx, by)
	q := store.RequestQuery{Limit: limit}
	switch {
	case ref != "":
		g, err := v.FindGroup(ref, access.DecideRequests)
		if err != nil {
			return none, err
		}
		q.Group = g.ID
	case mine:
		q.Person = by.Person.ID
	case !by.Administers():
		q.Runner = by.Person.ID
		var err error
		if q.Areas, err = v.AreasFor(access.DecideRequests); err != nil {
			return none, err
		}
	}
	var err error
	if q.After, err = v.Cursor(cursor, "requests", q.Group, q.Person, q.Runner); err != nil {
		return none, err
	}
	page, err := v.Read.Requests(q)
	if err != nil {
		return none, err
	}
	var groupIDs, personIDs []uuid.UUID
	for _, r := range page.Items {
		groupIDs, personIDs = append(groupIDs, r.GroupID), append(personIDs, r.PersonID)
	}
	groups, err := v.Read.GroupsByID(groupIDs)
	if err != nil {
		return none, err
	}
	who, err := v.Read.PeopleByID(personIDs)
	return workspace.Page(page, func(r store.Request) api.Request {
		g, p := groups[r.GroupID], who[r.PersonID]
		f := v.Sees(people.Fields(p), false)
		about := slices.DeleteFunc([]string{f["title"], f["department"], f["locality"]}, func(s string) bool { return s == "" })
		if p.External {
			about = []string{workspace.FromOutside}
		}
		return api.Request{ID: r.ID.String(), Kind: r.Kind, Group: api.Name{Name: g.Name, Address: g.Address}, Person: api.Name{Name: p.Name, Address: p.Address}, External: p.External,
			About: strings.Join(about, ", "), Note: r.Note, State: r.State, MadeAt: v.In(r.MadeAt), DecidedBy: r.DecidedBy, DecidedAt: v.InPtr(r.DecidedAt), Reason: r.Reason}
	}), err
}

// Decide approves or declines requests, each by itself; the results say what became of
// them. Those who asked are told by mail.
func (s *Service) Decide(ctx context.Context, by workspace.Actor, d api.Decisions) (api.DecidedAll, error) {
	if err := by.SignedIn(); err != nil {
		return api.DecidedAll{}, err
	}
	return workspace.DecideEach(by, d, "request", func(by workspace.Actor, id string, out *api.Decided) error { return s.DecideOne(ctx, by, id, d, out) })
}

// DecideOne approves or declines one request.
func (s *Service) DecideOne(ctx context.Context, by workspace.Actor, id string, d api.Decisions, out *api.Decided) error {
	none := workspace.Fail(workspace.NotFound, "There is no request %q that waits for you.", workspace.Cut(id, 50))
	u, err := uuid.Parse(id)
	if err != nil {
		return none
	}
	found, err := s.k.View(ctx, by).Read.Request(u)
	if errors.Is(err, store.ErrNotFound) {
		return none
	} else if err != nil {
		return err
	}
	err = s.k.OnGroup(ctx, by, found.GroupID.String(), access.DecideRequests, func(c *workspace.Change, g *workspace.Locked) error {
		r, err := c.Tx.LockRequest(u)
		if errors.Is(err, store.ErrNotFound) {
			return none
		} else if err != nil {
			return err
		}
		p, err := c.Read.Person(r.PersonID)
		if err != nil {
			return err
		}
		out.Person, out.Group = p.Name, g.Name
		if r.State != store.Undecided {
			return workspace.Fail(workspace.Conflict, "The request of %s was %s already%s.", p.Name, r.State, byWhom(r.DecidedBy))
		}
		return settle(c, g, r, p, d)
	})
	if workspace.IsKind(err, workspace.NotFound) || workspace.IsKind(err, workspace.NotAllowed) {
		return none // who may not decide is told nothing of it
	}
	return err
}

func byWhom(who string) string {
	if who == "" {
		return ""
	}
	return " by " + who
}

// settle does what was asked for, or not, and says so to whoever asked.
func settle(c *workspace.Change, g *workspace.Locked, r store.Request, p store.Person, d api.Decisions) error {
	now := c.Now()
	r.State, r.DecidedBy, r.DecidedAt, r.Reason = store.Approved, c.By.Person.Address, &now, strings.TrimSpace(d.Reason)
	letter := workspace.LetterApproved
	var fact event.Fact = event.RequestApproved{Of: workspace.Who(p), To: r.Kind, Reason: r.Reason}
	if d.Verdict == "decline" {
		r.State, letter = store.Declined, workspace.LetterRefused
		fact = event.RequestDeclined{Of: workspace.Who(p), To: r.Kind, Reason: r.Reason}
	} else if err := grant(c, g, r, p); err != nil {
		return err
	}
	c.Says(fmt.Sprintf("%s: the request of %s to %s %s.", strings.ToUpper(r.State[:1])+r.State[1:], p.Name, r.Kind, g.Name))
	if err := c.Tx.SaveRequest(r); err != nil {
		return err
	}
	path := workspace.GroupPath(&g.Group.Group, "")
	if p.External { // who has no account
		own, err := member.OwnLink(c, g.ID, p.ID)
		if err != nil {
			return err
		}
		path = own
	}
	l := c.GroupLetter(letter, &g.Group.Group, path, map[string]string{"by": c.By.Name(), "did": workspace.Phrase(g.Language, "did "+r.Kind), "reason": r.Reason})
	if err := c.Send(&g.Group.Group, []string{p.Address}, l); err != nil {
		return err
	}
	return c.Record(fact, &g.Group.Group, store.Affected{PersonID: p.ID})
}

// grant does what was asked for.
func grant(c *workspace.Change, g *workspace.Locked, r store.Request, p store.Person) error {
	if r.Kind == store.ToLeave {
		err := member.TakeOut(c, g, p.ID, admission.LetGo)
		if workspace.IsKind(err, workspace.NotFound) {
			return nil // has gone another way
		}
		return err
	}
	as := admission.As{Role: expand.Member, Staff: c.May(access.ChangePeople, &g.Group)}
	v, results, err := admit(c, g, p, as, admission.Approving)
	switch {
	case v.Outcome == admission.Already:
		return nil // has come in another way
	case v.Outcome == admission.Refused && err != nil:
		return workspace.Fail(workspace.Conflict, "%s", v.Says)
	case err != nil:
		return err
	}
	if p.External {
		if results[0].Ends, err = staysUntil(c); err != nil {
			return err
		}
	}
	return member.Join(c, g, results, member.Entrance{Quiet: true})
}

// Withdraw takes back one of the actor's own requests.
func (s *Service) Withdraw(ctx context.Context, by workspace.Actor, id string) error {
	if err := by.SignedIn(); err != nil {
		return err
	}
	none := workspace.Fail(workspace.NotFound, "You have no open request %q.", workspace.Cut(id, 50))
	u, err := uuid.Parse(id)
	if err != nil {
		return none
	}
	return s.k.Do(ctx, by, func(c *workspace.Change) error {
		r, err := c.Tx.LockRequest(u)
		if errors.Is(err, store.ErrNotFound) || err == nil && (r.PersonID != c.By.Person.ID || r.State != store.Undecided) {
			return none
		} else if err != nil {
			return err
		}
		g, err := c.Read.Group(r.GroupID)
		if err != nil {
			return err
		}
		now := c.Now()
		r.State, r.DecidedAt = store.Withdrawn, &now
		c.Says(fmt.Sprintf("Your request to %s %s is taken back.", r.Kind, g.Name))
		if err := c.Tx.SaveRequest(r); err != nil {
			return err
		}
		return c.Record(event.RequestWithdrawn{To: r.Kind}, &g, store.Affected{PersonID: c.By.Person.ID})
	})
}
