package returned

import (
	"testing"
	"time"
)

func TestMatches(t *testing.T) {
	now := time.Date(2027, 3, 20, 12, 0, 0, 0, time.UTC)
	day := 24 * time.Hour
	for name, c := range map[string]struct {
		ago  []time.Duration
		want bool
	}{
		"nothing":                 {nil, false},
		"three on three days":     {[]time.Duration{time.Hour, 2 * day, 9 * day}, true},
		"three on one day":        {[]time.Duration{time.Hour, 2 * time.Hour, 3 * time.Hour}, false},
		"many on two days":        {[]time.Duration{0, time.Hour, day, day + time.Hour, day + 2*time.Hour}, false},
		"one of them long ago":    {[]time.Duration{time.Hour, 2 * day, 31 * day}, false},
		"one of them yet to come": {[]time.Duration{-time.Hour, 2 * day, 9 * day}, false},
		"at the edge of a month":  {[]time.Duration{0, day, 30 * day}, true},
	} {
		var at []time.Time
		for _, d := range c.ago {
			at = append(at, now.Add(-d))
		}
		if got := Default.Matches(at, now, time.UTC); got != c.want {
			t.Errorf("%s: %v; want %v", name, got, c.want)
		}
	}
	// two moments of one day in one zone are of two days in another
	at := []time.Time{now.Add(-11 * time.Hour), now.Add(-13 * time.Hour), now.Add(-40 * time.Hour)}
	west := time.FixedZone("west", -4*3600)
	if !Default.Matches(at, now, time.UTC) || (Pattern{3, 3, 30 * day}).Matches(at, now, west) {
		t.Error("days are not those of the zone")
	}
}
