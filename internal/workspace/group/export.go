package group

import (
	"context"
	"strconv"
	"strings"
	"time"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/core/policy"
	"ivytable.example/ivytable/internal/store"
	"ivytable.example/ivytable/internal/workspace"
)

// column is a column of an export of groups.
type column struct {
	name string
	of   func(g *exported) string
}

// exported is a group that is written out.
type exported struct {
	api.Group
	policy policy.Policy
}

// columns are all that there is to know of a group, under the names that filters have.
var columns = func() []column {
	text := func(name string, of func(g *exported) string) column { return column{name, of} }
	count := func(name string, of func(c *api.Counts) int) column {
		return column{name, func(g *exported) string { return strconv.Itoa(of(&g.Counts)) }}
	}
	moment := func(t *time.Time) string {
		if t == nil || t.IsZero() {
			return ""
		}
		return t.Format(time.RFC3339)
	}
	out := []column{
		text("id", func(g *exported) string { return g.ID }),
		text("version", func(g *exported) string { return strconv.Itoa(g.Version) }),
		text("name", func(g *exported) string { return api.Cell(g.Name) }),
		text("address", func(g *exported) string { return api.Cell(g.Address) }),
		text("aliases", func(g *exported) string { return api.Cell(strings.Join(g.Aliases, "; ")) }),
		text("description", func(g *exported) string { return api.Cell(g.Description) }),
		text("state", func(g *exported) string { return g.State }),
		text("traits", func(g *exported) string { return strings.Join(g.Traits, "; ") }),
		text("starting_point", func(g *exported) string { return g.StartingPoint }),
		text("language", func(g *exported) string { return g.Language }),
		text("default_delivery", func(g *exported) string { return g.Delivery }),
		text("by_rule", func(g *exported) string { return strconv.FormatBool(g.ByRule) }),
		text("owner", func(g *exported) string { return owners(g, false) }),
		text("departed_owner", func(g *exported) string { return owners(g, true) }),
		count("owners", func(c *api.Counts) int { return c.Owners }),
		count("moderators", func(c *api.Counts) int { return c.Moderators }),
		count("members", func(c *api.Counts) int { return c.Members }),
		count("people", func(c *api.Counts) int { return c.People }),
		count("external", func(c *api.Counts) int { return c.External }),
		count("nested", func(c *api.Counts) int { return c.Nested }),
		count("departed", func(c *api.Counts) int { return c.Departed }),
		text("privacy", func(g *exported) string { return g.Privacy }),
	}
	for _, d := range policy.Describe() {
		out = append(out, text(d.Name, func(g *exported) string { return g.policy.Get(d.Name) }))
	}
	return append(out,
		text("exempt", func(g *exported) string {
			if g.Term.Exempt == nil {
				return ""
			}
			return api.Cell(g.Term.Exempt.Reason)
		}),
		text("created_at", func(g *exported) string { return moment(&g.CreatedAt) }),
		text("renewed_at", func(g *exported) string { return moment(&g.Term.RenewedAt) }),
		text("expires_on", func(g *exported) string {
			if g.Term.ExpiresOn == nil {
				return ""
			}
			return *g.Term.ExpiresOn
		}),
		text("ended_at", func(g *exported) string { return moment(g.Term.EndedAt) }),
		text("welcome", func(g *exported) string { return api.Cell(g.Welcome) }),
	)
}()

// owners are the owners of a group who are here, or who have left, by name and address.
func owners(g *exported, departed bool) string {
	var out []string
	for _, o := range g.Owners {
		if o.Departed == departed {
			out = append(out, o.Name+" <"+o.Address+">")
		}
	}
	return api.Cell(strings.Join(out, "; "))
}

// Columns are the names of the columns of an export.
func Columns() []string {
	out := make([]string, len(columns))
	for i, c := range columns {
		out[i] = c.name
	}
	return out
}

// Export writes all groups of a list, with all that there is to know of each.
func (s *Service) Export(ctx context.Context, by workspace.Actor, l Query, x workspace.Export) error {
	if err := by.SignedIn(); err != nil {
		return err
	}
	v := s.k.View(ctx, by)
	e, err := v.ShownTerms()
	if err != nil {
		return err
	}
	q, err := l.query(v, e)
	if err != nil {
		return err
	}
	out := x.Begin("groups", Columns())
	return out.End(workspace.Filtered(v.Read.EachGroup(q, func(groups []store.Group) error {
		p, err := shapePage(v, store.Page[store.Group]{Items: groups}, e)
		if err != nil {
			return err
		}
		for i := range p.Items {
			g := &exported{p.Items[i], groups[i].Policy}
			if err := out.Row(&g.Group, func() []string {
				row := make([]string, len(columns))
				for i, c := range columns {
					row[i] = c.of(g)
				}
				return row
			}); err != nil {
				return err
			}
		}
		return out.Flush()
	})))
}
