package access

import "testing"

func TestScopes(t *testing.T) {
	for _, have := range AllScopes {
		for _, need := range AllScopes {
			want := have == need || need != ScopeSend && have != ScopeSend && (need == ScopeRead || have == ScopeAll)
			if got := (Scopes{have}).Cover(need); got != want {
				t.Errorf("%s covers %s: %v", have, need, got)
			}
		}
	}
	if (Scopes{}).Cover(ScopeRead) || (Scopes{}).Cover(ScopeAll) {
		t.Error("no scope covers something")
	}
	if s, err := ParseScopes([]string{"people", "policy", "people"}); err != nil || s.String() != "people policy" || ReadScopes(s.String()).String() != s.String() {
		t.Errorf("%v, %v", s, err)
	}
	for _, bad := range [][]string{{"all"}, {"send", "read"}, {""}} {
		if s, err := ParseScopes(bad); err == nil {
			t.Errorf("%q is read as %v", bad, s)
		}
	}
}
