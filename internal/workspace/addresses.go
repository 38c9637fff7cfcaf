package workspace

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/core/mailaddr"
	"ivytable.example/ivytable/internal/store"
)

// checkAddress says whether a group can have an address. What the group own has
// already does not stand in its way.
func (w *Workspace) checkAddress(ctx context.Context, t *store.Store, address string, domains []string, own uuid.UUID) (api.Proposal, error) {
	p := api.Proposal{Address: address, Status: "invalid", Notes: []string{}, Near: []api.Near{}}
	a, err := mailaddr.Parse(address)
	if err != nil {
		p.Says = says(err)
		return p, nil
	}
	p.Address = a.Key()
	if !slices.Contains(domains, a.Domain()) {
		p.Says = fmt.Sprintf("%s is not a domain of this workspace. Choose %s.", a.Domain(), strings.Join(domains, " or "))
		return p, nil
	}
	if why := mailaddr.Reserved(a.Local()); why != "" {
		p.Status, p.Says = "reserved", fmt.Sprintf("%s is reserved: %s.", a.Local(), why)
		return p, nil
	}
	near, err := t.AddressesNear(ctx, a)
	if err != nil {
		return p, err
	}
	p.Status, p.Says = "free", "This address is free."
	for _, n := range near {
		if n.Ref == own {
			continue
		}
		how := api.Near{Address: n.Address, Name: n.Name, Kind: [...]string{"", "person", "group", "alias"}[n.Kind], How: "resembling"}
		switch {
		case n.Same:
			how.How, p.Status = "same", "taken"
			p.Says = fmt.Sprintf("This address belongs to the %s %s.", how.Kind, n.Name)
			if how.Kind == "alias" {
				p.Says = fmt.Sprintf("This address leads to the group %s.", n.Name)
			}
		case n.Alike:
			how.How = "alike"
			if p.Status == "free" {
				p.Status, p.Says = "alike", fmt.Sprintf("This address is too like %s (%s): people would take one for the other.", n.Address, n.Name)
			}
		case p.Status == "free" && len(p.Near) == 0:
			p.Says = fmt.Sprintf("This address is free, but resembles %s (%s).", n.Address, n.Name)
		}
		p.Near = append(p.Near, how)
	}
	return p, nil
}

// takeAddress turns the answer to a race for an address into the same words as a check before it.
func (w *Workspace) takeAddress(ctx context.Context, err error, address string, domains []string) error {
	if !errors.Is(err, store.ErrDuplicate) {
		return err
	}
	p, err := w.checkAddress(ctx, w.store, address, domains, uuid.Nil)
	if err != nil {
		return err
	}
	return &Error{Kind: Conflict, Says: p.Says, Problems: []api.Problem{{Field: "address", Given: address, Says: p.Says}}}
}
