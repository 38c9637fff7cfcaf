package digest

import (
	"testing"
	"time"
	_ "time/tzdata"
)

func TestAround(t *testing.T) {
	zone := func(name string) *time.Location {
		z, err := time.LoadLocation(name)
		if err != nil {
			t.Fatal(err)
		}
		return z
	}
	moment := func(s string) time.Time {
		at, err := time.Parse(time.RFC3339, s)
		if err != nil {
			t.Fatal(err)
		}
		return at
	}
	for _, c := range []struct {
		hour                  int
		now, zone, last, next string
	}{
		{7, "2027-01-10T12:00:00Z", "UTC", "2027-01-10T07:00:00Z", "2027-01-11T07:00:00Z"},
		{7, "2027-01-10T07:00:00Z", "UTC", "2027-01-10T07:00:00Z", "2027-01-11T07:00:00Z"},
		{7, "2027-01-10T06:59:59Z", "UTC", "2027-01-09T07:00:00Z", "2027-01-10T07:00:00Z"},
		{7, "2027-01-10T23:00:00Z", "Asia/Tokyo", "2027-01-10T22:00:00Z", "2027-01-11T22:00:00Z"},
		{18, "2027-01-10T01:00:00Z", "America/Lima", "2027-01-09T23:00:00Z", "2027-01-10T23:00:00Z"},
		{7, "2027-03-28T12:00:00Z", "Europe/Oslo", "2027-03-28T05:00:00Z", "2027-03-29T05:00:00Z"}, // after the clock went forward
		{7, "2027-03-27T12:00:00Z", "Europe/Oslo", "2027-03-27T06:00:00Z", "2027-03-28T05:00:00Z"},
		{0, "2027-12-31T23:30:00Z", "UTC", "2027-12-31T00:00:00Z", "2028-01-01T00:00:00Z"},
		{0, "2028-02-29T12:00:00Z", "UTC", "2028-02-29T00:00:00Z", "2028-03-01T00:00:00Z"},
	} {
		last, next := Around(c.hour, moment(c.now), zone(c.zone))
		if !last.Equal(moment(c.last)) || !next.Equal(moment(c.next)) {
			t.Errorf("%d in %s at %s: %v, %v", c.hour, c.zone, c.now, last, next)
		}
	}
	// whatever the day, it is never skipped and never twice: the next is the last once it has come
	for _, name := range []string{"Europe/Oslo", "America/Sao_Paulo", "Australia/Lord_Howe", "Pacific/Apia", "UTC"} {
		for hour := range 24 {
			_, next := Around(hour, moment("2011-12-20T00:00:00Z"), zone(name))
			for range 800 {
				last, after := Around(hour, next, zone(name))
				if !last.Equal(next) || !after.After(next) || after.Sub(next) > 49*time.Hour {
					t.Fatalf("%s at %d: after %v come %v and %v", name, hour, next, last, after)
				}
				next = after
			}
		}
	}
}
