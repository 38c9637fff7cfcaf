package number_test

import (
	"testing"

	"ivytable.example/ivytable/internal/core/number"
)

func TestOf(t *testing.T) {
	for _, c := range []struct {
		n    int
		noun string
		want string
	}{
		{0, "group", "0 groups"}, {1, "group", "1 group"}, {2, "group", "2 groups"},
		{1, "entry", "1 entry"}, {12, "entry", "12 entries"}, {3, "person", "3 people"}, {2, "departed person", "2 departed people"},
		{2, "address", "2 addresses"}, {2, "alias", "2 aliases"}, {2, "day", "2 days"},
	} {
		if got := number.Of(c.n, c.noun); got != c.want {
			t.Errorf("%d %s: %q, want %q", c.n, c.noun, got, c.want)
		}
	}
}
