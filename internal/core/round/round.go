// Package round says when a round is at what: a dated request to those who own groups to confirm that these are needed and
// right. A round asks when it begins and reminds some days before its day; when that day is over, what was not answered
// becomes what its [Silence] says, never unwarned.
package round

import (
	"slices"
	"time"

	"ivytable.example/ivytable/internal/core/lifecycle"
)

// Question is something that whoever answers confirms.
type Question string

// The questions.
const (
	Needed Question = "needed"
	People Question = "people"
	Policy Question = "policy"
	Owner  Question = "owner"
)

// Questions are all of them, in the order in which they are asked, with their words.
var Questions = []struct {
	Question Question
	Asks     string
}{
	{Needed, "The group is still needed"},
	{People, "The right people are in it, and nobody else"},
	{Policy, "Who can find, join and write to it is as it should be"},
	{Owner, "Its owners are the right ones"},
}

// Silence is what becomes of groups about which nobody has answered.
type Silence string

// What can become of them.
const (
	Nothing   Silence = "nothing"
	Retire    Silence = "retire"
	Caretaker Silence = "caretaker" // their caretaker is told
)

// Silences are all of them.
var Silences = []string{string(Nothing), string(Retire), string(Caretaker)}

const (
	// FirstLead is how many days before the end of a round whose silence retires groups the first letter goes out at least, and
	// LastLead how many before it the last one.
	FirstLead = 14
	LastLead  = 1
	// MaxDays is how long a round can go on, in days.
	MaxDays = 366
)

// Plan is when a round asks and ends. Days are those of the calendar.
type Plan struct {
	Calendar  lifecycle.Calendar
	Begun     time.Time
	End       time.Time // the first moment after its day
	Reminders []int     // days before its day, the most first
	Silence   Silence
}

// Letter returns which letter is due, by the day of the round on which it is: 0 for the first, and the day of the last reminder whose
// time has come. A reminder that lies before the beginning is never due: the first letter is all that was sent then. Whoever
// changes the reminders so changes no letter that went out.
func (p Plan) Letter(now time.Time) (day int) {
	for _, before := range p.Reminders {
		if at := p.Calendar.After(p.End, -1-before); at.After(p.Begun) && !now.Before(at) {
			day = max(day, p.Calendar.Days(p.Begun, at))
		}
	}
	return day
}

// Over reports whether a round is over: its day has passed, and where silence retires groups, the first letter went out
// FirstLead days before and the last one LastLead. Where they did not, until is when it is over if the letters go out now.
func (p Plan) Over(now, first, last time.Time) (over bool, until time.Time) {
	if now.Before(p.End) {
		return false, p.End
	}
	if p.Silence != Retire {
		return true, p.End
	}
	if first.IsZero() || last.IsZero() {
		return false, p.Calendar.After(now, FirstLead+1)
	}
	until = p.Calendar.After(first, FirstLead)
	if l := p.Calendar.After(last, LastLead+1); l.After(until) {
		until = l
	}
	return !now.Before(until), until
}

// Next returns when a round that is repeated begins again: so many months after it began.
func (p Plan) Next(months int) time.Time { return p.Calendar.Months(p.Begun, months) }

// Length is how many days it goes on.
func (p Plan) Length() int { return p.Calendar.Days(p.Begun, p.End) }

// Open returns the questions of a round that an answer leaves open.
func Open(asked, confirmed []Question) []Question {
	return slices.DeleteFunc(slices.Clone(asked), func(q Question) bool { return slices.Contains(confirmed, q) })
}
