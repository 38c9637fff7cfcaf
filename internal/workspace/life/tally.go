package life

import (
	"fmt"
	"slices"
	"time"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/core/lifecycle"
	"ivytable.example/ivytable/internal/core/number"
	"ivytable.example/ivytable/internal/store"
	"ivytable.example/ivytable/internal/workspace"
)

// soonDays is how far a change of terms is looked ahead for what ends soon.
const soonDays = 60

// tally says what terms do to groups, in numbers, words and a chart.
type tally struct {
	c         *workspace.Change
	was, next workspace.Terms
	groups    []store.TermOf
	all       []moved
	to        map[uuid.UUID]lifecycle.Life // of those that change

	gain, lose, earlier, later, due, soon, ownerless int
}

func newTally(c *workspace.Change, was, next workspace.Terms, groups []store.TermOf, all []moved) *tally {
	n := &tally{c: c, was: was, next: next, groups: groups, all: all, to: make(map[uuid.UUID]lifecycle.Life, len(all))}
	for _, x := range all {
		n.to[x.ID] = x.to
	}
	now := c.Now()
	soon := next.Life.After(now, soonDays)
	for _, g := range groups {
		from, to := g.Life.Expires, n.after(g)
		if to.Expires.IsZero() {
			if !from.IsZero() && !g.Life.Over(now) {
				n.lose++
			}
			continue
		}
		if to.Over(now) {
			continue
		}
		if g.Owners == 0 {
			n.ownerless++
		}
		if !now.Before(to.Due) {
			n.due++
		}
		if to.Expires.Before(soon) {
			n.soon++
		}
		switch {
		case to.Expires.Equal(from):
		case from.IsZero():
			n.gain++
		case to.Expires.Before(from):
			n.earlier++
		default:
			n.later++
		}
	}
	return n
}

// after is the life of a group as it will be.
func (n *tally) after(g store.TermOf) lifecycle.Life {
	if to, changes := n.to[g.ID]; changes {
		return to
	}
	return g.Life
}

// rules says for how many groups each rule holds, and which of them are of no use.
func (n *tally) rules(named, taken []int, over []map[int]int) {
	for i, r := range n.next.Life.Rules {
		n.c.Effect(api.Effect{Field: "rule:" + r.Name, Count: taken[i], Says: fmt.Sprintf("%s: %s, %s.", r.Name, r.Length, number.Of(taken[i], "group"))})
		var says, mend string
		switch {
		case named[i] == 0:
			says, mend = fmt.Sprintf("The rule %s names no group now.", r.Name), "Look whether its filter says what you mean."
		case taken[i] == 0:
			says, mend = fmt.Sprintf("The rule %s never holds: what it names, earlier rules take (%s).", r.Name, n.takers(over[i])), "Put it before them, or leave it out."
		case len(over[i]) > 0 && n.next.Rules[i].Filter != "": // one for all groups is meant for what is left
			says = fmt.Sprintf("%d of the %d groups that %s names go to earlier rules (%s).", named[i]-taken[i], named[i], r.Name, n.takers(over[i]))
		default:
			continue
		}
		n.c.Report.Warnings = append(n.c.Report.Warnings, api.Fault{Field: fmt.Sprintf("rules[%d]", i), Says: says, Mend: mend})
	}
}

// takers names the rules that take what another names.
func (n *tally) takers(over map[int]int) string {
	out := ""
	for i, r := range n.next.Life.Rules {
		if over[i] > 0 {
			if out != "" {
				out += ", "
			}
			out += fmt.Sprintf("%s %d", r.Name, over[i])
		}
	}
	return out
}

// spans are the weeks of a year from today on, and the months after them up to a last day.
func spans(c lifecycle.Calendar, today, last time.Time) (out []time.Time) {
	at := c.Day(today)
	for range 52 {
		out = append(out, at)
		at = c.After(at, 7)
	}
	for i := 1; at.Before(last) && len(out) < 52+120; i++ {
		out = append(out, at)
		y, m, _ := at.In(at.Location()).Date()
		at = c.Day(time.Date(y, m+1, 1, 12, 0, 0, 0, at.Location()))
	}
	return append(out, at)
}

// span returns in which of the spans a moment is; -1 for none.
func span(all []time.Time, at time.Time) int {
	i, _ := slices.BinarySearchFunc(all, at, func(a, b time.Time) int {
		if a.After(b) {
			return 1
		}
		return -1
	})
	if i == 0 || i == len(all) {
		return -1
	}
	return i - 1
}

// letters counts when groups end and who is written to when, and says it as a chart.
func (n *tally) letters() error {
	owners, err := n.c.Read.OwnerIDs()
	if err != nil {
		return err
	}
	now := n.c.Now()
	var last time.Time
	for _, g := range n.groups {
		for _, l := range []lifecycle.Life{g.Life, n.after(g)} {
			if l.Expires.After(last) {
				last = l.Expires
			}
		}
	}
	all := spans(n.next.Life.Calendar, now, last)
	points := make([]api.Point, len(all)-1)
	for i := range points {
		points[i].From, points[i].To = n.next.Date(all[i]), n.next.Date(all[i+1])
	}
	type reader struct {
		who uuid.UUID
		day int
	}
	type notice struct{ day, span int }
	var days []notice
	written := map[reader]bool{}
	nearer := map[uuid.UUID]bool{} // who is told at once that a date comes nearer
	atOnce := map[uuid.UUID]bool{} // who gets a notice at once
	for _, g := range n.groups {
		if i := span(all, g.Life.Expires); !g.Life.Expires.IsZero() && i >= 0 {
			points[i].Was++
		}
		to := n.after(g)
		if to.Expires.IsZero() || to.Over(now) {
			continue
		}
		if i := span(all, to.Expires); i >= 0 {
			points[i].Will++
		}
		readers := owners[g.ID]
		if len(readers) == 0 {
			readers = []uuid.UUID{uuid.Nil} // who cares for those that nobody owns
		}
		x := moved{TermOf: g, to: to}
		_, changes := n.to[g.ID]
		comes, falls := changes && x.nearer(now), false
		notices := days[:0]
		for _, d := range n.next.Life.Leads(n.next.Life.Rule(to.Rule)) {
			at := n.next.Life.After(to.Expires, -d)
			if now.Before(at) {
				notices = append(notices, notice{n.next.Life.Days(now, at), span(all, at)})
			} else {
				falls = falls || !now.Before(to.Due) && (g.Life.Due.IsZero() || now.Before(g.Life.Due))
			}
		}
		days = notices
		for _, who := range readers {
			if comes {
				nearer[who] = true
			}
			if falls {
				atOnce[who] = true
			}
			for _, x := range notices {
				if r := (reader{who, x.day}); !written[r] {
					written[r] = true
					if x.span >= 0 {
						points[x.span].Letters++
					}
				}
			}
		}
	}
	n.c.Report.Series = points
	if len(nearer) > 0 {
		n.c.Effect(api.Effect{Field: "told_nearer", Count: len(nearer), Says: fmt.Sprintf("%s told at once, in a letter each, that groups of theirs end earlier.", are(len(nearer)))})
	}
	if len(atOnce) > 0 {
		n.c.Effect(api.Effect{Field: "told_due", Count: len(atOnce), Says: fmt.Sprintf("%s their first notice at once.", get(len(atOnce)))})
	}
	letters := 0
	for i := range points {
		if from, _ := time.Parse(time.DateOnly, points[i].From); n.next.Life.Days(now, n.next.Life.Noon(from.Format(time.DateOnly))) < soonDays {
			letters += points[i].Letters
		}
	}
	if letters > 0 {
		n.c.Effect(api.Effect{Field: "letters", Count: letters, Says: fmt.Sprintf("About %s go out within %d days.", number.Of(letters, "letter"), soonDays)})
	}
	return nil
}

func are(n int) string {
	if n == 1 {
		return "1 person is"
	}
	return fmt.Sprintf("%d people are", n)
}

func get(n int) string {
	if n == 1 {
		return "1 person gets"
	}
	return fmt.Sprintf("%d people get", n)
}

// tell puts a tally in words, part by part and as a whole.
func (n *tally) tell() {
	slices.SortFunc(n.all, byEnd)
	c := n.c
	for _, x := range n.all {
		if !x.to.Expires.Equal(x.Life.Expires) {
			if c.Report.Total++; len(c.Report.Sample) < 50 {
				c.Report.Sample = append(c.Report.Sample, api.Line{Name: x.Name, Address: x.Address, Outcome: outcome(x), Says: x.to.Rule, From: n.next.Date(x.Life.Expires), To: n.next.Date(x.to.Expires)})
			}
		}
	}
	s := fmt.Sprintf("Of %d groups,", len(n.groups))
	if len(n.groups) == 1 {
		s = "Of one group,"
	}
	if n.gain+n.lose+n.earlier+n.later == 0 {
		s = "No date of a group changes,"
	}
	for _, part := range []struct {
		field, one, many string
		n                int
	}{{"gain", "1 gets a date", "%d get a date", n.gain}, {"lose", "1 loses its date", "%d lose their date", n.lose},
		{"earlier", "1 expires earlier", "%d expire earlier", n.earlier}, {"later", "1 expires later", "%d expire later", n.later}} {
		if part.n == 0 {
			continue
		}
		words := part.one
		if part.n > 1 {
			words = fmt.Sprintf(part.many, part.n)
		}
		s += " " + words + ","
		c.Effect(api.Effect{Field: part.field, Count: part.n, Says: words + "."})
	}
	s = s[:len(s)-1] + "."
	if n.due > 0 {
		c.Effect(api.Effect{Field: "due", Count: n.due, Says: fmt.Sprintf("%s inside the first notice; no group ends before its owners were told in time.", number.Of(n.due, "group"))})
	}
	if n.soon > 0 {
		s += fmt.Sprintf(" Unless they are renewed, %d end within %d days.", n.soon, soonDays)
		c.Effect(api.Effect{Field: "lapse_soon", Count: n.soon, Says: fmt.Sprintf("%s within %d days unless renewed.", ends(n.soon), soonDays)})
	}
	if n.ownerless > 0 {
		c.Effect(api.Effect{Field: "ownerless", Count: n.ownerless, Says: fmt.Sprintf("%s with a date, but no owner: a caretaker is told.", number.Of(n.ownerless, "group"))})
	}
	if n.ownerless > 0 && len(n.next.Caretakers) == 0 {
		c.Report.Warnings = append(c.Report.Warnings, api.Fault{Field: "caretakers", Says: fmt.Sprintf("There is no caretaker, so all administrators get the notices of %s.", number.Of(n.ownerless, "group")), Mend: "Name somebody who looks after groups without owners."})
	}
	c.Says(s)
}

// outcome names what happens to the end of a group.
func outcome(x moved) string {
	switch {
	case x.to.Expires.IsZero():
		return "never"
	case x.Life.Expires.IsZero():
		return "new"
	case x.to.Expires.Before(x.Life.Expires):
		return "earlier"
	}
	return "later"
}

func ends(n int) string {
	if n == 1 {
		return "1 group ends"
	}
	return fmt.Sprintf("%d groups end", n)
}
