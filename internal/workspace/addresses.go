package workspace

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/core/mailaddr"
	"ivytable.example/ivytable/internal/store"
)

// Propose returns the address that a name proposes, or checks the given one. The
// domain is the workspace's main one where none is given.
func (w *Workspace) Propose(ctx context.Context, a Actor, name, address, domain string) (api.Proposal, error) {
	if err := allow(a, createGroup); err != nil {
		return api.Proposal{}, err
	}
	domains, err := w.store.Domains(ctx)
	if err != nil {
		return api.Proposal{}, err
	}
	if domain == "" && len(domains) > 0 {
		domain = domains[0]
	}
	switch {
	case address != "" && !strings.Contains(address, "@"):
		address += "@" + domain
	case address == "":
		local, err := mailaddr.Derive(name)
		if err != nil {
			return api.Proposal{Status: "invalid", Says: says(err), Near: []api.Near{}}, nil
		}
		address = local + "@" + domain
	}
	return w.checkAddress(ctx, w.store, address, domains)
}

// checkAddress says whether a group can have an address.
func (w *Workspace) checkAddress(ctx context.Context, t *store.Store, address string, domains []string) (api.Proposal, error) {
	p := api.Proposal{Address: address, Status: "invalid", Near: []api.Near{}}
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
	p, err := w.checkAddress(ctx, w.store, address, domains)
	if err != nil {
		return err
	}
	return &Error{Kind: Conflict, Says: p.Says, Problems: []api.Problem{{Field: "address", Given: address, Says: p.Says}}}
}
