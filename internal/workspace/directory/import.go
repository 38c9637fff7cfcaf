package directory

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/core/access"
	"ivytable.example/ivytable/internal/core/event"
	"ivytable.example/ivytable/internal/core/mailaddr"
	"ivytable.example/ivytable/internal/core/number"
	"ivytable.example/ivytable/internal/core/roster"
	"ivytable.example/ivytable/internal/store"
	"ivytable.example/ivytable/internal/workspace"
	"ivytable.example/ivytable/internal/workspace/account"
	"ivytable.example/ivytable/internal/workspace/area"
	"ivytable.example/ivytable/internal/workspace/history"
	"ivytable.example/ivytable/internal/workspace/member"
	"ivytable.example/ivytable/internal/workspace/naming"
	"ivytable.example/ivytable/internal/workspace/people"
	"ivytable.example/ivytable/internal/workspace/rules"
)

// syncGuard is the share, in percent of the directory, that a sync may let depart
// without being forced.
const syncGuard = 10

// plan is what an import comes to.
type plan struct {
	create, change []store.Person
	before         map[uuid.UUID]store.Person // of those in change
	changes        map[uuid.UUID][]event.Change
	depart         []store.Person
	areas          area.Held                      // locked where anybody departs
	to             map[uuid.UUID]mailaddr.Address // whose address changes
	anew           []string                       // addresses of people who have left, for new ones
	counts         map[string]int
	wrong, rest    []api.Line
}

// Import reads a CSV file of people and makes the directory like it: new people come in,
// attributes in its columns change, those who had left return. With Sync, whoever is not
// in it departs. All of it is one recorded change. Lines that are wrong are left out.
func (s *Service) Import(ctx context.Context, by workspace.Actor, q api.Import) (api.ImportResult, error) {
	none := api.ImportResult{}
	if err := by.Allow(access.ChangeDirectory); err != nil {
		return none, err
	}
	b := q.File
	if q.Text != "" {
		b = []byte(q.Text)
	}
	own, err := ownNames(s.k.View(ctx, by))
	if err != nil {
		return none, err
	}
	l, err := roster.Read(b, q.Columns, own...)
	if err != nil {
		return none, workspace.Wrong("file", nil, "%s", workspace.Words(err))
	}
	if !l.Table || !slices.Contains(l.Columns, roster.Address) {
		return none, workspace.Wrong("columns", l.Headings, "No column of the file is known to hold addresses. Its first line has to hold headings, one of them such as E-mail; or say which column it is.")
	}
	var out api.ImportResult
	answer := struct {
		made
		*api.ImportResult
	}{ImportResult: &out}
	books := &s.books
	err = workspace.Once(ctx, s.k, by, q, &answer, func(c *workspace.Change) error {
		book, err := books.Lock(c)
		if err != nil {
			return err
		}
		p, err := newPlan(c, l, q.Sync)
		if err != nil {
			return err
		}
		if err := p.report(c, l, q.Force); err != nil {
			return err
		}
		out = api.ImportResult{List: *c.Report.List, Counts: p.counts, Lines: c.Report.Sample, Says: c.Report.Says}
		return p.apply(c, book, q.Links)
	})
	return out, err
}

// ownNames are the names of the attributes of the organisation's own.
func ownNames(v *workspace.View) (names []string, err error) {
	own, err := v.Own()
	for _, o := range own {
		names = append(names, o.Name)
	}
	return names, err
}

// newPlan compares a list with the directory.
func newPlan(c *workspace.Change, l roster.List, sync bool) (*plan, error) {
	p := &plan{before: map[uuid.UUID]store.Person{}, changes: map[uuid.UUID][]event.Change{}, to: map[uuid.UUID]mailaddr.Address{}, counts: map[string]int{}}
	domains, err := c.Domains()
	if err != nil {
		return nil, err
	}
	keys := make([]string, len(l.Entries))
	seen := map[string]int{}
	for i, e := range l.Entries {
		addr, err := mailaddr.Parse(e.Address)
		switch {
		case e.Wrong != "":
			p.bad(e, e.Wrong)
		case err != nil:
			p.bad(e, workspace.Words(err))
		case !slices.Contains(domains, addr.Domain()):
			p.bad(e, fmt.Sprintf("%s is not a domain of this workspace.", addr.Domain()))
		case seen[addr.Key()] > 0:
			p.bad(e, fmt.Sprintf("The same address stands on line %d.", seen[addr.Key()]))
		default:
			seen[addr.Key()] = e.Line
			keys[i] = addr.Key()
		}
	}
	m, err := newMatcher(c, l, slices.DeleteFunc(slices.Clone(keys), func(k string) bool { return k == "" }))
	if err != nil {
		return nil, err
	}
	groups, err := takenByGroups(c, keys, m.byAddress)
	if err != nil {
		return nil, err
	}
	met := map[uuid.UUID]int{} // on which line
	for i, e := range l.Entries {
		if keys[i] == "" {
			continue
		}
		if groups[keys[i]] != "" {
			p.bad(e, groups[keys[i]])
			continue
		}
		x := m.find(e, keys[i])
		switch {
		case x.wrong != "":
			p.bad(e, x.wrong)
		case x.who.ID != uuid.Nil && met[x.who.ID] > 0:
			p.bad(e, fmt.Sprintf("Line %d is about %s too.", met[x.who.ID], x.who.Name))
		default:
			met[x.who.ID] = e.Line
			p.compare(c, e, keys[i], x)
		}
	}
	if !sync {
		return p, nil
	}
	err = c.Read.EachPersonFacts(func(f store.PersonFacts) error {
		if seen[strings.ToLower(f.Address)] == 0 && met[f.ID] == 0 {
			p.depart = append(p.depart, store.Person{ID: f.ID, Address: f.Address, Name: f.Name})
			p.rest = append(p.rest, api.Line{Outcome: "departed", Address: f.Address, Name: f.Name})
		}
		return nil
	})
	return p, err
}

// takenByGroups says of addresses that nobody known has which group has them, or had them a short time ago.
func takenByGroups(c *workspace.Change, keys []string, known map[string]store.Person) (map[string]string, error) {
	out := map[string]string{}
	var free []string
	for _, k := range keys {
		if _, is := known[k]; !is && k != "" {
			free = append(free, k)
		}
	}
	for some := range slices.Chunk(free, 5000) {
		groups, err := c.Read.GroupsByKeys(some)
		if err != nil {
			return nil, err
		}
		for k, g := range groups {
			out[k] = fmt.Sprintf("The group %s has this address.", g.Name)
		}
		gone, err := c.Read.GoneByKeys(some)
		if err != nil {
			return nil, err
		}
		for k, g := range gone {
			out[k] = fmt.Sprintf("The group %s, which was deleted for good, had this address. It is free from %s on.", g.Name, workspace.DateIn("en", g.FreeAt.In(c.Zone())))
		}
	}
	return out, nil
}

func (p *plan) bad(e roster.Entry, says string) {
	p.counts["wrong"]++
	p.wrong = append(p.wrong, api.Line{Line: e.Line, Outcome: "wrong", Address: workspace.Cut(e.Given, 200), Name: workspace.Cut(e.Name, 200), Says: says})
}

// compare says what one line does to the directory.
func (p *plan) compare(c *workspace.Change, e roster.Entry, key string, m match) {
	known := m.who
	if e.Name == "" && known.ID == uuid.Nil {
		e.Name = naming.LocalOf(key)
	}
	var faults workspace.Problems
	patch := api.PersonPatch{Attributes: e.Fields}
	delete(patch.Attributes, roster.Active)
	if err := checkAttributes(&c.View, &faults, patch.Attributes); err != nil {
		p.bad(e, "The line can't be read.")
		return
	}
	if e.Name != "" {
		if bad := people.CheckName(e.Name); bad != "" {
			faults.Add("name", e.Name, "%s", bad)
		}
		patch.Name = &e.Name
	}
	if err := notErased(known); err != nil {
		p.bad(e, err.Error())
		return
	}
	if known.External {
		faults.Add("address", key, "This address is known as one outside the workspace.")
	}
	if len(faults) > 0 {
		p.bad(e, faults[0].Says)
		return
	}
	line := api.Line{Line: e.Line, Outcome: "new", Address: key, Says: m.how}
	if known.ID == uuid.Nil {
		known = store.Person{ID: store.NewID(), Address: key, AddrKey: key, Active: true, Attributes: []byte("{}"), CreatedAt: c.Now(), Version: 1}
		made, changes, err := apply(known, patch)
		if err != nil {
			p.bad(e, "The line can't be kept.")
			return
		}
		p.create = append(p.create, made)
		if m.how != "" {
			p.anew = append(p.anew, key)
		}
		line.Name, line.Changes = made.Name, history.Changes(changes)
		p.rest = append(p.rest, line)
		return
	}
	after, changes, err := apply(known, patch)
	if to, bad := mailaddr.Parse(e.Address); bad == nil && m.moved {
		p.to[known.ID] = to
		changes = append([]event.Change{{Field: "address", From: known.Address, To: to.String()}}, changes...)
	}
	line.Outcome = "changed"
	if !known.Active {
		line.Outcome, after.Active, after.DepartedAt, after.WorkspaceRole, after.PasswordHash = "returned", true, nil, "", ""
		changes = append(changes, event.Change{Field: "active", From: "false", To: "true"})
	}
	switch {
	case err != nil:
		p.bad(e, "The line can't be kept.")
	case len(changes) == 0:
		p.counts["same"]++
	default:
		p.change, p.before[known.ID], p.changes[known.ID] = append(p.change, after), known, changes
		line.Name, line.Changes = after.Name, history.Changes(changes)
		p.rest = append(p.rest, line)
	}
}

// report puts the plan in words. A sync that would let too many depart is a problem of it,
// or, where it is not only looked at, refused.
func (p *plan) report(c *workspace.Change, l roster.List, force bool) error {
	for _, x := range p.rest {
		p.counts[x.Outcome]++
	}
	reading := member.Reading(l)
	lines := append(p.wrong, p.rest...)
	c.Report.List, c.Report.Counts, c.Report.Total = &reading, p.counts, len(lines)
	for _, outcome := range []string{"new", "changed", "returned", "departed"} {
		c.Report.Ready += p.counts[outcome]
	}
	c.Report.Sample = append(c.Report.Sample, lines[:min(len(lines), member.MaxShown)]...)
	n := p.counts
	says := fmt.Sprintf("Of %s: %d new, %d changed, %d the same, %d wrong.", number.Of(len(l.Entries), "line"), n["new"], n["changed"], n["same"], n["wrong"])
	if n["returned"] > 0 {
		says += fmt.Sprintf(" %d return.", n["returned"])
	}
	if n["departed"] > 0 {
		says += fmt.Sprintf(" %d are not in it and depart.", n["departed"])
	}
	c.Says(says)
	all, err := c.Read.CountPeople()
	if err != nil {
		return err
	}
	if len(p.depart) < 2 || int64(100*len(p.depart)) <= syncGuard*all || force {
		return nil
	}
	refusal := fmt.Sprintf("%d of %d people are not in the file and would depart, more than %d percent of the directory. If that is meant, force it; else leave out sync.", len(p.depart), all, syncGuard)
	if !c.Previewing() {
		return workspace.Fail(workspace.Conflict, "%s", refusal)
	}
	c.Report.Problems = append(c.Report.Problems, api.Problem{Field: "force", Says: refusal})
	return nil
}

// apply carries a plan out.
func (p *plan) apply(c *workspace.Change, book *rules.Book, links bool) error {
	used, err := p.lock(c)
	if err != nil {
		return err
	}
	if len(p.create) > 0 {
		used[rules.Everything] = true
	}
	if c.Previewing() {
		return p.foresee(c, book, used)
	}
	var affected []store.Affected
	if _, err := c.Tx.ReleaseAddresses(p.anew); err != nil {
		return err
	}
	for i := range p.change {
		x := &p.change[i]
		if to, ok := p.to[x.ID]; ok {
			if err := move(c, x, to); err != nil {
				return err
			}
		}
	}
	if len(p.create) > 0 {
		if err := c.Tx.AddPeople(p.create); err != nil {
			return err
		}
	}
	if links {
		if err := account.MailLinks(c, p.create); err != nil {
			return err
		}
	}
	var renamed []store.Person
	var returned []store.Person
	for _, x := range p.change {
		if !p.before[x.ID].Active {
			returned = append(returned, x)
		}
		if x.Name != p.before[x.ID].Name || x.AddrKey != p.before[x.ID].AddrKey {
			renamed = append(renamed, x)
		}
	}
	if err := c.Tx.SavePeople(p.change, renamed); err != nil {
		return err
	}
	if err := c.Tx.EndAccess(returned); err != nil { // also of who left before all of it ended then
		return err
	}
	for _, all := range [][]store.Person{p.create, p.change, p.depart} {
		for _, x := range all {
			affected = append(affected, store.Affected{PersonID: x.ID})
		}
	}
	fact := event.PeopleImported{New: len(p.create), Changed: p.counts["changed"], Returned: p.counts["returned"], Departed: len(p.depart)}
	if err := c.Record(fact, nil, affected...); err != nil {
		return err
	}
	for _, x := range p.change { // what changed of each is found from them
		if err := c.Record(event.PersonChanged{Of: workspace.Who(x), Changed: p.changes[x.ID]}, nil, store.Affected{PersonID: x.ID}); err != nil {
			return err
		}
	}
	if len(p.depart) == 0 {
		return comeBack(c, book, slices.Concat(p.create, p.change), returned, sorted(used), "people were imported")
	}
	moves, err := book.Plan(c, slices.Concat(p.create, p.change), sorted(used))
	if err != nil {
		return err
	}
	if err := depart(c, book, p.depart, store.Person{}, p.areas, "people were imported", returned, moves.Groups()); err != nil {
		return err
	}
	return moves.Apply(c, "people were imported")
}

// foresee says what a plan would do to groups: who comes and goes by rules, which guards would
// stop that, and which groups would be left without an owner.
func (p *plan) foresee(c *workspace.Change, book *rules.Book, used map[string]bool) error {
	who := slices.Concat(p.create, p.change)
	ids := make([]uuid.UUID, len(p.depart))
	for i, x := range p.depart {
		ids[i] = x.ID
		used[rules.Everything] = true
		x.Active = false
		who = append(who, x)
	}
	moves, err := book.Plan(c, who, sorted(used))
	if err != nil {
		return err
	}
	if err := moves.Tell(c); err != nil {
		return err
	}
	left, n, err := c.Read.Orphaned(ids, 20)
	if err != nil || n == 0 {
		return err
	}
	var names []string
	for _, g := range left {
		names = append(names, g.Name)
	}
	if n > len(left) {
		names = append(names, fmt.Sprintf("and %d more", n-len(left)))
	}
	says := fmt.Sprintf("%s would be left without an owner who is here: %s.", workspace.UpperFirst(number.Of(n, "group")), strings.Join(names, ", "))
	if h, err := newHeirs(&c.View, p.depart); err != nil {
		return err
	} else if len(h.Owned) > 0 {
		says += fmt.Sprintf(" By the rules for departures each goes to the first of %s whom there is.", strings.Join(h.Owned, ", "))
	}
	c.Effect(api.Effect{Field: "owners", Count: n, Says: says})
	return nil
}

// lock locks those who change or depart, and returns which attributes of rules change.
// One who has left meanwhile is left out.
func (p *plan) lock(c *workspace.Change) (map[string]bool, error) {
	used := map[string]bool{}
	var ids []uuid.UUID
	if len(p.depart) > 0 {
		var err error
		if p.areas, err = area.Hold(c); err != nil {
			return nil, err
		}
	}
	for _, x := range slices.Concat(p.change, p.depart) {
		ids = append(ids, x.ID)
	}
	now, err := c.Tx.LockPeople(ids)
	if err != nil {
		return nil, err
	}
	for _, x := range p.change {
		before := now[x.ID]
		if before.Version != p.before[x.ID].Version {
			return nil, workspace.Fail(workspace.Stale, "Somebody changed %s while the file was read. Import it again.", x.Name)
		}
		for _, path := range rules.ChangedPaths(before, x) {
			used[path] = true
		}
	}
	var gone []store.Person
	administrators := 0
	for _, x := range p.depart {
		q := now[x.ID]
		if !q.Active {
			continue
		}
		if isAdministrator(q) {
			administrators++
			if err := keepAdministrators(c, q, administrators); err != nil {
				return nil, err
			}
		}
		gone = append(gone, q)
	}
	p.depart = gone
	return used, c.Allow(access.ChangeDirectory)
}
