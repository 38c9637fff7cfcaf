package access

import (
	"fmt"
	"slices"
	"strings"
)

// Scope is what a token is good for: a part of what its person may do.
type Scope string

// The scopes. Each but Send reads too.
const (
	ScopeRead   Scope = "read"       // look at what the person sees
	ScopePeople Scope = "people"     // who is in groups and in the directory
	ScopeGroups Scope = "groups"     // groups, what they are called, their life and their posts
	ScopePolicy Scope = "policy"     // policies, and the rules of the workspace
	ScopeAll    Scope = "everything" // what the person may do, but for tokens and the second factor
	ScopeSend   Scope = "send"       // sign in to send mail, and nothing else
)

// AllScopes are the scopes, narrowest first.
var AllScopes = []Scope{ScopeSend, ScopeRead, ScopePeople, ScopeGroups, ScopePolicy, ScopeAll}

// Scopes are what a token is good for. The zero value is for nothing.
type Scopes []Scope

// ParseScopes reads scopes by their names. Send stands alone: a password of a mail program
// opens nothing else.
func ParseScopes(names []string) (Scopes, error) {
	var out Scopes
	for _, n := range names {
		if !slices.Contains(AllScopes, Scope(n)) {
			return nil, fmt.Errorf("there is no scope %q: choose send, read, people, groups, policy, everything", n)
		}
		if !slices.Contains(out, Scope(n)) {
			out = append(out, Scope(n))
		}
	}
	if slices.Contains(out, ScopeSend) && len(out) > 1 {
		return nil, fmt.Errorf("send can't be combined: make another token for the rest")
	}
	return out, nil
}

// ReadScopes reads what [Scopes.String] wrote.
func ReadScopes(s string) (out Scopes) {
	for _, n := range strings.Fields(s) {
		out = append(out, Scope(n))
	}
	return out
}

// String writes scopes with spaces between.
func (s Scopes) String() string { return strings.Join(s.Names(), " ") }

// Names returns the names of scopes.
func (s Scopes) Names() []string {
	out := make([]string, len(s))
	for i, x := range s {
		out[i] = string(x)
	}
	return out
}

// Cover reports whether scopes are enough for what needs one.
func (s Scopes) Cover(need Scope) bool {
	switch {
	case slices.Contains(s, need):
		return true
	case need == ScopeSend:
		return false
	case need == ScopeRead:
		return len(s) > 0 && !slices.Contains(s, ScopeSend)
	}
	return slices.Contains(s, ScopeAll)
}
