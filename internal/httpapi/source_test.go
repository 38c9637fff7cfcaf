package httpapi

import (
	"net/http/httptest"
	"net/netip"
	"testing"

	"github.com/google/uuid"
)

// A request comes from where the last proxy that is trusted says; what anybody else writes
// there is not believed.
func TestSource(t *testing.T) {
	s := &server{o: Options{Proxies: []netip.Prefix{netip.MustParsePrefix("10.0.0.0/8"), netip.MustParsePrefix("::1/128")}}}
	for _, c := range []struct {
		from string
		said []string
		want string
	}{
		{"192.0.2.7:1", nil, "192.0.2.7"},
		{"192.0.2.7:1", []string{"203.0.113.9"}, "192.0.2.7"},
		{"10.1.2.3:1", nil, "10.1.2.3"},
		{"10.1.2.3:1", []string{"203.0.113.9"}, "203.0.113.9"},
		{"10.1.2.3:1", []string{"198.51.100.1, 203.0.113.9"}, "203.0.113.9"},
		{"10.1.2.3:1", []string{"198.51.100.1", "203.0.113.9, 10.9.9.9"}, "203.0.113.9"},
		{"10.1.2.3:1", []string{"nonsense"}, "10.1.2.3"},
		{"[::1]:1", []string{"2001:db8::7"}, "2001:db8::7"},
		{"[::ffff:10.1.2.3]:1", []string{"203.0.113.9"}, "203.0.113.9"},
	} {
		r := httptest.NewRequest("GET", "/", nil)
		r.RemoteAddr = c.from
		for _, h := range c.said {
			r.Header.Add("X-Forwarded-For", h)
		}
		if got := s.source(r); got != c.want {
			t.Errorf("from %s, which says %v: %s; want %s", c.from, c.said, got, c.want)
		}
	}
}

// One person can't have so many octets on their way in that others have no room; all together
// have a bound too, and what has come in counts no more.
func TestBodiesInFlight(t *testing.T) {
	var f inFlight
	one := uuid.New()
	give, ok := f.take(one, inFlightOfOne)
	if !ok {
		t.Fatal("a first body has no room")
	}
	if _, ok := f.take(one, 1); ok {
		t.Error("one person has more than their share")
	}
	var gives []func()
	for {
		g, ok := f.take(uuid.New(), inFlightOfOne)
		if !ok {
			break
		}
		gives = append(gives, g)
	}
	if n := len(gives) + 1; n != inFlightOfAll/inFlightOfOne {
		t.Errorf("%d people have room at once", n)
	}
	for _, g := range append(gives, give) {
		g()
	}
	if f.all != 0 || len(f.by) != 0 {
		t.Errorf("%d octets of %d people are left", f.all, len(f.by))
	}
}
