package workspace

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/core/expand"
	"ivytable.example/ivytable/internal/core/rule"
	"ivytable.example/ivytable/internal/store"
)

// ruleBook holds every rule, read once: a thousand of them are asked about at each
// change of an attribute.
type ruleBook struct {
	version int // that the store counts
	rules   []bookedRule
	using   map[string][]int // by the paths of attributes
}

type bookedRule struct {
	group uuid.UUID
	*rule.Rule
}

// of returns the rules that ask about any of some attributes.
func (b *ruleBook) of(attributes []string) []bookedRule {
	var at []int
	for _, path := range attributes {
		at = append(at, b.using[path]...)
	}
	slices.Sort(at)
	var out []bookedRule
	for _, i := range slices.Compact(at) {
		out = append(out, b.rules[i])
	}
	return out
}

// heldRules returns the rules as they stay until the transaction ends.
func (w *Workspace) heldRules(ctx context.Context, t *store.Store) (*ruleBook, error) {
	version, err := t.HoldRules(ctx)
	if err != nil {
		return nil, err
	}
	if b := w.book.Load(); b != nil && b.version == version {
		return b, nil
	}
	b := &ruleBook{version: version, using: map[string][]int{}}
	err = t.EachRule(ctx, func(group uuid.UUID, expression string) error {
		r, err := rule.Parse(expression)
		if err != nil {
			return fmt.Errorf("the rule of %s: %w", group, err)
		}
		for _, path := range paths(r) {
			b.using[path] = append(b.using[path], len(b.rules))
		}
		b.rules = append(b.rules, bookedRule{group, r})
		return nil
	})
	if err != nil {
		return nil, err
	}
	w.book.Store(b)
	return b, nil
}

// followRule lets people come into and go out of g, which is locked. Where the guard
// stops the going, it is held for a person, and the owners are told.
func (w *Workspace) followRule(ctx context.Context, t *store.Store, a Actor, g *store.Group, kept store.GroupRule, come []store.PersonFacts, leave []uuid.UUID, byRule int, sure bool, cause string) error {
	var held json.RawMessage
	if guarded(len(leave), byRule, kept.Guard) && !sure {
		var err error
		if held, err = json.Marshal(api.HeldRule{At: w.now(ctx), Cause: cause, Come: len(come), Go: len(leave)}); err != nil {
			return err
		}
		if len(kept.Held) == 0 {
			to, err := w.noticeRecipients(ctx, g)
			if err != nil {
				return err
			}
			l := w.letter(letterRuleHeld, *g, groupPath(*g, "people"), map[string]string{"count": fmt.Sprintf("%d / %d", len(leave), byRule), "cause": cause})
			if err := w.send(ctx, t, g, to, l); err != nil {
				return err
			}
		}
		leave = nil
	}
	if len(held) > 0 || len(kept.Held) > 0 {
		kept.Held = held
		if err := t.SaveRule(ctx, kept); err != nil {
			return err
		}
	}
	if len(come) == 0 && len(leave) == 0 {
		return nil
	}
	return w.comeAndGo(ctx, t, a, g, come, leave, entrance{action: "rule.follow"}, []api.FieldChange{{Field: "cause", To: cause}})
}

// directoryTx runs a transaction that changes people. The rules that they are asked
// about stay as they are until it ends.
func (w *Workspace) directoryTx(ctx context.Context, f func(*store.Store, *ruleBook) error) error {
	return w.store.Tx(ctx, func(t *store.Store) error {
		b, err := w.heldRules(ctx, t)
		if err != nil {
			return err
		}
		return f(t, b)
	})
}

// follow lets the rules that use some attributes take in, and let go, people whose
// attributes changed. people are as they are now. It runs in the transaction of its
// cause.
func (w *Workspace) follow(ctx context.Context, t *store.Store, a Actor, b *ruleBook, people []store.Person, attributes []string, cause string) error {
	rules := b.of(attributes)
	switch {
	case len(people) == 0 || len(rules) == 0:
		return nil
	case len(people) == 1:
		return w.followPerson(ctx, t, a, people[0], rules, cause)
	}
	type stream struct {
		come  []store.PersonFacts
		leave []uuid.UUID
	}
	moves := make([]stream, len(rules))
	for batch := range slices.Chunk(people, 5000) {
		ids := make([]uuid.UUID, len(batch))
		for i, p := range batch {
			ids[i] = p.ID
		}
		in := map[groupPerson]bool{}
		err := t.EachMembershipOf(ctx, ids, func(person, group uuid.UUID, byRule bool) { in[groupPerson{group, person}] = byRule })
		if err != nil {
			return err
		}
		for _, p := range batch {
			s := subject(factsOf(p))
			for i, r := range rules {
				byRule, is := in[groupPerson{r.group, p.ID}]
				match := p.Active && r.Eval(s) == rule.Match
				switch {
				case match && !is:
					moves[i].come = append(moves[i].come, factsOf(p))
				case !match && byRule:
					moves[i].leave = append(moves[i].leave, p.ID)
				}
			}
		}
	}
	for i, r := range rules {
		if m := moves[i]; len(m.come)+len(m.leave) > 0 {
			if err := w.followOne(ctx, t, a, r.group, m.come, m.leave, cause); err != nil {
				return err
			}
		}
	}
	return nil
}

type groupPerson struct{ group, person uuid.UUID }

// followPerson is follow for one person, in as many statements for a hundred groups
// as for one. The guard does not stop one person.
func (w *Workspace) followPerson(ctx context.Context, t *store.Store, a Actor, p store.Person, rules []bookedRule, cause string) error {
	s := subject(factsOf(p))
	match := map[uuid.UUID]bool{}
	ids := make([]uuid.UUID, len(rules))
	for i, r := range rules {
		ids[i] = r.group
		match[r.group] = p.Active && r.Eval(s) == rule.Match
	}
	moved := func() (come, leave []uuid.UUID, err error) {
		in := map[uuid.UUID]bool{}
		err = t.EachMembershipOf(ctx, []uuid.UUID{p.ID}, func(_, group uuid.UUID, byRule bool) { in[group] = byRule })
		for _, id := range ids {
			switch byRule, is := in[id]; {
			case match[id] && !is:
				come = append(come, id)
			case !match[id] && byRule:
				leave = append(leave, id)
			}
		}
		return come, leave, err
	}
	come, leave, err := moved()
	if err != nil {
		return err
	}
	if ids = append(come, leave...); len(ids) == 0 {
		return nil
	}
	groups, err := t.LockGroups(ctx, ids)
	if err != nil {
		return err
	}
	if come, leave, err = moved(); err != nil { // somebody may have been quicker
		return err
	}
	barred, err := t.BarredFrom(ctx, p.AddrKey, ids)
	if err != nil {
		return err
	}
	now := w.now(ctx)
	away := func(id uuid.UUID) bool { // a group that is away follows its rule when it comes back
		g, there := groups[id]
		return !there || g.Life().Over(now)
	}
	come = slices.DeleteFunc(come, func(id uuid.UUID) bool { return barred[id] || away(id) })
	leave = slices.DeleteFunc(leave, away)
	return w.movePerson(ctx, t, a, p, groups, come, leave, cause)
}

// movePerson puts a person into groups, which are locked, and takes them out of
// others, because of their rules.
func (w *Workspace) movePerson(ctx context.Context, t *store.Store, a Actor, p store.Person, groups map[uuid.UUID]store.Group, come, leave []uuid.UUID, cause string) error {
	now := w.now(ctx)
	var rows []store.Membership
	var letters []store.Message
	var told []string
	var changes []store.Change
	var affected []store.Affected
	member := expand.Member.String()
	for i, id := range append(slices.Clone(come), leave...) {
		g := groups[id]
		c, did := api.FieldChange{Field: p.Address, From: member}, store.Affected{PersonID: p.ID, Was: member}
		if i < len(come) {
			c, did = api.FieldChange{Field: p.Address, To: member}, store.Affected{PersonID: p.ID, Now: member}
			rows = append(rows, store.Membership{GroupID: id, MemberID: p.ID, Kind: store.KindPerson, Role: expand.Member, Mail: g.DefaultMail, AddedAt: now, AddedBy: "the rule", ByRule: true})
			_, domain, _ := strings.Cut(g.Address, "@")
			m, err := w.addedLetter(g, a).message(&g.ID, domain, []string{p.Address}, now)
			if err != nil {
				return err
			}
			letters, told = append(letters, m), append(told, p.Address)
		}
		e, err := entry(a, now, "rule.follow", &g, g.Address, []api.FieldChange{{Field: "cause", To: cause}, c})
		if err != nil {
			return err
		}
		changes, affected = append(changes, e), append(affected, did)
	}
	if len(changes) == 0 {
		return nil
	}
	for _, step := range []func() error{
		func() error { return t.AddMemberships(ctx, rows) },
		func() error { return t.DeleteMembershipsOf(ctx, p.ID, leave) },
		func() error { return t.PersonComes(ctx, come, +1) },
		func() error { return t.PersonComes(ctx, leave, -1) },
		func() error { return t.AddMessages(ctx, letters, told) },
		func() error { return t.AddHistoryEach(ctx, changes, affected) },
	} {
		if err := step(); err != nil {
			return err
		}
	}
	return nil
}

func (w *Workspace) followOne(ctx context.Context, t *store.Store, a Actor, id uuid.UUID, come []store.PersonFacts, leave []uuid.UUID, cause string) error {
	g, err := t.LockGroup(ctx, id)
	if errors.Is(err, store.ErrNotFound) || err == nil && g.Life().Over(w.now(ctx)) {
		return nil // a group that is away follows its rule when it comes back
	} else if err != nil {
		return err
	}
	kept, err := t.Rule(ctx, id)
	if err != nil {
		return err
	}
	barred := map[string]bool{}
	if len(come) > 0 {
		if barred, err = t.Barred(ctx, g.ID); err != nil {
			return err
		}
	}
	come = slices.DeleteFunc(come, func(f store.PersonFacts) bool { return barred[strings.ToLower(f.Address)] })
	byRule := 0
	if len(leave) > 1 {
		if byRule, err = t.CountByRule(ctx, g.ID); err != nil {
			return err
		}
	}
	return w.followRule(ctx, t, a, &g, kept, come, leave, byRule, false, cause)
}

// changedPaths returns the attributes of rules that differ between two states of a
// person; all of them where the person came or left.
func changedPaths(before, after store.Person) []string {
	var out []string
	b, a := fields(before), fields(after)
	for _, x := range rule.Attributes() {
		parent, _, _ := strings.Cut(x.Path, ".")
		switch {
		case before.ID == uuid.Nil, before.Active != after.Active,
			x.Field != "" && b[x.Field] != a[x.Field],
			(x.Path == "displayName" || x.Path == "name.formatted") && before.Name != after.Name:
			out = append(out, x.Path)
		case parent == "addresses" && x.Path == "addresses.type":
			for _, y := range rule.Attributes() {
				if strings.HasPrefix(y.Path, "addresses.") && y.Field != "" && b[y.Field] != a[y.Field] {
					out = append(out, x.Path)
					break
				}
			}
		case strings.HasSuffix(x.Path, ".type") && b[parent] != a[parent]: // phoneNumbers, ims
			out = append(out, x.Path)
		}
	}
	return out
}
