package seal

import (
	"fmt"
	"slices"
	"testing"
	"time"
)

// chain makes a chain of entries.
func chain(n int) []Sealed {
	var before Hash
	out := make([]Sealed, n)
	for i := range out {
		e := &Entry{Number: int64(10 * (i + 1)), Change: ID{byte(i)}, At: time.Unix(int64(i), 5000).UTC(), Kind: "group.change", Via: "console", Group: ID{1}, Request: "r", Actor: fmt.Sprintf("person-%d@merrowline.example", i),
			ActorID: ID{2}, Data: fmt.Appendf(nil, `{"n":%d}`, i), Affected: []Affected{{ID{3}, "member", "owner", ""}, {ID{4}, "", "member", "x@y.example"}}}
		salt := []byte(fmt.Sprintf("salt of %08d", i))
		seal := Next(before, int64(i+1), e, e.Names(salt))
		out[i] = Sealed{Place: int64(i + 1), Number: e.Number, Salt: salt, Seal: seal, Entry: e}
		before = seal
	}
	return out
}

func check(all []Sealed) *Checker {
	var c Checker
	for _, s := range all {
		c.Check(s)
	}
	c.End()
	return &c
}

func TestAWholeChain(t *testing.T) {
	all := chain(200)
	if c := check(all); len(c.Faults) != 0 || c.Count != 200 {
		t.Errorf("%d, %v", c.Count, c.Faults)
	}
	c := From(100, all[99].Seal)
	for _, s := range all[100:] {
		c.Check(s)
	}
	if last := c.End(); len(c.Faults) != 0 || last != all[199].Seal {
		t.Errorf("from the middle on: %v", c.Faults)
	}
}

// Whatever is changed of an entry, wherever it stands, is found, and said to be there.
func TestTampering(t *testing.T) {
	ways := map[string]struct {
		do   func(all []Sealed, at int) []Sealed
		kind Kind
	}{
		"number": {func(all []Sealed, at int) []Sealed { all[at].Entry.Number++; return all }, Edited},
		"change": {func(all []Sealed, at int) []Sealed { all[at].Entry.Change[9]++; return all }, Edited},
		"time": {func(all []Sealed, at int) []Sealed {
			all[at].Entry.At = all[at].Entry.At.Add(time.Microsecond)
			return all
		}, Edited},
		"kind":     {func(all []Sealed, at int) []Sealed { all[at].Entry.Kind = "group.renew"; return all }, Edited},
		"way":      {func(all []Sealed, at int) []Sealed { all[at].Entry.Via = "api"; return all }, Edited},
		"group":    {func(all []Sealed, at int) []Sealed { all[at].Entry.Group = ID{}; return all }, Edited},
		"request":  {func(all []Sealed, at int) []Sealed { all[at].Entry.Request = ""; return all }, Edited},
		"part":     {func(all []Sealed, at int) []Sealed { all[at].Entry.Part = true; return all }, Edited},
		"actor":    {func(all []Sealed, at int) []Sealed { all[at].Entry.Actor = "x@y.example"; return all }, Edited},
		"actor id": {func(all []Sealed, at int) []Sealed { all[at].Entry.ActorID = ID{}; return all }, Edited},
		"data":     {func(all []Sealed, at int) []Sealed { all[at].Entry.Data = []byte(`{"n":-1}`); return all }, Edited},
		"whom":     {func(all []Sealed, at int) []Sealed { all[at].Entry.Affected = all[at].Entry.Affected[:1]; return all }, Edited},
		"role":     {func(all []Sealed, at int) []Sealed { all[at].Entry.Affected[1].Now = "owner"; return all }, Edited},
		"between fields": {func(all []Sealed, at int) []Sealed {
			all[at].Entry.Kind, all[at].Entry.Via = "group.changec", "onsole"
			return all
		}, Edited},
		"salt":       {func(all []Sealed, at int) []Sealed { all[at].Salt = []byte("another"); return all }, Edited},
		"entry gone": {func(all []Sealed, at int) []Sealed { all[at].Entry = nil; return all }, Missing},
		"both gone":  {func(all []Sealed, at int) []Sealed { return slices.Delete(all, at, at+1) }, Missing},
		"seals swapped": {func(all []Sealed, at int) []Sealed {
			all[at], all[at+1] = all[at+1], all[at]
			all[at].Place, all[at+1].Place = all[at+1].Place, all[at].Place
			return all
		}, Reordered},
		"entries swapped": {func(all []Sealed, at int) []Sealed {
			a, b := all[at].Entry, all[at+3].Entry
			a.Number, b.Number = b.Number, a.Number
			all[at].Entry, all[at+3].Entry = b, a
			return all
		}, Reordered},
	}
	for name, w := range ways {
		for _, at := range []int{0, 1, 50, 95} {
			c := check(w.do(chain(100), at))
			if len(c.Faults) == 0 || c.Faults[0].Kind != w.kind || c.Faults[0].Place != int64(at+1) || c.Faults[0].Says == "" {
				t.Errorf("%s at %d: %+v", name, at, c.Faults)
			}
		}
	}
}

// Of a change of many entries each is named, and the rest is still proven.
func TestManyFaults(t *testing.T) {
	all := chain(500)
	for i := 100; i < 300; i++ {
		all[i].Entry.Data = []byte("{}")
	}
	if c := check(all); len(c.Faults) != 200 || c.Count != 300 || c.Faults[0].Place != 101 || c.Faults[199].Place != 300 {
		t.Errorf("%d faults, %d right", len(c.Faults), c.Count)
	}
}

// Names can't be guessed from a commitment without its salt, and two entries that say the same have others.
func TestNamesAreSalted(t *testing.T) {
	e := chain(1)[0].Entry
	if e.Names([]byte("a")) == e.Names([]byte("b")) {
		t.Error("the salt does not count")
	}
}

func BenchmarkCheck(b *testing.B) {
	all := chain(10_000)
	for b.Loop() {
		check(all)
	}
	b.ReportMetric(float64(b.N)*10_000/b.Elapsed().Seconds(), "entries/s")
}
