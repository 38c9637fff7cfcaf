package review

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/core/access"
	"ivytable.example/ivytable/internal/core/review"
	"ivytable.example/ivytable/internal/store"
	"ivytable.example/ivytable/internal/workspace"
)

// Query says which findings are asked for.
type Query struct {
	Kinds    []string
	Severity string
	State    string // open, accepted, assigned; "" for all
	Group    string // of this group alone
	Filter   string // of core/filter's Groups
	Mine     bool   // of the actor's own groups, and what is assigned to them, whatever else they may see
	Cursor   string
	Limit    int
}

// naming are the kinds that name other groups: whoever may not find every group sees those alone that were given to them.
var naming = func() (out []string) {
	for _, d := range review.Kinds() {
		if d.NamesOthers() {
			out = append(out, string(d.Kind))
		}
	}
	return out
}()

// read reads a query for an actor: whoever does not see all sees those of their own groups and areas, and what is assigned to them.
func (q Query) read(v *workspace.View) (out store.FindingQuery, err error) {
	if err := v.By.SignedIn(); err != nil {
		return out, err
	}
	var bad workspace.Problems
	for i, k := range q.Kinds {
		bad.OneOf(fmt.Sprintf("kind[%d]", i), k, review.Names()...)
	}
	bad.OneOf("severity", q.Severity, review.Severities...)
	bad.OneOf("state", q.State, "open", "accepted", "assigned")
	if err := bad.Err(); err != nil {
		return out, err
	}
	t, err := v.Terms()
	if err != nil {
		return out, err
	}
	out = store.FindingQuery{Kinds: q.Kinds, State: q.State, Time: v.FilterTime(t), Limit: q.Limit}
	if q.Severity != "" {
		out.Severity = int8(slices.Index(review.Severities, q.Severity) + 1)
	}
	if !v.By.Subject().ReadsAll() {
		out.Reader, out.Naming = v.By.Person.ID, naming
	}
	if q.Group != "" {
		g, err := v.FindGroup(q.Group, access.ReadHistory)
		if err != nil {
			return out, err
		}
		out.Subject = g.ID
		return out, nil
	}
	if q.Mine || !v.By.Subject().ReadsAll() {
		out.Runner = v.By.Person.ID
		if out.Areas, err = v.AreasFor(access.ReadHistory); err != nil {
			return out, err
		}
		out.Areas.Time = out.Time
	}
	out.Filter, err = v.Filter("groups", q.Filter)
	return out, err
}

func (s *Service) shape(v *workspace.View, r store.FindingRow) api.Finding {
	d, _ := review.Describe(review.Kind(r.Kind))
	out := api.Finding{ID: r.ID.String(), Kind: r.Kind, Severity: d.Severity.String(), Title: d.Title, Says: r.Says, Since: v.In(r.Since), State: "open", Mends: mends(d)}
	name := &api.Name{Name: r.Name, Address: r.Address}
	if out.Group = name; d.OfPerson() {
		out.Group, out.Person = nil, name
	}
	if r.AssignedTo != nil {
		out.State = "assigned"
		out.Assigned = &api.Assignment{To: api.Name{Name: r.ToName, Address: r.ToAddress}, By: r.AssignedBy, At: v.InPtr(r.AssignedAt)}
	}
	if r.Accepted(v.Now()) {
		out.State = "accepted"
		out.Accepted = &api.Acceptance{Reason: r.AcceptedWhy, By: r.AcceptedBy, At: v.InPtr(r.AcceptedAt)}
		if r.AcceptedUntil != nil {
			out.Accepted.Until = v.In(*r.AcceptedUntil).Format(time.DateOnly)
		}
	}
	return out
}

func mends(d review.Description) []api.FindingMend {
	out := make([]api.FindingMend, len(d.Mends))
	for i, m := range d.Mends {
		out[i] = api.FindingMend{Do: m.Do, Says: m.Says}
	}
	return out
}

// List returns a page of findings, those that weigh most first.
func (s *Service) List(ctx context.Context, by workspace.Actor, q Query) (api.Page[api.Finding], error) {
	none := api.Page[api.Finding]{}
	v := s.k.View(ctx, by)
	query, err := q.read(v)
	if err != nil {
		return none, err
	}
	if query.After, err = v.Cursor(q.Cursor, "findings", by.Person.ID, q.Kinds, q.Severity, q.State, q.Group, q.Filter, q.Mine); err != nil {
		return none, err
	}
	p, err := v.Read.Findings(query)
	if err != nil {
		return none, workspace.Filtered(err)
	}
	if query.Reader != uuid.Nil {
		if err := unnamed(v, p.Items); err != nil {
			return none, err
		}
	}
	return workspace.Page(p, func(r store.FindingRow) api.Finding { return s.shape(v, r) }), nil
}

// unnamed takes the names of groups that the actor can't find any more out of findings that were given to them.
func unnamed(v *workspace.View, rows []store.FindingRow) error {
	for i := range rows {
		if all, err := finds(v, rows[i].Named()); err != nil {
			return err
		} else if !all {
			rows[i].Says = "It is much like a group that you can't find."
		}
	}
	return nil
}

// finds reports whether an actor finds all of some groups.
func finds(v *workspace.View, groups []uuid.UUID) (bool, error) {
	if len(groups) == 0 || v.By.Subject().ReadsAll() {
		return true, nil
	}
	visible, err := v.Visible(groups)
	return len(visible) == len(groups), err
}

// Kinds returns all kinds with how many findings of each there are, those that weigh most first: of all that the actor sees.
func (s *Service) Kinds(ctx context.Context, by workspace.Actor, q Query) (api.FindingKinds, error) {
	v := s.k.View(ctx, by)
	query, err := q.read(v)
	if err != nil {
		return api.FindingKinds{}, err
	}
	counts, err := v.Read.CountFindings(query)
	if err != nil {
		return api.FindingKinds{}, workspace.Filtered(err)
	}
	settings := Defaults()
	if _, err := v.Read.Setting(LimitsSetting, &settings); err != nil {
		return api.FindingKinds{}, err
	}
	var st store.ReviewState
	if _, err := v.Read.Setting(stateSetting, &st); err != nil {
		return api.FindingKinds{}, err
	}
	before := map[string]int{}
	if by.Subject().ReadsAll() && q.Filter == "" && q.Group == "" && !q.Mine {
		t, err := v.Terms()
		if err != nil {
			return api.FindingKinds{}, err
		}
		days, err := v.Read.FindingDays(t.Date(v.Now().AddDate(0, 0, -8)))
		if err != nil {
			return api.FindingKinds{}, err
		}
		last := ""
		for _, d := range days { // the last day that is a week back or more
			if d.Day <= t.Date(v.Now().AddDate(0, 0, -7)) {
				last = d.Day
			}
		}
		for _, d := range days {
			if d.Day == last {
				before[d.Kind] = d.Open
			}
		}
		if last != "" {
			for _, k := range review.Names() {
				before[k] += 0
			}
		}
	}
	out := api.FindingKinds{Items: []api.FindingKind{}}
	if by.Subject().ReadsAll() {
		out.ReviewedAt, out.Groups = v.InPtr(when(st.At)), st.Groups
	}
	for _, d := range review.Kinds() {
		k := api.FindingKind{Kind: string(d.Kind), Severity: d.Severity.String(), Title: d.Title, Says: d.Many, Why: d.Why, Mends: mends(d), Off: slices.Contains(settings.Off, string(d.Kind)), Limit: d.Limit}
		for _, c := range counts {
			if c.Kind == k.Kind {
				k.Open, k.Accepted, k.Assigned = c.Open, c.Accepted, c.Assigned
			}
		}
		if n, known := before[k.Kind]; known {
			k.WeekAgo = &n
		}
		if k.Filter = fmt.Sprintf("finding eq %q", d.Kind); d.OfPerson() {
			k.Filter = ""
		}
		out.Open += k.Open
		out.Items = append(out.Items, k)
	}
	return out, nil
}

func when(t time.Time) *time.Time {
	if t.IsZero() {
		return nil
	}
	return &t
}

// Trend returns for each of some days back how many findings there were, by severity and kind, and how much in the directory.
func (s *Service) Trend(ctx context.Context, by workspace.Actor, days int) (api.Page[api.ReviewDay], error) {
	none := api.Page[api.ReviewDay]{}
	if err := by.Allow(access.ReadReview); err != nil {
		return none, err
	}
	v := s.k.View(ctx, by)
	t, err := v.Terms()
	if err != nil {
		return none, err
	}
	from := t.Date(v.Now().AddDate(0, 0, -days))
	found, err := v.Read.FindingDays(from)
	if err != nil {
		return none, err
	}
	directory, err := v.Read.DirectoryDays(from)
	if err != nil {
		return none, err
	}
	var out []api.ReviewDay
	for _, d := range directory {
		x := api.ReviewDay{Day: d.Day, Groups: d.MailGroups, Ended: d.Ended, People: d.People, Memberships: d.Memberships, External: d.External, Kinds: map[string]int{}}
		for _, f := range found {
			k, known := review.Describe(review.Kind(f.Kind))
			if f.Day != d.Day || !known {
				continue
			}
			x.Kinds[f.Kind] = f.Open
			x.Accepted += f.Accepted
			switch k.Severity {
			case review.Serious:
				x.Serious += f.Open
			case review.Doubtful:
				x.Doubtful += f.Open
			default:
				x.Minor += f.Open
			}
		}
		out = append(out, x)
	}
	return workspace.Whole(out), nil
}

// chosen locks the findings that a request names, or those of a query, at most some thousands.
func chosen(c *workspace.Change, n api.FindingsChoice) ([]store.Finding, error) {
	if (len(n.IDs) == 0) == (n.List == nil) {
		return nil, workspace.Wrong("ids", nil, "Say which findings: name them, or say of which kind they are, or which list.")
	}
	q := store.FindingQuery{Time: store.FilterTime{Now: c.Now()}, Limit: maxChosen + 1}
	if n.List != nil {
		var err error
		if q, err = (Query{Kinds: n.List.Kinds, Severity: n.List.Severity, State: n.List.State, Filter: n.List.Filter, Group: n.List.Group}).read(&c.View); err != nil {
			return nil, err
		}
		q.Limit = maxChosen + 1
	}
	var bad workspace.Problems
	for i, x := range n.IDs {
		id, err := uuid.Parse(x)
		if err != nil {
			bad.Add(fmt.Sprintf("ids[%d]", i), workspace.Cut(x, 60), "There is no finding %q.", workspace.Cut(x, 60))
			continue
		}
		q.IDs = append(q.IDs, id)
	}
	if err := bad.Err(); err != nil {
		return nil, err
	}
	all, err := c.Tx.LockFindings(q)
	switch {
	case err != nil:
		return nil, workspace.Filtered(err)
	case len(all) > maxChosen:
		return nil, workspace.Wrong("list", nil, "These are more than %d findings. Choose fewer, by a kind or a filter.", maxChosen)
	case len(all) == 0:
		return nil, workspace.Fail(workspace.NotFound, "There is no such finding any more. It may have been mended meanwhile.")
	}
	for i, id := range q.IDs {
		if !slices.ContainsFunc(all, func(f store.Finding) bool { return f.ID == id }) {
			bad.Add(fmt.Sprintf("ids[%d]", i), id, "This finding is gone. It may have been mended meanwhile.")
		}
	}
	return all, bad.Err()
}

// maxChosen is how many findings are decided about at once.
const maxChosen = 5000

// subjects names the groups and people of findings, by subject.
func subjects(v *workspace.View, all []store.Finding) (map[uuid.UUID]store.Group, map[uuid.UUID]store.Person, error) {
	var groups, persons []uuid.UUID
	for _, f := range all {
		if f.Of == store.KindGroup {
			groups = append(groups, f.Subject)
		} else {
			persons = append(persons, f.Subject)
		}
	}
	byID, err := v.Read.GroupsByID(groups)
	if err != nil {
		return nil, nil, err
	}
	people, err := v.Read.PeopleByID(persons)
	return byID, people, err
}

func titles(all []store.Finding) string {
	var out []string
	for _, k := range review.Kinds() {
		n := 0
		for _, f := range all {
			if f.Kind == string(k.Kind) {
				n++
			}
		}
		if n > 0 {
			out = append(out, fmt.Sprintf("%s (%d)", k.Title, n))
		}
	}
	return strings.Join(out, ", ")
}
