package naming

import (
	"strings"
	"testing"
)

func TestAlike(t *testing.T) {
	for _, c := range []struct {
		a, b string
		want bool
	}{
		{"night dispatch", "night dispatch", true}, {"night dispatch", "the night dispatchers", true}, {"team for night dispatch", "night dispatch group", true},
		{"slipway repairs north", "slipway repairs south", true}, {"night dispatch", "day dispatch", false}, {"crew", "crewing", true}, {"crew", "crewneck jumpers", false},
		{"all", "alley", false}, {"the team", "the group", false}, {"", "", false}, {"dispatch", "", false},
	} {
		a, b := Telling(strings.Fields(c.a)), Telling(strings.Fields(c.b))
		if got := Alike(a, b); got != c.want || Alike(b, a) != got {
			t.Errorf("%q and %q: %v, the other way %v", c.a, c.b, got, Alike(b, a))
		}
	}
}
