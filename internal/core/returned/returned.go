// Package returned decides what mail that comes back means: when delivery to somebody is paused.
package returned

import "time"

// Pattern is from when on mail to somebody counts as going nowhere. One message that comes back can have many reasons; several, on
// several days, mean that nobody reads there.
type Pattern struct {
	Messages int           // that came back for good, each counted once
	Days     int           // different days on which they did
	Within   time.Duration // that long before now
}

// Default is the pattern until another is set: three messages on three days of a month. A mailbox that was full over a weekend, or a
// server that was set up wrongly for a day, is not cut off.
var Default = Pattern{Messages: 3, Days: 3, Within: 30 * 24 * time.Hour}

// Matches reports whether mail that came back at some times, each of another message, makes the pattern now. Days are those of zone.
func (p Pattern) Matches(at []time.Time, now time.Time, zone *time.Location) bool {
	messages, days := 0, map[string]bool{}
	for _, t := range at {
		if t.After(now) || now.Sub(t) > p.Within {
			continue
		}
		messages++
		days[t.In(zone).Format(time.DateOnly)] = true
	}
	return messages >= p.Messages && len(days) >= p.Days
}
