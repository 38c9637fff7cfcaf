package bulk

import (
	"encoding/json"
	"fmt"
	"strings"
	"time"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/core/access"
	"ivytable.example/ivytable/internal/core/event"
	"ivytable.example/ivytable/internal/core/lifecycle"
	"ivytable.example/ivytable/internal/store"
	"ivytable.example/ivytable/internal/workspace"
	"ivytable.example/ivytable/internal/workspace/life"
)

// lived is the life of a group before a change, and what of it tells that nobody changed it since.
type lived struct {
	Before  lifecycle.Life
	Renewed time.Time // after
}

func livesOf(groups []*workspace.Locked) []lifecycle.Life {
	out := make([]lifecycle.Life, len(groups))
	for i, g := range groups {
		out[i] = g.Life()
	}
	return out
}

func keepLives(was map[uuid.UUID]json.RawMessage, groups []*workspace.Locked, before []lifecycle.Life) error {
	for i, g := range groups {
		if err := keep(was, g.ID, lived{before[i], g.RenewedAt}); err != nil {
			return err
		}
	}
	return nil
}

func keep(was map[uuid.UUID]json.RawMessage, id uuid.UUID, x any) error {
	b, err := json.Marshal(x)
	was[id] = b
	return err
}

// renew begins the terms of groups again.
type renew struct {
	plain
	api.Renewal
}

func (renew) scope() access.Scope { return access.ScopeGroups }

func (renew) kind() string { return "renew" }
func (renew) says() string { return "their terms begin again" }
func (renew) decide(v *workspace.View, groups []store.Group) ([]verdict, error) {
	return each(groups, func(g *store.Group) verdict {
		switch {
		case v.Ended(g):
			return refused("It has ended: restore it.")
		case g.Life().Expires.IsZero():
			return verdict{store.ItemSame, "It has no end."}
		}
		return verdict{outcome: store.ItemChanged}
	})
}
func (x renew) do(c *workspace.Change, groups []*workspace.Locked) (map[uuid.UUID]json.RawMessage, error) {
	was := make(map[uuid.UUID]json.RawMessage, len(groups))
	before := livesOf(groups)
	if err := life.Renew(c, x.Reason, groups...); err != nil {
		return nil, err
	}
	return was, keepLives(was, groups, before)
}
func (renew) left(v *workspace.View, groups []store.Group, was map[uuid.UUID]json.RawMessage) ([]verdict, error) {
	return each(groups, func(g *store.Group) verdict {
		var w lived
		switch {
		case json.Unmarshal(was[g.ID], &w) != nil || !w.Renewed.Equal(g.RenewedAt):
			return refused("It was renewed again since, or restored.")
		case v.Ended(g):
			return refused("It has ended since.")
		}
		return verdict{outcome: store.ItemChanged}
	})
}

// back gives groups the term that they had: by its renewal then, and the rules now, so that nobody is cut off.
func (renew) back(c *workspace.Change, groups []*workspace.Locked, was map[uuid.UUID]json.RawMessage) error {
	t, err := c.Terms()
	if err != nil {
		return err
	}
	from := livesOf(groups)
	rows := make([]*store.Group, len(groups))
	for i, g := range groups {
		var w lived
		if err := json.Unmarshal(was[g.ID], &w); err != nil {
			return err
		}
		w.Before.Exempt = from[i].Exempt
		g.SetLife(w.Before)
		rows[i] = &g.Group.Group
	}
	if err := c.Relive(false, rows...); err != nil {
		return err
	}
	for i, g := range groups {
		if err := c.Save(g); err != nil {
			return err
		}
		if err := c.Record(event.TermMoved{From: t.Date(from[i].Expires), To: t.Date(g.Life().Expires), RuleFrom: from[i].Rule, Rule: g.TermRule}, &g.Group.Group); err != nil {
			return err
		}
	}
	return nil
}

// restore brings groups back that ended.
type restore struct{ plain }

func (restore) scope() access.Scope { return access.ScopeGroups }

func (restore) kind() string                     { return "restore" }
func (restore) says() string                     { return "they are back with everything in them" }
func (restore) before(c *workspace.Change) error { return c.Tx.LockRules() } // they follow theirs
func (restore) decide(v *workspace.View, groups []store.Group) ([]verdict, error) {
	return each(groups, func(g *store.Group) verdict {
		if !v.Ended(g) {
			return verdict{store.ItemSame, "It has not ended."}
		}
		return verdict{outcome: store.ItemChanged}
	})
}
func (restore) do(c *workspace.Change, groups []*workspace.Locked) (map[uuid.UUID]json.RawMessage, error) {
	was := make(map[uuid.UUID]json.RawMessage, len(groups))
	before := livesOf(groups)
	if err := life.Bring(c, groups...); err != nil {
		return nil, err
	}
	return was, keepLives(was, groups, before)
}
func (restore) left(v *workspace.View, groups []store.Group, was map[uuid.UUID]json.RawMessage) ([]verdict, error) {
	return each(groups, func(g *store.Group) verdict {
		var w lived
		switch {
		case v.Ended(g):
			return verdict{store.ItemSame, "It has ended again already."}
		case g.Kept != "":
			return refused("%s", life.WhyKept(g))
		case json.Unmarshal(was[g.ID], &w) != nil || !w.Renewed.Equal(g.RenewedAt):
			return refused("It was renewed since.")
		}
		return verdict{outcome: store.ItemChanged}
	})
}

// back ends groups again: anew, so that there is the whole time to restore them.
func (restore) back(c *workspace.Change, groups []*workspace.Locked, _ map[uuid.UUID]json.RawMessage) error {
	return life.End(c, groups...)
}

// exempt takes groups from the term rules, or, without a reason, gives them back.
type exempt struct {
	plain
	api.ExemptChange
	until *time.Time
}

func (exempt) scope() access.Scope { return access.ScopeGroups }

func (exempt) kind() string { return "exempt" }
func (x exempt) says() string {
	if x.Reason == "" {
		return "the term rules are for them again"
	}
	return workspace.Cut("no term rule is for them: "+x.Reason, 500)
}
func (x *exempt) check(v *workspace.View) error {
	t, err := v.Terms()
	if err != nil {
		return err
	}
	x.Reason = strings.TrimSpace(x.Reason)
	if x.Until == "" {
		return nil
	}
	at, err := t.LookAgain(v.Now(), "exempt.until", x.Until)
	if err == nil && x.Reason == "" {
		err = workspace.Wrong("exempt.until", x.Until, "Without a reason they are not exempt, so there is nothing to look at again.")
	}
	x.until = at
	return err
}
func (x *exempt) before(c *workspace.Change) error { return x.check(&c.View) }
func (x exempt) same(g *store.Group) bool {
	return g.Exempt == x.Reason && (g.ExemptUntil == nil) == (x.until == nil) && (x.until == nil || x.until.Equal(*g.ExemptUntil))
}
func (x exempt) decide(_ *workspace.View, groups []store.Group) ([]verdict, error) {
	return each(groups, func(g *store.Group) verdict {
		if x.same(g) {
			return verdict{outcome: store.ItemSame}
		}
		return verdict{outcome: store.ItemChanged}
	})
}

// wasExempt is whether a group was exempt before, and is after.
type wasExempt struct {
	Reason, By, After string
	Until             *time.Time
}

func (x exempt) do(c *workspace.Change, groups []*workspace.Locked) (map[uuid.UUID]json.RawMessage, error) {
	was := make(map[uuid.UUID]json.RawMessage, len(groups))
	to := make([]wasExempt, len(groups))
	for i, g := range groups {
		if err := keep(was, g.ID, wasExempt{g.Exempt, g.ExemptBy, x.Reason, g.ExemptUntil}); err != nil {
			return nil, err
		}
		to[i] = wasExempt{Reason: x.Reason, By: c.By.String(), Until: x.until}
	}
	return was, setExempt(c, groups, to)
}

// setExempt makes groups exempt, each as it is said of it, or gives them back to the rules.
func setExempt(c *workspace.Change, groups []*workspace.Locked, to []wasExempt) error {
	t, err := c.Terms()
	if err != nil {
		return err
	}
	var living []*store.Group
	before, reasons := livesOf(groups), make([]string, len(groups))
	for i, g := range groups {
		reasons[i] = g.Exempt
		g.Exempt, g.ExemptBy, g.ExemptUntil = to[i].Reason, to[i].By, to[i].Until
		if g.EndedAt == nil {
			living = append(living, &g.Group.Group)
		}
	}
	if err := c.Relive(false, living...); err != nil {
		return err
	}
	for i, g := range groups {
		changed := []event.Change{{Field: "exempt", From: reasons[i], To: to[i].Reason}}
		if now := g.Life(); !now.Expires.Equal(before[i].Expires) {
			changed = append(changed, event.Change{Field: "expires_on", From: t.Date(before[i].Expires), To: t.Date(now.Expires)})
		}
		if err := c.Save(g); err != nil {
			return err
		}
		if err := c.Record(event.GroupChanged{Changed: changed}, &g.Group.Group); err != nil {
			return err
		}
	}
	return nil
}
func (exempt) left(_ *workspace.View, groups []store.Group, was map[uuid.UUID]json.RawMessage) ([]verdict, error) {
	return each(groups, func(g *store.Group) verdict {
		var w wasExempt
		if json.Unmarshal(was[g.ID], &w) != nil || w.After != g.Exempt {
			return refused("Whether it is exempt was changed since.")
		}
		return verdict{outcome: store.ItemChanged}
	})
}
func (exempt) back(c *workspace.Change, groups []*workspace.Locked, was map[uuid.UUID]json.RawMessage) error {
	to := make([]wasExempt, len(groups))
	for i, g := range groups {
		if err := json.Unmarshal(was[g.ID], &to[i]); err != nil {
			return err
		}
	}
	return setExempt(c, groups, to)
}

// hold puts groups under hold, or, without a reason, releases them.
type hold struct {
	plain
	reason string
}

func (hold) scope() access.Scope { return access.ScopeGroups }

func (hold) kind() string { return "hold" }
func (x hold) says() string {
	if x.reason == "" {
		return "they are under hold no more"
	}
	return workspace.Cut("they are neither retired nor deleted for good: "+x.reason, 500)
}
func (x hold) decide(_ *workspace.View, groups []store.Group) ([]verdict, error) {
	return each(groups, func(g *store.Group) verdict {
		switch {
		case x.reason == "" && g.Kept == "":
			return verdict{store.ItemSame, "It is not under hold."}
		case x.reason != "" && g.Kept != "":
			return verdict{store.ItemSame, fmt.Sprintf("It is under hold already: %s", g.Kept)}
		}
		return verdict{outcome: store.ItemChanged}
	})
}

// wasHeld is a hold before a change, and the reason after it.
type wasHeld struct {
	Reason, By, After string
	At                *time.Time
}

func (x hold) do(c *workspace.Change, groups []*workspace.Locked) (map[uuid.UUID]json.RawMessage, error) {
	was := make(map[uuid.UUID]json.RawMessage, len(groups))
	now := c.Now()
	for _, g := range groups {
		if err := keep(was, g.ID, wasHeld{g.Kept, g.KeptBy, x.reason, g.KeptAt}); err != nil {
			return nil, err
		}
		by, at := c.By.String(), &now
		if x.reason == "" {
			by, at = "", nil
		}
		if err := life.SetHold(c, g, x.reason, by, at); err != nil {
			return nil, err
		}
	}
	return was, nil
}
func (hold) left(_ *workspace.View, groups []store.Group, was map[uuid.UUID]json.RawMessage) ([]verdict, error) {
	return each(groups, func(g *store.Group) verdict {
		var w wasHeld
		if json.Unmarshal(was[g.ID], &w) != nil || w.After != g.Kept {
			return refused("Whether it is under hold was changed since.")
		}
		return verdict{outcome: store.ItemChanged}
	})
}
func (hold) back(c *workspace.Change, groups []*workspace.Locked, was map[uuid.UUID]json.RawMessage) error {
	for _, g := range groups {
		var w wasHeld
		if err := json.Unmarshal(was[g.ID], &w); err != nil {
			return err
		}
		if err := life.SetHold(c, g, w.Reason, w.By, w.At); err != nil {
			return err
		}
	}
	return nil
}
