package bulk

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/core/access"
	"ivytable.example/ivytable/internal/core/event"
	"ivytable.example/ivytable/internal/store"
	"ivytable.example/ivytable/internal/workspace"
	"ivytable.example/ivytable/internal/workspace/life"
	"ivytable.example/ivytable/internal/workspace/naming"
)

// doer does one kind of change.
type doer interface {
	kind() string
	// scope is what a token has to be good for to do it.
	scope() access.Scope
	// says is what it does, in words that begin a sentence.
	says() string
	// before takes the locks that come before those of groups.
	before(c *workspace.Change) error
	// decide says what becomes of groups, in their order.
	decide(v *workspace.View, groups []store.Group) ([]verdict, error)
	// do changes groups, which are locked and were decided to change. It returns what makes
	// that undone, by group.
	do(c *workspace.Change, groups []*workspace.Locked) (map[uuid.UUID]json.RawMessage, error)
	// after is done with the last groups.
	after(c *workspace.Change, b *store.BulkChange) error
	// left says of groups that it changed whether they are still as it left them; back brings
	// those back that are.
	left(v *workspace.View, groups []store.Group, was map[uuid.UUID]json.RawMessage) ([]verdict, error)
	back(c *workspace.Change, groups []*workspace.Locked, was map[uuid.UUID]json.RawMessage) error
}

// verdict is what becomes of a group, and why.
type verdict struct{ outcome, says string }

func refused(format string, args ...any) verdict {
	return verdict{store.ItemRefused, fmt.Sprintf(format, args...)}
}

// each decides about groups one by one.
func each(groups []store.Group, decide func(g *store.Group) verdict) ([]verdict, error) {
	out := make([]verdict, len(groups))
	for i := range groups {
		out[i] = decide(&groups[i])
	}
	return out, nil
}

// plain is what most kinds have nothing to do for.
type plain struct{}

func (plain) before(*workspace.Change) error                   { return nil }
func (plain) after(*workspace.Change, *store.BulkChange) error { return nil }

// doersOf returns what does each of the things that n says.
func doersOf(n api.NewBulk) (all []doer) {
	for _, x := range []struct {
		said bool
		do   func() doer
	}{
		{n.Owners != nil, func() doer { return &owners{OwnersChange: *n.Owners} }},
		{n.Language != "", func() doer { return &language{To: n.Language} }},
		{n.Traits != nil, func() doer { return &traits{TraitsChange: *n.Traits} }},
		{n.Retire, func() doer { return &retire{} }},
		{n.Restore, func() doer { return &restore{} }},
		{n.Renew != nil, func() doer { return &renew{Renewal: *n.Renew} }},
		{n.Exempt != nil, func() doer { return &exempt{ExemptChange: *n.Exempt} }},
		{n.Hold != nil, func() doer { return &hold{reason: strings.TrimSpace(n.Hold.Reason)} }},
		{n.Release, func() doer { return &hold{} }},
		{n.Policy != nil, func() doer { return &policies{patch: *n.Policy} }},
		{n.Ceilings, func() doer { return &policies{under: true} }},
		{n.Start != "", func() doer { return &starting{Name: n.Start} }},
		{n.Aliases != nil, func() doer { return &aliases{AliasesChange: *n.Aliases} }},
		{n.Externals != nil, func() doer { return newExternals(*n.Externals) }},
	} {
		if x.said {
			all = append(all, x.do())
		}
	}
	return all
}

// read reads what is to be changed, and checks it.
func read(v *workspace.View, n api.NewBulk) (doer, error) {
	all := doersOf(n)
	if len(all) != 1 {
		return nil, workspace.Wrong("", nil, "Say one thing to change: owners, language, traits, policy, a starting point, further addresses, external members, that they come under their ceilings, that they are renewed, retire or are restored, or whether they are exempt or under hold.")
	}
	if x, ok := all[0].(interface{ check(v *workspace.View) error }); ok {
		if err := x.check(v); err != nil {
			return nil, err
		}
	}
	return all[0], nil
}

// decode reads what was recorded.
func decode(bulk uuid.UUID, body json.RawMessage) (doer, error) {
	var n struct {
		api.NewBulk
		Sheet bool `json:"sheet"`
	}
	if err := json.Unmarshal(body, &n); err != nil {
		return nil, err
	}
	if n.Sheet {
		return &sheet{bulk: bulk}, nil
	}
	if all := doersOf(n.NewBulk); len(all) == 1 {
		return all[0], nil
	}
	return nil, fmt.Errorf("it changes nothing that this program knows")
}

// set sets a field of groups, and keeps what it was.
func set(c *workspace.Change, groups []*workspace.Locked, name string, of func(g *store.Group) *string, to func(g *store.Group) string) (map[uuid.UUID]json.RawMessage, error) {
	was := make(map[uuid.UUID]json.RawMessage, len(groups))
	for _, g := range groups {
		at := of(&g.Group.Group)
		from := *at
		*at = to(&g.Group.Group)
		if err := c.Save(g); err != nil {
			return nil, err
		}
		if err := c.Record(event.GroupChanged{Changed: []event.Change{{Field: name, From: from, To: *at}}}, &g.Group.Group); err != nil {
			return nil, err
		}
		b, err := json.Marshal(wasField{from, *at})
		if err != nil {
			return nil, err
		}
		was[g.ID] = b
	}
	return was, nil
}

// wasField is a field before and after.
type wasField struct{ From, To string }

// leftField says whether a field of groups is still as it was left.
func leftField(groups []store.Group, was map[uuid.UUID]json.RawMessage, of func(g *store.Group) *string, label string) ([]verdict, error) {
	return each(groups, func(g *store.Group) verdict {
		var w wasField
		if json.Unmarshal(was[g.ID], &w) != nil || *of(g) != w.To {
			return refused("Its %s was changed since.", label)
		}
		return verdict{outcome: store.ItemChanged}
	})
}

func backField(c *workspace.Change, groups []*workspace.Locked, was map[uuid.UUID]json.RawMessage, name string, of func(g *store.Group) *string) error {
	before := make(map[uuid.UUID]string, len(groups))
	for _, g := range groups {
		var w wasField
		if err := json.Unmarshal(was[g.ID], &w); err != nil {
			return err
		}
		before[g.ID] = w.From
	}
	_, err := set(c, groups, name, of, func(g *store.Group) string { return before[g.ID] })
	return err
}

// language is the language of notices.
type language struct {
	plain
	To string
}

func ofLanguage(g *store.Group) *string { return &g.Language }

func (language) scope() access.Scope { return access.ScopeGroups }

func (language) kind() string   { return "language" }
func (x language) says() string { return "notices are written in " + workspace.LanguageName(x.To) }
func (x language) check(*workspace.View) error {
	if !workspace.KnownLanguage(x.To) {
		return workspace.Wrong("language", x.To, "Notices are written in: %s.", strings.Join(workspace.LanguageNames(), ", "))
	}
	return nil
}
func (x language) decide(_ *workspace.View, groups []store.Group) ([]verdict, error) {
	return each(groups, func(g *store.Group) verdict {
		if g.Language == x.To {
			return verdict{outcome: store.ItemSame}
		}
		return verdict{outcome: store.ItemChanged}
	})
}
func (x language) do(c *workspace.Change, groups []*workspace.Locked) (map[uuid.UUID]json.RawMessage, error) {
	return set(c, groups, "language", ofLanguage, func(*store.Group) string { return x.To })
}
func (language) left(_ *workspace.View, groups []store.Group, was map[uuid.UUID]json.RawMessage) ([]verdict, error) {
	return leftField(groups, was, ofLanguage, "language")
}
func (language) back(c *workspace.Change, groups []*workspace.Locked, was map[uuid.UUID]json.RawMessage) error {
	return backField(c, groups, was, "language", ofLanguage)
}

// traits are what groups do beyond passing mail on.
type traits struct {
	plain
	api.TraitsChange
}

func ofTraits(g *store.Group) *string { return &g.Traits }

func (traits) scope() access.Scope { return access.ScopeGroups }

func (traits) kind() string { return "traits" }
func (x traits) says() string {
	var parts []string
	if len(x.On) > 0 {
		parts = append(parts, strings.Join(x.On, ", ")+" is switched on")
	}
	if len(x.Off) > 0 {
		parts = append(parts, strings.Join(x.Off, ", ")+" is switched off")
	}
	return strings.Join(parts, "; ")
}
func (x traits) check(*workspace.View) error {
	var bad workspace.Problems
	naming.CheckTraits(&bad, slices.Concat(x.On, x.Off))
	if len(x.On)+len(x.Off) == 0 {
		bad.Add("traits", nil, "Say which traits are switched on or off.")
	}
	return bad.Err()
}

// of returns what the traits of a group become, in the order in which they are written.
func (x traits) of(g *store.Group) string {
	has := naming.SplitTraits(g.Traits)
	var out []string
	for _, t := range naming.Traits {
		if slices.Contains(x.On, t) || slices.Contains(has, t) && !slices.Contains(x.Off, t) {
			out = append(out, t)
		}
	}
	return strings.Join(out, ",")
}
func (x traits) decide(_ *workspace.View, groups []store.Group) ([]verdict, error) {
	return each(groups, func(g *store.Group) verdict {
		has := naming.SplitTraits(g.Traits)
		missing := slices.ContainsFunc(x.On, func(t string) bool { return !slices.Contains(has, t) })
		tooMany := slices.ContainsFunc(x.Off, func(t string) bool { return slices.Contains(has, t) })
		if !missing && !tooMany {
			return verdict{outcome: store.ItemSame}
		}
		return verdict{outcome: store.ItemChanged}
	})
}
func (x traits) do(c *workspace.Change, groups []*workspace.Locked) (map[uuid.UUID]json.RawMessage, error) {
	return set(c, groups, "traits", ofTraits, x.of)
}
func (traits) left(_ *workspace.View, groups []store.Group, was map[uuid.UUID]json.RawMessage) ([]verdict, error) {
	return leftField(groups, was, ofTraits, "traits")
}
func (traits) back(c *workspace.Change, groups []*workspace.Locked, was map[uuid.UUID]json.RawMessage) error {
	return backField(c, groups, was, "traits", ofTraits)
}

// retire ends groups; undone, it restores them.
type retire struct{ plain }

func (retire) scope() access.Scope { return access.ScopeGroups }

func (retire) kind() string { return "retire" }
func (retire) says() string { return "they take no mail any more, and can be restored" }
func (retire) decide(v *workspace.View, groups []store.Group) ([]verdict, error) {
	return each(groups, func(g *store.Group) verdict {
		switch {
		case v.Ended(g):
			return verdict{store.ItemSame, "It has ended already."}
		case g.Kept != "":
			return refused("%s", life.WhyKept(g))
		}
		return verdict{outcome: store.ItemChanged}
	})
}
func (retire) do(c *workspace.Change, groups []*workspace.Locked) (map[uuid.UUID]json.RawMessage, error) {
	was := make(map[uuid.UUID]json.RawMessage, len(groups))
	if err := life.End(c, groups...); err != nil {
		return nil, err
	}
	for _, g := range groups {
		b, err := json.Marshal(g.EndedAt)
		if err != nil {
			return nil, err
		}
		was[g.ID] = b
	}
	return was, nil
}
func (retire) left(v *workspace.View, groups []store.Group, was map[uuid.UUID]json.RawMessage) ([]verdict, error) {
	return each(groups, func(g *store.Group) verdict {
		var ended time.Time
		switch {
		case g.EndedAt == nil:
			return verdict{store.ItemSame, "It is back already."}
		case json.Unmarshal(was[g.ID], &ended) != nil || !ended.Equal(*g.EndedAt):
			return refused("It was restored since, and has ended again.")
		}
		return verdict{outcome: store.ItemChanged}
	})
}
func (retire) back(c *workspace.Change, groups []*workspace.Locked, _ map[uuid.UUID]json.RawMessage) error {
	return life.Bring(c, groups...)
}

// undoing is the kind of changes that undo another.
const undoing = "undo"

// undo undoes a change that was done.
type undo struct {
	of store.BulkChange
	d  doer
}

func (*undo) scope() access.Scope { return access.ScopeAll }

func (*undo) kind() string   { return undoing }
func (x *undo) says() string { return workspace.Cut("undone: "+x.of.Says, 500) }
func (x *undo) doer() (doer, error) {
	var err error
	if x.d == nil {
		x.d, err = decode(x.of.ID, x.of.Body)
	}
	return x.d, err
}

// before keeps rules as they are where groups are restored, which follow theirs, and ceilings where
// policies are changed back.
func (x *undo) before(c *workspace.Change) error {
	d, err := x.doer()
	if err != nil {
		return err
	}
	switch d := d.(type) {
	case *policies, *starting, *sheet:
		return d.before(c)
	case *retire:
		return c.Tx.LockRules()
	}
	return nil
}

func (x *undo) after(*workspace.Change, *store.BulkChange) error { return nil }

func (x *undo) was(v *workspace.View, ids []uuid.UUID) (map[uuid.UUID]json.RawMessage, error) {
	return v.Read.BulkWas(x.of.ID, ids)
}

func (x *undo) decide(v *workspace.View, groups []store.Group) ([]verdict, error) {
	d, err := x.doer()
	if err != nil {
		return nil, err
	}
	ids := make([]uuid.UUID, len(groups))
	for i, g := range groups {
		ids[i] = g.ID
	}
	was, err := x.was(v, ids)
	if err != nil {
		return nil, err
	}
	return d.left(v, groups, was)
}

func (x *undo) do(c *workspace.Change, groups []*workspace.Locked) (map[uuid.UUID]json.RawMessage, error) {
	d, err := x.doer()
	if err != nil {
		return nil, err
	}
	ids := make([]uuid.UUID, len(groups))
	for i, g := range groups {
		ids[i] = g.ID
	}
	was, err := x.was(&c.View, ids)
	if err != nil {
		return nil, err
	}
	return nil, d.back(c, groups, was)
}

func (x *undo) left(*workspace.View, []store.Group, map[uuid.UUID]json.RawMessage) ([]verdict, error) {
	return nil, fmt.Errorf("an undoing can't be undone")
}
func (x *undo) back(*workspace.Change, []*workspace.Locked, map[uuid.UUID]json.RawMessage) error {
	return fmt.Errorf("an undoing can't be undone")
}
