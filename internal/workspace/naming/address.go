package naming

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/core/fault"
	"ivytable.example/ivytable/internal/core/mailaddr"
	"ivytable.example/ivytable/internal/core/rule"
	"ivytable.example/ivytable/internal/store"
	"ivytable.example/ivytable/internal/workspace"
)

// CheckAddress says whether a group can have an address. What the group own has already
// does not stand in its way. It names no group that the actor can't find.
func CheckAddress(v *workspace.View, address string, own uuid.UUID) (api.Proposal, error) {
	p, err := standing(v, address, own)
	if p.Status == unavailable {
		v.Hush()
	}
	return p, err
}

func standing(v *workspace.View, address string, own uuid.UUID) (api.Proposal, error) {
	p := api.Proposal{Address: address, Status: "invalid", Notes: []string{}, Near: []api.Near{}}
	domains, err := v.Domains()
	if err != nil {
		return p, err
	}
	a, err := mailaddr.Parse(address)
	if err != nil {
		p.Says = workspace.Words(err)
		return p, nil
	}
	p.Address = a.Key()
	if !slices.Contains(domains, a.Domain()) {
		p.Says = fmt.Sprintf("%s is not a domain of this workspace. Choose %s.", a.Domain(), strings.Join(domains, " or "))
		return p, nil
	}
	reads := v.By.Subject().ReadsAll()
	if why := mailaddr.Reserved(a.Local()); why != "" && !reads {
		p.Status, p.Says = unavailable, notAvailable
		return p, nil
	} else if why != "" {
		p.Status, p.Says = "reserved", fmt.Sprintf("%s is reserved: %s.", a.Local(), why)
		return p, nil
	}
	if why := mailaddr.Official(a.Local()); why != "" {
		if !reads {
			p.Status, p.Says = unavailable, notAvailable
			return p, nil
		} else if !v.By.Administers() {
			p.Status, p.Says = "reserved", fmt.Sprintf("%s is reserved: %s. An administrator can give it to a group.", a.Local(), why)
			return p, nil
		}
		p.Notes = append(p.Notes, fmt.Sprintf("%s is reserved: %s. Administrators are exempt.", a.Local(), why))
	}
	near, err := v.Read.AddressesNear(a)
	if err != nil {
		return p, err
	}
	hidden, err := hiddenOf(v, near)
	if err != nil {
		return p, err
	}
	p.Status, p.Says = "free", "This address is free."
	for _, n := range near {
		if n.Ref == own {
			continue
		}
		how := api.Near{Address: n.Address, Name: n.Name, Kind: [...]string{"", "person", "group", "alias", "former", "gone"}[n.Kind], How: "resembling"}
		switch {
		case n.Same:
			how.How, p.Status = "same", "taken"
			switch {
			case hidden[n.Ref], !reads && how.Kind == "former":
				p.Status, p.Says = unavailable, notAvailable
			case how.Kind == "gone":
				left, err := v.Read.PurgedGroup(n.Ref)
				if err != nil {
					return p, err
				}
				p.Says = fmt.Sprintf("This address was that of the group %s, which was deleted for good. It is free from %s on.", n.Name, workspace.DateIn("en", left.FreeAt.In(v.Zone())))
			case how.Kind == "former":
				p.Says = fmt.Sprintf("This address was that of %s, and leads to them still.", n.Name)
			case how.Kind == "alias":
				p.Says = fmt.Sprintf("This address leads to the group %s.", n.Name)
			default:
				p.Says = fmt.Sprintf("This address belongs to the %s %s.", how.Kind, n.Name)
			}
		case n.Alike:
			how.How = "alike"
			if p.Status != "free" {
				break
			}
			p.Status, p.Says = "alike", fmt.Sprintf("This address is too like %s (%s): people would take one for the other.", n.Address, n.Name)
			if hidden[n.Ref] {
				p.Status, p.Says = unavailable, notAvailable
			}
		case p.Status == "free" && len(p.Near) == 0 && !hidden[n.Ref] && (reads || how.Kind != "former"):
			p.Says = fmt.Sprintf("This address is free, but resembles %s (%s).", n.Address, n.Name)
		}
		if !hidden[n.Ref] && (reads || how.Kind != "former") {
			p.Near = append(p.Near, how)
		}
	}
	return p, nil
}

// unavailable is the status of an address that somebody can't have, and is told no more of: which of a hidden group, a reserved word and a
// former address stands in the way would tell of what they can't find.
const (
	unavailable  = "unavailable"
	notAvailable = "This address is not available. Choose another, or ask an administrator."
)

// hiddenOf returns which of the groups near an address the actor can't find.
func hiddenOf(v *workspace.View, near []store.Taken) (map[uuid.UUID]bool, error) {
	out := map[uuid.UUID]bool{}
	if v.By.Subject().ReadsAll() {
		return out, nil
	}
	var ids []uuid.UUID
	for _, n := range near {
		switch n.Kind {
		case store.KindGroup, store.KindAlias:
			ids = append(ids, n.Ref)
			out[n.Ref] = true
		case store.KindGone:
			out[n.Ref] = true
		}
	}
	if len(ids) == 0 {
		return out, nil
	}
	visible, err := v.Visible(ids)
	for id := range visible {
		delete(out, id)
	}
	return out, err
}

// CheckAliases checks further addresses of a group as addresses are checked, and
// returns them as they will be.
func CheckAliases(v *workspace.View, aliases []string, address string, own uuid.UUID, p *workspace.Problems) ([]string, error) {
	domains, err := v.Domains()
	if err != nil {
		return nil, err
	}
	out := []string{}
	for i, x := range aliases {
		field := fmt.Sprintf("aliases[%d]", i)
		if !strings.Contains(x, "@") {
			x += "@" + domains[0]
		}
		c, err := CheckAddress(v, x, own)
		if err != nil {
			return nil, err
		}
		switch {
		case c.Status != "free":
			p.Add(field, x, "%s", c.Says)
		case c.Address == strings.ToLower(address) || slices.Contains(out, c.Address):
		default:
			out = append(out, c.Address)
			if err := checkLocal(v, field, c.Address, own, p); err != nil {
				return nil, err
			}
		}
	}
	return out, nil
}

// CheckMove is CheckAddress for an address that a group moves to, which the rules of naming
// bind as they bind a new one.
func CheckMove(v *workspace.View, address string, own uuid.UUID, p *workspace.Problems) (string, error) {
	c, err := CheckAddress(v, address, own)
	if err != nil {
		return "", err
	}
	if c.Status != "free" {
		p.Add("address", address, "%s", c.Says)
		return c.Address, nil
	}
	return c.Address, checkLocal(v, "address", c.Address, own, p)
}

// checkLocal says which rules of naming an address breaks. One that the group own has already
// stays.
func checkLocal(v *workspace.View, field, address string, own uuid.UUID, p *workspace.Problems) error {
	if own != uuid.Nil {
		if g, err := v.Read.GroupByAddress(address); err == nil && g.ID == own {
			return nil
		} else if err != nil && !errors.Is(err, store.ErrNotFound) {
			return err
		}
	}
	rules, err := Rules(v, About{}) // of an address by itself: reserved words and beginnings
	for _, f := range rules.OfAddress(LocalOf(address), Creator(v.By.Person)) {
		p.Add(field, address, "%s", f.Words())
	}
	return err
}

// AddressTaken turns the answer to a race for an address into the same words as a check
// before it.
func AddressTaken(v *workspace.View, err error, address string) error {
	if !errors.Is(err, store.ErrDuplicate) {
		return err
	}
	p, err := CheckAddress(v, address, uuid.Nil)
	if err != nil {
		return err
	}
	return &workspace.Error{Kind: workspace.Conflict, Says: p.Says, Problems: []api.Problem{{Field: "address", Given: address, Says: p.Says}}}
}

// LocalOf is the part of an address before its @.
func LocalOf(address string) string {
	local, _, _ := strings.Cut(address, "@")
	return local
}

// DomainOf returns the domain of an address for a group, or of a local part alone: the main one
// of the workspace.
func DomainOf(v *workspace.View, address string) (string, error) {
	if _, domain, ok := strings.Cut(address, "@"); ok {
		return strings.ToLower(domain), nil
	}
	domains, err := v.Domains()
	if err != nil || len(domains) == 0 {
		return "", err
	}
	return domains[0], nil
}

// namesakes returns groups other than own that are called the same, of those that the actor can
// find: 3 at most.
func namesakes(v *workspace.View, name string, own uuid.UUID) ([]store.Group, error) {
	if strings.TrimSpace(name) == "" {
		return nil, nil
	}
	named, err := v.Read.GroupsNamed(rule.Fold(name), 10)
	if err != nil || len(named) == 0 {
		return nil, err
	}
	ids := make([]uuid.UUID, len(named))
	for i, g := range named {
		ids[i] = g.ID
	}
	seen, err := v.Visible(ids)
	return slices.DeleteFunc(named, func(g store.Group) bool {
		_, ok := seen[g.ID]
		return !ok || g.ID == own
	}), err
}

// WarnOfNamesakes adds to what a change tells which other groups are called the same.
func WarnOfNamesakes(c *workspace.Change, name string, own uuid.UUID) error {
	twins, err := namesakes(&c.View, name, own)
	for _, g := range twins {
		c.Warn([]*fault.Fault{{Field: "name", Says: namesake(g)}})
	}
	return err
}

func namesake(g store.Group) string {
	return fmt.Sprintf("Another group is called %s already: %s. People will take one for the other.", g.Name, g.Address)
}
