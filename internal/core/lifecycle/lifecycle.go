package lifecycle

import (
	"fmt"
	"slices"
	"time"

	"ivytable.example/ivytable/internal/core/fault"
)

// Bounds of a policy.
const (
	MinTerm      = 7    // days
	MaxTerm      = 3650 // days
	MaxNotices   = 10
	RecoveryDays = 30 // for how long a group that ended can be restored
)

// Scope says which groups a term applies to.
type Scope string

// The scopes.
const (
	AllGroups    Scope = "all"
	ChosenGroups Scope = "chosen"
	NoGroups     Scope = "none"
)

// Policy is the workspace's rule for expiry. The zero value is off.
type Policy struct {
	TermDays  int   // 0: off
	Scope     Scope // which groups the term applies to
	Notices   []int // days before the end, largest first
	Caretaker string
	Zone      *time.Location // nil: UTC
}

// State is where a group is in its life.
type State string

// The states.
const (
	Active  State = "active"
	Due     State = "due"
	Lapsed  State = "lapsed"
	Retired State = "retired"
)

// Ended reports whether a group in this state takes no mail and no change but
// being restored.
func (s State) Ended() bool { return s == Lapsed || s == Retired }

// States are all of them, in the order of a life.
var States = []State{Active, Due, Lapsed, Retired}

// Life is what is recorded of one group. A zero time means never.
type Life struct {
	Renewed time.Time
	Expires time.Time // zero: no end
	Ended   time.Time // when it lapsed or was retired
	Retired bool      // it was retired, not lapsed; only with Ended
	Chosen  bool      // the term applies to it when Scope is ChosenGroups
	Exempt  bool      // no term applies to it
}

// Over reports whether the life has ended at now, by whatever way, or its time has run
// out and nobody has come by to say so yet.
func (l Life) Over(now time.Time) bool {
	return !l.Ended.IsZero() || !l.Expires.IsZero() && !now.Before(l.Expires)
}

// Check returns what is wrong with p, or nil. Field is term_days, scope or notices.
func (p Policy) Check() *fault.Fault {
	if p.TermDays != 0 && (p.TermDays < MinTerm || p.TermDays > MaxTerm) {
		return fault.New("term_days", fmt.Sprintf("Choose %d to %d, or 0 for no expiry.", MinTerm, MaxTerm), "The term can't be %d days.", p.TermDays)
	}
	if p.Scope != AllGroups && p.Scope != ChosenGroups && p.Scope != NoGroups {
		return fault.New("scope", "Choose all, chosen, none.", "The scope can't be %q.", p.Scope)
	}
	if p.TermDays > 0 && len(p.Notices) == 0 {
		return fault.New("notices", "Write one, such as 30.", "There has to be at least one notice day.")
	}
	if len(p.Notices) > MaxNotices {
		return fault.New("notices", "Leave some out.", "%d notice days are too many: %d is the most.", len(p.Notices), MaxNotices)
	}
	for i, d := range p.Notices {
		if d < 1 || p.TermDays > 0 && d >= p.TermDays {
			return fault.New("notices", "Choose days within the term.", "A notice can't come %d days before the end of a term of %d days.", d, p.TermDays)
		}
		if i > 0 && d >= p.Notices[i-1] {
			return fault.New("notices", "Write the largest first.", "The notice days %v are not each smaller than the one before.", p.Notices)
		}
	}
	return nil
}

// First returns the days of the first notice, 0 without any.
func (p Policy) First() int {
	if len(p.Notices) == 0 {
		return 0
	}
	return p.Notices[0]
}

// Day returns the first moment of t's day in the workspace's zone.
func (p Policy) Day(t time.Time) time.Time { return p.After(t, 0) }

// Noon returns the middle of a day that is written as 2027-01-02, in the workspace's zone.
func (p Policy) Noon(day string) time.Time {
	t, _ := time.Parse(time.DateOnly, day)
	return time.Date(t.Year(), t.Month(), t.Day(), 12, 0, 0, 0, p.zone())
}

// After returns the first moment of the day that is so many calendar days after t's in the
// workspace's zone; days may be negative. Where clocks skip midnight the day begins later.
func (p Policy) After(t time.Time, days int) time.Time {
	zone := p.zone()
	y, m, d := t.In(zone).Date()
	y, m, d = time.Date(y, m, d+days, 12, 0, 0, 0, time.UTC).Date()
	for quarter := range 24 * 4 {
		if at := time.Date(y, m, d, 0, 15*quarter, 0, 0, zone); at.Day() == d {
			return at
		}
	}
	return time.Date(y, m, d+1, 0, 0, 0, 0, zone) // a zone that crossed the date line has no such day
}

func (p Policy) zone() *time.Location {
	if p.Zone == nil {
		return time.UTC
	}
	return p.Zone
}

// Applies reports whether the term applies to a group.
func (p Policy) Applies(l Life) bool {
	return p.TermDays > 0 && !l.Exempt && (p.Scope == AllGroups || p.Scope == ChosenGroups && l.Chosen)
}

// Expiry returns when a group expires under p: last renewal plus term, but not
// before today plus the first notice, unless it was to expire before that anyway.
// The zero time means never.
func (p Policy) Expiry(l Life, now time.Time) time.Time {
	if !p.Applies(l) {
		return time.Time{}
	}
	at := p.After(l.Renewed, p.TermDays)
	floor := p.After(now, p.First())
	if !l.Expires.IsZero() && l.Expires.Before(floor) {
		floor = p.Day(l.Expires) // its owners have been told of that date already
	}
	if at.Before(floor) {
		at = floor
	}
	return at.UTC()
}

// State returns the state of a group at now.
func (p Policy) State(l Life, now time.Time) State {
	switch {
	case !l.Ended.IsZero() && l.Retired:
		return Retired
	case l.Over(now):
		return Lapsed
	case !l.Expires.IsZero() && !now.Before(p.DueFrom(l.Expires)):
		return Due
	}
	return Active
}

// DueFrom returns when a group that expires at expires becomes due.
func (p Policy) DueFrom(expires time.Time) time.Time {
	return p.After(expires, -p.First()).UTC()
}

// PurgeAt returns when a group that ended can no longer be restored.
func (p Policy) PurgeAt(l Life) time.Time {
	return p.After(l.Ended, RecoveryDays).UTC()
}

// Days returns the number of midnights from now to at in the workspace's zone,
// negative where at lies before today.
func (p Policy) Days(now, at time.Time) int {
	date := func(t time.Time) time.Time {
		y, m, d := t.In(p.zone()).Date()
		return time.Date(y, m, d, 0, 0, 0, 0, time.UTC)
	}
	return int(date(at).Sub(date(now)) / (24 * time.Hour))
}

// Last returns the days of the last notice, 0 without any.
func (p Policy) Last() int {
	if len(p.Notices) == 0 {
		return 0
	}
	return p.Notices[len(p.Notices)-1]
}

// Given is a notice that was given.
type Given struct {
	Day   int // how many days before the end it is for
	At    time.Time
	First bool // it was the first, as many days before the end as it is for
}

// Late reports whether the first notice of an end was not given in time and can't be any more.
func (p Policy) Late(expires, now time.Time, given []Given) bool {
	return !slices.ContainsFunc(given, func(g Given) bool { return g.First }) && p.Days(now, expires) < p.First()
}

// Extended returns the end in place of one of which nobody was told in time, ok being true
// for such a one: nobody is cut off unless the first notice was given as many days before as
// it is for, and the last a day before at least. It moves by as much as the missing notice
// needs.
func (p Policy) Extended(expires, now time.Time, given []Given) (to time.Time, ok bool) {
	if p.Late(expires, now, given) {
		return p.After(now, p.First()).UTC(), true
	}
	last := slices.ContainsFunc(given, func(g Given) bool { return g.Day <= p.Last() && p.Days(g.At, expires) >= 1 })
	if last || p.Days(now, expires) >= 1 {
		return expires, false
	}
	return p.After(now, max(p.Last(), 1)).UTC(), true
}

// Notice returns the notice that is to be sent at now for a group that expires at
// expires, given the days of those already sent for that date. When several are
// overdue only the nearest to the end is sent. ok is false when there is none.
func (p Policy) Notice(expires, now time.Time, sent []int) (day int, ok bool) {
	if expires.IsZero() || !now.Before(expires) {
		return 0, false
	}
	left := p.Days(now, expires)
	for _, d := range slices.Backward(p.Notices) {
		if left <= d {
			for _, s := range sent {
				if s <= d {
					return 0, false
				}
			}
			return d, true
		}
	}
	return 0, false
}
