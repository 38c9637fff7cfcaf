package seal

import (
	"slices"
	"testing"
)

func TestErasures(t *testing.T) {
	all := chain(6)
	left := func(at ...int) (out []Left) {
		for _, i := range at {
			out = append(out, all[i].Entry.Left())
		}
		return out
	}
	asked := func(number int64, l ...Left) Request { return Request{number, Digest(l).String(), l} }
	first := left(0, 1, 2)
	all[2].Entry.Data = []byte(`{"n":"less"}`) // by the second
	second := left(2, 3)
	now := map[int64]Hash{}
	for _, l := range left(0, 1, 2, 3) {
		now[l.Number] = l.Hash
	}
	requests := func() []Request { return []Request{asked(900, second...), asked(800, first...)} }
	if faults := Erasures(now, requests()); len(faults) != 0 {
		t.Errorf("%+v", faults)
	}
	if Digest(first) != Digest([]Left{first[2], first[0], first[1]}) {
		t.Error("a digest depends on the order in which it was read")
	}
	for name, c := range map[string]struct {
		do     func(now map[int64]Hash, r []Request) []Request
		kind   Kind
		number int64
	}{
		"edited afterwards":             {func(now map[int64]Hash, r []Request) []Request { now[10] = Hash{1}; return r }, Edited, 10},
		"what the first left, restored": {func(now map[int64]Hash, r []Request) []Request { now[30] = first[2].Hash; return r }, Edited, 30},
		"nobody asked":                  {func(now map[int64]Hash, r []Request) []Request { now[50] = Hash{1}; return r }, Erased, 50},
		"put among those of a request": {func(now map[int64]Hash, r []Request) []Request {
			now[50] = Hash{1}
			r[0].Left = append(r[0].Left, Left{50, Hash{1}})
			return r
		}, Erased, 900},
		"no entry of the request": {func(_ map[int64]Hash, r []Request) []Request { r[1].Number, r[1].Digest = 0, ""; return r }, Erased, 0},
		"what is noted, edited":   {func(_ map[int64]Hash, r []Request) []Request { r[1].Left[0].Hash[0]++; return r }, Erased, 800},
	} {
		n := map[int64]Hash{}
		for k, v := range now {
			n[k] = v
		}
		r := requests()
		for i := range r {
			r[i].Left = slices.Clone(r[i].Left)
		}
		faults := Erasures(n, c.do(n, r))
		if len(faults) == 0 || faults[0].Kind != c.kind || faults[0].Number != c.number || faults[0].Says == "" {
			t.Errorf("%s: %+v", name, faults)
		}
	}
}
