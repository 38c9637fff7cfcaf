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

func TestLasting(t *testing.T) {
	for status, want := range map[string]bool{"5.1.1": true, "5.0.0": true, "5.2.1": true, "5.4.4": true, "550": true, "553": true,
		"5.2.2": false, "5.2.3": false, "5.3.4": false, "5.6.1": false, "5.7.1": false, "4.1.1": false, "552": false, "554": false, "450": false, "": false, "5.1": false} {
		if got := (Said{Failed: true, Status: status}).Lasting(); got != want {
			t.Errorf("%q: %v", status, got)
		}
	}
	if (Said{Status: "5.1.1"}).Lasting() {
		t.Error("what did not fail lasts")
	}
}

func TestAbout(t *testing.T) {
	fields := Report{Daemon: true, Words: "tove@x.example: 550 5.1.1 no", Said: []Said{{Final: "Tove@X.example", Failed: true, Status: "5.1.1"}, {Final: "other@x.example", Original: "oda@x.example"}}}
	for to, want := range map[string]bool{"tove@x.example": true, "TOVE@x.EXAMPLE": true, "oda@x.example": false, "nobody@x.example": false} {
		if _, failed := fields.About(to); failed != want {
			t.Errorf("by fields, %s: %v", to, failed)
		}
	}
	if s, _ := fields.About("tove@x.example"); s.Words != "" {
		t.Errorf("of words in the line itself: %q", s.Words)
	}
	fields.Words = "Not delivered to:\r\n\r\n  Tove@x.example\r\n    Nobody has\r\n    this box.\r\n\r\n  other@x.example\r\n    Full.\r\n"
	if s, _ := fields.About("tove@x.example"); s.Words != "Nobody has this box." {
		t.Errorf("its text says %q", s.Words)
	}
	fields.Said[0].Words = "550 no"
	if s, _ := fields.About("tove@x.example"); s.Words != "550 no" {
		t.Errorf("its field says %q", s.Words)
	}
	for words, want := range map[string]string{
		"<tove@x.example>: 550 5.1.1 no such box": "5.1.1", "tove@x.example failed.\nThe server said: 5.2.1 disabled": "5.2.1", "tove@x.example\n550 unknown": "550", "Mail to tove@x.example. 554 no": "554",
		"tove@x.example: 450 4.2.1 later": "", "atove@x.example: 550 5.1.1": "", "tove@x.example.net: 550 5.1.1": "", "tove@x.example wrote from 10.5.1.1": "", "550 5.1.1 somebody else": "", "tove@x.example": "",
	} {
		s, failed := Report{Daemon: true, Words: words}.About("tove@x.example")
		if s.Status != want || failed != (want != "") {
			t.Errorf("%q: %+v, %v", words, s, failed)
		}
	}
	if _, failed := (Report{Words: "I am away. Call 555-1234, or write to tove@x.example again. 550 5.1.1"}).About("tove@x.example"); failed {
		t.Error("somebody who is away counts as a failure")
	}
}
