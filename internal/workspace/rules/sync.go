package rules

import (
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync/atomic"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/core/admission"
	"ivytable.example/ivytable/internal/core/event"
	"ivytable.example/ivytable/internal/core/expand"
	"ivytable.example/ivytable/internal/core/number"
	"ivytable.example/ivytable/internal/core/policy"
	"ivytable.example/ivytable/internal/core/rule"
	"ivytable.example/ivytable/internal/store"
	"ivytable.example/ivytable/internal/workspace"
	"ivytable.example/ivytable/internal/workspace/people"
)

// Book holds every rule, read once: a thousand of them are asked about at each change of
// an attribute.
type Book struct {
	version int // that the store counts
	rules   []bookedRule
	using   map[string][]int // by the paths of attributes
}

type bookedRule struct {
	group uuid.UUID
	*rule.Rule
}

// Books caches the book of the rules as they are.
type Books struct{ last atomic.Pointer[Book] }

// Lock returns the rules as they stay until the change ends. Many can do so at once.
func (b *Books) Lock(c *workspace.Change) (*Book, error) {
	version, err := c.Tx.RLockRules()
	if err != nil {
		return nil, err
	}
	if last := b.last.Load(); last != nil && last.version == version {
		return last, nil
	}
	book := &Book{version: version, using: map[string][]int{}}
	schema, err := c.Schema("")
	if err != nil {
		return nil, err
	}
	err = c.Read.EachRule(func(group uuid.UUID, expression string) error {
		r, err := schema.Parse(expression)
		if err != nil {
			return nil // asks about what is no longer kept: nobody comes or goes by it
		}
		for _, path := range paths(r) {
			book.using[path] = append(book.using[path], len(book.rules))
		}
		book.rules = append(book.rules, bookedRule{group, r})
		return nil
	})
	if err != nil {
		return nil, err
	}
	b.last.Store(book)
	return book, nil
}

// paths returns the attributes that a rule uses.
func paths(r *rule.Rule) []string {
	var out []string
	for _, a := range r.Attributes() {
		out = append(out, a.Path)
	}
	return out
}

// of returns the rules that ask about any of some attributes, in the order of their groups.
func (b *Book) of(attributes []string) []bookedRule {
	if slices.Contains(attributes, Everything) {
		return b.rules
	}
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

// Moves are who comes into which groups, and goes, because people changed.
type Moves struct {
	one    *store.Person // there is one person alone: the guard does not stop them
	groups []uuid.UUID
	come   map[uuid.UUID][]store.PersonFacts
	leave  map[uuid.UUID][]uuid.UUID
}

// Groups returns the groups that the moves touch.
func (m Moves) Groups() []uuid.UUID { return m.groups }

// Plan says where people move by the rules that use some attributes. people are as they
// are now. Nothing is locked.
func (b *Book) Plan(c *workspace.Change, who []store.Person, attributes []string) (Moves, error) {
	m := Moves{come: map[uuid.UUID][]store.PersonFacts{}, leave: map[uuid.UUID][]uuid.UUID{}}
	rules := b.of(attributes)
	if len(who) == 0 || len(rules) == 0 {
		return m, nil
	}
	if len(who) == 1 {
		m.one = &who[0]
	}
	for batch := range slices.Chunk(who, 5000) {
		ids := make([]uuid.UUID, len(batch))
		for i, p := range batch {
			ids[i] = p.ID
		}
		in := map[groupPerson]bool{}
		err := c.Read.EachMembershipOf(ids, func(person, group uuid.UUID, byRule bool) { in[groupPerson{group, person}] = byRule })
		if err != nil {
			return m, err
		}
		for _, p := range batch {
			s := Subject(factsOf(p))
			for _, r := range rules {
				byRule, is := in[groupPerson{r.group, p.ID}]
				switch match := p.Active && r.Eval(s) == rule.Match; {
				case match && !is:
					m.come[r.group] = append(m.come[r.group], factsOf(p))
				case !match && byRule:
					m.leave[r.group] = append(m.leave[r.group], p.ID)
				}
			}
		}
	}
	for _, r := range rules {
		if len(m.come[r.group])+len(m.leave[r.group]) > 0 {
			m.groups = append(m.groups, r.group)
		}
	}
	return m, nil
}

// maxTold is of how many groups a preview tells who comes and goes.
const maxTold = 100

// Tell says who would come into which groups, and go, and where a guard would stop that.
func (m Moves) Tell(c *workspace.Change) error {
	if len(m.groups) == 0 {
		return nil
	}
	c.Effect(api.Effect{Field: "groups", Count: len(m.groups), Says: fmt.Sprintf("Rules of membership move people in %s.", number.Of(len(m.groups), "group"))})
	told := m.groups[:min(len(m.groups), maxTold)]
	groups, err := c.Read.GroupsByID(told)
	if err != nil {
		return err
	}
	for _, id := range told {
		g, there := groups[id]
		if !there || c.Ended(&g) {
			continue
		}
		come, err := admitted(&c.View, &g, m.come[id])
		if err != nil {
			return err
		}
		leave := len(m.leave[id])
		e := api.Effect{Field: g.Address, Count: len(come) + leave}
		var parts []string
		if n := len(come); n > 0 {
			parts = append(parts, fmt.Sprintf("%d come in", n))
		}
		if n := len(m.come[id]) - len(come); n > 0 {
			parts = append(parts, fmt.Sprintf("%d match but are kept out", n))
		}
		if leave > 0 {
			parts = append(parts, fmt.Sprintf("%d go", leave))
		}
		e.Says = fmt.Sprintf("%s: %s by its rule.", g.Name, strings.Join(parts, ", "))
		if m.one == nil && leave > 1 {
			kept, err := c.Read.Rule(id)
			if err != nil {
				return err
			}
			byRule, err := c.Read.CountByRule(id)
			if err != nil {
				return err
			}
			if guarded(leave, byRule, kept.Guard) {
				e.Says += fmt.Sprintf(" That is more of its %d than its guard allows: those who would go stay until somebody decides.", byRule)
			}
		}
		c.Effect(e)
	}
	return nil
}

type groupPerson struct{ group, person uuid.UUID }

// Apply makes the moves, with the reason for them. A group that is away follows its rule
// when it comes back.
func (m Moves) Apply(c *workspace.Change, cause string) error {
	if len(m.groups) == 0 || c.Previewing() {
		return nil
	}
	groups, err := c.Tx.LockGroups(m.groups)
	if err != nil {
		return err
	}
	if m.one != nil {
		return m.movePerson(c, groups, cause)
	}
	for _, id := range m.groups {
		g, there := groups[id]
		if !there || c.Ended(&g) {
			continue
		}
		kept, err := c.Read.Rule(id)
		if errors.Is(err, store.ErrNotFound) {
			continue
		} else if err != nil {
			return err
		}
		d := difference{leave: m.leave[id]}
		if d.come, err = admitted(&c.View, &g, m.come[id]); err != nil {
			return err
		}
		if len(d.leave) > 1 {
			if d.byRule, err = c.Read.CountByRule(id); err != nil {
				return err
			}
		}
		if err := syncGroup(c, workspace.Hold(g), kept, d, false, cause); err != nil {
			return err
		}
	}
	return nil
}

// admitted returns those who can come into a group by its rule.
func admitted(v *workspace.View, g *store.Group, come []store.PersonFacts) ([]store.PersonFacts, error) {
	if len(come) == 0 {
		return nil, nil
	}
	keys := make([]string, len(come))
	for i, f := range come {
		keys[i] = strings.ToLower(f.Address)
	}
	overrides, err := v.Read.OverridesOf(g.ID, keys)
	door := v.Door(g)
	return slices.DeleteFunc(slices.Clone(come), func(f store.PersonFacts) bool {
		c := admission.Candidate{Name: f.Name, Address: f.Address, Departed: !f.Active, Override: overrides[strings.ToLower(f.Address)]}
		return admission.In(admission.ByRule, door, c, admission.As{Role: expand.Member}).Outcome != admission.Admitted
	}), err
}

// syncGroup lets people come into and go out of g, which is locked. Where the guard stops
// the going, it waits for a person, and the owners are told.
func syncGroup(c *workspace.Change, g *workspace.Locked, kept store.GroupRule, d difference, sure bool, cause string) error {
	var pending json.RawMessage
	if guarded(len(d.leave), d.byRule, kept.Guard) && !sure {
		var err error
		if pending, err = json.Marshal(store.PendingRuleChange{At: c.Now(), Cause: cause, Come: len(d.come), Go: len(d.leave)}); err != nil {
			return err
		}
		if len(kept.Pending) == 0 {
			to, err := c.NoticeRecipients(&g.Group.Group)
			if err != nil {
				return err
			}
			l := c.GroupLetter(workspace.LetterRuleWaits, &g.Group.Group, workspace.GroupPath(&g.Group.Group, "people"), map[string]string{"count": fmt.Sprintf("%d / %d", len(d.leave), d.byRule), "cause": cause})
			if err := c.Send(&g.Group.Group, to, l); err != nil {
				return err
			}
		}
		d.leave = nil
	}
	if c.Previewing() {
		return nil
	}
	if len(pending) > 0 || len(kept.Pending) > 0 {
		kept.Pending = pending
		kept.Version++
		if err := c.Tx.SaveRule(kept); err != nil {
			return err
		}
	}
	if len(d.come) == 0 && len(d.leave) == 0 {
		return nil
	}
	return applyRule(c, g, d.come, d.leave, event.RuleFollowed{Cause: cause}, false)
}

// applyRule puts people into g, which is locked, because of its rule, takes others out,
// and records it.
func applyRule(c *workspace.Change, g *workspace.Locked, come []store.PersonFacts, leave []uuid.UUID, fact event.Fact, quiet bool) error {
	now := c.Now()
	ids := slices.Clone(leave)
	for _, f := range come {
		ids = append(ids, f.ID)
	}
	in, err := c.Read.RuledMembers(g.ID, ids) // somebody may have been quicker
	if err != nil {
		return err
	}
	var rows []store.Membership
	var affected []store.Affected
	var told, keys []string
	var joined []uuid.UUID
	var came, went []event.Who
	for _, f := range come {
		if _, is := in[f.ID]; is {
			continue
		}
		rows = append(rows, store.Membership{GroupID: g.ID, MemberID: f.ID, Kind: store.KindPerson, Role: expand.Member, Mail: g.DefaultMail, AddedAt: now, AddedBy: byTheRule, ByRule: true})
		affected = append(affected, store.Affected{PersonID: f.ID, Now: expand.Member.String()})
		came, told, joined, keys = append(came, event.Who{Name: f.Name, Address: f.Address}), append(told, f.Address), append(joined, f.ID), append(keys, strings.ToLower(f.Address))
	}
	gone := slices.DeleteFunc(slices.Clone(leave), func(id uuid.UUID) bool { return !in[id] }) // who was put in by hand meanwhile stays
	left, err := c.Read.PeopleByID(gone)
	if err != nil {
		return err
	}
	for _, id := range gone {
		affected = append(affected, store.Affected{PersonID: id, Was: expand.Member.String()})
		went = append(went, workspace.Who(left[id]))
		if left[id].Active {
			g.Members--
		} else {
			g.Departed--
		}
	}
	g.Members += len(rows)
	for _, step := range []func() error{
		func() error { return c.Tx.AddMemberships(rows) },
		func() error { return c.Tx.DeleteMemberships(g.ID, gone) },
		func() error { return c.Tx.EndRequests(g.ID, joined, store.ToJoin, now) },
		func() error { return c.Tx.EndRequests(g.ID, gone, store.ToLeave, now) },
		func() error { return c.Tx.CallBackInvitations(g.ID, keys, now) },
		func() error { return c.Save(g) },
	} {
		if err := step(); err != nil {
			return err
		}
	}
	if !quiet {
		if err := c.Send(&g.Group.Group, told, c.AddedLetter(&g.Group.Group, "")); err != nil {
			return err
		}
	}
	switch f := fact.(type) {
	case event.RuleSet:
		f.Come, f.Go = len(rows), len(gone)
		fact = f
	case event.RuleDeleted:
		f.Go = len(gone)
		fact = f
	case event.RuleFollowed:
		f.In, f.Out = event.Of(came...), event.Of(went...)
		fact = f
	}
	return c.Record(fact, &g.Group.Group, affected...)
}

// byTheRule stands for who added somebody that a rule put in.
const byTheRule = "the rule"

// Begin gives a new group, which is locked, its rule, and lets everybody in who matches.
// The rules are locked.
func Begin(c *workspace.Change, g *workspace.Locked, r *rule.Rule, quiet bool) error {
	match, _, err := review(&c.View, r, false)
	if err != nil {
		return err
	}
	d, err := differ(&c.View, &g.Group.Group, match)
	if err != nil || c.Previewing() {
		return err
	}
	if err := c.Tx.SetRule(store.GroupRule{GroupID: g.ID, Expression: r.String(), Guard: DefaultGuard, SetBy: c.By.String(), SetAt: c.Now(), Version: 1}); err != nil {
		return err
	}
	return applyRule(c, g, d.come, nil, event.RuleSet{To: r.String(), Guard: DefaultGuard}, quiet)
}

// movePerson makes the moves of one person, in as many statements for a hundred groups as
// for one. The groups are locked.
func (m Moves) movePerson(c *workspace.Change, groups map[uuid.UUID]store.Group, cause string) error {
	p := *m.one
	in := map[uuid.UUID]bool{} // somebody may have been quicker
	if err := c.Read.EachMembershipOf([]uuid.UUID{p.ID}, func(_, group uuid.UUID, byRule bool) { in[group] = byRule }); err != nil {
		return err
	}
	barred, err := c.Read.BarredFrom(p.AddrKey, m.groups)
	if err != nil {
		return err
	}
	var rows []store.Membership
	var come, leave []uuid.UUID
	for _, id := range m.groups {
		g, there := groups[id]
		if !there || c.Ended(&g) {
			continue
		}
		byRule, is := in[id]
		fact := event.RuleFollowed{Cause: cause}
		did := store.Affected{PersonID: p.ID, Now: expand.Member.String()}
		switch {
		case len(m.come[id]) > 0 && !is:
			who := admission.Candidate{Name: p.Name, Address: p.Address, Departed: !p.Active}
			if barred[id] {
				who.Override = policy.Barred
			}
			if admission.In(admission.ByRule, c.Door(&g), who, admission.As{Role: expand.Member}).Outcome != admission.Admitted {
				continue
			}
			come, fact.In = append(come, id), event.Of(workspace.Who(p))
			rows = append(rows, store.Membership{GroupID: id, MemberID: p.ID, Kind: store.KindPerson, Role: expand.Member, Mail: g.DefaultMail, AddedAt: c.Now(), AddedBy: byTheRule, ByRule: true})
			if err := c.Send(&g, []string{p.Address}, c.AddedLetter(&g, "")); err != nil {
				return err
			}
		case len(m.leave[id]) > 0 && byRule:
			leave, fact.Out = append(leave, id), event.Of(workspace.Who(p))
			did = store.Affected{PersonID: p.ID, Was: expand.Member.String()}
		default:
			continue
		}
		if err := c.Record(fact, &g, did); err != nil {
			return err
		}
	}
	for _, step := range []func() error{
		func() error { return c.Tx.AddMemberships(rows) },
		func() error { return c.Tx.DeleteMembershipsOf(p.ID, leave) },
		func() error { return c.Tx.EndRequestsOf(p.ID, come, store.ToJoin, c.Now()) },
		func() error { return c.Tx.AdjustMemberCounts(come, +1, p.Active) },
		func() error { return c.Tx.AdjustMemberCounts(leave, -1, p.Active) },
	} {
		if err := step(); err != nil {
			return err
		}
	}
	return nil
}

// Everything stands for all attributes of people.
const Everything = "*"

// ChangedPaths returns the attributes of rules that differ between two states of a
// person; Everything where the person came or left.
func ChangedPaths(before, after store.Person) []string {
	if before.ID == uuid.Nil || before.Active != after.Active {
		return []string{Everything}
	}
	var out []string
	b, a := people.Fields(before), people.Fields(after)
	for _, x := range rule.Attributes() {
		parent, _, _ := strings.Cut(x.Path, ".")
		switch {
		case x.Field != "" && b[x.Field] != a[x.Field],
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
	both := maps.Clone(a)
	maps.Copy(both, b)
	for name := range both {
		if a[name] != b[name] && !slices.Contains(out, name) {
			out = append(out, name) // of the organisation's own
		}
	}
	return out
}
