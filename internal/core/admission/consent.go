package admission

import (
	"fmt"
	"slices"

	"ivytable.example/ivytable/internal/core/policy"
)

// Scope is what those who run a group have agreed to about its being in another: its people get
// the mail of that one, and beyond that are counted there, or seen.
type Scope uint8

// The scopes, least first.
const (
	AskedFor Scope = iota // nothing yet
	Counted               // the other group may say how many people come by it
	Seen                  // who sees the people of the other group sees these among them
)

var scopes = []string{"asked", "counted", "seen"}

// String names a scope.
func (s Scope) String() string { return scopes[min(int(s), len(scopes)-1)] }

// ParseScope reads a scope that can be agreed to; ok is false for any other word.
func ParseScope(s string) (scope Scope, ok bool) {
	i := slices.Index(scopes, s)
	return Scope(max(i, 0)), i > 0
}

// Consent is what was agreed about one group in another.
type Consent struct {
	Scope Scope
	Post  policy.Value // who could write to the other group then
}

// Contradicted says how the policies of two groups contradict what was agreed about inner being in
// outer, "" where they don't:
//
//   - people are seen only where outer shows its people to no more than inner does;
//   - mail comes only from those who could write to either group when it was agreed.
func (c Consent) Contradicted(outer, inner Door) string {
	o, i := outer.Policy, inner.Policy
	switch {
	case c.Scope == AskedFor:
		return ""
	case c.Scope == Seen && o[policy.SeePeople] > i[policy.SeePeople]:
		return fmt.Sprintf("%s shows its people to %s, %s only to %s.", outer.Name, o[policy.SeePeople].Who(), inner.Name, i[policy.SeePeople].Who())
	case o[policy.Post] > max(c.Post, i[policy.Post]):
		return fmt.Sprintf("%s takes mail from %s, and only %s could write when %s agreed.", outer.Name, o[policy.Post].Who(), max(c.Post, i[policy.Post]).Who(), inner.Name)
	}
	return ""
}
