package workspace

import (
	"context"
	"fmt"
	"slices"
	"time"

	"ivytable.example/ivytable/internal/core/mailaddr"
	"ivytable.example/ivytable/internal/store"
)

// SamplePassword is everybody's in the sample workspace, and nobody's elsewhere.
const SamplePassword = "low-tide-demo"

// SetUp gives an empty workspace its domains and its first administrator.
func SetUp(ctx context.Context, s *store.Store, domains []string, address mailaddr.Address, name, password string) error {
	for _, d := range domains {
		if err := mailaddr.CheckDomain(d); err != nil {
			return err
		}
	}
	if bad := checkName(name); bad != "" {
		return wrong("name", name, bad)
	}
	if len(password) < 12 {
		return wrong("password", nil, fmt.Sprintf("The password has %d characters; it needs at least 12.", len(password)))
	}
	if password == SamplePassword {
		return wrong("password", nil, "This is the password of the sample workspace, which everybody knows. Choose another.")
	}
	if !slices.Contains(domains, address.Domain()) {
		return wrong("address", address.String(), "The administrator's address has to lie in one of the domains.")
	}
	return s.Tx(ctx, func(t *store.Store) error {
		if n, err := t.CountPeople(ctx); err != nil {
			return err
		} else if n > 0 {
			return fail(Conflict, "The workspace has people in it already.")
		}
		if err := t.SetDomains(ctx, domains); err != nil {
			return err
		}
		return t.AddPeople(ctx, []store.Person{{ID: store.NewID(), Address: address.Key(), AddrKey: address.Key(), Name: name, Active: true,
			WorkspaceRole: Administrator, PasswordHash: HashPassword(password), Attributes: []byte("{}"), CreatedAt: time.Now().UTC()}})
	})
}
