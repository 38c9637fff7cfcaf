package workspace

import (
	"context"
	"slices"
	"strings"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/core/expand"
	"ivytable.example/ivytable/internal/store"
)

// Reached lists the people whom a group reaches, each once, with the groups through
// which it does.
func (w *Workspace) Reached(ctx context.Context, a Actor, ref, q, cursor string, limit int) (api.Page[api.Reached], error) {
	none := api.Page[api.Reached]{}
	g, _, err := w.findFor(ctx, a, seePeople, ref)
	if err != nil {
		return none, err
	}
	after, err := store.ParseCursor(cursor)
	if err != nil {
		return none, wrong("cursor", cursor, says(err)+".")
	}
	below, err := w.store.NestedBelow(ctx, g.ID, w.now(ctx))
	if err != nil {
		return none, err
	}
	reach := expand.Reach(g.ID, below)
	page, err := w.store.Reached(ctx, g.ID, reach, q, after, limit)
	if err != nil {
		return none, err
	}
	groups, _, err := w.seen(ctx, a, reach)
	return pageOf(page, func(r store.ReachedRow) api.Reached {
		out := api.Reached{ID: r.ID.String(), Name: r.Name, Address: r.Address, External: r.External, Role: "none"}
		if r.Role != 0 {
			out.Role = r.Role.String()
		}
		for _, id := range r.Through {
			name := "a group that you can't find"
			if x, ok := groups[id]; ok {
				name = x.Name
			}
			if !slices.Contains(out.Through, name) {
				out.Through = append(out.Through, name)
			}
		}
		return out
	}), err
}

// seen returns those of some groups that the actor can find, and where the actor
// stands with them.
func (w *Workspace) seen(ctx context.Context, a Actor, ids []uuid.UUID) (map[uuid.UUID]store.Group, map[uuid.UUID]standing, error) {
	groups, err := w.store.GroupsByID(ctx, ids)
	if err != nil {
		return nil, nil, err
	}
	standings, err := w.standingsOf(ctx, a.Person, ids)
	if err != nil {
		return nil, nil, err
	}
	for id, g := range groups {
		if !a.may(readGroup, &g, standings[id]) {
			delete(groups, id)
		}
	}
	return groups, standings, nil
}

// maxNesting is how many groups a picture of nesting shows.
const maxNesting = 200

// Nesting says what is nested in a group and what it is nested in. Groups that the
// actor can't find are left out, with what hangs on them alone.
func (w *Workspace) Nesting(ctx context.Context, a Actor, ref string) (api.Nesting, error) {
	g, _, err := w.findFor(ctx, a, seePeople, ref)
	if err != nil {
		return api.Nesting{}, err
	}
	edges, err := w.store.NestedAround(ctx, g.ID, w.now(ctx))
	if err != nil {
		return api.Nesting{}, err
	}
	depth := map[uuid.UUID]int{g.ID: 0}
	order := []uuid.UUID{g.ID}
	for _, step := range []int{1, -1} {
		for queue := []uuid.UUID{g.ID}; len(queue) > 0; queue = queue[1:] {
			for outer, inner := range edges {
				for _, in := range inner {
					from, to := outer, in
					if step < 0 {
						from, to = in, outer
					}
					if _, met := depth[to]; from == queue[0] && !met {
						depth[to] = depth[from] + step
						order = append(order, to)
						queue = append(queue, to)
					}
				}
			}
		}
	}
	groups, _, err := w.seen(ctx, a, order)
	if err != nil {
		return api.Nesting{}, err
	}
	out := api.Nesting{Groups: []api.NestedGroup{}, Edges: []api.NestedEdge{}, Depth: expand.Depth(g.ID, edges, expand.MaxDepth), Deepest: expand.MaxDepth}
	shown := map[uuid.UUID]bool{}
	for _, id := range order {
		if x, ok := groups[id]; ok && len(out.Groups) < maxNesting {
			shown[id] = true
			out.Groups = append(out.Groups, api.NestedGroup{ID: id.String(), Name: x.Name, Address: x.Address, People: x.Owners + x.Moderators + x.Members, Depth: depth[id]})
		}
	}
	slices.SortStableFunc(out.Groups, func(x, y api.NestedGroup) int {
		if x.Depth != y.Depth {
			return x.Depth - y.Depth
		}
		return strings.Compare(x.Name, y.Name)
	})
	for outer, inner := range edges {
		for _, in := range inner {
			if shown[outer] && shown[in] {
				out.Edges = append(out.Edges, api.NestedEdge{Outer: outer.String(), Inner: in.String()})
			}
		}
	}
	slices.SortFunc(out.Edges, func(x, y api.NestedEdge) int { return strings.Compare(x.Outer+x.Inner, y.Outer+y.Inner) })
	return out, nil
}
