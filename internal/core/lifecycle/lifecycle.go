package lifecycle

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"ivytable.example/ivytable/internal/core/fault"
)

// Bounds of terms.
const (
	MaxRules    = 50
	MaxNotices  = 10
	MaxLead     = 365 // days
	MinRecovery = 7   // days
	MaxRecovery = 730 // days
)

// DefaultRecovery is for how many days a group can be restored: within 60 most of what is missed was missed.
const DefaultRecovery = 60

// DefaultNotices are the usual leads: six weeks outlast a long holiday, two weeks a short one, three days a weekend.
func DefaultNotices() Leads { return Leads{42, 14, 3} }

// Leads are the days before an end on which notices of it are given, largest first.
type Leads []int

// First returns the days of the first notice, 0 without any.
func (l Leads) First() int {
	if len(l) == 0 {
		return 0
	}
	return l[0]
}

// Last returns the days of the last notice, 0 without any.
func (l Leads) Last() int {
	if len(l) == 0 {
		return 0
	}
	return l[len(l)-1]
}

func (l Leads) String() string {
	return strings.Trim(strings.ReplaceAll(fmt.Sprint([]int(l)), " ", ", "), "[]")
}

// check says what is wrong with leads before the end of a term of a length.
func (l Leads) check(field string, length Length) *fault.Fault {
	if len(l) > MaxNotices {
		return fault.New(field, "Leave some out.", "%d notices are too many: %d is the most.", len(l), MaxNotices)
	}
	for i, d := range l {
		switch {
		case d < 1 || d > MaxLead:
			return fault.New(field, fmt.Sprintf("Choose 1 to %d.", MaxLead), "A notice can't come %d days before the end.", d)
		case i > 0 && d >= l[i-1]:
			return fault.New(field, "Write the largest first.", "The notices %s are not each nearer to the end than the one before.", l)
		}
	}
	return l.within(field, length)
}

// within says which of leads, if any, is not within a term of a length.
func (l Leads) within(field string, length Length) *fault.Fault {
	if shortest := length.shortest(); shortest > 0 && l.First() >= shortest {
		return fault.New(field, "Give the rule notices of its own that lie within its term.", "A notice can't come %d days before the end of a term of %s.", l.First(), length)
	}
	return nil
}

// Renewer is an activity that renews a group by itself.
type Renewer string

// The activities.
const (
	ByPost Renewer = "post" // somebody wrote to it
	ByJoin Renewer = "join" // somebody came in by themselves, by asking or by an invitation
)

// Renewers are all of them.
var Renewers = []Renewer{ByPost, ByJoin}

// Rule is a rule for how long groups live. Which groups it is for is the business of whoever asks.
type Rule struct {
	Name      string
	Length    Length
	Notices   Leads // nil: those of the workspace
	RenewedBy []Renewer
}

// Terms are the rules of the workspace, of which the first that names a group holds for it. Without
// any, groups have no end.
type Terms struct {
	Calendar
	Rules    []Rule
	Notices  Leads // where a rule has none of its own
	Recovery int   // days for which a group that ended can be restored
}

// Rule returns a rule by its name, nil for none.
func (t *Terms) Rule(name string) *Rule {
	for i := range t.Rules {
		if name != "" && t.Rules[i].Name == name {
			return &t.Rules[i]
		}
	}
	return nil
}

// Leads returns the notices of a rule; nil is none.
func (t *Terms) Leads(r *Rule) Leads {
	switch {
	case r == nil:
		return t.Notices
	case r.Notices != nil:
		return r.Notices
	}
	return t.Notices
}

// Check returns what is wrong with t. Fields are notices, recovery_days, rules, rules[0].length and the like.
// now is when they are to hold from.
func (t *Terms) Check(now time.Time) (out []*fault.Fault) {
	add := func(f *fault.Fault) {
		if f != nil {
			out = append(out, f)
		}
	}
	if len(t.Notices) == 0 {
		add(fault.New("notices", "Write such as 42, 14, 3.", "There has to be at least one notice."))
	}
	add(t.Notices.check("notices", Never))
	if t.Recovery < MinRecovery || t.Recovery > MaxRecovery {
		add(fault.New("recovery_days", fmt.Sprintf("Choose %d to %d days.", MinRecovery, MaxRecovery), "Groups that ended can't be restorable for %d days.", t.Recovery))
	}
	if len(t.Rules) > MaxRules {
		add(fault.New("rules", "Join some by or.", "%d rules are too many: %d is the most.", len(t.Rules), MaxRules))
	}
	seen := map[string]bool{}
	for i := range t.Rules {
		r := &t.Rules[i]
		field := func(name string) string { return fmt.Sprintf("rules[%d].%s", i, name) }
		key := strings.ToLower(r.Name)
		switch {
		case strings.TrimSpace(r.Name) == "":
			add(fault.New(field("name"), "Give it one that says which groups it is for, such as Seasonal routes.", "The rule has no name."))
		case seen[key]:
			add(fault.New(field("name"), "Call one of them something else.", "There are two rules called %s.", r.Name))
		}
		seen[key] = true
		if u := r.Length.Until(); u != "" {
			if days := t.Days(now, t.Noon(u)); days < 1 {
				add(fault.New(field("length"), "Choose a day to come.", "%s is past.", u))
			} else if days > MaxLength {
				add(fault.New(field("length"), "Choose one within ten years, or never.", "%s is too far away.", u))
			}
		}
		switch {
		case r.Notices == nil:
			add(t.Notices.within(field("notices"), r.Length))
		case len(r.Notices) == 0:
			add(fault.New(field("notices"), "Write one, or leave them out for those of the workspace.", "The rule has no notice."))
		default:
			add(r.Notices.check(field("notices"), r.Length))
		}
		for _, x := range r.RenewedBy {
			if !slices.Contains(Renewers, x) {
				add(fault.New(field("renewed_by"), "Choose post, join.", "A group can't be renewed by %q.", cut(string(x))))
			}
		}
	}
	return out
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
	Renewed  time.Time
	Rule     string    // the name of the rule that holds for it, "" for none
	Expires  time.Time // zero: no end
	Due      time.Time // when its first notice is due; zero: never
	Promises Promises  // before which it does not end, whatever its renewal says
	Ended    time.Time // when it lapsed or was retired
	Retired  bool      // it was retired, not lapsed; only with Ended
	Exempt   bool      // no rule is for it
}

// Promises are the days before which a group does not end under a rule, whatever its renewal says: its owners
// were told so, or could not be told in time. They are kept for each length with its first notice, so that rules
// that are changed back give the dates that were.
type Promises string // such as ";180 days, 42=2027-01-02", the last one made last

const maxPromises = 900 // octets

// of returns what was promised under a rule, the zero time for nothing.
func (p Promises) of(c Calendar, key string) time.Time {
	_, day, found := strings.Cut(string(p), ";"+key+"=")
	if !found {
		return time.Time{}
	}
	return c.Day(c.Noon(day[:len(time.DateOnly)]))
}

// with returns promises with another one under a rule. Of too many the first are forgotten.
func (p Promises) with(c Calendar, key string, end time.Time) Promises {
	if before, after, found := strings.Cut(string(p), ";"+key+"="); found {
		p = Promises(before + after[len(time.DateOnly):])
	}
	p += Promises(";" + key + "=" + c.Day(end).Format(time.DateOnly))
	for len(p) > maxPromises {
		p = p[1:]
		p = p[strings.IndexByte(string(p), ';'):]
	}
	return p
}

// key is what promises under a rule go by.
func (t *Terms) key(r *Rule) string { return fmt.Sprintf("%s, %d", r.Length, t.Leads(r).First()) }

// Over reports whether the life has ended at now, by whatever way, or its time has run
// out and nobody has come by to say so yet.
func (l Life) Over(now time.Time) bool {
	return !l.Ended.IsZero() || !l.Expires.IsZero() && !now.Before(l.Expires)
}

// State returns the state of a group at now.
func (l Life) State(now time.Time) State {
	switch {
	case !l.Ended.IsZero() && l.Retired:
		return Retired
	case l.Over(now):
		return Lapsed
	case !l.Due.IsZero() && !now.Before(l.Due):
		return Due
	}
	return Active
}

// Under returns a life that has not ended as it is when a rule holds for it from now on, nil for none. told
// reports whether a first notice since the last renewal was in time for an end, too; it is asked only about an end that
// is nearer than the first notice, and may be nil for nobody was told. Where the end moved to one that was told, its
// notice counts for it.
func (t *Terms) Under(l Life, r *Rule, now time.Time, told func(end time.Time) bool) Life {
	if l.Exempt {
		r = nil
	}
	if l.Rule = ""; r != nil {
		l.Rule = r.Name
	}
	was := l.Expires
	if l.Expires, l.Due = (time.Time{}), (time.Time{}); r == nil || r.Length == Never {
		return l
	}
	first := t.Leads(r).First()
	end := r.Length.end(t.Calendar, l.Renewed, first)
	if promised := l.Promises.of(t.Calendar, t.key(r)); end.Before(promised) {
		end = promised
	}
	floor := t.After(now, first)
	promise := func(day time.Time) {
		end = day
		l.Promises = l.Promises.with(t.Calendar, t.key(r), end)
	}
	switch {
	case !end.Before(floor), end.Equal(was), now.Before(end) && told != nil && told(end.UTC()):
	case !was.IsZero() && was.Before(floor) && !was.Before(end): // its owners know of that date
		promise(was)
	default:
		promise(floor)
	}
	l.Expires = end.UTC()
	l.Due = t.After(end, -first).UTC()
	return l
}

// Renew returns a life that begins again at now under a rule, nil for none: nothing that was promised before counts.
func (t *Terms) Renew(l Life, r *Rule, now time.Time) Life {
	l.Renewed, l.Ended, l.Retired = now, time.Time{}, false
	l.Expires, l.Promises = time.Time{}, ""
	return t.Under(l, r, now, nil)
}

// Until returns a life under a rule whose end moves to a later one, which is promised.
func (t *Terms) Until(l Life, r *Rule, end time.Time) Life {
	l.Expires, l.Promises = end, l.Promises.with(t.Calendar, t.key(r), end)
	l.Due = t.After(end, -t.Leads(r).First()).UTC()
	return l
}

// PurgeAt returns when a group that ended can no longer be restored, as the calendar has it.
func (t *Terms) PurgeAt(l Life) time.Time {
	return t.After(l.Ended, t.Recovery).UTC()
}

// Lapses is the day of the notice that tells of an end that has come, beside those of [Leads].
const Lapses = 0

// Notice is one that was asked for.
type Notice struct {
	Day   int       // how many days before the end it is for
	First bool      // it was the first when it was asked for
	Given time.Time // when it was handed over; zero: not yet
}

// Told reports whether one of the notices is a first one that was given as many days before an end as it is for.
func (t *Terms) Told(end time.Time, all []Notice) bool {
	return slices.ContainsFunc(all, func(n Notice) bool { return n.First && !n.Given.IsZero() && t.Days(n.Given, end) >= n.Day })
}

// Next returns the notice that is to be asked for at now for a group that expires at end, given those of that end
// that were asked for. When several are overdue only the nearest to the end is. ok is false when there is none.
func (t *Terms) Next(leads Leads, end, now time.Time, asked []Notice) (day int, ok bool) {
	if end.IsZero() || !now.Before(end) {
		return 0, false
	}
	left := t.Days(now, end)
	for _, d := range slices.Backward(leads) {
		if left <= d {
			return d, !slices.ContainsFunc(asked, func(n Notice) bool { return n.Day <= d })
		}
	}
	return 0, false
}

// Extended returns the end in place of one of which nobody was told in time, and reports whether there is to be
// another one. Nobody is cut off unless the first notice was given as many days before as it is for, and the last a
// day before at least. An end moves by as much as the missing notice needs; one that is only late moves by as much
// as it is late, and counts for the new end.
func (t *Terms) Extended(leads Leads, end, now time.Time, asked []Notice) (to time.Time, moved bool) {
	if to = end; !t.Told(end, asked) {
		late := slices.IndexFunc(asked, func(n Notice) bool { return n.First && !n.Given.IsZero() })
		waits := slices.ContainsFunc(asked, func(n Notice) bool { return n.First })
		switch {
		case late >= 0:
			to, moved = t.After(asked[late].Given, asked[late].Day).UTC(), true
		case waits && now.Before(end), !waits && t.Days(now, end) >= leads.First():
			return end, false
		default:
			return t.After(now, max(leads.First(), 1)).UTC(), true
		}
	}
	last := slices.ContainsFunc(asked, func(n Notice) bool {
		return n.Day <= leads.Last() && !n.Given.IsZero() && t.Days(n.Given, to) >= 1
	})
	if last || t.Days(now, to) >= 1 {
		return to, moved
	}
	return t.After(now, max(leads.Last(), 1)).UTC(), true
}
