package lifecycle

import "time"

// Calendar counts in days of the workspace's time zone. The zero value counts in UTC.
type Calendar struct {
	Zone *time.Location // nil: UTC
}

// Day returns the first moment of t's day in the workspace's zone.
func (c Calendar) Day(t time.Time) time.Time { return c.After(t, 0) }

// Noon returns the middle of a day that is written as 2027-01-02, in the workspace's zone.
func (c Calendar) Noon(day string) time.Time {
	t, _ := time.Parse(time.DateOnly, day)
	return time.Date(t.Year(), t.Month(), t.Day(), 12, 0, 0, 0, c.zone())
}

// After returns the first moment of the day that is so many calendar days after t's in the
// workspace's zone; days may be negative. Where clocks skip midnight the day begins later.
func (c Calendar) After(t time.Time, days int) time.Time {
	y, m, d := t.In(c.zone()).Date()
	return c.first(y, m, d+days)
}

// Months returns the first moment of the same day so many months after t's, or of the last day of that
// month where it has no such day.
func (c Calendar) Months(t time.Time, months int) time.Time {
	y, m, d := t.In(c.zone()).Date()
	last := time.Date(y, m+time.Month(months)+1, 0, 12, 0, 0, 0, time.UTC).Day()
	return c.first(y, m+time.Month(months), min(d, last))
}

// first returns the first moment of a day.
func (c Calendar) first(y int, m time.Month, d int) time.Time {
	zone := c.zone()
	y, m, d = time.Date(y, m, d, 12, 0, 0, 0, time.UTC).Date()
	for quarter := range 24 * 4 {
		if at := time.Date(y, m, d, 0, 15*quarter, 0, 0, zone); at.Day() == d {
			return at
		}
	}
	return time.Date(y, m, d+1, 0, 0, 0, 0, zone) // a zone that crossed the date line has no such day
}

// Days returns the number of midnights from now to at in the workspace's zone,
// negative where at lies before today.
func (c Calendar) Days(now, at time.Time) int {
	date := func(t time.Time) time.Time {
		y, m, d := t.In(c.zone()).Date()
		return time.Date(y, m, d, 0, 0, 0, 0, time.UTC)
	}
	return int(date(at).Sub(date(now)) / (24 * time.Hour))
}

func (c Calendar) zone() *time.Location {
	if c.Zone == nil {
		return time.UTC
	}
	return c.Zone
}
