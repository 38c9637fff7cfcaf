package member

import (
	"cmp"
	"context"
	"maps"
	"slices"
	"strings"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/core/access"
	"ivytable.example/ivytable/internal/core/expand"
	"ivytable.example/ivytable/internal/store"
	"ivytable.example/ivytable/internal/workspace"
)

// EffectiveMembers lists the people whom a group reaches, each once, with the groups
// through which it does.
func (s *Service) EffectiveMembers(ctx context.Context, by workspace.Actor, ref, q, cursor string, limit int) (api.Page[api.EffectiveMember], error) {
	none := api.Page[api.EffectiveMember]{}
	v := s.k.View(ctx, by)
	g, err := v.FindGroup(ref, access.SeePeople)
	if err != nil {
		return none, err
	}
	after, err := v.Cursor(cursor, "effective", g.ID, q)
	if err != nil {
		return none, err
	}
	reach, err := reachOf(v, &g.Group, store.AsOf{})
	if err != nil {
		return none, err
	}
	shown, groups, hidden, err := reach.shown(v)
	if err != nil {
		return none, err
	}
	page, err := v.Read.EffectiveMembers(g.ID, shown, slices.Collect(maps.Keys(reach.open)), q, after, limit)
	out := workspace.Page(page, func(r store.EffectiveMember) api.EffectiveMember {
		out := api.EffectiveMember{ID: r.ID.String(), Name: r.Name, Address: r.Address, External: r.External, Role: "none"}
		if r.Role != 0 {
			out.Role = r.Role.String()
		}
		for _, id := range r.Through {
			if name := cmp.Or(groups[id].Name, hiddenGroup); !slices.Contains(out.Through, name) {
				out.Through = append(out.Through, name)
			}
		}
		return out
	})
	out.Hidden = hidden
	return out, err
}

// maxNesting is how many groups a drawing of nesting shows.
const maxNesting = 200

// Nesting says what is nested in a group and what it is nested in. Groups that the
// actor can't find are left out, with what hangs on them alone.
func (s *Service) Nesting(ctx context.Context, by workspace.Actor, ref string) (api.Nesting, error) {
	v := s.k.View(ctx, by)
	g, err := v.FindGroup(ref, access.SeePeople)
	if err != nil {
		return api.Nesting{}, err
	}
	edges, err := v.Read.NestedAround(g.ID, v.Now())
	if err != nil {
		return api.Nesting{}, err
	}
	all, _ := walk(g.ID, edges)
	groups, err := v.Visible(all)
	if err != nil {
		return api.Nesting{}, err
	}
	seen := expand.Edges[uuid.UUID]{} // neither the tree nor its depth says anything of groups that the actor can't find
	for outer, inner := range edges {
		if _, ok := groups[outer]; ok {
			seen[outer] = slices.DeleteFunc(slices.Clone(inner), func(id uuid.UUID) bool { _, ok := groups[id]; return !ok })
		}
	}
	order, depth := walk(g.ID, seen)
	out := api.Nesting{Groups: []api.NestedGroup{}, Edges: []api.NestedEdge{}, Depth: expand.Depth(g.ID, seen, expand.MaxDepth), Deepest: expand.MaxDepth}
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
	for outer, inner := range seen {
		for _, in := range inner {
			if shown[outer] && shown[in] {
				out.Edges = append(out.Edges, api.NestedEdge{Outer: outer.String(), Inner: in.String()})
			}
		}
	}
	slices.SortFunc(out.Edges, func(x, y api.NestedEdge) int { return strings.Compare(x.Outer+x.Inner, y.Outer+y.Inner) })
	return out, nil
}

// walk returns the groups above and below one, nearest first, and how far each is.
func walk(from uuid.UUID, edges expand.Edges[uuid.UUID]) (order []uuid.UUID, depth map[uuid.UUID]int) {
	depth, order = map[uuid.UUID]int{from: 0}, []uuid.UUID{from}
	above := expand.Edges[uuid.UUID]{}
	for outer, inner := range edges {
		for _, in := range inner {
			above[in] = append(above[in], outer)
		}
	}
	for step, next := range map[int]expand.Edges[uuid.UUID]{1: edges, -1: above} {
		for queue := []uuid.UUID{from}; len(queue) > 0; queue = queue[1:] {
			for _, to := range next[queue[0]] {
				if _, met := depth[to]; !met {
					depth[to] = depth[queue[0]] + step
					order, queue = append(order, to), append(queue, to)
				}
			}
		}
	}
	return order, depth
}
