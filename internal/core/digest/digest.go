// Package digest is when messages of a day are sent together.
package digest

import "time"

// Hour is the hour of the day at which digests come to somebody who has said nothing: before work begins.
const Hour = 7

// Around returns the last time up to now at which it was an hour of the day, 0 to 23, in a zone, and the next one after it. On a day that has no
// such hour, since the clock went forward, it is an hour earlier or later.
func Around(hour int, now time.Time, zone *time.Location) (last, next time.Time) {
	day := now.In(zone)
	at := func(days int) time.Time {
		return time.Date(day.Year(), day.Month(), day.Day()+days, hour, 0, 0, 0, zone).UTC()
	}
	last, next = at(-1), at(0)
	for days := 1; !next.After(now); days++ { // the hour of one day can lie in the day before, on a day without midnight
		last, next = next, at(days)
	}
	return last, next
}
