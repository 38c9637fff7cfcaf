package expand

import (
	"maps"
	"slices"
	"testing"
)

var edges = Edges[string]{"all": {"deck", "engine"}, "deck": {"north", "south"}, "engine": {"south"}, "loop": {"loop2"}, "loop2": {"loop", "deck"}}

func TestReach(t *testing.T) {
	for root, want := range map[string][]string{
		"all": {"all", "deck", "engine", "north", "south"}, "north": {"north"}, "loop": {"loop", "loop2", "deck", "north", "south"},
	} {
		if got := Reach(root, edges); !slices.Equal(got, want) {
			t.Errorf("Reach(%s) = %v; want %v", root, got, want)
		}
	}
}

func TestLoop(t *testing.T) {
	for _, c := range []struct {
		parent, child string
		want          []string
	}{
		{"south", "all", []string{"all", "deck", "south"}},
		{"all", "all", []string{"all"}},
		{"all", "north", nil},
		{"north", "loop", []string{"loop", "loop2", "deck", "north"}},
	} {
		if got := Loop(c.parent, c.child, edges); !slices.Equal(got, c.want) {
			t.Errorf("Loop(%s in %s) = %v; want %v", c.child, c.parent, got, c.want)
		}
	}
}

func TestDepth(t *testing.T) {
	for root, want := range map[string]int{"north": 1, "deck": 2, "all": 3, "loop": MaxDepth} {
		if got := Depth(root, edges, MaxDepth); got != want {
			t.Errorf("Depth(%s) = %d; want %d", root, got, want)
		}
	}
}

func TestPeople(t *testing.T) {
	got := People("all", []Entry[string]{
		{Person: "ines", Group: "deck", Role: Owner, Mail: true},
		{Person: "tove", Group: "all", Role: Member, Mail: false},
		{Person: "ines", Group: "all", Role: Moderator, Mail: true},
		{Person: "tove", Group: "deck", Role: Owner, Mail: true}, // off in the group itself: the nearer choice stands
		{Person: "bram", Group: "deck", Role: Member, Mail: false},
		{Person: "bram", Group: "engine", Role: Owner, Mail: true},
		{Person: "bram", Group: "south", Role: Member, Mail: false},
	})
	want := []Entry[string]{{Person: "ines", Group: "all", Role: Moderator, Mail: true}, {Person: "tove", Group: "all", Role: Member, Mail: false}, {Person: "bram", Group: "engine", Role: Member, Mail: true}}
	if !slices.Equal(got, want) {
		t.Errorf("People = %v; want %v", got, want)
	}
}

func TestParseRole(t *testing.T) {
	for _, r := range []Role{Member, Moderator, Owner} {
		if got, ok := ParseRole(r.String()); !ok || got != r {
			t.Errorf("ParseRole(%v) = %v, %v", r, got, ok)
		}
	}
	for _, s := range []string{"", "boss", "Owner"} {
		if r, ok := ParseRole(s); ok {
			t.Errorf("ParseRole(%q) = %v", s, r)
		}
	}
}

func FuzzReach(f *testing.F) {
	f.Add([]byte{0, 1, 1, 2, 2, 0})
	f.Fuzz(func(t *testing.T, b []byte) {
		e := Edges[byte]{}
		for i := 0; i+1 < len(b) && i < 64; i += 2 {
			e[b[i]%16] = append(e[b[i]%16], b[i+1]%16)
		}
		for root := byte(0); root < 16; root++ {
			for i, g := range Reach(root, e) {
				path := Loop(g, root, e)
				if len(path) == 0 || path[0] != root || path[len(path)-1] != g {
					t.Fatalf("%d is within the reach of %d (at %d), but the path is %v", g, root, i, path)
				}
				for j := 1; j < len(path); j++ {
					if !slices.Contains(e[path[j-1]], path[j]) {
						t.Fatalf("the path %v has a step that is not there", path)
					}
				}
			}
		}
	})
}

func TestHeight(t *testing.T) {
	for group, want := range map[string]int{"all": 1, "deck": 4, "engine": 2, "south": 4, "nowhere": 1} {
		if got := Height(group, edges, 4); got != want {
			t.Errorf("Height(%s) = %d; want %d", group, got, want)
		}
	}
	if got := Height("loop", edges, 5); got != 5 {
		t.Errorf("in a loop it counts to %d; want 5", got)
	}
}

// External people go up only through groups that take them.
func TestOpen(t *testing.T) {
	e := Edges[string]{"root": {"takes", "bars"}, "takes": {"a", "shared"}, "bars": {"b", "shared"}, "a": {"root"}}
	got := Open("root", e, func(g string) bool { return g != "bars" })
	want := map[string]bool{"root": true, "takes": true, "bars": true, "a": true, "shared": true}
	if !maps.Equal(got, want) {
		t.Errorf("%v", got)
	}
	if got := Open("bars", e, func(g string) bool { return g != "bars" }); len(got) != 1 {
		t.Errorf("a group that takes none has those of %v", got)
	}
}
