package rules

import (
	"slices"
	"testing"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/core/rule"
)

// Only rules that use an attribute are asked when it changes, each once.
func TestRulesAreFoundByTheirAttributes(t *testing.T) {
	b := &Book{using: map[string][]int{}}
	groups := map[uuid.UUID]string{}
	for i, text := range []string{`department eq "Deck"`, `title pr and department pr`, `addresses[locality eq "Quay" and type eq "work"]`, `not (active eq false)`} {
		r, err := rule.Parse(text)
		if err != nil {
			t.Fatal(err)
		}
		id := uuid.UUID{byte(i + 1)}
		groups[id] = text
		for _, path := range paths(r) {
			b.using[path] = append(b.using[path], i)
		}
		b.rules = append(b.rules, bookedRule{id, r})
	}
	for _, c := range []struct {
		attributes, want []string
	}{
		{[]string{"department"}, []string{`department eq "Deck"`, `title pr and department pr`}},
		{[]string{"title", "department"}, []string{`department eq "Deck"`, `title pr and department pr`}},
		{[]string{"title"}, []string{`title pr and department pr`}},
		{[]string{"addresses.locality"}, []string{`addresses[locality eq "Quay" and type eq "work"]`}},
		{[]string{"active"}, []string{`not (active eq false)`}},
		{[]string{"costCenter"}, nil},
		{nil, nil},
	} {
		var got []string
		for _, r := range b.of(c.attributes) {
			got = append(got, groups[r.group])
		}
		if !slices.Equal(got, c.want) {
			t.Errorf("%v concern %q, want %q", c.attributes, got, c.want)
		}
	}
}
