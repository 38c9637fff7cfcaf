package life

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/core/access"
	"ivytable.example/ivytable/internal/core/event"
	"ivytable.example/ivytable/internal/core/lifecycle"
	"ivytable.example/ivytable/internal/core/mailaddr"
	"ivytable.example/ivytable/internal/core/rule"
	"ivytable.example/ivytable/internal/store"
	"ivytable.example/ivytable/internal/workspace"
	"ivytable.example/ivytable/internal/workspace/member"
)

// Terms returns how long groups live.
func (s *Service) Terms(ctx context.Context, by workspace.Actor) (api.Terms, error) {
	if err := by.Allow(access.ReadTerms); err != nil {
		return api.Terms{}, err
	}
	v := s.k.View(ctx, by)
	t, err := v.Terms()
	if err != nil {
		return api.Terms{}, err
	}
	out, err := shape(v, t.Terms, t.Version)
	if err != nil {
		return out, err
	}
	held, err := v.Read.GroupsByRule()
	for i := range out.Rules {
		out.Rules[i].Groups = held[out.Rules[i].Name]
	}
	return out, err
}

func shape(v *workspace.View, t store.Terms, version int) (api.Terms, error) {
	out := api.Terms{Rules: []api.TermRule{}, Notices: t.Notices, RecoveryDays: t.RecoveryDays, AddressDays: t.AddressDays, Managers: t.Managers, Caretakers: []api.Caretaker{}, TimeZone: t.TimeZone, Version: version}
	for _, r := range t.Rules {
		out.Rules = append(out.Rules, api.TermRule{Name: r.Name, Filter: r.Filter, Length: r.Length, Notices: r.Notices, RenewedBy: r.RenewedBy})
	}
	for _, c := range t.Caretakers {
		state, err := v.StateOfCaretaker(c.Address)
		if err != nil {
			return out, err
		}
		out.Caretakers = append(out.Caretakers, api.Caretaker{Address: c.Address, Filter: c.Filter, State: state})
	}
	return out, nil
}

// stored is what is kept of terms that were given.
func stored(t api.Terms) store.Terms {
	out := store.Terms{Rules: []store.TermRule{}, Notices: t.Notices, RecoveryDays: t.RecoveryDays, AddressDays: t.AddressDays, Managers: t.Managers, TimeZone: t.TimeZone}
	for _, r := range t.Rules {
		length := strings.TrimSpace(r.Length)
		if l, f := lifecycle.ParseLength(length); f == nil {
			length = l.String()
		}
		out.Rules = append(out.Rules, store.TermRule{Name: strings.Join(strings.Fields(r.Name), " "), Filter: strings.TrimSpace(r.Filter), Length: length, Notices: r.Notices, RenewedBy: r.RenewedBy})
	}
	for _, c := range t.Caretakers {
		out.Caretakers = append(out.Caretakers, store.Caretaker{Address: strings.TrimSpace(c.Address), Filter: strings.TrimSpace(c.Filter)})
	}
	return out
}

// check reads terms that were given.
func check(v *workspace.View, given api.Terms) (workspace.Terms, error) {
	var p workspace.Problems
	s := stored(given)
	out, err := workspace.NewTerms(s, 0)
	if err != nil || s.TimeZone == "" || s.TimeZone == "Local" {
		p.Add("time_zone", s.TimeZone, "There is no time zone %q. Write its IANA name, such as UTC or Atlantic/Faroe.", workspace.Cut(s.TimeZone, 60))
		out.Life.Zone = time.UTC
	}
	for i, r := range s.Rules {
		if _, f := lifecycle.ParseLength(r.Length); f != nil {
			p.Add(fmt.Sprintf("rules[%d].length", i), workspace.Cut(r.Length, 60), "%s", f.Words())
		}
		filterProblem(&p, fmt.Sprintf("rules[%d].filter", i), r.Filter)
	}
	for _, f := range out.Life.Check(v.Now()) {
		p.Fault(f.Field, nil, f)
	}
	if s.AddressDays < 0 || s.AddressDays > lifecycle.MaxLength {
		p.Add("address_days", s.AddressDays, "Addresses can be kept for 0 to %d days.", lifecycle.MaxLength)
	}
	for i, c := range s.Caretakers {
		field := fmt.Sprintf("caretakers[%d].address", i)
		filterProblem(&p, fmt.Sprintf("caretakers[%d].filter", i), c.Filter)
		a, err := workspace.ParseAddress("address", c.Address)
		if err != nil {
			p.Add(field, workspace.Cut(c.Address, 100), "%s", err.Error())
			continue
		}
		state, err := v.StateOfCaretaker(c.Address)
		if err != nil {
			return out, err
		}
		if here, err := v.OfWorkspace(a); err != nil {
			return out, err
		} else if here && state != "reads" {
			p.Add(field, workspace.Cut(c.Address, 100), "Nobody reads mail to %s here. Name somebody of the workspace, or a group that lives.", workspace.Cut(c.Address, 100))
		}
	}
	return out, p.Err()
}

func filterProblem(p *workspace.Problems, field, text string) {
	if _, err := workspace.ParseTermFilter(text); err != nil {
		p.Add(field, workspace.Cut(text, 200), "%s", workspace.Words(err))
	}
}

// SetTerms puts terms in force and gives every living group its date by them. It reads
// every living group: a declared full review.
func (s *Service) SetTerms(ctx context.Context, by workspace.Actor, given api.Terms, version int) (api.Terms, error) {
	if err := by.Allow(access.ChangeTerms); err != nil {
		return api.Terms{}, err
	}
	next, err := check(s.k.View(ctx, by), given)
	if err != nil {
		return api.Terms{}, err
	}
	var out api.Terms
	err = workspace.ChangeSetting(ctx, s.k, by, access.ChangeTerms, workspace.TermsSetting, "how long groups live", version, workspace.DefaultTerms(), func(c *workspace.Change, before store.Terms, current int) error {
		was, err := workspace.NewTerms(before, current+1)
		if err != nil {
			return err
		}
		m, err := review(c, was, next)
		if err != nil {
			return err
		}
		changed := differences(before, next.Terms)
		from, err := shape(&c.View, before, current+1)
		if err != nil {
			return err
		}
		fact := event.ExpiryChanged{Before: event.Was(from, current+2), Changed: changed, Effect: c.Report.Says}
		for _, x := range slices.Backward(changed) {
			c.Report.Effects = append([]api.Effect{{Field: x.Field, From: x.From, To: x.To}}, c.Report.Effects...)
		}
		if c.Previewing() {
			return nil
		}
		if err := c.Tx.SaveSetting(workspace.TermsSetting, next.Terms, current+1); err != nil {
			return err
		}
		if err := c.RecordWhole(fact); err != nil {
			return err
		}
		if err := m.apply(c, next); err != nil {
			return err
		}
		if err := askCaretakers(c, before, next.Terms); err != nil {
			return err
		}
		out, err = shape(&c.View, next.Terms, current+2)
		for i := range out.Rules {
			out.Rules[i].Groups = m.taken[i]
		}
		return err
	})
	return out, err
}

// differences returns what changes, in words of the history.
func differences(a, b store.Terms) []event.Change {
	var out []event.Change
	add := func(field, from, to string) {
		if from != to {
			out = append(out, event.Change{Field: field, From: from, To: to})
		}
	}
	says := func(r store.TermRule) string {
		out := r.Length
		if r.Filter != "" {
			out += " where " + r.Filter
		}
		if len(r.Notices) > 0 {
			out += ", told " + lifecycle.Leads(r.Notices).String() + " days before"
		}
		if len(r.RenewedBy) > 0 {
			out += ", renewed by " + strings.Join(r.RenewedBy, " and ")
		}
		return out
	}
	named := func(all []store.TermRule, name string) string {
		for _, r := range all {
			if r.Name == name {
				return says(r)
			}
		}
		return ""
	}
	order := func(all, others []store.TermRule) string { // of those that are in both
		var out []string
		for _, r := range all {
			if named(others, r.Name) != "" {
				out = append(out, r.Name)
			}
		}
		return strings.Join(out, ", ")
	}
	caretakers := func(all []store.Caretaker) string {
		var parts []string
		for _, c := range all {
			says := c.Address
			if c.Filter != "" {
				says += " where " + c.Filter
			}
			parts = append(parts, says)
		}
		return strings.Join(parts, "; ")
	}
	for _, r := range a.Rules {
		add("rule "+r.Name, says(r), named(b.Rules, r.Name))
	}
	for _, r := range b.Rules {
		if named(a.Rules, r.Name) == "" {
			add("rule "+r.Name, "", says(r))
		}
	}
	add("order of the rules", order(a.Rules, b.Rules), order(b.Rules, a.Rules))
	add("notices", lifecycle.Leads(a.Notices).String(), lifecycle.Leads(b.Notices).String())
	add("recovery_days", fmt.Sprint(a.RecoveryDays), fmt.Sprint(b.RecoveryDays))
	add("address_days", fmt.Sprint(a.AddressDays), fmt.Sprint(b.AddressDays))
	add("managers", fmt.Sprint(a.Managers), fmt.Sprint(b.Managers))
	add("caretakers", caretakers(a.Caretakers), caretakers(b.Caretakers))
	add("time_zone", a.TimeZone, b.TimeZone)
	return out
}

// moves are the groups whose term changes.
type moves struct {
	all   []moved
	taken []int // groups for which each rule holds
	apart bool  // it is no part of a change that was recorded as a whole
}

type moved struct {
	store.TermOf
	to      lifecycle.Life
	notices []store.NoticeAsked // of those whose notice counts for another end
}

// review works out the life of every living group under terms, and says how that differs from what it is.
func review(c *workspace.Change, was, next workspace.Terms) (moves, error) {
	filters, err := c.TermFilters(next)
	if err != nil {
		return moves{}, err
	}
	groups, err := c.Tx.LockTerms(c.FilterTime(next), filters, nil)
	if err != nil {
		return moves{}, err
	}
	m := moves{taken: make([]int, len(next.Rules))}
	named := make([]int, len(next.Rules))
	over := make([]map[int]int, len(next.Rules)) // by rule: which earlier ones take what it names
	for _, g := range groups {
		first := g.First()
		for i, is := range g.Named {
			if !is || g.Life.Exempt {
				continue
			}
			if named[i]++; i != first {
				if over[i] == nil {
					over[i] = map[int]int{}
				}
				over[i][first]++
			}
		}
		if first >= 0 && !g.Life.Exempt {
			m.taken[first]++
		}
	}
	if m.all, err = relive(&c.View, next, groups); err != nil {
		return m, err
	}
	n := newTally(c, was, next, groups, m.all)
	if err := n.letters(); err != nil {
		return m, err
	}
	n.rules(named, m.taken, over)
	n.tell()
	return m, nil
}

// relive returns those of the groups whose life is another one under terms.
func relive(v *workspace.View, t workspace.Terms, groups []store.TermOf) ([]moved, error) {
	now := v.Now()
	ruleOf := func(g store.TermOf) *lifecycle.Rule {
		if i := g.First(); i >= 0 {
			return &t.Life.Rules[i]
		}
		return nil
	}
	var doubtful []uuid.UUID // those of which it matters whether their owners were told
	for _, g := range groups {
		t.Life.Under(g.Life, ruleOf(g), now, func(time.Time) bool {
			doubtful = append(doubtful, g.ID)
			return false
		})
	}
	notices, err := v.Read.Notices(doubtful)
	if err != nil {
		return nil, err
	}
	var out []moved
	for _, g := range groups {
		if g.Life.Over(now) {
			continue // its time ran out; new rules do not bring it back
		}
		to := t.Life.Under(g.Life, ruleOf(g), now, t.Told(g.Life.Renewed, notices[g.ID]))
		if to != g.Life {
			out = append(out, moved{g, to, notices[g.ID]})
		}
	}
	return out, nil
}

// apply gives groups their lives, writes it into their histories, and tells the owners of those that end earlier.
func (m moves) apply(c *workspace.Change, t workspace.Terms) error {
	lives := make(map[uuid.UUID]lifecycle.Life, len(m.all))
	for _, x := range m.all {
		lives[x.ID] = x.to
	}
	if err := c.Tx.SetTerms(lives); err != nil {
		return err
	}
	var nearer []uuid.UUID
	for _, x := range m.all {
		if x.nearer(c.Now()) {
			nearer = append(nearer, x.ID)
		}
	}
	to, err := c.RecipientsOf(nearer)
	if err != nil {
		return err
	}
	for _, x := range m.all {
		if err := c.Carry(t, x.ID, x.Life, x.to, x.notices); err != nil {
			return err
		}
		if x.to.Expires.Equal(x.Life.Expires) {
			continue
		}
		g := store.Group{ID: x.ID, Name: x.Name, Address: x.Address, Language: x.Language}
		record := c.RecordPart
		if m.apart {
			record = func(f event.Fact, g *store.Group) error { return c.Record(f, g) }
		}
		if err := record(x.fact(t), &g); err != nil {
			return err
		}
		if len(to[x.ID]) == 0 {
			continue
		}
		l := c.GroupLetter(workspace.LetterNearer, &g, workspace.GroupPath(&g, "term"), map[string]string{"date": workspace.DateIn(g.Language, x.to.Expires.In(t.Life.Zone)), "was": dateOr(t, g.Language, x.Life.Expires), "rule": x.to.Rule})
		if err := c.Send(&g, to[x.ID], l); err != nil {
			return err
		}
	}
	return nil
}

// nearer reports whether the end of a group comes earlier, and not so near that the first notice tells of it at once.
func (x moved) nearer(now time.Time) bool {
	return !x.to.Expires.IsZero() && (x.Life.Expires.IsZero() || x.to.Expires.Before(x.Life.Expires)) && now.Before(x.to.Due)
}

// fact is what the history says of it.
func (x moved) fact(t workspace.Terms) event.TermMoved {
	return event.TermMoved{From: t.Date(x.Life.Expires), To: t.Date(x.to.Expires), RuleFrom: x.Life.Rule, Rule: x.to.Rule}
}

// dateOr is a date in a language; "" for never.
func dateOr(t workspace.Terms, language string, at time.Time) string {
	if at.IsZero() {
		return ""
	}
	return workspace.DateIn(language, at.In(t.Life.Zone))
}

// askCaretakers writes to those outside the workspace who are newly named and have not agreed.
func askCaretakers(c *workspace.Change, before, t store.Terms) error {
	for _, x := range t.Caretakers {
		if slices.ContainsFunc(before.Caretakers, func(b store.Caretaker) bool { return strings.EqualFold(b.Address, x.Address) }) {
			continue
		}
		a, err := mailaddr.Parse(x.Address)
		if err != nil {
			continue // it was checked
		}
		if state, err := c.StateOfCaretaker(x.Address); err != nil || state == "reads" {
			if err != nil {
				return err
			}
			continue
		}
		secret, hash := member.NewSecret()
		if err := c.Tx.SaveCaretakerProof(store.CaretakerProof{AddrKey: a.Key(), Hash: hash, AskedAt: c.Now()}); err != nil {
			return err
		}
		l := c.Letter(workspace.LetterCaretaker, "en", "/caretaker/"+secret, map[string]string{"by": c.By.Name(), "address": a.String()})
		if err := c.Send(nil, []string{a.String()}, l); err != nil {
			return err
		}
	}
	return nil
}

// Try says which rule takes a group, and why: of those in force, or of those that are given.
func (s *Service) Try(ctx context.Context, by workspace.Actor, n api.TermTrial) (api.TermTried, error) {
	none := api.TermTried{}
	if err := by.Allow(access.ReadTerms); err != nil {
		return none, err
	}
	v := s.k.View(ctx, by)
	g, err := v.FindGroup(n.Group, access.ReadGroup)
	if err != nil {
		return none, err
	}
	t, err := v.Terms()
	if err != nil {
		return none, err
	}
	if n.Terms != nil {
		if t, err = check(v, *n.Terms); err != nil {
			return none, err
		}
	}
	filters, err := v.TermFilters(t)
	if err != nil {
		return none, err
	}
	facts, err := factsOf(v, &g.Group)
	if err != nil {
		return none, err
	}
	out := api.TermTried{Steps: []api.TermStep{}}
	var takes *lifecycle.Rule
	for i, r := range t.Life.Rules {
		step := api.TermStep{Rule: r.Name, Names: true, Why: []string{"It names all groups."}}
		if f := filters[i]; f != nil {
			why := f.Explain(facts)
			step.Names, step.Why = why.Verdict == rule.Match, []string{}
			for _, p := range why.Parts {
				says := p.Text + " holds."
				if p.Verdict != rule.Match {
					says = p.Text + " does not hold. " + p.Says
				}
				step.Why = append(step.Why, strings.TrimSpace(says))
			}
		}
		if step.Names && takes == nil {
			step.Takes, takes = true, &t.Life.Rules[i]
		}
		out.Steps = append(out.Steps, step)
	}
	switch {
	case g.Exempt != "":
		out.Says = fmt.Sprintf("%s is exempt: no rule is for it.", g.Name)
		return out, nil
	case takes == nil:
		out.Says = fmt.Sprintf("No rule names %s: it has no end.", g.Name)
		return out, nil
	}
	out.Rule = takes.Name
	if v.Ended(&g.Group) {
		out.Says = fmt.Sprintf("%s has ended. %s would take it, were it restored.", g.Name, takes.Name)
		return out, nil
	}
	notices, err := v.Read.Notices([]uuid.UUID{g.ID})
	if err != nil {
		return none, err
	}
	life := t.Life.Under(g.Life(), takes, v.Now(), t.Told(g.RenewedAt, notices[g.ID]))
	out.ExpiresOn = t.Date(life.Expires)
	out.Says = fmt.Sprintf("%s takes %s: it has no end.", takes.Name, g.Name)
	if out.ExpiresOn != "" {
		out.Says = fmt.Sprintf("%s takes %s: it expires on %s.", takes.Name, g.Name, workspace.DateIn("en", life.Expires.In(t.Life.Zone)))
	}
	return out, nil
}

// byEnd sorts moved groups: those that end soonest first, those without an end last.
func byEnd(a, b moved) int {
	if a.to.Expires.IsZero() != b.to.Expires.IsZero() {
		return cmp.Compare(b.to.Expires.Unix(), a.to.Expires.Unix())
	}
	return cmp.Or(a.to.Expires.Compare(b.to.Expires), strings.Compare(a.Address, b.Address))
}
