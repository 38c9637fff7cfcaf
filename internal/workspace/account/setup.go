package account

import (
	"context"
	"slices"

	"ivytable.example/ivytable/internal/core/access"
	"ivytable.example/ivytable/internal/core/mailaddr"
	"ivytable.example/ivytable/internal/store"
	"ivytable.example/ivytable/internal/workspace"
	"ivytable.example/ivytable/internal/workspace/people"
)

// SamplePassword is everybody's in the sample workspace, and nobody's elsewhere.
const SamplePassword = "low-tide-demo"

// SetUp gives an empty workspace its domains and its first administrator.
func (s *Service) SetUp(ctx context.Context, domains []string, given, name, password string) error {
	address, err := workspace.ParseAddress("address", given)
	if err != nil {
		return err
	}
	for _, d := range domains {
		if err := mailaddr.CheckDomain(d); err != nil {
			return err
		}
	}
	p := store.Person{Address: address.Key(), AddrKey: address.Key(), Name: name, Active: true, WorkspaceRole: string(access.Administrator), Attributes: []byte("{}"), Version: 1}
	if bad := people.CheckName(name); bad != "" {
		return workspace.Wrong("name", name, "%s", bad)
	}
	if len(password) < 12 {
		return workspace.Wrong("password", nil, "The password has %d characters; it needs at least 12.", len(password))
	}
	if password == SamplePassword {
		return workspace.Wrong("password", nil, "This is the password of the sample workspace, which everybody knows. Choose another.")
	}
	if !slices.Contains(domains, address.Domain()) {
		return workspace.Wrong("address", address.String(), "The administrator's address has to lie in one of the domains.")
	}
	p.PasswordHash = HashPassword(password)
	return s.k.Do(ctx, workspace.Service, func(c *workspace.Change) error {
		if err := c.Tx.LockRules(); err != nil { // so that nobody else changes the directory
			return err
		}
		if n, err := c.Read.CountPeople(); err != nil {
			return err
		} else if n > 0 {
			return workspace.Fail(workspace.Conflict, "The workspace has people in it already.")
		}
		if err := c.Tx.SetDomains(domains); err != nil {
			return err
		}
		p := p
		p.ID, p.CreatedAt = store.NewID(), c.Now()
		return c.Tx.AddPeople([]store.Person{p})
	})
}
