package cli

import (
	"slices"
	"testing"
)

func TestListsAreChangedByAddAndRemove(t *testing.T) {
	for _, c := range []struct {
		list, add, remove, want []string
		fails                   bool
	}{
		{[]string{"a", "b"}, nil, nil, []string{"a", "b"}, false},
		{[]string{"a", "b"}, []string{"c", "B"}, nil, []string{"a", "b", "c"}, false},
		{[]string{"a", "b"}, []string{"c"}, []string{"A"}, []string{"b", "c"}, false},
		{nil, []string{"a", "a"}, nil, []string{"a"}, false},
		{[]string{"a"}, nil, []string{"b"}, nil, true},
		{nil, nil, []string{"b"}, nil, true},
	} {
		before := slices.Clone(c.list)
		got, err := (&listFlags{noun: "x", add: c.add, remove: c.remove}).edit(c.list)
		if (err != nil) != c.fails || !slices.Equal(got, c.want) || !slices.Equal(c.list, before) {
			t.Errorf("%v with %v without %v: %v, %v", c.list, c.add, c.remove, got, err)
		}
	}
}
