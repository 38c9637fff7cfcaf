package workspace

import (
	"context"
	"encoding/base64"
	"encoding/json"
	"errors"
	"hash/fnv"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/core/access"
	"ivytable.example/ivytable/internal/core/admission"
	"ivytable.example/ivytable/internal/core/mailaddr"
	"ivytable.example/ivytable/internal/store"
)

// View is what a use case looks with: who asks, when, and the records as they are. The
// records of a View are read through the pool, those of a [Change] within it.
type View struct {
	Ctx  context.Context
	By   Actor
	Read *store.Reads

	now       time.Time
	clock     func() time.Time // of a change: asked once
	publicURL string
	domains   []string
	shown     []string       // attributes that colleagues see
	own       []OwnAttribute // that the organisation keeps; nil: not read yet
	terms     *Terms
	outsiders *admission.Outside // what the workspace says of them; nil: not read yet
	open      *bool              // it has public pages; nil: not read yet
	helpers   helpers            // in which areas people help
	zone      *time.Location
	began     time.Time // in the real time
}

// hush is how long it takes at least to say that something is not there.
const hush = 12 * time.Millisecond

// Hush waits until it tells nothing how long it took to find out that something is not
// there, or that somebody may not know of it.
func (v *View) Hush() { time.Sleep(time.Until(v.began.Add(hush))) }

// Now returns the time in the workspace, UTC, in whole microseconds. It is fixed: in a
// change when it is first asked for, which is after the locks.
func (v *View) Now() time.Time {
	if v.now.IsZero() {
		v.now = v.clock()
	}
	return v.now
}

// Link returns the address of a page of the console.
func (v *View) Link(path string) string { return v.publicURL + path }

// Domains returns the mail domains of the workspace, the main one first.
func (v *View) Domains() ([]string, error) {
	if v.domains == nil {
		var err error
		if v.domains, err = v.Read.Domains(); err != nil {
			return nil, err
		}
	}
	return v.domains, nil
}

// Asked reads at once all that the decision asks about mail by somebody ("" where that is not known yet) to an address of a group: the
// group, where the author stands with it, and the mail domains.
func (v *View) Asked(address, author string) (store.Group, store.Standing, error) {
	return v.asked(v.Read.AskedOf(address, author))
}

// AskedLately is Asked of nobody yet, for an answer that is decided about again: what another process changed shows within five
// seconds. Whether an address is of no group is never kept.
func (v *View) AskedLately(address string) (store.Group, error) {
	g, _, err := v.asked(v.Read.AskedLately(address))
	return g, err
}

// Told takes over what was asked together with others.
func (v *View) Told(a store.Asked) { v.domains = a.Domains }

func (v *View) asked(a store.Asked, err error) (store.Group, store.Standing, error) {
	if err == nil {
		v.Told(a)
	}
	return a.Group, a.Author, err
}

// Ended reports whether a group's life is over, also where nobody has come by to say so
// yet.
func (v *View) Ended(g *store.Group) bool { return g.Life().Over(v.Now()) }

// Alive is the error for what only a living group takes, nil for one that lives.
func (v *View) Alive(g *store.Group) error {
	if v.Ended(g) {
		return Fail(Conflict, "%s has ended. Restore it first.", g.Name)
	}
	return nil
}

// Door is a group as the core decides about coming in and going out.
func (v *View) Door(g *store.Group) admission.Door {
	return admission.Door{Name: g.Name, Owners: OwnersOf(g), Ended: v.Ended(g), Policy: &g.Policy, Outside: v.outside(), Public: v.pages()}
}

// Group is a group with where the actor stands with it.
type Group struct {
	store.Group
	Relation access.Relation
}

// May reports whether the actor may do something to a group.
func (v *View) May(do access.Action, g *Group) bool {
	return v.By.Subject().May(do, g.Relation, &g.Policy)
}

// Here checks that the actor is somebody of the workspace who is here, for what they do about
// how they sign in.
func (a Actor) Here() error {
	if a.Person.ID == uuid.Nil || !a.Person.Active || a.Person.External {
		return Fail(SignedOut, "Sign in first.")
	}
	return nil
}

// SignedIn checks that the actor is here and has signed in as the workspace asks, for what
// everybody may do.
func (a Actor) SignedIn() error {
	if err := a.Here(); err != nil {
		return err
	}
	if a.LacksFactor {
		return Fail(NotAllowed, "The workspace asks you to have a second factor. Set one up first.")
	}
	return nil
}

// Allow checks an actor against an action on the workspace.
func (a Actor) Allow(do access.Action) error { return a.AllowHere(do, false) }

// AllowHere is Allow for what those may whom the workspace lets create groups.
func (a Actor) AllowHere(do access.Action, everybodyCreates bool) error {
	if err := a.SignedIn(); err != nil {
		return err
	}
	if !a.Subject().MayHere(do, everybodyCreates) {
		return Fail(NotAllowed, "%s", do.Refusal())
	}
	return nil
}

// ErrNoGroup is the answer for a group that is not there, and for one that the actor
// may not find.
func ErrNoGroup(ref string) error {
	return Fail(NotFound, "There is no group %q that you can find. Check the address, or ask an administrator.", Cut(ref, 100))
}

// FindGroup returns the group that ref, an identifier or an address, names when the
// actor may do something to it.
func (v *View) FindGroup(ref string, do access.Action) (Group, error) {
	if err := v.By.SignedIn(); err != nil {
		return Group{}, err
	}
	g, err := v.LookUp(ref)
	if err != nil {
		return Group{}, err
	}
	return v.allowOn(g, ref, do)
}

// LookUp returns the group that ref names, whether the actor can find it or not: that is for whoever
// calls it to see to.
func (v *View) LookUp(ref string) (store.Group, error) {
	var g store.Group
	id, err := uuid.Parse(ref)
	if err == nil && len(ref) == 36 {
		g, err = v.Read.Group(id)
	} else {
		var a mailaddr.Address
		given := ref
		if domains, err := v.Domains(); err == nil && !strings.Contains(ref, "@") { // the local part alone, as addresses are proposed
			given += "@" + domains[0]
		}
		if a, err = mailaddr.Parse(given); err != nil {
			v.Hush()
			return g, ErrNoGroup(ref)
		}
		g, err = v.Read.GroupByAddress(a.Key())
	}
	if errors.Is(err, store.ErrNotFound) {
		v.Hush()
		return g, ErrNoGroup(ref)
	}
	return g, err
}

// allowOn asks permission for an action on a group. Who may not find the group is told,
// to the letter, that there is none.
func (v *View) allowOn(g store.Group, ref string, do access.Action) (Group, error) {
	r, err := v.RelationOf(v.By.Person, &g)
	if err != nil {
		return Group{}, err
	}
	out := Group{g, r}
	switch {
	case v.May(do, &out):
		return out, nil
	case v.May(access.ReadGroup, &out):
		return out, Fail(NotAllowed, "%s", do.Refusal())
	}
	v.Hush()
	return Group{}, ErrNoGroup(ref)
}

// RelationOf returns where a person stands with a group, counting nested groups.
func (v *View) RelationOf(p store.Person, g *store.Group) (access.Relation, error) {
	powers, err := v.PowersOf(p, g)
	if err != nil {
		return access.Relation{}, err
	}
	m, err := v.Read.Membership(g.ID, p.ID)
	inside := false
	switch {
	case errors.Is(err, store.ErrNotFound):
		if inside, err = v.Inside(p, g); err != nil {
			return access.Relation{}, err
		}
	case err != nil:
		return access.Relation{}, err
	}
	out := access.RelationOf(m.Role, inside, p.External)
	out.Powers = powers
	return out, nil
}

// Inside reports whether a person is in a group through one that is nested in it.
func (v *View) Inside(p store.Person, g *store.Group) (bool, error) {
	if g.Nested == 0 {
		return false, nil
	}
	above, err := v.Read.Above(p.ID, p.External, v.Now())
	return slices.Contains(above, g.ID), err
}

// RelationsOf is RelationOf for many groups at once, by group.
func (v *View) RelationsOf(p store.Person, groups []uuid.UUID) (map[uuid.UUID]access.Relation, error) {
	out := make(map[uuid.UUID]access.Relation, len(groups))
	if len(groups) == 0 {
		return out, nil
	}
	roles, err := v.Read.Roles(p.ID, groups)
	if err != nil {
		return nil, err
	}
	above, err := v.Read.Above(p.ID, p.External, v.Now())
	if err != nil {
		return nil, err
	}
	in := make(map[uuid.UUID]bool, len(above))
	for _, id := range above {
		in[id] = true
	}
	for _, id := range groups {
		out[id] = access.RelationOf(roles[id], in[id], p.External)
	}
	if helps, err := v.areasOf(p); err != nil || len(helps) == 0 {
		return out, err
	}
	rows, err := v.Read.GroupsByID(groups)
	if err != nil {
		return nil, err
	}
	for id, g := range rows {
		r := out[id]
		if r.Powers, err = v.PowersOf(p, &g); err != nil {
			return nil, err
		}
		out[id] = r
	}
	return out, nil
}

// Visible returns those of some groups that the actor can find, with where the actor
// stands with them.
func (v *View) Visible(ids []uuid.UUID) (map[uuid.UUID]Group, error) {
	groups, err := v.Read.GroupsByID(ids)
	if err != nil {
		return nil, err
	}
	relations, err := v.RelationsOf(v.By.Person, ids)
	if err != nil {
		return nil, err
	}
	out := make(map[uuid.UUID]Group, len(groups))
	for id, g := range groups {
		if x := (Group{g, relations[id]}); v.May(access.ReadGroup, &x) {
			out[id] = x
		}
	}
	return out, nil
}

// Reads reports whether mail to an address of the workspace is read: by somebody who is here, or
// by the people of a group that lives.
func (v *View) Reads(address string) (bool, error) {
	a, err := mailaddr.Parse(address)
	if err != nil {
		return false, nil
	}
	p, err := v.Read.PersonByKey(a.Key())
	if err == nil {
		return p.Active && !p.External, nil
	} else if !errors.Is(err, store.ErrNotFound) {
		return false, err
	}
	g, err := v.Read.GroupByAddress(a.Key())
	if errors.Is(err, store.ErrNotFound) {
		return false, nil
	}
	return err == nil && !v.Ended(&g), err
}

// Cursor reads the cursor of a list. what are the filter and the order of the list: a
// cursor of another list is refused.
func (v *View) Cursor(given string, what ...any) (store.Cursor, error) {
	h := fnv.New64a()
	_ = json.NewEncoder(h).Encode(what)
	of := base64.RawURLEncoding.EncodeToString(h.Sum(nil))
	if given == "" {
		return store.Cursor{Of: of}, nil
	}
	c, err := store.ParseCursor(given)
	switch {
	case err != nil:
		return c, Wrong("cursor", Cut(given, 100), "%s.", UpperFirst(err.Error()))
	case c.Of != of:
		return c, Wrong("cursor", Cut(given, 100), "This cursor belongs to a list with another filter or order. Begin that list from its start.")
	}
	return c, nil
}

// UpperFirst writes the first letter of a sentence large.
func UpperFirst(s string) string {
	if s != "" && s[0] >= 'a' && s[0] <= 'z' {
		return string(s[0]-'a'+'A') + s[1:]
	}
	return s
}

// Zone is the time zone in which the workspace counts days; UTC where it can't be read.
// A change of it by another process is seen within five seconds.
func (v *View) Zone() *time.Location {
	if v.zone != nil {
		return v.zone
	}
	v.zone = time.UTC
	e := DefaultTerms()
	if v.terms != nil {
		v.zone = v.terms.Life.Zone
	} else if _, err := v.Read.CachedSetting(TermsSetting, &e); err == nil {
		if zone, err := time.LoadLocation(e.TimeZone); err == nil {
			v.zone = zone
		}
	}
	return v.zone
}

// In gives a moment the offset of the workspace's zone, so that its date is the day that
// the workspace counts. The zero time stays.
func (v *View) In(t time.Time) time.Time {
	if t.IsZero() {
		return t
	}
	return t.In(v.Zone())
}

// InPtr is In for a moment that may be missing.
func (v *View) InPtr(t *time.Time) *time.Time {
	if t == nil {
		return nil
	}
	at := v.In(*t)
	return &at
}

// LastDay is the day before a moment at which something ends, in the zone of the workspace; "" for
// what does not end.
func (v *View) LastDay(ends *time.Time) string {
	if ends == nil {
		return ""
	}
	return ends.In(v.Zone()).Add(-time.Nanosecond).Format(time.DateOnly)
}
