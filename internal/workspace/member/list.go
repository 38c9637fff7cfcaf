// Package member is who is in a group: lists, adding people and groups, roles, taking out,
// what is settled about one person, nesting. How people come in and go by themselves is in
// package joining, membership by rule in package rules.
package member

import (
	"context"
	"encoding/csv"
	"errors"
	"io"
	"strconv"
	"time"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/core/access"
	"ivytable.example/ivytable/internal/core/expand"
	"ivytable.example/ivytable/internal/store"
	"ivytable.example/ivytable/internal/workspace"
	"ivytable.example/ivytable/internal/workspace/naming"
)

// Service is who is in groups.
type Service struct{ k *workspace.Kernel }

// New returns the service of a workspace.
func New(k *workspace.Kernel) *Service { return &Service{k} }

// Query says which members of a group to list. Empty texts stand for all.
type Query struct {
	Q, Role, Delivery, Kind, Way string
	Since                        string // a day, such as 2026-11-23
	Cursor                       string
	Limit                        int
}

func (l Query) read(v *workspace.View, group uuid.UUID) (store.MemberQuery, error) {
	q := store.MemberQuery{Group: group, Q: l.Q, Limit: l.Limit}
	var bad workspace.Problems
	bad.OneOf("role", l.Role, "owner", "moderator", "member")
	bad.OneOf("delivery", l.Delivery, "each", "digest", "conversations", "none")
	bad.OneOf("kind", l.Kind, "person", "external", "group", "departed")
	bad.OneOf("way", l.Way, "rule", "hand")
	if err := bad.Err(); err != nil {
		return q, err
	}
	q.Role, _ = expand.ParseRole(l.Role)
	yes, no := true, false
	switch l.Delivery {
	case "":
	case "none":
		q.Mail = &no
	default:
		q.Mail = &yes
		_, q.How = store.ParseDelivery(l.Delivery)
	}
	switch l.Kind {
	case "person":
		q.Kind, q.External = store.KindPerson, &no
	case "external":
		q.External = &yes
	case "group":
		q.Kind = store.KindGroup
	case "departed":
		q.Left = true
	}
	switch l.Way {
	case "rule":
		q.ByRule = &yes
	case "hand":
		q.ByRule = &no
	}
	if l.Since != "" {
		e, err := v.Terms()
		if err != nil {
			return q, err
		}
		if q.Since, err = time.ParseInLocation(time.DateOnly, l.Since, e.Life.Zone); err != nil {
			return q, workspace.Wrong("since", l.Since, "%q is no date. Write it as 2026-11-23.", l.Since)
		}
		q.Since = q.Since.UTC()
	}
	var err error
	q.After, err = v.Cursor(l.Cursor, "members", group, l.Q, l.Role, l.Delivery, l.Kind, l.Way, l.Since)
	return q, err
}

// of is the query about a group, for the actor, with who has left the organisation only where they see that.
func (l Query) of(v *workspace.View, g *workspace.Group) (store.MemberQuery, error) {
	q, err := l.read(v, g.ID)
	if err != nil || v.May(access.SeeDeparted, g) {
		return q, err
	}
	if q.Left {
		return q, workspace.Fail(workspace.NotAllowed, "%s", access.SeeDeparted.Refusal())
	}
	q.Here = true
	return q, nil
}

// List lists who is in a group. It gives the revision of the group too, which guards
// changes of its members.
func (s *Service) List(ctx context.Context, by workspace.Actor, ref string, l Query) (api.Page[api.Member], int, error) {
	none := api.Page[api.Member]{}
	v := s.k.View(ctx, by)
	g, err := v.FindGroup(ref, access.SeePeople)
	if err != nil {
		return none, 0, err
	}
	q, err := l.of(v, &g)
	if err != nil {
		return none, 0, err
	}
	if q == (store.MemberQuery{Group: g.ID, Here: q.Here, After: q.After, Limit: q.Limit}) { // everybody: their number is kept
		if q.Total = int64(g.Owners + g.Moderators + g.Members + g.Nested); !q.Here {
			q.Total += int64(g.Departed)
		}
	}
	p, err := v.Read.Members(q)
	if err != nil {
		return none, 0, err
	}
	all, err := shapeAll(v, p.Items, l.Q != "")
	return api.Page[api.Member]{Items: all, Next: p.Next.String(), Total: p.Total}, g.Revision, err
}

// Columns are the columns of an export, in order.
var Columns = []string{"name", "address", "role", "delivery", "kind", "by_rule", "added_at", "added_by", "until"}

// exported is how many members are read at once for an export: between pages no
// connection to the database is held, so that a slow reader keeps none from others.
const exported = 1000

// Export writes who is in a group as CSV (RFC 4180). begin is called before the first
// octet, once it is known that nothing stands in the way.
func (s *Service) Export(ctx context.Context, by workspace.Actor, ref string, l Query, begin func(name string) io.Writer) error {
	v := s.k.View(ctx, by)
	g, err := v.FindGroup(ref, access.SeePeople)
	if err != nil {
		return err
	}
	q, err := l.of(v, &g)
	if err != nil {
		return err
	}
	q.Limit, q.Total = exported, 1 // they need not be counted
	out := csv.NewWriter(begin(naming.LocalOf(g.Address) + ".csv"))
	out.UseCRLF = true
	if err := out.Write(Columns); err != nil {
		return err
	}
	for {
		p, err := v.Read.Members(q)
		if err != nil {
			return err
		}
		all, err := shapeAll(v, p.Items, l.Q != "")
		if err != nil {
			return err
		}
		for _, m := range all {
			kind := m.Kind
			switch {
			case m.External:
				kind = "external"
			case !m.Active:
				kind = "departed"
			}
			err = errors.Join(err, out.Write([]string{api.Cell(m.Name), api.Cell(m.Address), m.Role, m.Delivery, kind, strconv.FormatBool(m.ByRule), m.AddedAt.Format(time.RFC3339), api.Cell(m.AddedBy), m.Until}))
		}
		out.Flush()
		if err := errors.Join(err, out.Error()); err != nil || p.Next.Empty() {
			return err
		}
		q.After = p.Next
	}
}

// hiddenGroup stands for a nested group that the actor can't find.
const hiddenGroup = "A group that you can't find"

// shapeAll shapes members. A nested group that the actor can't find is there without its
// name, and not there where a name is searched for.
func shapeAll(v *workspace.View, rows []store.MemberRow, searched bool) ([]api.Member, error) {
	var ids []uuid.UUID
	for _, r := range rows {
		if r.Kind == store.KindGroup {
			ids = append(ids, r.MemberID)
		}
	}
	groups := map[uuid.UUID]workspace.Group{}
	if len(ids) > 0 {
		var err error
		if groups, err = v.Visible(ids); err != nil {
			return nil, err
		}
	}
	out := make([]api.Member, 0, len(rows))
	for _, r := range rows {
		m := shape(v, r)
		if _, found := groups[r.MemberID]; r.Kind == store.KindGroup && !found {
			if searched {
				continue
			}
			m.Name, m.Address = hiddenGroup, "" // by its identifier it can be taken out
		}
		out = append(out, m)
	}
	return out, nil
}

// shape is a member as the interface shows them.
func shape(v *workspace.View, r store.MemberRow) api.Member {
	m := api.Member{ID: r.MemberID.String(), Kind: "person", Name: r.Name, Address: r.Address, Role: r.Role.String(),
		External: r.External, Active: r.Active, Delivery: r.Delivery(), AddedAt: v.In(r.AddedAt), AddedBy: r.AddedBy, Until: v.LastDay(r.EndsAt), ByRule: r.Ruled()}
	if r.Kind == store.KindGroup {
		m.Kind = "group"
	}
	return m
}
