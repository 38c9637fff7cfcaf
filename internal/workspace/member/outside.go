package member

import (
	"errors"
	"strings"
	"time"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/core/admission"
	"ivytable.example/ivytable/internal/core/event"
	"ivytable.example/ivytable/internal/core/number"
	"ivytable.example/ivytable/internal/store"
	"ivytable.example/ivytable/internal/workspace"
	"ivytable.example/ivytable/internal/workspace/people"
)

// Vouch is who answers for external members who come in, and why they do.
type Vouch struct {
	By     store.Person // the zero value: whoever lets them in
	Reason string
	Nobody bool // they come of themselves, and nobody vouches
}

// id is the voucher as it is kept: somebody of the workspace, or nobody.
func (x Vouch) id(c *workspace.Change) *uuid.UUID {
	p := x.By
	if p.ID == uuid.Nil {
		p = c.By.Person
	}
	if x.Nobody || p.ID == uuid.Nil || p.External || !p.Active {
		return nil
	}
	return &p.ID
}

// VouchOf reads who vouches: somebody of the workspace who is here.
func VouchOf(v *workspace.View, n api.Vouching) (Vouch, error) {
	out := Vouch{Reason: strings.TrimSpace(n.Reason)}
	if n.Voucher == "" {
		return out, nil
	}
	p, err := people.Find(v, n.Voucher)
	if err != nil || p.External || !p.Active {
		return out, workspace.Wrong("voucher", workspace.Cut(n.Voucher, 320), "Nobody of the workspace who is here has the address %s. Name somebody who can answer for external members.", workspace.Cut(n.Voucher, 100))
	}
	out.By = p
	return out, nil
}

// ownLinkDays is for how many days a link works by which somebody without an account decides about
// their own part in a group; each letter that they get has a new one.
const ownLinkDays = 400

// OwnLink makes a link by which an external member of a group decides about their own part in it, and
// returns its page.
func OwnLink(c *workspace.Change, group, person uuid.UUID) (path string, err error) {
	secret, hash := NewSecret()
	return "/own/" + secret, c.Tx.AddOwnLinks([]store.OwnLink{{Hash: hash, GroupID: group, MemberID: person, ExpiresAt: c.Now().AddDate(0, 0, ownLinkDays)}})
}

// vouched records who answers for external members who have come in, and tells each of them.
func vouched(c *workspace.Change, g *workspace.Locked, all []Result, how Entrance) error {
	rows := make([]store.ExternalMember, len(all))
	for i, r := range all {
		rows[i] = store.ExternalMember{GroupID: g.ID, MemberID: r.ID, VoucherID: how.Vouch.id(c), Reason: how.Vouch.Reason}
	}
	themselves := how.Fact != nil
	if err := c.Tx.SaveExternals(rows); err != nil {
		return err
	}
	if how.Vouch.By.ID != uuid.Nil && !themselves { // else it was said with the invitation
		for _, r := range all {
			if err := TellVoucher(c, &g.Group.Group, how.Vouch.By, r.Line.Address, how.Vouch.Reason); err != nil {
				return err
			}
		}
	}
	if how.Quiet && !themselves {
		return nil
	}
	for _, r := range all {
		path, err := OwnLink(c, g.ID, r.ID)
		if err != nil {
			return err
		}
		l := c.AddedLetter(&g.Group.Group, path)
		if themselves {
			l = c.GroupLetter(workspace.LetterOwnPage, &g.Group.Group, path, map[string]string{"welcome": g.Welcome})
		}
		if err := c.Send(&g.Group.Group, []string{r.Line.Address}, l); err != nil {
			return err
		}
	}
	return nil
}

// TellVoucher tells somebody that they vouch for an external member of a group, unless they said so
// themselves.
func TellVoucher(c *workspace.Change, g *store.Group, voucher store.Person, external, reason string) error {
	if voucher.ID == c.By.Person.ID {
		return nil
	}
	l := c.GroupLetter(workspace.LetterVouching, g, "/people/external?voucher="+voucher.Address, map[string]string{"by": c.By.Name(), "external": external, "reason": reason})
	return c.Send(g, []string{voucher.Address}, l)
}

// Revouch has somebody vouch for an external member of a group in the place of another, and tells them.
func Revouch(c *workspace.Change, g *store.Group, x store.ExternalRow, voucher store.Person) error {
	if err := TellVoucher(c, g, voucher, x.Address, x.Reason); err != nil {
		return err
	}
	was, err := Vouched(&c.View, x.ExternalMember)
	if err != nil {
		return err
	}
	row := x.ExternalMember
	row.VoucherID = &voucher.ID
	if err := c.Tx.SaveExternals([]store.ExternalMember{row}); err != nil {
		return err
	}
	return c.Record(event.ExternalsVouched{People: event.Of(event.Who{Name: x.Name, Address: x.Address}), Voucher: workspace.Who(voucher), Reason: x.Reason, Was: &was}, g, store.Affected{PersonID: x.MemberID})
}

// Vouched says who vouches for an external member, and why they are in the group.
func Vouched(v *workspace.View, x store.ExternalMember) (event.Vouched, error) {
	out := event.Vouched{Reason: x.Reason}
	if x.VoucherID == nil {
		return out, nil
	}
	p, err := v.Read.Person(*x.VoucherID)
	if errors.Is(err, store.ErrNotFound) {
		return out, nil
	}
	out.By = workspace.Who(p)
	return out, err
}

// Enter is Join where those from outside may have to agree first: they get a letter in which they do.
func Enter(c *workspace.Change, g *workspace.Locked, results []Result, how Entrance) error {
	o, _, err := c.Outside()
	if err != nil {
		return err
	}
	if o.Invited {
		first := make([]Result, 0)
		var at []int
		for i := range results {
			if results[i].OK() && results[i].External {
				first, at = append(first, results[i]), append(at, i)
			}
		}
		if err := invite(c, g, first, how); err != nil {
			return err
		}
		for j, i := range at {
			results[i] = first[j]
			results[i].Says = "Gets a letter first, and comes in by agreeing to it."
		}
	}
	return Join(c, g, results, how)
}

// bound gives an end to the membership of somebody external where the workspace asks for one, and
// says what is wrong with one that is too far ahead.
func bound(v *workspace.View, o workspace.Outside, ends *time.Time) (*time.Time, string) {
	most := v.StaysUntil(o)
	switch {
	case most == nil:
		return ends, ""
	case ends == nil:
		return most, ""
	case ends.After(*most):
		return ends, "External members stay for " + number.Of(o.Days, "day") + " at most before somebody prolongs it. Choose " + v.LastDay(most) + " or an earlier day."
	}
	return ends, ""
}

// VouchersLeft tells those who run groups that somebody who vouches for external members there has
// left the organisation.
func VouchersLeft(c *workspace.Change, gone []store.Person) error {
	ids, names := make([]uuid.UUID, len(gone)), make(map[uuid.UUID]string, len(gone))
	for i, p := range gone {
		ids[i], names[p.ID] = p.ID, p.Name
	}
	rows, err := c.Read.VouchedFor(ids, maxInvited)
	if err != nil || len(rows) == 0 {
		return err
	}
	type pair struct{ voucher, group uuid.UUID }
	of := map[pair][]string{}
	var order []pair
	var groups []uuid.UUID
	for _, r := range rows {
		p := pair{*r.VoucherID, r.GroupID}
		if of[p] == nil {
			order, groups = append(order, p), append(groups, r.GroupID)
		}
		of[p] = append(of[p], r.Address)
	}
	known, err := c.Read.GroupsByID(groups)
	if err != nil {
		return err
	}
	for _, p := range order {
		g, ok := known[p.group]
		if !ok {
			continue
		}
		to, err := c.NoticeRecipients(&g)
		if err != nil {
			return err
		}
		few := of[p]
		if len(few) > 5 {
			few = append(few[:5:5], "…")
		}
		l := c.GroupLetter(workspace.LetterVoucherLeft, &g, "/people/external?group="+g.Address, map[string]string{"person": names[p.voucher], "for": strings.Join(few, ", "), "count": workspace.Counted(g.Language, len(of[p]), "external member")})
		if err := c.Send(&g, to, l); err != nil {
			return err
		}
	}
	return nil
}

// Deliver sets whether an external member of g, which is locked, gets each message.
func Deliver(c *workspace.Change, g *workspace.Locked, person uuid.UUID, delivery string) error {
	return changeOne(c, g, person, change{delivery: delivery, staff: true})
}

// Prolong sets the end of memberships of g, which is locked; nil for none. The errors say who could
// not be given it.
func Prolong(c *workspace.Change, g *workspace.Locked, person uuid.UUID, until *time.Time, day string) error {
	return changeOne(c, g, person, change{ends: &ends{at: until, day: day}, staff: true})
}

// TakeOutAll takes people out of g, which is locked; whoever is not in it is let be.
func TakeOutAll(c *workspace.Change, g *workspace.Locked, people []uuid.UUID) error {
	return changeAll(c, g, people, change{remove: true, exit: admission.Removing, staff: true})
}

// ProlongAll is Prolong for several people; whoever is not in it any more is let be.
func ProlongAll(c *workspace.Change, g *workspace.Locked, people []uuid.UUID, until *time.Time, day string) error {
	return changeAll(c, g, people, change{ends: &ends{at: until, day: day}, staff: true})
}

// changeAll is an error where one of those who are in g can't be changed so.
func changeAll(c *workspace.Change, g *workspace.Locked, people []uuid.UUID, x change) error {
	all := make([]Target, len(people))
	for i, id := range people {
		all[i] = Target{ID: id}
	}
	if err := applyTo(c, g, all, x); err != nil {
		return err
	}
	for _, t := range all {
		if t.Err != nil {
			return t.Err
		}
	}
	return nil
}

func changeOne(c *workspace.Change, g *workspace.Locked, person uuid.UUID, x change) error {
	all := []Target{{ID: person}}
	if err := applyTo(c, g, all, x); err != nil {
		return err
	}
	if all[0].Row.MemberID == uuid.Nil {
		return workspace.Fail(workspace.NotFound, "They are not in %s any more.", g.Name)
	}
	return all[0].Err
}

// voucherOf is the address of whoever vouches for an external member and is here, "" for nobody.
func voucherOf(c *workspace.Change, group, person uuid.UUID) (string, error) {
	x, err := c.Read.External(group, person)
	if errors.Is(err, store.ErrNotFound) || err == nil && x.VoucherID == nil {
		return "", nil
	} else if err != nil {
		return "", err
	}
	p, err := c.Read.Person(*x.VoucherID)
	if errors.Is(err, store.ErrNotFound) || err == nil && !p.Active {
		return "", nil
	}
	return p.Address, err
}
