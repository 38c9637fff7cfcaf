// Package views is what lists can be asked for: what filters can say, how one goes on that is
// being written, and filters that are kept under a name, with columns and an order.
package views

import (
	"context"
	"encoding/json"
	"errors"
	"regexp"
	"slices"
	"strings"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/core/access"
	"ivytable.example/ivytable/internal/core/event"
	"ivytable.example/ivytable/internal/core/rule"
	"ivytable.example/ivytable/internal/store"
	"ivytable.example/ivytable/internal/workspace"
	"ivytable.example/ivytable/internal/workspace/people"
)

// Service is views.
type Service struct{ k *workspace.Kernel }

// New returns the service of a workspace.
func New(k *workspace.Kernel) *Service { return &Service{k} }

// maxViews is how many views of a list somebody can keep, or administrators together.
const maxViews = 100

// living is the beginning of filters over groups that have not ended.
const living = `(state eq "active" or state eq "due") and `

// builtIn are the views that are asked for daily.
var builtIn = []api.View{
	{ID: "without-owner", Name: "Nobody owns it", List: "groups", Filter: living + "owners eq 0"},
	{ID: "one-owner", Name: "One owner only", List: "groups", Filter: living + "owners eq 1"},
	{ID: "outsiders-inside", Name: "External members inside", List: "groups", Filter: living + "external gt 0", Sort: "-external"},
	{ID: "open", Name: "Anyone may write, nothing is held", List: "groups", Filter: living + `post eq "anyone" and hold eq "nobody"`},
	{ID: "expiring", Name: "Expires within 30 days", List: "groups", Filter: living + "days_left le 30", Sort: "expires"},
	{ID: "nobody-in-it", Name: "Reaches nobody", List: "groups", Filter: living + "people eq 0"},
	{ID: "quiet", Name: "Quiet for half a year", List: "groups", Filter: living + "quiet_days ge 180", Sort: "quiet"},
	{ID: "something-waits", Name: "Something waits in it", List: "groups", Filter: "waiting gt 0"},
	{ID: "no-department", Name: "No department", List: "people", Filter: "department eq null"},
	{ID: "in-no-group", Name: "In no group", List: "people", Filter: "groups eq null"},
	{ID: "never-signed-in", Name: "Never signed in", List: "people", Filter: "last_sign_in eq null", Sort: "created"},
	{ID: "policies", Name: "Changes of policies", List: "history", Filter: `kind eq "policy.change"`},
	{ID: "ended-groups", Name: "Groups that ended", List: "history", Filter: `kind eq "group.retire" or kind eq "group.lapse"`},
}

func shape(v store.SavedView) api.View {
	out := api.View{ID: v.ID.String(), Name: v.Name, List: v.List, Filter: v.Filter, Sort: v.Sort, Columns: []string{}, Whose: "mine", MadeBy: v.MadeBy, Version: v.Version}
	if v.OwnerID == uuid.Nil {
		out.Whose = "administrators"
	}
	_ = json.Unmarshal(v.Columns, &out.Columns) // written by us; what can't be read is no column
	return out
}

// asSet is a view as somebody saves it; nil for none.
func asSet(v store.SavedView) any {
	if v.Version == 0 {
		return nil
	}
	x := shape(v)
	return api.NewView{Name: x.Name, List: x.List, Filter: x.Filter, Columns: x.Columns, Sort: x.Sort, Shared: v.OwnerID == uuid.Nil}
}

// List returns the views of a list that the actor can use: those that are built in, those for
// all administrators, and their own.
func (s *Service) List(ctx context.Context, by workspace.Actor, list string) (api.Page[api.View], error) {
	none := api.Page[api.View]{}
	if err := by.SignedIn(); err != nil {
		return none, err
	}
	v := s.k.View(ctx, by)
	var out []api.View
	lists := []string{list}
	if list == "" {
		lists = workspace.Lists
	}
	for _, l := range lists {
		for _, b := range builtIn {
			if _, err := v.Filter(b.List, b.Filter); b.List == l && err == nil && v.MaySort(l, b.Sort) {
				b.Columns, b.Whose = []string{}, "built_in"
				out = append(out, b)
			}
		}
		owners := []uuid.UUID{by.Person.ID}
		if by.Subject().ReadsAll() {
			owners = append(owners, uuid.Nil)
		}
		rows, err := v.Read.Views(l, owners)
		if err != nil {
			return none, err
		}
		for _, r := range rows {
			out = append(out, shape(r))
		}
	}
	return workspace.Whole(out), nil
}

// Read returns a view.
func (s *Service) Read(ctx context.Context, by workspace.Actor, id string) (api.View, error) {
	if err := by.SignedIn(); err != nil {
		return api.View{}, err
	}
	for _, b := range builtIn {
		if b.ID == id {
			b.Columns, b.Whose = []string{}, "built_in"
			return b, nil
		}
	}
	v := s.k.View(ctx, by)
	row, err := find(v, id)
	return shape(row), err
}

// find returns a view that the actor may use.
func find(v *workspace.View, id string) (store.SavedView, error) {
	none := workspace.Fail(workspace.NotFound, "There is no view %q of yours.", workspace.Cut(id, 60))
	u, err := uuid.Parse(id)
	if err != nil {
		return store.SavedView{}, none
	}
	row, err := v.Read.View(u)
	if errors.Is(err, store.ErrNotFound) || err == nil && row.OwnerID != v.By.Person.ID && (row.OwnerID != uuid.Nil || !v.By.Subject().ReadsAll()) {
		return store.SavedView{}, none
	}
	return row, err
}

var columnName = regexp.MustCompile(`^[a-z][a-zA-Z_.]{0,39}$`)

// check makes a row of a view that is to be kept.
func check(v *workspace.View, n api.NewView) (store.SavedView, error) {
	row := store.SavedView{List: n.List, Name: strings.TrimSpace(n.Name), Filter: strings.TrimSpace(n.Filter), Sort: n.Sort, MadeBy: v.By.String(), OwnerID: v.By.Person.ID}
	row.NameKey = rule.Fold(row.Name)
	var bad workspace.Problems
	if says := people.CheckName(row.Name); says != "" {
		bad.Add("name", workspace.Cut(n.Name, 120), "%s", says)
	}
	bad.OneOf("list", n.List, workspace.Lists...)
	for _, c := range n.Columns {
		if !columnName.MatchString(c) {
			bad.Add("columns", workspace.Cut(c, 50), "%q is no name of a column.", workspace.Cut(c, 50))
		}
	}
	if err := bad.Err(); err != nil {
		return row, err
	}
	if !v.MaySort(n.List, n.Sort) {
		return row, workspace.Wrong("sort", n.Sort, "The list of %s can't be sorted by %q: choose %s.", n.List, workspace.Cut(n.Sort, 40), strings.Join(workspace.Sorts[n.List], ", "))
	}
	if _, err := v.Filter(n.List, row.Filter); err != nil {
		return row, err
	}
	if n.Columns == nil {
		n.Columns = []string{}
	}
	var err error
	row.Columns, err = json.Marshal(n.Columns)
	if n.Shared {
		row.OwnerID = uuid.Nil
	}
	return row, err
}

// Save keeps a view; with an id, in place of that one.
func (s *Service) Save(ctx context.Context, by workspace.Actor, id string, n api.NewView, version int) (api.View, error) {
	if err := by.SignedIn(); err != nil {
		return api.View{}, err
	}
	if n.Shared {
		if err := by.Allow(access.ShareViews); err != nil {
			return api.View{}, err
		}
	}
	v := s.k.View(ctx, by)
	row, err := check(v, n)
	if err != nil {
		return api.View{}, err
	}
	found := store.SavedView{ID: store.NewID()}
	if id != "" {
		if found, err = find(v, id); err != nil {
			return api.View{}, err
		}
		by.Key = ""
	}
	var out api.View
	err = workspace.Once(ctx, s.k, by, []any{id, n}, &out, func(c *workspace.Change) error {
		row := row
		was := found
		if id != "" {
			if was, err = s.lock(c, found.ID, version); err != nil {
				return err
			}
		} else if err := c.Tx.LockViews(); err != nil { // so that they are counted one after another
			return err
		}
		if err := c.RefreshActor(); err != nil {
			return err
		}
		if n.Shared {
			if err := c.By.Allow(access.ShareViews); err != nil {
				return err
			}
		}
		all, err := c.Read.Views(row.List, []uuid.UUID{row.OwnerID})
		if err != nil {
			return err
		}
		if id == "" && len(all) >= maxViews {
			return workspace.Fail(workspace.Conflict, "There are %d views of this list, which is the most. Delete one first.", len(all))
		}
		if slices.ContainsFunc(all, func(x store.SavedView) bool { return x.NameKey == row.NameKey && x.ID != was.ID }) {
			return workspace.Wrong("name", row.Name, "There is a view %q already. Choose another name, or change that one.", row.Name)
		}
		row.ID, row.MadeAt, row.Version = was.ID, c.Now(), was.Version+1
		c.Says("The view " + row.Name + " is kept.")
		if err := c.Tx.SaveView(row); err != nil {
			return err
		}
		out = shape(row)
		return c.Record(event.ViewSaved{Before: event.Was(asSet(was), row.Version), ID: row.ID.String(), Name: row.Name, List: row.List, Filter: row.Filter, Was: was.Filter, Shared: n.Shared}, nil)
	})
	return out, err
}

// lock locks a view that the actor may change.
func (s *Service) lock(c *workspace.Change, id uuid.UUID, version int) (store.SavedView, error) {
	row, err := c.Tx.LockView(id)
	if errors.Is(err, store.ErrNotFound) {
		return row, workspace.Fail(workspace.NotFound, "The view was deleted meanwhile.")
	} else if err != nil {
		return row, err
	}
	if row.OwnerID == uuid.Nil {
		if err := c.Allow(access.ShareViews); err != nil {
			return row, err
		}
	}
	if version > 0 && version != row.Version {
		return row, workspace.StaleGroup("the view "+row.Name, version, row.Version)
	}
	return row, nil
}

// Delete removes a view.
func (s *Service) Delete(ctx context.Context, by workspace.Actor, id string, version int) error {
	if err := by.SignedIn(); err != nil {
		return err
	}
	for _, b := range builtIn {
		if b.ID == id {
			return workspace.Fail(workspace.Conflict, "The view %s is built in and can't be deleted.", b.Name)
		}
	}
	found, err := find(s.k.View(ctx, by), id)
	if err != nil {
		return err
	}
	return s.k.Do(ctx, by, func(c *workspace.Change) error {
		row, err := s.lock(c, found.ID, version)
		if err != nil {
			return err
		}
		c.Says("The view " + row.Name + " is deleted. What it lists stays as it is.")
		if err := c.Tx.DeleteView(row.ID); err != nil {
			return err
		}
		return c.Record(event.ViewDeleted{Before: event.Was(asSet(row), row.Version+1), Name: row.Name, List: row.List, Filter: row.Filter}, nil)
	})
}
