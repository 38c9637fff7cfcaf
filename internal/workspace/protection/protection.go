// Package protection is what protects the workspace from its own people and their programs:
// who has to have a second factor, what colleagues see of each other, how much somebody
// may do in a day, and how much mail is taken in an hour.
package protection

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/core/access"
	"ivytable.example/ivytable/internal/core/event"
	"ivytable.example/ivytable/internal/core/number"
	"ivytable.example/ivytable/internal/core/rule"
	"ivytable.example/ivytable/internal/workspace"
)

// Service is protection.
type Service struct{ k *workspace.Kernel }

// New returns the service of a workspace.
func New(k *workspace.Kernel) *Service { return &Service{k} }

func shape(p workspace.Protection, version int) api.Protection {
	return api.Protection{SecondFactor: p.SecondFactor, Shown: append([]string{}, p.Shown...), Known: rule.FieldNames(), Version: version,
		Groups: p.Budgets[workspace.SpendGroups], Outsiders: p.Budgets[workspace.SpendOutsiders], Letters: p.Budgets[workspace.SpendLetters], FromOne: p.FromOne, ToGroup: p.ToGroup}
}

// Read returns what protects the workspace.
func (s *Service) Read(ctx context.Context, by workspace.Actor) (api.Protection, error) {
	if err := by.Allow(access.ReadProtection); err != nil {
		return api.Protection{}, err
	}
	p, version, err := s.k.View(ctx, by).Protection()
	return shape(p, version), err
}

// Set changes what protects the workspace.
func (s *Service) Set(ctx context.Context, by workspace.Actor, n api.Protection, version int) (api.Protection, error) {
	if err := by.Allow(access.ChangeProtection); err != nil {
		return api.Protection{}, err
	}
	var bad workspace.Problems
	bad.OneOf("second_factor", n.SecondFactor, workspace.FactorNobody, workspace.FactorAdministrators, workspace.FactorEverybody)
	for _, a := range n.Shown {
		if !slices.Contains(rule.FieldNames(), a) {
			bad.Add("shown_attributes", a, "The directory has no attribute %q: choose of %s.", workspace.Cut(a, 50), strings.Join(rule.FieldNames(), ", "))
		}
	}
	if err := bad.Err(); err != nil {
		return api.Protection{}, err
	}
	next := workspace.Protection{SecondFactor: n.SecondFactor, Shown: slices.Compact(slices.Sorted(slices.Values(n.Shown))),
		Budgets: map[string]int{workspace.SpendGroups: n.Groups, workspace.SpendOutsiders: n.Outsiders, workspace.SpendLetters: n.Letters}}
	err := workspace.ChangeSetting(ctx, s.k, by, access.ChangeProtection, workspace.ProtectionSetting, "what protects the workspace", version, workspace.DefaultProtection(), func(c *workspace.Change, before workspace.Protection, current int) error {
		next.FromOne, next.ToGroup = cmp.Or(n.FromOne, before.FromOne), cmp.Or(n.ToGroup, before.ToGroup)
		n = shape(next, current+2)
		changes := differences(shape(before, 0), n)
		if next.SecondFactor != before.SecondFactor {
			if err := c.By.ByHand(); err != nil {
				return err
			}
		}
		for _, x := range changes {
			c.Effect(api.Effect{Field: x.Field, From: x.From, To: x.To})
		}
		c.Says(says(changes))
		if err := c.Tx.SaveSetting(workspace.ProtectionSetting, next, current+1); err != nil || len(changes) == 0 {
			return err
		}
		return c.Record(event.ProtectionChanged{Before: event.Was(shape(before, current+1), n.Version), Changed: changes}, nil)
	})
	return n, err
}

func says(changes []event.Change) string {
	if len(changes) == 0 {
		return "Nothing changes."
	}
	for _, x := range changes {
		if x.Field == "second_factor" && x.To != workspace.FactorNobody {
			return "Whoever has to have a second factor and has none can do nothing else before they have set one up."
		}
	}
	return "Changes " + number.Of(len(changes), "setting") + "."
}

func differences(before, after api.Protection) (out []event.Change) {
	add := func(field string, from, to any) {
		if f, t := fmt.Sprint(from), fmt.Sprint(to); f != t {
			out = append(out, event.Change{Field: field, From: f, To: t})
		}
	}
	add("second_factor", before.SecondFactor, after.SecondFactor)
	add("shown_attributes", strings.Join(before.Shown, ", "), strings.Join(after.Shown, ", "))
	add("groups_a_day", before.Groups, after.Groups)
	add("outsiders_a_day", before.Outsiders, after.Outsiders)
	add("letters_a_day", before.Letters, after.Letters)
	add("messages_of_a_writer_an_hour", before.FromOne, after.FromOne)
	add("messages_to_a_group_an_hour", before.ToGroup, after.ToGroup)
	return out
}
