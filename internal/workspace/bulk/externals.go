package bulk

import (
	"cmp"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/core/access"
	"ivytable.example/ivytable/internal/core/admission"
	"ivytable.example/ivytable/internal/core/event"
	"ivytable.example/ivytable/internal/core/number"
	"ivytable.example/ivytable/internal/store"
	"ivytable.example/ivytable/internal/workspace"
	"ivytable.example/ivytable/internal/workspace/member"
	"ivytable.example/ivytable/internal/workspace/people"
)

// externals takes the external members of groups out, gives them an end, or says who answers for them: all of them, or those of a domain.
type externals struct {
	plain
	api.ExternalsChange
	voucher *store.Person
	until   *time.Time
}

func newExternals(n api.ExternalsChange) *externals {
	n.Domain = strings.ToLower(strings.TrimPrefix(strings.TrimSpace(n.Domain), "@"))
	return &externals{ExternalsChange: n}
}

func (*externals) scope() access.Scope { return access.ScopePeople }

func (*externals) kind() string { return "externals" }

func (x *externals) says() string {
	of := "external members"
	if x.Domain != "" {
		of += " at " + x.Domain
	}
	if x.Alone {
		of += " for whom nobody answers"
	}
	if x.Remove {
		return of + " are taken out"
	}
	var parts []string
	if x.Voucher != "" {
		parts = append(parts, x.Voucher+" answers for "+of)
	}
	if x.Until == "none" {
		parts = append(parts, of+" are in them without an end")
	} else if x.Until != "" {
		parts = append(parts, of+" are in them until "+x.Until)
	}
	if x.Reason != nil {
		parts = append(parts, "why "+of+" are in them is written")
	}
	return strings.Join(parts, "; ")
}

func (x *externals) check(v *workspace.View) error {
	var bad workspace.Problems
	if given := x.Voucher != "" || x.Until != "" || x.Reason != nil; given == x.Remove {
		bad.Add("externals", nil, "Say what to change of external members: until, voucher or reason, or else remove.")
	}
	if strings.ContainsAny(x.Domain, " @%") {
		bad.Add("externals.domain", workspace.Cut(x.Domain, 80), "%q is no mail domain. Write one as gannetport.example.", workspace.Cut(x.Domain, 80))
	}
	if err := bad.Err(); err != nil {
		return err
	}
	var err error
	if x.until, err = member.ParseUntil(v, x.Until); err != nil {
		return err
	}
	if err := x.find(v); err != nil {
		return err
	}
	if x.voucher != nil {
		x.Voucher = x.voucher.Address
	}
	return nil
}

// find reads who answers.
func (x *externals) find(v *workspace.View) error {
	if x.Voucher == "" || x.voucher != nil {
		return nil
	}
	vouch, err := member.VouchOf(v, api.Vouching{Voucher: x.Voucher})
	if err == nil {
		x.voucher = &vouch.By
	}
	return err
}

// of returns the external members of groups whom it is about.
func (x *externals) of(v *workspace.View, groups []store.Group, alone bool) (map[uuid.UUID][]store.ExternalRow, error) {
	ids := make([]uuid.UUID, len(groups))
	for i, g := range groups {
		ids[i] = g.ID
	}
	return v.Read.ExternalsIn(ids, x.Domain, alone)
}

// changes reports whether an external member is not so already.
func (x *externals) changes(r store.ExternalRow) bool {
	return x.Remove || x.voucher != nil && (r.VoucherID == nil || *r.VoucherID != x.voucher.ID) || x.Reason != nil && r.Reason != strings.TrimSpace(*x.Reason) || x.Until != "" && !same(r.EndsAt, x.until)
}

func same(a, b *time.Time) bool { return a == nil && b == nil || a != nil && b != nil && a.Equal(*b) }

func (x *externals) decide(v *workspace.View, groups []store.Group) ([]verdict, error) {
	err := x.find(v)
	if workspace.IsKind(err, workspace.Invalid) {
		return each(groups, func(*store.Group) verdict { return refused("%s has left, and can't answer for anybody.", x.Voucher) })
	}
	if err == nil {
		x.until, err = member.ParseUntil(v, x.Until)
	}
	if workspace.IsKind(err, workspace.Invalid) {
		return each(groups, func(*store.Group) verdict { return refused("%s is over by now.", x.Until) })
	}
	if err != nil {
		return nil, err
	}
	all, err := x.of(v, groups, x.Alone)
	if err != nil {
		return nil, err
	}
	out, _, err := v.Outside()
	if err != nil {
		return nil, err
	}
	most := v.StaysUntil(out)
	return each(groups, func(g *store.Group) verdict {
		n := 0
		for _, r := range all[g.ID] {
			if x.changes(r) {
				n++
			}
		}
		switch {
		case n == 0:
			return verdict{outcome: store.ItemSame}
		case v.Ended(g):
			return refused("It has ended: restore it first.")
		case x.Until != "" && most != nil && (x.until == nil || x.until.After(*most)):
			return refused("External members stay for %s at most before somebody prolongs it. Choose %s or an earlier day.", number.Of(out.Days, "day"), v.LastDay(most))
		}
		return verdict{store.ItemChanged, number.Of(n, "external member") + "."}
	})
}

// wasExternal is an external member as they were before.
type wasExternal struct {
	Member  uuid.UUID
	Role    string
	Mail    bool
	How     int8
	Ends    *time.Time
	Voucher *uuid.UUID
	Reason  string
}

func (x *externals) do(c *workspace.Change, groups []*workspace.Locked) (map[uuid.UUID]json.RawMessage, error) {
	rows := make([]store.Group, len(groups))
	for i, g := range groups {
		rows[i] = g.Group.Group
	}
	all, err := x.of(&c.View, rows, x.Alone)
	if err != nil {
		return nil, err
	}
	was := make(map[uuid.UUID]json.RawMessage, len(groups))
	for _, g := range groups {
		some := slices.DeleteFunc(all[g.ID], func(r store.ExternalRow) bool { return !x.changes(r) })
		before := make([]wasExternal, len(some))
		ids := make([]uuid.UUID, len(some))
		for i, r := range some {
			before[i] = wasExternal{r.MemberID, r.Role.String(), r.Mail, r.How, r.EndsAt, r.VoucherID, r.Reason}
			ids[i] = r.MemberID
		}
		if x.Remove {
			err = member.TakeOutAll(c, g, ids)
		} else {
			err = x.set(c, g, some)
		}
		if err != nil {
			return nil, err
		}
		if was[g.ID], err = json.Marshal(before); err != nil {
			return nil, err
		}
	}
	return was, nil
}

// set gives external members of a group, which is locked, what the change says.
func (x *externals) set(c *workspace.Change, g *workspace.Locked, some []store.ExternalRow) error {
	if x.Until != "" {
		ids := make([]uuid.UUID, len(some))
		for i, r := range some {
			ids[i] = r.MemberID
		}
		if err := member.ProlongAll(c, g, ids, x.until, x.Until); err != nil {
			return err
		}
	}
	if x.voucher == nil && x.Reason == nil {
		return nil
	}
	return vouch(c, g, some, func(r *store.ExternalMember) {
		if x.voucher != nil {
			r.VoucherID = &x.voucher.ID
		}
		if x.Reason != nil {
			r.Reason = strings.TrimSpace(*x.Reason)
		}
	})
}

// vouch writes who answers for external members of a group, which is locked, and why they are in it; each with an entry of its own, by which it can be undone.
func vouch(c *workspace.Change, g *workspace.Locked, some []store.ExternalRow, to func(*store.ExternalMember)) error {
	var rows []store.ExternalMember
	for _, r := range some {
		was, err := member.Vouched(&c.View, r.ExternalMember)
		if err != nil {
			return err
		}
		row := r.ExternalMember
		if to(&row); row == r.ExternalMember {
			continue
		}
		now, err := member.Vouched(&c.View, row)
		if err != nil {
			return err
		}
		fact := event.ExternalsVouched{People: event.Of(event.Who{Name: r.Name, Address: r.Address}), Was: &was}
		if now.By != was.By {
			fact.Voucher, fact.Nobody = now.By, now.By == event.Who{}
		}
		if now.Reason != was.Reason {
			fact.Reason = now.Reason
		}
		if err := c.Record(fact, &g.Group.Group, store.Affected{PersonID: r.MemberID}); err != nil {
			return err
		}
		rows = append(rows, row)
	}
	return c.Tx.SaveExternals(rows)
}

// after tells whoever answers for them now, in one letter.
func (x *externals) after(c *workspace.Change, b *store.BulkChange) error {
	if err := x.find(&c.View); workspace.IsKind(err, workspace.Invalid) || b.Changed == 0 {
		return nil
	} else if err != nil || x.voucher == nil || x.voucher.ID == c.By.Person.ID || !x.voucher.Active {
		return err
	}
	lang, _, _ := strings.Cut(people.Fields(*x.voucher)["preferredLanguage"], "-")
	l := c.Letter(workspace.LetterVouchesMany, lang, "/people/external?voucher="+x.voucher.Address, map[string]string{"by": c.By.Name(), "count": workspace.Counted(lang, b.Changed, "group"), "address": x.voucher.Address})
	return c.Send(nil, []string{x.voucher.Address}, l)
}

// again decides who of those who were taken out can be in a group again.
func again(v *workspace.View, g *store.Group, was []wasExternal) ([]member.Result, error) {
	ids := make([]uuid.UUID, len(was))
	for i, w := range was {
		ids[i] = w.Member
	}
	in, err := v.Read.MemberIDs(g.ID, ids)
	if err != nil {
		return nil, err
	}
	who, err := v.Read.PeopleByID(ids)
	if err != nil {
		return nil, err
	}
	var out []member.Result
	for _, w := range was {
		p, known := who[w.Member]
		if !known || in[w.Member] || w.Ends != nil && !w.Ends.After(v.Now()) { // or their time is over
			continue
		}
		out = append(out, member.Again(p, w.Role, w.Ends))
	}
	return out, member.Admit(v, g, out, admission.Adding, admission.As{Staff: true})
}

// left says whether anything can be put back in each group.
func (x *externals) left(v *workspace.View, groups []store.Group, was map[uuid.UUID]json.RawMessage) ([]verdict, error) {
	if err := x.find(v); err != nil && !workspace.IsKind(err, workspace.Invalid) {
		return nil, err
	}
	all, err := x.of(v, groups, false)
	if err != nil {
		return nil, err
	}
	out := make([]verdict, len(groups))
	for i := range groups {
		g := &groups[i]
		var before []wasExternal
		if err := json.Unmarshal(was[g.ID], &before); err != nil {
			return nil, err
		}
		n, why := 0, "They were changed since."
		if x.Remove {
			results, err := again(v, g, before)
			if err != nil {
				return nil, err
			}
			for _, r := range results {
				if r.OK() {
					n++
				} else if r.Says != "" {
					why = fmt.Sprintf("%s: %s", r.Line.Address, r.Line.Says)
				}
			}
			if len(results) == 0 {
				why = "They are in it again, or are not known any more."
			}
		} else {
			n = len(x.asLeft(v, all[g.ID], before))
		}
		if out[i] = refused("%s", why); n > 0 {
			out[i] = verdict{outcome: store.ItemChanged}
		}
		if v.Ended(g) {
			out[i] = refused("It has ended: restore it first.")
		}
	}
	return out, nil
}

// asLeft returns those who are still as the change left them, with what they were.
func (x *externals) asLeft(v *workspace.View, now []store.ExternalRow, before []wasExternal) map[uuid.UUID]wasExternal {
	out := map[uuid.UUID]wasExternal{}
	for _, w := range before {
		i := slices.IndexFunc(now, func(r store.ExternalRow) bool { return r.MemberID == w.Member })
		if i < 0 {
			continue
		}
		r := now[i]
		if x.voucher != nil && (r.VoucherID == nil || *r.VoucherID != x.voucher.ID) || x.Reason != nil && r.Reason != strings.TrimSpace(*x.Reason) {
			continue
		}
		if x.Until != "" && cmp.Or(v.LastDay(r.EndsAt), "none") != x.Until {
			continue
		}
		out[w.Member] = w
	}
	return out
}

func (x *externals) back(c *workspace.Change, groups []*workspace.Locked, was map[uuid.UUID]json.RawMessage) error {
	rows := make([]store.Group, len(groups))
	for i, g := range groups {
		rows[i] = g.Group.Group
	}
	all, err := x.of(&c.View, rows, false)
	if err != nil {
		return err
	}
	for _, g := range groups {
		var before []wasExternal
		if err := json.Unmarshal(was[g.ID], &before); err != nil {
			return err
		}
		if x.Remove {
			err = putBack(c, g, before)
		} else {
			err = x.setBack(c, g, all[g.ID], before)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// putBack puts external members into a group again, as they were in it, without a letter.
func putBack(c *workspace.Change, g *workspace.Locked, before []wasExternal) error {
	results, err := again(&c.View, &g.Group.Group, before)
	if err != nil {
		return err
	}
	if err := member.Join(c, g, results, member.Entrance{Quiet: true}); err != nil {
		return err
	}
	in := map[uuid.UUID]bool{}
	for _, r := range results {
		in[r.ID] = r.OK()
	}
	var rows []store.ExternalMember
	for _, w := range before {
		if !in[w.Member] {
			continue
		}
		rows = append(rows, store.ExternalMember{GroupID: g.ID, MemberID: w.Member, VoucherID: w.Voucher, Reason: w.Reason})
		if w.Mail != g.DefaultMail || w.How != store.Each {
			if err := c.Tx.SetMail(g.ID, []uuid.UUID{w.Member}, w.Mail, w.How); err != nil {
				return err
			}
		}
	}
	return c.Tx.SaveExternals(rows)
}

// setBack gives those who are still as they were left what they had.
func (x *externals) setBack(c *workspace.Change, g *workspace.Locked, now []store.ExternalRow, before []wasExternal) error {
	asLeft := x.asLeft(&c.View, now, before)
	if x.Until != "" {
		for _, w := range asLeft {
			if w.Ends != nil && !w.Ends.After(c.Now()) {
				continue // it is over
			}
			if err := member.ProlongAll(c, g, []uuid.UUID{w.Member}, w.Ends, c.LastDay(w.Ends)); err != nil {
				return err
			}
		}
	}
	if x.voucher == nil && x.Reason == nil {
		return nil
	}
	now = slices.DeleteFunc(now, func(r store.ExternalRow) bool { _, is := asLeft[r.MemberID]; return !is })
	return vouch(c, g, now, func(r *store.ExternalMember) {
		w := asLeft[r.MemberID]
		if x.voucher != nil {
			r.VoucherID = w.Voucher
		}
		if x.Reason != nil {
			r.Reason = w.Reason
		}
	})
}
