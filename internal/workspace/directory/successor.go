package directory

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/core/access"
	"ivytable.example/ivytable/internal/core/event"
	"ivytable.example/ivytable/internal/core/expand"
	"ivytable.example/ivytable/internal/core/mailaddr"
	"ivytable.example/ivytable/internal/core/number"
	"ivytable.example/ivytable/internal/store"
	"ivytable.example/ivytable/internal/workspace"
	"ivytable.example/ivytable/internal/workspace/member"
	"ivytable.example/ivytable/internal/workspace/people"
	"ivytable.example/ivytable/internal/workspace/rules"
)

// departures is the setting of who takes over what somebody leaves behind: the first of each list whom there is.
type departures struct {
	Owned   []string `json:"owned"`   // groups that nobody else owns: manager, moderator, caretaker
	Vouched []string `json:"vouched"` // external members for whom they vouched: manager, owner
}

const departuresSetting = "departures"

var (
	ownedSteps   = []string{"manager", "moderator", "caretaker"}
	vouchedSteps = []string{"manager", "owner"}
)

// Departures returns who takes over what somebody leaves behind.
func (s *Service) Departures(ctx context.Context, by workspace.Actor) (api.DepartureRules, error) {
	if err := by.Allow(access.ReadReview); err != nil {
		return api.DepartureRules{}, err
	}
	var d departures
	version, err := s.k.View(ctx, by).Read.Setting(departuresSetting, &d)
	return shapeDepartures(d, version+1), err
}

func shapeDepartures(d departures, version int) api.DepartureRules {
	return api.DepartureRules{Owned: append([]string{}, d.Owned...), Vouched: append([]string{}, d.Vouched...), Version: version}
}

// SetDepartures changes who takes over what somebody leaves behind. It holds for whoever leaves from now on.
func (s *Service) SetDepartures(ctx context.Context, by workspace.Actor, n api.DepartureRules, version int) (api.DepartureRules, error) {
	if err := by.Allow(access.ChangeDirectory); err != nil {
		return api.DepartureRules{}, err
	}
	var bad workspace.Problems
	next := departures{Owned: steps("owned", n.Owned, ownedSteps, &bad), Vouched: steps("vouched", n.Vouched, vouchedSteps, &bad)}
	if err := bad.Err(); err != nil {
		return api.DepartureRules{}, err
	}
	err := workspace.ChangeSetting(ctx, s.k, by, access.ChangeDirectory, departuresSetting, "who takes over what somebody leaves behind", version, departures{}, func(c *workspace.Change, before departures, current int) error {
		n = shapeDepartures(next, current+2)
		var changes []event.Change
		for _, x := range []struct{ field, from, to string }{{"owned", strings.Join(before.Owned, ", "), strings.Join(next.Owned, ", ")}, {"vouched", strings.Join(before.Vouched, ", "), strings.Join(next.Vouched, ", ")}} {
			if x.from != x.to {
				changes = append(changes, event.Change{Field: x.field, From: x.from, To: x.to})
				c.Effect(api.Effect{Field: x.field, From: x.from, To: x.to})
			}
		}
		if len(changes) == 0 {
			c.Says("Nothing changes.")
			return nil
		}
		if err := sayDepartures(c, next); err != nil {
			return err
		}
		if err := c.Tx.SaveSetting(departuresSetting, next, current+1); err != nil {
			return err
		}
		return c.Record(event.DeparturesChanged{Before: event.Was(shapeDepartures(before, current+1), n.Version), Changed: changes}, nil)
	})
	return n, err
}

func steps(field string, given, known []string, bad *workspace.Problems) []string {
	out := []string{}
	for i, x := range given {
		switch at := fmt.Sprintf("%s[%d]", field, i); {
		case !slices.Contains(known, x):
			bad.Add(at, workspace.Cut(x, 40), "There is no %q here: choose %s.", workspace.Cut(x, 40), strings.Join(known, ", "))
		case slices.Contains(out, x):
			bad.Add(at, x, "%s is named twice.", x)
		default:
			out = append(out, x)
		}
	}
	return out
}

// sayDepartures says of how many who alone own groups a manager is known.
func sayDepartures(c *workspace.Change, d departures) error {
	c.Says("From now on, what somebody leaves behind is left to nobody, and is listed.")
	if len(d.Owned)+len(d.Vouched) > 0 {
		c.Says("From now on, what somebody leaves behind goes to the first of these whom there is.")
	}
	if !slices.Contains(d.Owned, "manager") {
		return nil
	}
	alone, err := c.Read.SoleOwners(nil, 1, c.Now())
	if err != nil {
		return err
	}
	var ids []uuid.UUID
	for id := range alone {
		ids = append(ids, id)
	}
	who, err := c.Read.PeopleByID(ids)
	if err != nil {
		return err
	}
	managers, err := managersOf(&c.View, who)
	if err != nil {
		return err
	}
	c.Effect(api.Effect{Field: "without_manager", Count: len(who) - len(managers), Says: fmt.Sprintf("Of %s who alone own groups, %d have a manager who is here.", number.Of(len(who), "person"), len(managers))})
	return nil
}

// managersOf returns the managers of people who are here, by person.
func managersOf(v *workspace.View, who map[uuid.UUID]store.Person) (map[uuid.UUID]store.Person, error) {
	keys := map[uuid.UUID]string{}
	var all []string
	for id, p := range who {
		if a, err := mailaddr.Parse(people.Fields(p)["manager"]); err == nil {
			keys[id], all = a.Key(), append(all, a.Key())
		}
	}
	found, err := v.Read.PeopleByKeys(all)
	out := map[uuid.UUID]store.Person{}
	for id, key := range keys {
		if m, known := found[key]; known && m.Active && !m.External && m.ID != id {
			out[id] = m
		}
	}
	return out, err
}

// heirs says who takes over what people leave behind who leave at once.
type heirs struct {
	departures
	gone     []uuid.UUID
	managers map[uuid.UUID]store.Person
	rows     []store.Handover
}

func newHeirs(v *workspace.View, gone []store.Person) (*heirs, error) {
	h := &heirs{}
	if _, err := v.Read.Setting(departuresSetting, &h.departures); err != nil || len(h.Owned)+len(h.Vouched) == 0 {
		return h, err
	}
	who := map[uuid.UUID]store.Person{}
	for _, p := range gone {
		h.gone, who[p.ID] = append(h.gone, p.ID), p
	}
	var err error
	if h.managers, err = managersOf(v, who); err != nil {
		return nil, err
	}
	for id, m := range h.managers {
		if slices.Contains(h.gone, m.ID) { // they leave too
			delete(h.managers, id)
		}
	}
	return h, nil
}

// owner returns who takes over a group of somebody's: the first whom there is and who may own it; ok is false for nobody.
func (h *heirs) owner(v *workspace.View, g *store.Group, of uuid.UUID) (p store.Person, ok bool, err error) {
	for _, step := range h.Owned {
		switch step {
		case "manager":
			p, ok = h.managers[of]
		case "moderator":
			p, err = v.Read.Moderator(g.ID, h.gone)
			ok = err == nil
			if errors.Is(err, store.ErrNotFound) {
				err = nil
			}
		case "caretaker":
			p, ok, err = caretaker(v, g, h.gone)
		}
		if ok && err == nil {
			ok, err = member.CanOwn(v, g, p)
		}
		if ok || err != nil {
			return p, ok, err
		}
	}
	return p, false, nil
}

// caretaker returns who takes care of a group, where it is a person of the workspace.
func caretaker(v *workspace.View, g *store.Group, but []uuid.UUID) (p store.Person, ok bool, err error) {
	to, err := v.Caretakers(g)
	if err != nil || len(to) != 1 {
		return p, false, err
	}
	a, err := mailaddr.Parse(to[0])
	if err != nil {
		return p, false, nil
	}
	p, err = v.Read.PersonByKey(a.Key())
	if errors.Is(err, store.ErrNotFound) { // a group, or somebody outside
		return p, false, nil
	}
	return p, err == nil && p.Active && !p.External && !slices.Contains(but, p.ID), err
}

// vouchers gives those for whom people vouched who leave somebody else who does. The rest is told to those who run the groups.
func (h *heirs) vouchers(c *workspace.Change) error {
	if len(h.Vouched) == 0 {
		return nil
	}
	rows, err := c.Read.VouchedFor(h.gone, 10_000)
	if err != nil || len(rows) == 0 {
		return err
	}
	var ids []uuid.UUID
	for _, r := range rows {
		ids = append(ids, r.GroupID)
	}
	groups, err := c.Read.GroupsByID(ids)
	if err != nil {
		return err
	}
	owners, err := c.Read.Owners(ids)
	if err != nil {
		return err
	}
	for _, r := range rows {
		var to store.Person
		ok := false
		for _, step := range h.Vouched {
			if to, ok = h.managers[*r.VoucherID]; step == "owner" {
				i := slices.IndexFunc(owners[r.GroupID], func(o store.OwnerRow) bool { return o.Active && !slices.Contains(h.gone, o.MemberID) })
				if ok = i >= 0; ok {
					if to, err = c.Read.Person(owners[r.GroupID][i].MemberID); err != nil {
						return err
					}
				}
			}
			if ok {
				break
			}
		}
		g, known := groups[r.GroupID]
		if !ok || !known {
			continue
		}
		if err := member.Revouch(c, &g, r, to); err != nil {
			return err
		}
		h.rows = append(h.rows, store.Handover{PersonID: *r.VoucherID, GroupID: g.ID, Kind: store.HandedVoucher, SubjectID: r.MemberID, ToID: to.ID, ChangeID: c.ID(), At: c.Now()})
	}
	return nil
}

// handedGroups returns the groups of which something was handed over when people left.
func handedGroups(v *workspace.View, who []store.Person) ([]uuid.UUID, error) {
	if len(who) == 0 {
		return nil, nil
	}
	ids := make([]uuid.UUID, len(who))
	for i, p := range who {
		ids[i] = p.ID
	}
	return v.Read.HandedGroups(ids)
}

// comeBack is sync where some return.
func comeBack(c *workspace.Change, book *rules.Book, who, returned []store.Person, attributes []string, cause string) error {
	moves, err := book.Plan(c, who, attributes)
	if err != nil {
		return err
	}
	handed, err := handedGroups(&c.View, returned)
	if err != nil {
		return err
	}
	if len(handed) > 0 {
		if _, err := c.Tx.LockGroups(slices.Concat(handed, moves.Groups())); err != nil {
			return err
		}
		if err := putBack(c, returned); err != nil {
			return err
		}
	}
	if c.Previewing() {
		return moves.Tell(c)
	}
	return moves.Apply(c, cause)
}

// putBack gives people who return what the rules gave to others when they left, where nobody has decided otherwise since.
func putBack(c *workspace.Change, returned []store.Person) error {
	if len(returned) == 0 {
		return nil
	}
	ids := make([]uuid.UUID, len(returned))
	names := map[uuid.UUID]store.Person{}
	for i, p := range returned {
		ids[i], names[p.ID] = p.ID, p
	}
	rows, err := c.Tx.TakeHandovers(ids)
	if err != nil || len(rows) == 0 {
		return err
	}
	var groups []uuid.UUID
	for _, h := range rows {
		groups = append(groups, h.GroupID)
	}
	locked, err := c.Tx.LockGroups(groups)
	if err != nil {
		return err
	}
	back := 0
	for _, h := range rows {
		g, there := locked[h.GroupID]
		if !there {
			continue
		}
		subject := h.ToID
		if h.Kind == store.HandedVoucher {
			subject = h.SubjectID
		}
		decided, err := c.Read.DecidedSince(g.ID, subject, h.ChangeID)
		if err != nil {
			return err
		}
		if decided {
			continue
		}
		if h.Kind == store.HandedVoucher {
			x, err := c.Read.External(g.ID, h.SubjectID)
			if errors.Is(err, store.ErrNotFound) || err == nil && (x.VoucherID == nil || *x.VoucherID != h.ToID) {
				continue
			} else if err != nil {
				return err
			}
			p, err := c.Read.Person(h.SubjectID)
			if err != nil {
				return err
			}
			if err := member.Revouch(c, &g, store.ExternalRow{ExternalMember: x, Name: p.Name, Address: p.Address}, names[h.PersonID]); err != nil {
				return err
			}
			back++
			continue
		}
		in, err := c.Read.Roles(h.PersonID, []uuid.UUID{g.ID})
		if err != nil {
			return err
		}
		role, err := c.Read.Roles(h.ToID, []uuid.UUID{g.ID})
		if err != nil {
			return err
		}
		if in[g.ID] != expand.Owner || role[g.ID] != expand.Owner {
			continue
		}
		held := workspace.Hold(g)
		if err := member.StepDown(c, held, h.ToID, h.Was); err != nil {
			return err
		}
		locked[g.ID] = held.Group.Group
		back++
	}
	if back > 0 {
		c.Report.Says += fmt.Sprintf(" What the rules had given to others goes back: %s.", number.Of(back, "thing"))
	}
	return nil
}
