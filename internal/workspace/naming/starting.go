package naming

import (
	"context"
	"errors"
	"slices"
	"strings"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/core/access"
	"ivytable.example/ivytable/internal/core/event"
	"ivytable.example/ivytable/internal/core/mailaddr"
	"ivytable.example/ivytable/internal/core/policy"
	"ivytable.example/ivytable/internal/store"
	"ivytable.example/ivytable/internal/workspace"
	"ivytable.example/ivytable/internal/workspace/people"
)

// Traits are what a group can do beyond passing mail on.
var Traits = []string{"archive", "desk", "calendar", "access"}

// maxStartingPoints is how many an administrator can make.
const maxStartingPoints = 100

// builtIn are the starting points that every workspace has.
var builtIn = []store.StartingPoint{
	{Name: "team-room", Title: "Team room", About: "A team writes among themselves and keeps what was written. The workspace finds it and asks to join.",
		Settings: "privacy=members post=workspace add_people=moderators join.audience=workspace join.how=asking hold=outsiders", Traits: "archive,calendar"},
	{Name: "announcements", Title: "Announcement channel", About: "A few write, many read. Answers go to the author.",
		Settings: "privacy=workspace post=moderators see_people=moderators join.audience=workspace join.how=freely hold=nobody", Traits: "archive"},
	{Name: "intake", Title: "Intake for the public", About: "Anyone writes to it, a desk of people answers. Mail from strangers waits for approval until you trust them.",
		Settings: "privacy=members post=anyone speak_as=members join.audience=nobody hold=outsiders suspicious=hold", Traits: "archive,desk"},
	{Name: "open-community", Title: "Open community", About: "Everyone in the workspace reads it, joins by themselves and writes.",
		Settings: "privacy=workspace post=workspace join.audience=workspace join.how=freely hold=outsiders", Traits: "archive,calendar"},
	{Name: "confidential", Title: "Confidential circle", About: "Only its members find it, read it and write to it. People come in by invitation.",
		Settings: "find=members see_people=members read=members post=members write_owners=members add_people=owners join.audience=nobody externals=barred hold=outsiders suspicious=refuse",
		Traits:   "archive"},
}

func isBuiltIn(name string) bool {
	return slices.ContainsFunc(builtIn, func(p store.StartingPoint) bool { return p.Name == name })
}

// StartingPoints lists what a group can be begun from: the built-in ones, then those
// that administrators made.
func (s *Service) StartingPoints(ctx context.Context, by workspace.Actor) (api.Page[api.StartingPoint], error) {
	v := s.k.View(ctx, by)
	if err := AllowCreate(v, access.ReadStartingPoints); err != nil {
		return api.Page[api.StartingPoint]{}, err
	}
	rows, err := v.Read.StartingPoints()
	out := make([]api.StartingPoint, 0, len(builtIn)+len(rows))
	for _, p := range append(slices.Clone(builtIn), rows...) {
		out = append(out, shapeStart(p))
	}
	return workspace.Whole(out), err
}

// StartingPoint returns one by its name.
func (s *Service) StartingPoint(ctx context.Context, by workspace.Actor, name string) (api.StartingPoint, error) {
	v := s.k.View(ctx, by)
	if err := AllowCreate(v, access.ReadStartingPoints); err != nil {
		return api.StartingPoint{}, err
	}
	p, names, err := find(v, name)
	if err == nil && names != nil {
		err = errNoStart(name)
	}
	return shapeStart(p), err
}

func errNoStart(name string) error {
	return workspace.Fail(workspace.NotFound, "There is no starting point %q.", workspace.Cut(name, 80))
}

func shapeStart(p store.StartingPoint) api.StartingPoint {
	patch := workspace.PolicyPatch(p.Settings)
	after, _ := workspace.ApplyPatch(policy.Default(), patch)
	return api.StartingPoint{Name: p.Name, Title: p.Title, About: p.About, BuiltIn: isBuiltIn(p.Name), Policy: patch, Traits: SplitTraits(p.Traits), Delivery: p.Delivery,
		Welcome: p.Welcome, Mail: workspace.MailTexts(p.Mail.Texts), Sentence: after.Sentence(), Version: p.Version}
}

// wasStart is a starting point as it is saved, with all its settings; nil for none.
func wasStart(p store.StartingPoint) any {
	if p.Version == 0 {
		return nil
	}
	out := shapeStart(p)
	whole, _ := workspace.ApplyPatch(policy.Default(), out.Policy)
	out.Policy = workspace.PolicyPatch(whole.Encode())
	return out
}

// SplitTraits takes the traits of a group apart.
func SplitTraits(stored string) []string {
	if stored == "" {
		return []string{}
	}
	return strings.Split(stored, ",")
}

// find returns a starting point by its name, or the names that there are.
func find(v *workspace.View, name string) (store.StartingPoint, []string, error) {
	rows, err := v.Read.StartingPoints()
	var names []string
	for _, p := range append(slices.Clone(builtIn), rows...) {
		if p.Name == name {
			return p, nil, err
		}
		names = append(names, p.Name)
	}
	return store.StartingPoint{}, names, err
}

// Begin returns the starting point that a new group names.
func Begin(v *workspace.View, name string) (store.StartingPoint, error) {
	p, names, err := find(v, name)
	if err == nil && names != nil {
		err = workspace.Wrong("starting_point", name, "There is no starting point %q: choose %s.", name, strings.Join(names, ", "))
	}
	return p, err
}

// SaveStartingPoint makes a starting point, or changes the one of that name.
func (s *Service) SaveStartingPoint(ctx context.Context, by workspace.Actor, name string, n api.NewStartingPoint, version int) (api.StartingPoint, error) {
	none := api.StartingPoint{}
	if err := by.Allow(access.ChangeStartingPoints); err != nil {
		return none, err
	}
	v := s.k.View(ctx, by)
	kept, err := v.Read.StartingPoints()
	if err != nil {
		return none, err
	}
	row := store.StartingPoint{Name: name, Title: name}
	if i := slices.IndexFunc(kept, func(p store.StartingPoint) bool { return p.Name == name }); i >= 0 {
		row = kept[i]
	}
	read := row.Version
	if n.From != "" {
		g, err := v.FindGroup(n.From, access.ReadGroup)
		if err != nil {
			return none, err
		}
		row.Settings, row.Traits, row.Delivery, row.Welcome, row.Mail = g.Policy.Encode(), g.Traits, workspace.Delivery(g.DefaultMail), g.Welcome, g.Mail
	}
	change(&row, n)
	mail, bad := workspace.ApplyTexts(row.Mail.Texts, n.Mail)
	row.Mail.Texts = mail
	row.MadeBy = by.String()
	after, more := workspace.ApplyPatch(policy.Default(), workspace.PolicyPatch(row.Settings))
	bad = append(append(bad, more...), workspace.Contradictions(after)...)
	if local, err := mailaddr.Derive(name); err != nil || local != name || len(name) > 60 {
		bad.Add("name", name, "The name %q has to be small letters, digits and hyphens, 60 at most.", workspace.Cut(name, 80))
	}
	if isBuiltIn(name) {
		bad.Add("name", name, "The starting point %s is built in and can't be changed. Choose another name.", name)
	}
	if says := people.CheckName(row.Title); says != "" {
		bad.Add("title", row.Title, "%s", says)
	}
	CheckTraits(&bad, n.Traits)
	if err := bad.Err(); err != nil {
		return none, err
	}
	err = s.k.Do(ctx, by, func(c *workspace.Change) error {
		if _, err := c.Tx.LockSetting("starting_points", new(any)); err != nil { // so that they are counted one after another
			return err
		}
		before, err := c.Tx.LockStartingPoint(name)
		if err != nil && !errors.Is(err, store.ErrNotFound) {
			return err
		}
		if err := c.Allow(access.ChangeStartingPoints); err != nil {
			return err
		}
		if version > 0 && version != before.Version {
			return workspace.StaleGroup("the starting point "+name, version, before.Version)
		}
		if before.Version != read {
			return workspace.StaleGroup("the starting point "+name, read, before.Version)
		}
		if before.Version == 0 {
			if all, err := c.Read.StartingPoints(); err != nil {
				return err
			} else if len(all) >= maxStartingPoints {
				return workspace.Fail(workspace.Conflict, "There are %d starting points, which is the most. Delete one first.", len(all))
			}
		}
		row.MadeAt, row.Version = c.Now(), before.Version+1
		c.Says(after.Sentence())
		c.Report.Policy = c.Summary(after)
		c.Warn(c.Doubts(after))
		if err := c.Tx.SaveStartingPoint(row); err != nil {
			return err
		}
		return c.Record(event.StartingPointSaved{Before: event.Was(wasStart(before), row.Version), Name: name, Title: row.Title, Reach: after.Sentence()}, nil)
	})
	return shapeStart(row), err
}

// change puts into a starting point what is said of it; what is left out stays.
func change(row *store.StartingPoint, n api.NewStartingPoint) {
	if title := strings.TrimSpace(n.Title); title != "" {
		row.Title = title
	}
	if n.About != nil {
		row.About = strings.TrimSpace(*n.About)
	}
	row.Settings = workspace.PolicyWords(workspace.PolicyPatch(row.Settings + " " + workspace.PolicyWords(n.Policy)))
	if n.Traits != nil {
		row.Traits = strings.Join(n.Traits, ",")
	}
	if n.Delivery != "" {
		row.Delivery = n.Delivery
	}
	if n.Welcome != nil {
		row.Welcome = *n.Welcome
	}
}

// DeleteStartingPoint removes a starting point that an administrator made.
func (s *Service) DeleteStartingPoint(ctx context.Context, by workspace.Actor, name string, version int) error {
	if err := by.Allow(access.ChangeStartingPoints); err != nil {
		return err
	}
	if isBuiltIn(name) {
		return workspace.Fail(workspace.Conflict, "The starting point %s is built in and can't be deleted.", name)
	}
	return s.k.Do(ctx, by, func(c *workspace.Change) error {
		p, err := c.Tx.LockStartingPoint(name)
		if err := c.Allow(access.ChangeStartingPoints); err != nil {
			return err
		}
		if errors.Is(err, store.ErrNotFound) {
			return errNoStart(name)
		} else if err != nil {
			return err
		}
		if version > 0 && version != p.Version {
			return workspace.StaleGroup("the starting point "+name, version, p.Version)
		}
		c.Says("The starting point " + p.Title + " is deleted. Groups that were begun from it stay as they are.")
		if err := c.Tx.DeleteStartingPoint(name); err != nil {
			return err
		}
		return c.Record(event.StartingPointDeleted{Before: event.Was(wasStart(p), p.Version+1), Name: name, Title: p.Title}, nil)
	})
}

// CheckTraits says what is wrong with the traits of a group.
func CheckTraits(p *workspace.Problems, given []string) {
	for i, x := range given {
		if !slices.Contains(Traits, x) {
			p.Add("traits", x, "There is no trait %q: choose %s.", x, strings.Join(Traits, ", "))
		} else if slices.Contains(given[:i], x) {
			p.Add("traits", x, "The trait %s is named twice.", x)
		}
	}
}
