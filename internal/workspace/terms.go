package workspace

import (
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/core/fault"
	"ivytable.example/ivytable/internal/core/filter"
	"ivytable.example/ivytable/internal/core/lifecycle"
	"ivytable.example/ivytable/internal/core/mailaddr"
	"ivytable.example/ivytable/internal/core/rule"
	"ivytable.example/ivytable/internal/store"
)

// Terms is how long groups live, as it is in force.
type Terms struct {
	store.Terms
	Life    lifecycle.Terms
	Version int
}

// TermsSetting is the name under which it is kept.
const TermsSetting = "terms"

// DefaultTerms is how long groups live until that is set: they never expire.
func DefaultTerms() store.Terms {
	return store.Terms{Notices: lifecycle.DefaultNotices(), RecoveryDays: lifecycle.DefaultRecovery, AddressDays: 90, TimeZone: "UTC"}
}

// NewTerms makes the terms of the core from what is stored.
func NewTerms(t store.Terms, version int) (Terms, error) {
	out := Terms{Terms: t, Version: version, Life: lifecycle.Terms{Notices: t.Notices, Recovery: t.RecoveryDays}}
	for _, r := range t.Rules {
		length, _ := lifecycle.ParseLength(r.Length) // it was checked when it was set
		rule := lifecycle.Rule{Name: r.Name, Length: length, Notices: r.Notices}
		for _, x := range r.RenewedBy {
			rule.RenewedBy = append(rule.RenewedBy, lifecycle.Renewer(x))
		}
		out.Life.Rules = append(out.Life.Rules, rule)
	}
	var err error
	out.Life.Zone, err = time.LoadLocation(t.TimeZone)
	return out, err
}

// Terms returns how long groups live.
func (v *View) Terms() (Terms, error) { return v.readTerms(v.Read.Setting) }

// HoldTerms is Terms for a change that goes by it without the lock of a living group: it
// stays as it is until the change ends.
func (c *Change) HoldTerms() (Terms, error) {
	c.terms = nil
	return c.readTerms(c.Tx.RLockSetting)
}

// ShownTerms is Terms for a list of groups: a change by another process is seen
// within five seconds.
func (v *View) ShownTerms() (Terms, error) { return v.readTerms(v.Read.CachedSetting) }

func (v *View) readTerms(read func(string, any) (int, error)) (Terms, error) {
	if v.terms != nil {
		return *v.terms, nil
	}
	e := DefaultTerms()
	version, err := read(TermsSetting, &e)
	if err != nil {
		return Terms{}, err
	}
	out, err := NewTerms(e, version+1) // one that was never set has an ETag too
	if err == nil {
		v.terms = &out
	}
	return out, err
}

// Date writes the day of a moment in the workspace's zone, such as 2027-01-02; "" for the
// zero time and for never.
func (e Terms) Date(t time.Time) string {
	if t.IsZero() || !t.Before(store.Forever) {
		return ""
	}
	return e.Life.Day(t).Format(time.DateOnly)
}

// LookAgain reads the day on which to look again at why groups are exempt; its first moment.
func (t Terms) LookAgain(now time.Time, field, day string) (*time.Time, error) {
	if _, err := time.Parse(time.DateOnly, day); err != nil {
		return nil, Wrong(field, Cut(day, 40), "Write the day on which to look again as 2027-03-31.")
	}
	at := t.Life.Day(t.Life.Noon(day)).UTC()
	if t.Life.Days(now, at) < 1 {
		return nil, Wrong(field, day, "%s is past. Choose a day to come.", day)
	}
	return &at, nil
}

// UnknownToTerms is what the filter of a term rule can't ask about: what it decides.
var UnknownToTerms = []string{"state", "expires_on", "days_left", "renewed_at", "ended_at", "exempt", "exempt_until", "term_rule", "under_hold", "finding"}

// ParseTermFilter reads the filter of a term rule or a caretaker; nil for "", which names all groups.
func ParseTermFilter(text string) (*rule.Rule, error) {
	if strings.TrimSpace(text) == "" {
		return nil, nil
	}
	r, err := filter.Groups.Parse(text)
	if err != nil {
		return nil, err
	}
	for _, a := range r.Attributes() {
		if slices.Contains(UnknownToTerms, a.Path) {
			f := fault.New("filter", "Ask about who owns the group, where it is, who is in it, what it does or how it is used.", "A rule can't ask about %s, which it decides.", a.Path)
			f.At = r.Place(a)
			return nil, f
		}
	}
	return r, nil
}

// TermFilters reads the filters of the rules. One that asks about what is no more names none.
func (v *View) TermFilters(t Terms) ([]*rule.Rule, error) {
	texts := make([]string, len(t.Rules))
	for i, r := range t.Rules {
		texts[i] = r.Filter
	}
	return v.filters(texts)
}

var noGroup = func() *rule.Rule {
	r, err := filter.Groups.Parse("owners lt 0")
	if err != nil {
		panic(err)
	}
	return r
}()

func (v *View) filters(texts []string) ([]*rule.Rule, error) {
	out := make([]*rule.Rule, len(texts))
	for i, text := range texts {
		r, err := ParseTermFilter(text)
		if err != nil {
			out[i] = noGroup
			continue
		}
		if out[i] = r; r == nil {
			continue
		}
		if err := v.follow(r); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// RulesFor returns the rule that holds for each of some groups, as they are by now; none where none does.
func (v *View) RulesFor(t Terms, groups []uuid.UUID) (map[uuid.UUID]*lifecycle.Rule, error) {
	filters, err := v.TermFilters(t)
	if err != nil {
		return nil, err
	}
	named, err := v.Read.NamedBy(v.FilterTime(t), filters, groups)
	out := map[uuid.UUID]*lifecycle.Rule{}
	for id, i := range named {
		out[id] = &t.Life.Rules[i]
	}
	return out, err
}

// Told is what [lifecycle.Terms.Under] asks about a group, of which the notices were read.
func (t Terms) Told(renewed time.Time, notices []store.NoticeAsked) func(end time.Time) bool {
	return func(end time.Time) bool { return t.Life.Told(end, Since(renewed, notices)) }
}

// Since returns the notices that were asked for since a group was renewed, as the core decides by them.
func Since(renewed time.Time, notices []store.NoticeAsked) (out []lifecycle.Notice) {
	for _, n := range notices {
		if !n.AskedAt.Before(renewed) {
			out = append(out, n.Core())
		}
	}
	return out
}

// Relive gives groups that are locked their lives by the rules that hold for them now: from now on where they are renewed,
// else by their last renewal.
func (c *Change) Relive(renew bool, groups ...*store.Group) error {
	t, err := c.Terms()
	if err != nil {
		return err
	}
	ids := make([]uuid.UUID, len(groups))
	for i, g := range groups {
		ids[i] = g.ID
	}
	rules, err := c.RulesFor(t, ids)
	if err != nil {
		return err
	}
	var notices map[uuid.UUID][]store.NoticeAsked
	if !renew {
		if notices, err = c.Read.Notices(ids); err != nil {
			return err
		}
	}
	for _, g := range groups {
		if renew {
			g.SetLife(t.Life.Renew(g.Life(), rules[g.ID], c.Now()))
			continue
		}
		life := t.Life.Under(g.Life(), rules[g.ID], c.Now(), t.Told(g.RenewedAt, notices[g.ID]))
		if err := c.Carry(t, g.ID, g.Life(), life, notices[g.ID]); err != nil {
			return err
		}
		g.SetLife(life)
	}
	return nil
}

// Carry lets the notice of an end count for the one that is in its place, where it was in time for it.
func (c *Change) Carry(t Terms, group uuid.UUID, was, is lifecycle.Life, notices []store.NoticeAsked) error {
	if is.Expires.IsZero() || is.Expires.Equal(was.Expires) || c.Now().Before(is.Due) || slices.ContainsFunc(notices, func(n store.NoticeAsked) bool { return n.First && n.ExpiresAt.Equal(is.Expires) }) {
		return nil
	}
	for _, n := range notices {
		if !n.AskedAt.Before(is.Renewed) && t.Life.Told(is.Expires, []lifecycle.Notice{n.Core()}) {
			return c.Tx.AskNotices([]store.Notice{{GroupID: group, ExpiresAt: is.Expires, Day: n.Day, First: true, AskedAt: n.AskedAt, GivenAt: n.Given, Written: true}})
		}
	}
	return nil
}

// NoticeRecipients returns who is told about a group: its active owners, else the
// caretaker, else the administrators.
func (v *View) NoticeRecipients(g *store.Group) ([]string, error) {
	all, err := v.RecipientsOf([]uuid.UUID{g.ID})
	return all[g.ID], err
}

// RecipientsOf is NoticeRecipients for several groups.
func (v *View) RecipientsOf(groups []uuid.UUID) (map[uuid.UUID][]string, error) {
	owners, err := v.Read.Owners(groups)
	if err != nil {
		return nil, err
	}
	out := map[uuid.UUID][]string{}
	var without []uuid.UUID
	for _, id := range groups {
		for _, o := range owners[id] {
			if o.Active {
				out[id] = append(out[id], o.Address)
			}
		}
		if len(out[id]) == 0 {
			without = append(without, id)
		}
	}
	if len(without) == 0 {
		return out, nil
	}
	cared, err := v.CaretakersOf(without)
	for id, to := range cared {
		out[id] = to
	}
	return out, err
}

// CaretakersOf returns who is told about groups that nobody owns, by group: the first caretaker whose filter names the
// group and whose mail is read, else the administrators.
func (v *View) CaretakersOf(groups []uuid.UUID) (map[uuid.UUID][]string, error) {
	t, err := v.Terms()
	if err != nil {
		return nil, err
	}
	var texts, to []string
	for _, c := range t.Caretakers {
		address, err := v.takesCare(c.Address)
		if err != nil {
			return nil, err
		}
		if address != "" {
			texts, to = append(texts, c.Filter), append(to, address)
		}
	}
	filters, err := v.filters(texts)
	if err != nil {
		return nil, err
	}
	named, err := v.Read.NamedBy(v.FilterTime(t), filters, groups)
	if err != nil {
		return nil, err
	}
	out := make(map[uuid.UUID][]string, len(groups))
	var administrators []string
	for _, id := range groups {
		if i, found := named[id]; found {
			out[id] = []string{to[i]}
			continue
		}
		if administrators == nil {
			if administrators, err = v.Read.Administrators(); err != nil {
				return nil, err
			}
		}
		out[id] = administrators
	}
	return out, nil
}

// Caretakers returns who is told about a group that nobody owns.
func (v *View) Caretakers(g *store.Group) ([]string, error) {
	all, err := v.CaretakersOf([]uuid.UUID{g.ID})
	return all[g.ID], err
}

// takesCare returns the address at which a caretaker is written to, "" where nobody reads it: somebody of the workspace
// may have another one by now, and one outside it has to have agreed.
func (v *View) takesCare(address string) (string, error) {
	reads, err := v.Reads(address)
	if err != nil {
		return "", err
	}
	a, failed := mailaddr.Parse(address)
	if failed != nil {
		return "", nil
	}
	if !reads {
		proofs, err := v.Read.CaretakerProofs([]string{a.Key()})
		if p := proofs[a.Key()]; err == nil && p.ConfirmedAt != nil {
			return address, nil
		}
		return "", err
	}
	if p, err := v.Read.PersonByKey(a.Key()); err == nil {
		return p.Address, nil
	}
	return address, nil
}

// OfWorkspace reports whether an address is in one of the workspace's mail domains.
func (v *View) OfWorkspace(a mailaddr.Address) (bool, error) {
	domains, err := v.Domains()
	_, domain, _ := strings.Cut(a.Key(), "@")
	return slices.Contains(domains, domain), err
}

// StateOfCaretaker says whether mail to a caretaker is read: reads, or asked where somebody outside has not agreed
// yet, or nobody.
func (v *View) StateOfCaretaker(address string) (string, error) {
	if to, err := v.takesCare(address); err != nil || to != "" {
		return "reads", err
	}
	a, failed := mailaddr.Parse(address)
	if failed != nil {
		return "nobody", nil
	}
	proofs, err := v.Read.CaretakerProofs([]string{a.Key()})
	if _, asked := proofs[a.Key()]; asked {
		return "asked", err
	}
	return "nobody", err
}
