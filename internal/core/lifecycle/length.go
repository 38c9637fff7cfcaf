package lifecycle

import (
	"fmt"
	"regexp"
	"strconv"
	"strings"
	"time"

	"ivytable.example/ivytable/internal/core/fault"
)

// Bounds of a length.
const (
	MinLength = 7    // days
	MaxLength = 3653 // days: ten years
)

// Length is how long a group lives without renewal: so many days, weeks, months or years after its last
// renewal, until a day of the year, or without an end. The zero value is without an end.
type Length struct {
	n     int
	unit  string // day, week, month, year
	until string // a day such as 2027-03-31
}

// Never is without an end.
var Never Length

// units are what lengths are counted in: so many days, or months, is one of them.
var units = map[string]struct{ days, months int }{"day": {1, 0}, "week": {7, 0}, "month": {0, 1}, "year": {0, 12}}

var counted = regexp.MustCompile(`^([0-9]{1,5}) *(day|week|month|year)s?$`)

const lengthMend = "Write such as 180 days, 26 weeks, 6 months, a day such as 2027-03-31, or never."

// ParseLength reads a length: "never", a number of days, weeks, months or years, or a day. It has to be
// from 7 days to ten years.
func ParseLength(s string) (Length, *fault.Fault) {
	s = strings.ToLower(strings.Join(strings.Fields(s), " "))
	if s == "never" {
		return Never, nil
	}
	if _, err := time.Parse(time.DateOnly, s); err == nil {
		return Length{until: s}, nil
	}
	m := counted.FindStringSubmatch(s)
	if m == nil {
		return Never, fault.New("length", lengthMend, "A length can't be %q.", cut(s))
	}
	n, _ := strconv.Atoi(m[1])
	l := Length{n: n, unit: m[2]}
	switch about := l.days() + l.months()*MaxLength/120; {
	case about < MinLength:
		return Never, fault.New("length", fmt.Sprintf("Choose %d days at least, or never for groups that have no end.", MinLength), "A term of %s is too short.", s)
	case about > MaxLength:
		return Never, fault.New("length", "Choose ten years at most, or never.", "A term of %s is too long.", s)
	}
	return l, nil
}

func cut(s string) string {
	if len(s) > 40 {
		return strings.ToValidUTF8(s[:40], "") + "…"
	}
	return s
}

// String writes a length as ParseLength reads it.
func (l Length) String() string {
	switch {
	case l.until != "":
		return l.until
	case l.n == 0:
		return "never"
	case l.n == 1:
		return "1 " + l.unit
	}
	return fmt.Sprintf("%d %ss", l.n, l.unit)
}

func (l Length) days() int   { return l.n * units[l.unit].days }
func (l Length) months() int { return l.n * units[l.unit].months }

// Until returns the day of a length that ends on one, or "".
func (l Length) Until() string { return l.until }

// shortest is how many days it is at least from a renewal to the end; 0 where that is not said.
func (l Length) shortest() int { return l.days() + l.months()*28 }

// end returns the end of a group that was renewed at a moment; the zero time for none. A length that ends on a day
// ends on the first such day of a year that is not inside the first notice when the group is renewed: whoever renews
// it after it was told of the end keeps it for a year more.
func (l Length) end(c Calendar, renewed time.Time, first int) time.Time {
	switch {
	case l.until != "":
		day := c.Noon(l.until)
		for year := 0; ; year++ {
			if at := c.Months(day, 12*year); c.Days(renewed, at) > first {
				return at
			}
		}
	case l.months() > 0:
		return c.Months(renewed, l.months())
	case l.days() > 0:
		return c.After(renewed, l.days())
	}
	return time.Time{}
}
