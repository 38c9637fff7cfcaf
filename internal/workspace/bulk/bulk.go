// Package bulk is one change that many groups go through. It is looked at first: the same code
// says of each group what becomes of it, when it is looked at and when it is done. It is done
// some groups at a time, each time whole, by whichever instance is free; it goes on after a
// crash where it was, can be stopped, and is undone as one.
package bulk

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"time"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/core/access"
	"ivytable.example/ivytable/internal/core/mailaddr"
	"ivytable.example/ivytable/internal/core/number"
	"ivytable.example/ivytable/internal/store"
	"ivytable.example/ivytable/internal/workspace"
	"ivytable.example/ivytable/internal/workspace/group"
)

// Service is changes of many groups.
type Service struct {
	k     *workspace.Kernel
	Begun workspace.Bell // rings when a change begins
}

// New returns the service of a workspace.
func New(k *workspace.Kernel) *Service { return &Service{k, workspace.NewBell()} }

// kept is for how long what a change kept of its groups is there, by which it is undone. The history keeps what it did for longer.
const kept = 365 * 24 * time.Hour

// Forget deletes changes that ended long ago.
func (s *Service) Forget(ctx context.Context) error {
	for more := true; more; {
		err := s.k.Do(ctx, workspace.Service, func(c *workspace.Change) (err error) {
			more, err = c.Tx.ForgetBulks(c.Now().Add(-kept), 20)
			return err
		})
		if err != nil {
			return err
		}
	}
	return nil
}

func (s *Service) shape(v *workspace.View, b store.BulkChange) api.Bulk {
	out := api.Bulk{ID: b.ID.String(), Kind: b.Kind, Says: b.Says, State: b.State, Reason: b.Reason, Total: b.Total, Come: b.Next, Changed: b.Changed, Same: b.Same, Refused: b.Refused,
		By: b.Maker, MadeAt: v.In(b.MadeAt), EndedAt: v.InPtr(b.EndedAt)}
	if b.UndoOf != nil {
		out.UndoOf = b.UndoOf.String()
	}
	if b.UndoneBy != nil {
		out.Undone = b.UndoneBy.String()
	}
	out.MayUndo = b.State != store.BulkRunning && b.Kind != undoing && b.UndoneBy == nil && b.Changed > 0 && v.By.Allow(access.ChangeMany) == nil
	return out
}

// Begin begins a change. What it would do is said without it.
func (s *Service) Begin(ctx context.Context, by workspace.Actor, n api.NewBulk) (api.Bulk, error) {
	if err := by.Allow(access.ChangeMany); err != nil {
		return api.Bulk{}, err
	}
	v := s.k.View(ctx, by)
	var answered api.Bulk
	if found, err := workspace.Answered(v, n, &answered); found || err != nil {
		return answered, err // what it asked for may be otherwise by now
	}
	d, err := read(v, n)
	if err != nil {
		return api.Bulk{}, err
	}
	if err := by.Cover(string(d.scope())); err != nil {
		return api.Bulk{}, err
	}
	groups, err := selected(v, n)
	if err != nil {
		return api.Bulk{}, err
	}
	if by.Preview {
		return api.Bulk{}, preview(v, d, groups)
	}
	body, err := json.Marshal(n)
	if err != nil {
		return api.Bulk{}, err
	}
	return s.begin(ctx, by, n, store.BulkChange{Kind: d.kind(), Body: body, Says: d.says()}, groups, nil, nil)
}

// begin records a change that begins. also, where it is not nil, is done with it.
func (s *Service) begin(ctx context.Context, by workspace.Actor, request any, b store.BulkChange, groups []uuid.UUID, wants map[uuid.UUID]json.RawMessage, also func(*workspace.Change, uuid.UUID) error) (api.Bulk, error) {
	var out api.Bulk
	err := workspace.Once(ctx, s.k, by, request, &out, func(c *workspace.Change) error {
		if err := c.Allow(access.ChangeMany); err != nil {
			return err
		}
		b := b
		b.ID, b.State, b.Total, b.MadeBy, b.Maker, b.Via, b.RequestID, b.MadeAt = c.ID(), store.BulkRunning, len(groups), c.By.Person.ID, c.By.String(), c.By.Via, c.By.RequestID, c.Now()
		if also != nil {
			if err := also(c, b.ID); err != nil {
				return err
			}
		}
		if err := c.Tx.AddBulk(b, groups, wants); err != nil {
			return err
		}
		out = s.shape(&c.View, b)
		return nil
	})
	s.Begun.Ring()
	return out, err
}

// selected returns the groups that a change is for.
func selected(v *workspace.View, n api.NewBulk) ([]uuid.UUID, error) {
	var ids []uuid.UUID
	switch {
	case (n.List == nil) == (len(n.Groups) == 0):
		return nil, workspace.Wrong("list", nil, "Say which groups: name them, or say which list they are.")
	case n.List != nil:
		q, err := group.Query{Q: n.List.Q, States: n.List.States, Filter: n.List.Filter}.Read(v)
		if err != nil {
			return nil, err
		}
		if ids, err = v.Read.GroupIDs(q); err != nil {
			return nil, workspace.Filtered(err)
		}
	default:
		var err error
		if ids, err = named(v, n.Groups); err != nil {
			return nil, err
		}
	}
	if len(ids) == 0 {
		return nil, workspace.Wrong("list", nil, "There is no such group, so there is nothing to change.")
	}
	if n.Expected != nil && *n.Expected != len(ids) {
		return nil, workspace.Fail(workspace.Conflict, "There are %d groups by now, not %d. Look at what it does again.", len(ids), *n.Expected)
	}
	return ids, nil
}

// named returns groups by identifiers and addresses, each once.
func named(v *workspace.View, given []string) ([]uuid.UUID, error) {
	var keys []string
	var ids []uuid.UUID
	for _, x := range given {
		if a, err := mailaddr.Parse(x); err == nil {
			keys = append(keys, a.Key())
		} else if id, err := uuid.Parse(x); err == nil {
			ids = append(ids, id)
		}
	}
	byKey, err := v.Read.GroupsByKeys(keys)
	if err != nil {
		return nil, err
	}
	byID, err := v.Read.GroupsByID(ids)
	if err != nil {
		return nil, err
	}
	seen := map[uuid.UUID]bool{}
	var out []uuid.UUID
	var bad workspace.Problems
	for i, x := range given {
		var id uuid.UUID
		if a, err := mailaddr.Parse(x); err == nil {
			id = byKey[a.Key()].ID
		} else if u, err := uuid.Parse(x); err == nil {
			id = byID[u].ID
		}
		switch {
		case id == uuid.Nil:
			bad.Add(fmt.Sprintf("groups[%d]", i), workspace.Cut(x, 100), "There is no group %q.", workspace.Cut(x, 100))
		case !seen[id]:
			seen[id] = true
			out = append(out, id)
		}
	}
	return out, bad.Err()
}

// chunk is how many groups are changed at a time.
const chunk = 100

// sampled is how many of the groups that can't be changed are named in a preview.
const sampled = 500

// preview says what a change would do to groups: by what it decides about each.
func preview(v *workspace.View, d doer, groups []uuid.UUID) error {
	r := v.By.Report
	counts := map[string]int{store.ItemChanged: 0, store.ItemSame: 0, store.ItemRefused: 0}
	var changed []api.Line
	for some := range slices.Chunk(groups, 1000) {
		byID, err := v.Read.GroupsByID(some)
		if err != nil {
			return err
		}
		in := inOrder(some, byID)
		verdicts, err := d.decide(v, in)
		if err != nil {
			return err
		}
		for i, x := range verdicts {
			counts[x.outcome]++
			l := api.Line{Name: in[i].Name, Address: in[i].Address, Outcome: x.outcome, Says: x.says}
			switch {
			case x.outcome == store.ItemRefused && len(r.Sample) < sampled:
				r.Sample = append(r.Sample, l)
			case x.outcome == store.ItemChanged && len(changed) < 20:
				changed = append(changed, l)
			}
		}
	}
	r.Sample = append(r.Sample, changed...)
	r.Total, r.Ready, r.Counts = len(groups), counts[store.ItemChanged], counts
	r.Says = fmt.Sprintf("%s: %d of %s.", workspace.UpperFirst(d.says()), r.Ready, number.Of(len(groups), "group"))
	if n := counts[store.ItemSame]; n > 0 {
		r.Says += fmt.Sprintf(" %d are so already.", n)
	}
	if n := counts[store.ItemRefused]; n > 0 {
		r.Says += fmt.Sprintf(" %d can't be changed and stay as they are.", n)
	}
	return v.By.Looked()
}

// inOrder returns groups in the order of their identifiers, as far as they are still there.
func inOrder(ids []uuid.UUID, byID map[uuid.UUID]store.Group) []store.Group {
	out := make([]store.Group, 0, len(ids))
	for _, id := range ids {
		if g, there := byID[id]; there {
			out = append(out, g)
		}
	}
	return out
}

// List returns the changes of many groups, newest first.
func (s *Service) List(ctx context.Context, by workspace.Actor, cursor string, limit int) (api.Page[api.Bulk], error) {
	none := api.Page[api.Bulk]{}
	if err := by.Allow(access.ReadMany); err != nil {
		return none, err
	}
	v := s.k.View(ctx, by)
	after, err := v.Cursor(cursor, "changes")
	if err != nil {
		return none, err
	}
	p, err := v.Read.Bulks(after, limit)
	return workspace.Page(p, func(b store.BulkChange) api.Bulk { return s.shape(v, b) }), err
}

func errNoChange(id string) error {
	return workspace.Fail(workspace.NotFound, "There is no change of many groups %q.", workspace.Cut(id, 60))
}

func (s *Service) find(v *workspace.View, id string, do access.Action) (store.BulkChange, error) {
	if err := v.By.Allow(do); err != nil {
		return store.BulkChange{}, err
	}
	u, err := uuid.Parse(id)
	if err != nil {
		return store.BulkChange{}, errNoChange(id)
	}
	b, err := v.Read.Bulk(u)
	if errors.Is(err, store.ErrNotFound) {
		err = errNoChange(id)
	}
	return b, err
}

// Read returns one change of many groups.
func (s *Service) Read(ctx context.Context, by workspace.Actor, id string) (api.Bulk, error) {
	v := s.k.View(ctx, by)
	b, err := s.find(v, id, access.ReadMany)
	return s.shape(v, b), err
}

// Items returns what became of the groups of a change: of those with an outcome, or of all.
func (s *Service) Items(ctx context.Context, by workspace.Actor, id, outcome, cursor string, limit int) (api.Page[api.BulkItem], error) {
	none := api.Page[api.BulkItem]{}
	v := s.k.View(ctx, by)
	b, err := s.find(v, id, access.ReadMany)
	if err != nil {
		return none, err
	}
	after, err := v.Cursor(cursor, "items", b.ID, outcome)
	if err != nil {
		return none, err
	}
	from := 0
	if !after.Empty() {
		if _, err := fmt.Sscanf(after.Value, "%d", &from); err != nil {
			return none, workspace.Wrong("cursor", workspace.Cut(cursor, 100), "The cursor can't be read. Begin the list from its start.")
		}
	}
	rows, err := v.Read.BulkItems(b.ID, outcome, from, limit+1)
	if err != nil {
		return none, err
	}
	out := api.Page[api.BulkItem]{Items: []api.BulkItem{}, Total: int64(map[string]int{"": b.Total, store.ItemChanged: b.Changed, store.ItemSame: b.Same, store.ItemRefused: b.Refused}[outcome])}
	if len(rows) > limit {
		out.Next = store.Cursor{Value: fmt.Sprint(rows[limit].Place), ID: b.ID, Total: out.Total, Of: after.Of}.String()
		rows = rows[:limit]
	}
	for _, r := range rows {
		x := api.BulkItem{Group: r.GroupID.String(), Name: r.Name, Address: r.Address, Outcome: r.Outcome, Says: r.Says}
		if x.Outcome == "" {
			x.Outcome = "waits"
		}
		out.Items = append(out.Items, x)
	}
	return out, nil
}

// Stop stops a change. What it has done stays; it can be undone.
func (s *Service) Stop(ctx context.Context, by workspace.Actor, id string) (api.Bulk, error) {
	found, err := s.find(s.k.View(ctx, by), id, access.ChangeMany)
	if err != nil {
		return api.Bulk{}, err
	}
	var out api.Bulk
	err = s.k.Do(ctx, by, func(c *workspace.Change) error {
		b, err := c.Tx.LockBulk(found.ID)
		if err != nil {
			return err
		}
		if err := c.Allow(access.ChangeMany); err != nil {
			return err
		}
		if b.State != store.BulkRunning {
			return workspace.Fail(workspace.Conflict, "The change has ended already: it changed %s.", number.Of(b.Changed, "group"))
		}
		c.Says(fmt.Sprintf("The change stops after %d of %s. What it has done stays, and can be undone.", b.Next, number.Of(b.Total, "group")))
		if err := end(c, &b, store.BulkStopped, "Stopped by "+c.By.Name()+"."); err != nil {
			return err
		}
		out = s.shape(&c.View, b)
		return nil
	})
	return out, err
}

// Undo begins a change that undoes another: in every group that is still as that one left it.
func (s *Service) Undo(ctx context.Context, by workspace.Actor, id string) (api.Bulk, error) {
	v := s.k.View(ctx, by)
	found, err := s.find(v, id, access.ChangeMany)
	if err != nil {
		return api.Bulk{}, err
	}
	if err := undoable(found); err != nil && by.Key == "" {
		return api.Bulk{}, err
	}
	groups, err := v.Read.BulkChanged(found.ID)
	if err != nil {
		return api.Bulk{}, err
	}
	d := undo{of: found}
	undone, err := d.doer()
	if err != nil {
		return api.Bulk{}, err
	}
	if err := by.Cover(string(undone.scope())); err != nil {
		return api.Bulk{}, err
	}
	if by.Preview {
		return api.Bulk{}, preview(v, &d, groups)
	}
	return s.begin(ctx, by, []any{"undo", found.ID}, store.BulkChange{Kind: undoing, Body: found.Body, Says: d.says(), UndoOf: &found.ID}, groups, nil, func(c *workspace.Change, id uuid.UUID) error {
		b, err := c.Tx.LockBulk(found.ID)
		if err == nil {
			err = undoable(b)
		}
		if err != nil {
			return err
		}
		b.UndoneBy = &id
		return c.Tx.SaveBulk(b)
	})
}

func undoable(b store.BulkChange) error {
	switch {
	case b.State == store.BulkRunning:
		return workspace.Fail(workspace.Conflict, "The change is not done yet. Stop it first.")
	case b.Kind == undoing:
		return workspace.Fail(workspace.Conflict, "This change undid another. Make that one again.")
	case b.UndoneBy != nil:
		return workspace.Fail(workspace.Conflict, "The change was undone already.")
	case b.Changed == 0:
		return workspace.Fail(workspace.Conflict, "The change changed nothing, so there is nothing to undo.")
	}
	return nil
}
