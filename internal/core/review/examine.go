package review

import (
	"fmt"
	"slices"
	"strings"
	"time"
	"unicode"

	"ivytable.example/ivytable/internal/core/number"
	"ivytable.example/ivytable/internal/core/policy"
)

// Facts are what is looked at of one living group.
type Facts struct {
	Name, Description string
	Policy            policy.Policy
	Owners            int      // who are here
	OwnersLeft        []string // names of owners who have left the organisation
	People            int      // whom it reaches
	External          int      // external members of its own
	Returned          int      // of them, those whose mail came back, so that it is paused
	Unvouched         int      // of them, those for whom nobody vouches who is here
	Created           time.Time
	LastPost          time.Time // zero: never
	Waiting           int       // what waits for a decision in it
	WaitsSince        time.Time // the oldest of that; zero: nothing
	NotAgreed         int       // groups in it to which nobody has agreed
	Aliases           []Alias
	Exempt            bool
	ExemptUntil       time.Time // zero: no day was set
	HasRule           bool
	RuleMatches       int            // people whom its rule puts into it
	RuleUnfilled      []string       // attributes of its rule that nobody has a value in
	Departments       map[string]int // of the people of the workspace in it, as far as they are known
	OwnerDepartments  []string       // of its owners, as far as they are known
}

// Alias is a further address of a group.
type Alias struct {
	Address string
	Since   time.Time
	Used    time.Time // when mail last came to it; zero: never
}

// LastUsed is when mail last came to it, or since when it could.
func (a Alias) LastUsed() time.Time {
	if a.Used.After(a.Since) {
		return a.Used
	}
	return a.Since
}

// Finding is something that is wrong or doubtful about a group or a person.
type Finding struct {
	Kind  Kind
	Says  string    // the facts, in a sentence
	Count int       // how much of it there is: outsiders, days, groups; 1 where it can't be counted
	Since time.Time // since when it is so; zero where that is not known
	Names []ID      // other groups that the sentence names
}

// Severity is that of its kind.
func (f Finding) Severity() Severity { return byKind[f.Kind].Severity }

// Reopens reports whether one that was accepted when there was so much of it is open again.
func (f Finding) Reopens(accepted int) bool { return byKind[f.Kind].grows && f.Count > accepted }

const day = 24 * time.Hour

// Examine returns what is wrong or doubtful about a group, in the order of the kinds.
func Examine(g *Facts, l Limits, now time.Time) []Finding {
	var out []Finding
	add := func(k Kind, count int, since time.Time, format string, args ...any) {
		out = append(out, Finding{Kind: k, Says: fmt.Sprintf(format, args...), Count: count, Since: since})
	}
	days := func(since time.Time) int { return int(now.Sub(since) / day) }
	limit := func(since time.Time, n int) time.Time { return since.Add(time.Duration(n) * day) }

	switch {
	case g.Owners == 0:
		add(NoOwner, 1, time.Time{}, "Nobody owns it; it reaches %s.", number.Of(g.People, "person"))
	case g.Owners == 1 && g.People > 1:
		add(OneOwner, 1, time.Time{}, "One owner, and %s.", number.Of(g.People, "person"))
	}
	if len(g.OwnersLeft) > 0 {
		add(OwnerLeft, len(g.OwnersLeft), time.Time{}, "%s, who owned it, %s left.", some(g.OwnersLeft), has(len(g.OwnersLeft)))
	}
	if own, in, of := elsewhere(g); own != "" {
		add(OwnerElsewhere, 1, time.Time{}, "%d of its %s are of %s; its owners are of %s.", in, number.Of(of, "person"), most(g.Departments), own)
	}
	if g.People == 0 {
		add(NobodyIn, 1, time.Time{}, "It reaches nobody.")
	}
	switch {
	case g.LastPost.IsZero() && days(g.Created) >= l.UnusedDays:
		add(NeverUsed, days(g.Created), limit(g.Created, l.UnusedDays), "Made %d days ago, and nobody has written to it yet.", days(g.Created))
	case !g.LastPost.IsZero() && days(g.LastPost) >= l.QuietDays:
		add(Quiet, days(g.LastPost), limit(g.LastPost, l.QuietDays), "The last post was %d days ago.", days(g.LastPost))
	}
	if g.External > 0 && g.Policy[policy.Find] <= policy.Members {
		add(Strangers, g.External, time.Time{}, "Only its members find it, and %s of them %s from outside.", fmt.Sprint(g.External), is(g.External))
	}
	if g.Policy[policy.Post] == policy.Anyone && g.Policy[policy.Holding] == policy.HoldNobody {
		add(OpenUnheld, g.People, time.Time{}, "Anyone may write to it, and nothing waits for approval: what is unwanted reaches %s.", number.Of(g.People, "person"))
	}
	if g.Returned > 0 {
		add(ComesBack, g.Returned, time.Time{}, "Mail to %d of its %s comes back, and goes there no more.", g.Returned, number.Of(g.External, "external member"))
	}
	if g.Unvouched > 0 {
		add(Unvouched, g.Unvouched, time.Time{}, "Nobody who is here vouches for %d of its %s.", g.Unvouched, number.Of(g.External, "external member"))
	}
	switch {
	case strings.TrimSpace(g.Description) == "":
		add(NotDescribed, 1, time.Time{}, "It has no description.")
	case saysNothing(g.Name, g.Description):
		add(SaysNothing, 1, time.Time{}, "Its description is “%s”, which says no more than its name.", cut(g.Description))
	}
	if g.HasRule && g.RuleMatches == 0 && len(g.RuleUnfilled) == 0 {
		add(RuleNobody, 1, time.Time{}, "Its rule matches nobody.")
	}
	if g.HasRule && len(g.RuleUnfilled) > 0 {
		add(RuleUnfilled, len(g.RuleUnfilled), time.Time{}, "Its rule asks about %s, which nobody has.", some(g.RuleUnfilled))
	}
	if !g.WaitsSince.IsZero() && days(g.WaitsSince) >= l.WaitingDays {
		add(WaitingLong, days(g.WaitsSince), limit(g.WaitsSince, l.WaitingDays), "%s for a decision, the oldest for %d days.", upperFirst(waits(g.Waiting)), days(g.WaitsSince))
	}
	if g.NotAgreed > 0 {
		add(NotAgreed, g.NotAgreed, time.Time{}, "Nobody has agreed that %s %s in it.", number.Of(g.NotAgreed, "group"), is(g.NotAgreed))
	}
	var unused []string
	for _, a := range g.Aliases {
		if days(a.LastUsed()) >= l.AliasDays {
			unused = append(unused, a.Address)
		}
	}
	if len(unused) > 0 {
		add(AliasUnused, len(unused), time.Time{}, "No mail came to %s for %d days or more.", some(unused), l.AliasDays)
	}
	if g.Exempt && !g.ExemptUntil.IsZero() && !now.Before(g.ExemptUntil) {
		add(ExemptAgain, 1, g.ExemptUntil, "Why it is exempt was to be looked at again %d days ago.", days(g.ExemptUntil))
	}
	slices.SortStableFunc(out, func(a, b Finding) int { return order(a.Kind) - order(b.Kind) })
	return out
}

func order(k Kind) int {
	return slices.IndexFunc(kinds, func(d Description) bool { return d.Kind == k })
}

// elsewhere returns the departments of the owners of a group where most of its people are of one in which no owner is: at
// least three in four of those whose department is known, and five people.
func elsewhere(g *Facts) (owners string, in, of int) {
	if len(g.OwnerDepartments) == 0 {
		return "", 0, 0
	}
	for _, n := range g.Departments {
		of += n
	}
	m := most(g.Departments)
	if in = g.Departments[m]; in < 5 || 4*in < 3*of || slices.Contains(g.OwnerDepartments, m) {
		return "", 0, 0
	}
	all := slices.Clone(g.OwnerDepartments)
	slices.Sort(all)
	return some(slices.Compact(all)), in, of
}

// most is the department of most people; of two, the first by name.
func most(departments map[string]int) (out string) {
	for d, n := range departments {
		if m := departments[out]; out == "" || n > m || n == m && d < out {
			out = d
		}
	}
	return out
}

// filler are words by which a description says nothing.
var filler = map[string]bool{"the": true, "a": true, "an": true, "of": true, "for": true, "and": true, "this": true, "is": true, "our": true, "all": true,
	"group": true, "list": true, "team": true, "mail": true, "mailing": true, "mails": true, "test": true, "tbd": true, "todo": true, "none": true, "description": true, "xxx": true}

func wordsOf(s string) []string {
	return strings.FieldsFunc(strings.ToLower(s), func(r rune) bool { return !unicode.IsLetter(r) && !unicode.IsDigit(r) })
}

// saysNothing reports whether every word of a description stands in the name, or says nothing.
func saysNothing(name, description string) bool {
	in := wordsOf(name)
	return !slices.ContainsFunc(wordsOf(description), func(w string) bool { return !filler[w] && !slices.Contains(in, w) })
}

// ExamineOwner returns what is doubtful about somebody who is alone the owner of so many living groups; ok is false for nothing.
func ExamineOwner(alone int, l Limits) (f Finding, ok bool) {
	return Finding{Kind: SoleOwner, Says: fmt.Sprintf("Alone the owner of %s.", number.Of(alone, "group")), Count: alone}, alone >= l.SoleGroups
}

// cut keeps the beginning of a text.
func cut(s string) string {
	if r := []rune(s); len(r) > 80 {
		return string(r[:80]) + "…"
	}
	return s
}

func has(n int) string {
	if n == 1 {
		return "has"
	}
	return "have"
}

func is(n int) string {
	if n == 1 {
		return "is"
	}
	return "are"
}

func waits(n int) string {
	if n == 1 {
		return "1 thing waits"
	}
	return fmt.Sprintf("%d things wait", n)
}

func upperFirst(s string) string { return strings.ToUpper(s[:1]) + s[1:] }

// some names the first three of several.
func some(names []string) string {
	switch n := len(names); {
	case n == 1:
		return names[0]
	case n <= 3:
		return strings.Join(names[:n-1], ", ") + " and " + names[n-1]
	}
	return fmt.Sprintf("%s and %d more", strings.Join(names[:3], ", "), len(names)-3)
}
