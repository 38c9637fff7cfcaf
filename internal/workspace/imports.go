package workspace

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/core/mailaddr"
	"ivytable.example/ivytable/internal/core/roster"
	"ivytable.example/ivytable/internal/core/rule"
	"ivytable.example/ivytable/internal/store"
)

// syncGuard is the share, in percent of the directory, that a sync may let depart
// without being forced.
const syncGuard = 10

// plan is what an import comes to.
type plan struct {
	create, change []store.Person
	before         map[uuid.UUID]store.Person // of those in change
	changes        map[uuid.UUID][]api.FieldChange
	depart         []store.Person
	out            api.ImportResult
	wrong, rest    []api.ImportLine
}

// ImportPeople reads a CSV file of people and makes the directory like it: new
// people come in, attributes in its columns change, those who had left return. With
// Sync, whoever is not in it departs. All of it is one recorded change, or, with
// DryRun, only said. Lines that are wrong are left out.
func (w *Workspace) ImportPeople(ctx context.Context, a Actor, q api.Import) (api.ImportResult, error) {
	none := api.ImportResult{}
	if err := allow(a, changeDirectory); err != nil {
		return none, err
	}
	b := q.File
	if q.Text != "" {
		b = []byte(q.Text)
	}
	l, err := roster.Read(b, q.Columns)
	if err != nil {
		return none, wrong("file", nil, says(err))
	}
	if !l.Table || !slices.Contains(l.Columns, roster.Address) {
		return none, wrong("columns", l.Headings, "No column of the file is known to hold addresses. Its first line has to hold headings, one of them such as E-mail; or say which column it is.")
	}
	p, err := w.planImport(ctx, l, q.Sync)
	if err != nil {
		return none, err
	}
	p.finish(l)
	all, err := w.store.CountPeople(ctx)
	if err != nil {
		return none, err
	}
	if tooMany := len(p.depart) > 1 && int64(100*len(p.depart)) > syncGuard*all; tooMany {
		p.out.Says += fmt.Sprintf(" That is more than %d percent of the directory: it is only done when it is forced.", syncGuard)
		if !q.DryRun && !q.Force {
			return none, fail(Conflict, "%d of %d people are not in the file and would depart. If that is meant, force it; else leave out sync.", len(p.depart), all)
		}
	}
	if q.DryRun {
		return p.out, nil
	}
	if err := w.applyImport(ctx, a, &p, q.Links); err != nil {
		return none, err
	}
	w.o.Wake()
	p.out.Done = true
	return p.out, nil
}

// planImport compares a list with the directory.
func (w *Workspace) planImport(ctx context.Context, l roster.List, sync bool) (plan, error) {
	p := plan{before: map[uuid.UUID]store.Person{}, changes: map[uuid.UUID][]api.FieldChange{}, out: api.ImportResult{Encoding: l.Encoding, Delimiter: string(l.Delimiter), Columns: columns(l), Counts: map[string]int{}}}
	domains, err := w.store.Domains(ctx)
	if err != nil {
		return p, err
	}
	keys := make([]string, len(l.Entries))
	seen := map[string]int{}
	for i, e := range l.Entries {
		addr, err := mailaddr.Parse(e.Address)
		switch {
		case err != nil:
			p.bad(e, says(err))
		case !slices.Contains(domains, addr.Domain()):
			p.bad(e, fmt.Sprintf("%s is not a domain of this workspace.", addr.Domain()))
		case seen[addr.Key()] > 0:
			p.bad(e, fmt.Sprintf("The same address stands on line %d.", seen[addr.Key()]))
		default:
			seen[addr.Key()] = e.Line
			keys[i] = addr.Key()
		}
	}
	known, err := w.store.PeopleByKeys(ctx, slices.DeleteFunc(slices.Clone(keys), func(k string) bool { return k == "" }))
	if err != nil {
		return p, err
	}
	groups, err := w.takenByGroups(ctx, keys, known)
	if err != nil {
		return p, err
	}
	for i, e := range l.Entries {
		switch {
		case keys[i] == "":
		case groups[keys[i]] != "":
			p.bad(e, fmt.Sprintf("The group %s has this address.", groups[keys[i]]))
		default:
			p.compare(ctx, w, e, keys[i], known[keys[i]])
		}
	}
	if !sync {
		return p, nil
	}
	err = w.store.EachPersonFacts(ctx, func(f store.PersonFacts) error {
		if seen[strings.ToLower(f.Address)] == 0 {
			p.depart = append(p.depart, store.Person{ID: f.ID, Address: f.Address, Name: f.Name})
			p.rest = append(p.rest, api.ImportLine{Outcome: "departed", Address: f.Address, Name: f.Name, Changes: []api.FieldChange{}})
		}
		return nil
	})
	return p, err
}

func (w *Workspace) takenByGroups(ctx context.Context, keys []string, known map[string]store.Person) (map[string]string, error) {
	out := map[string]string{}
	var free []string
	for _, k := range keys {
		if _, is := known[k]; !is && k != "" {
			free = append(free, k)
		}
	}
	for len(free) > 0 {
		n := min(len(free), 5000)
		groups, err := w.store.GroupsByKeys(ctx, free[:n])
		if err != nil {
			return nil, err
		}
		for k, g := range groups {
			out[k] = g.Name
		}
		free = free[n:]
	}
	return out, nil
}

func (p *plan) bad(e roster.Entry, says string) {
	p.out.Counts["wrong"]++
	p.wrong = append(p.wrong, api.ImportLine{Line: e.Line, Outcome: "wrong", Address: cut(e.Given, 200), Name: cut(e.Name, 200), Changes: []api.FieldChange{}, Says: says})
}

// compare says what one line does to the directory.
func (p *plan) compare(ctx context.Context, w *Workspace, e roster.Entry, key string, known store.Person) {
	if e.Name == "" && known.ID == uuid.Nil {
		e.Name = localOf(key)
	}
	var faults problems
	patch := api.PersonPatch{Attributes: e.Fields}
	delete(patch.Attributes, roster.Active)
	checkAttributes(&faults, patch.Attributes)
	if e.Name != "" {
		if bad := checkName(e.Name); bad != "" {
			faults.add("name", e.Name, "%s", bad)
		}
		patch.Name = &e.Name
	}
	if known.External {
		faults.add("address", key, "This address is known as one outside the workspace.")
	}
	if len(faults) > 0 {
		p.bad(e, faults[0].Says)
		return
	}
	if known.ID == uuid.Nil {
		known = store.Person{ID: store.NewID(), Address: key, AddrKey: key, Active: true, Attributes: []byte("{}"), CreatedAt: w.now(ctx), Version: 1}
		made, c, err := applyToPerson(known, patch)
		if err != nil {
			p.bad(e, "The line can't be kept.")
			return
		}
		p.create = append(p.create, made)
		p.rest = append(p.rest, api.ImportLine{Line: e.Line, Outcome: "new", Address: key, Name: made.Name, Changes: c})
		return
	}
	after, c, err := applyToPerson(known, patch)
	outcome := "changed"
	if !known.Active {
		outcome, after.Active, after.DepartedAt = "returned", true, nil
		changed(&c, "active", false, true)
	}
	switch {
	case err != nil:
		p.bad(e, "The line can't be kept.")
	case len(c) == 0:
		p.out.Counts["same"]++
	default:
		p.change, p.before[known.ID], p.changes[known.ID] = append(p.change, after), known, c
		p.rest = append(p.rest, api.ImportLine{Line: e.Line, Outcome: outcome, Address: key, Name: after.Name, Changes: c})
	}
}

// finish puts the plan in words.
func (p *plan) finish(l roster.List) {
	for _, x := range p.rest {
		p.out.Counts[x.Outcome]++
	}
	p.out.Lines = append(p.wrong, p.rest...)
	p.out.Lines = p.out.Lines[:min(len(p.out.Lines), maxShown)]
	if p.out.Lines == nil {
		p.out.Lines = []api.ImportLine{}
	}
	c := p.out.Counts
	p.out.Says = fmt.Sprintf("Of %d lines: %d new, %d changed, %d the same, %d wrong.", len(l.Entries), c["new"], c["changed"], c["same"], c["wrong"])
	if c["returned"] > 0 {
		p.out.Says += fmt.Sprintf(" %d return.", c["returned"])
	}
	if c["departed"] > 0 {
		p.out.Says += fmt.Sprintf(" %d are not in it and depart.", c["departed"])
	}
}

// applyImport carries a plan out in one transaction.
func (w *Workspace) applyImport(ctx context.Context, a Actor, p *plan, links bool) error {
	return w.directoryTx(ctx, func(t *store.Store, b *ruleBook) error {
		now := w.now(ctx)
		changes := changeList{shown: []api.FieldChange{{Field: "import", To: p.out.Says}}}
		var affected []store.Affected
		if len(p.create) > 0 {
			if err := t.AddPeople(ctx, p.create); err != nil {
				return err
			}
		}
		if links {
			if err := w.mailPasswordLinks(ctx, t, a, p.create); err != nil {
				return err
			}
		}
		for _, x := range p.create {
			affected = append(affected, store.Affected{PersonID: x.ID})
			changes.add(x.Address, nil, "new")
		}
		used, moved, err := w.applyChanges(ctx, t, p)
		if err != nil {
			return err
		}
		for _, x := range p.change {
			affected = append(affected, store.Affected{PersonID: x.ID})
			changes.add(x.Address, "", words(p.changes[x.ID]))
		}
		gone, err := w.departAll(ctx, t, a, p.depart)
		if err != nil {
			return err
		}
		for _, x := range gone {
			affected = append(affected, store.Affected{PersonID: x.ID})
			changes.add(x.Address, "here", "departed")
		}
		if err := recordOf(ctx, t, a, now, "people.import", nil, "directory of people", changes.list(), affected); err != nil {
			return err
		}
		if len(p.create)+len(gone) > 0 {
			for _, x := range rule.Attributes() {
				used[x.Path] = true
			}
		}
		return w.follow(ctx, t, a, b, slices.Concat(p.create, moved, gone), sortedKeys(used), "people were imported")
	})
}

// applyChanges writes those who change, and returns which attributes of rules did.
func (w *Workspace) applyChanges(ctx context.Context, t *store.Store, p *plan) (used map[string]bool, moved []store.Person, err error) {
	used = map[string]bool{}
	ids := make([]uuid.UUID, len(p.change))
	for i, x := range p.change {
		ids[i] = x.ID
	}
	now, err := t.LockPeople(ctx, ids)
	if err != nil {
		return nil, nil, err
	}
	moved = slices.Clone(p.change)
	var renamed []store.Person
	for _, x := range moved {
		before := now[x.ID]
		if before.Version != p.before[x.ID].Version {
			return nil, nil, fail(Stale, "Somebody changed %s while the file was read. Import it again.", x.Name)
		}
		if x.Name != before.Name {
			renamed = append(renamed, x)
		}
		for _, path := range changedPaths(before, x) {
			used[path] = true
		}
	}
	return used, moved, t.SavePeople(ctx, moved, renamed)
}

// departAll lets people depart who are not in the file, and returns them as they are
// then. One who has left meanwhile is left out.
func (w *Workspace) departAll(ctx context.Context, t *store.Store, a Actor, people []store.Person) ([]store.Person, error) {
	ids := make([]uuid.UUID, len(people))
	for i, x := range people {
		ids[i] = x.ID
	}
	now, err := t.LockPeople(ctx, ids)
	if err != nil {
		return nil, err
	}
	var gone []store.Person
	administrators := 0
	for _, x := range people {
		p := now[x.ID]
		if !p.Active {
			continue
		}
		if p.WorkspaceRole == Administrator {
			administrators++
			if err := keepAdministrators(ctx, t, p, administrators); err != nil {
				return nil, err
			}
		}
		gone = append(gone, p)
	}
	return gone, w.depart(ctx, t, a, gone, store.Person{})
}

// words says in brief what changed.
func words(changes []api.FieldChange) string {
	parts := make([]string, len(changes))
	for i, c := range changes {
		b, _ := json.Marshal(c.To)
		parts[i] = fmt.Sprintf("%s: %s", c.Field, strings.Trim(string(b), `"`))
	}
	return strings.Join(parts, ", ")
}
