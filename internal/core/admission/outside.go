package admission

import (
	"fmt"
	"slices"
	"strings"
)

// Outside is what a workspace says of people from outside, for all its groups. A domain stands for
// itself and all below it.
type Outside struct {
	Barred bool     // no group takes any
	Only   []string // their domains; empty: every domain
	Not    []string // domains from which nobody is taken, whatever Only says
}

// Refuses says why nobody with an address is taken, "" where they may be.
func (o Outside) Refuses(address string) string {
	_, domain, _ := strings.Cut(strings.ToLower(address), "@")
	within := func(d string) bool { return domain == d || strings.HasSuffix(domain, "."+d) }
	switch {
	case o.Barred:
		return "This workspace takes no external members in any group."
	case slices.ContainsFunc(o.Not, within), len(o.Only) > 0 && !slices.ContainsFunc(o.Only, within):
		return fmt.Sprintf("This workspace takes no external members from %s.", domain)
	}
	return ""
}
