// Package filter is what lists can be asked for: the attributes of groups, of people and of
// the history, in the grammar of SCIM filters (RFC 7644, 3.4.2.2), which package rule reads.
//
// A list has what an expression matches. What is unknown, such as the day on which a group
// without an end expires, is no match, under not too; a list without an entry, such as the traits of a group that has none, is known to be
// empty. gt, ge, lt and le on an audience follow
// the ladder. days_left and quiet_days stand for what is relative to now.
package filter

import (
	"errors"
	"fmt"
	"slices"

	"ivytable.example/ivytable/internal/core/event"
	"ivytable.example/ivytable/internal/core/fault"
	"ivytable.example/ivytable/internal/core/policy"
	"ivytable.example/ivytable/internal/core/review"
	"ivytable.example/ivytable/internal/core/rule"
)

// Groups is what a filter over groups can ask about.
var Groups = rule.NewSchema(`owners eq 0 and post eq "anyone"`, groups())

func groups() []rule.Attribute {
	out := []rule.Attribute{
		{Path: "name", Label: "name"},
		{Path: "address", Label: "address"},
		{Path: "alias", Label: "further address", Many: true, Whole: true},
		{Path: "domain", Label: "mail domain"},
		{Path: "description", Label: "description"},
		{Path: "state", Label: "state", Kind: rule.Choice, Choices: []string{"active", "due", "lapsed", "retired"}},
		{Path: "traits", Label: "trait", Kind: rule.Choice, Choices: []string{"archive", "desk", "calendar", "access"}, Many: true, Whole: true},
		{Path: "starting_point", Label: "what it was begun from"},
		{Path: "language", Label: "language of its notices"},
		{Path: "owner.address", Label: "an owner's address", Many: true, Whole: true},
		{Path: "owner.name", Label: "an owner's name", Many: true, Whole: true},
		{Path: "owners", Label: "number of owners", Kind: rule.Number},
		{Path: "moderators", Label: "number of moderators", Kind: rule.Number},
		{Path: "members", Label: "number of members", Kind: rule.Number},
		{Path: "people", Label: "number of people whom it reaches", Kind: rule.Number},
		{Path: "external", Label: "number of external members", Kind: rule.Number},
		{Path: "nested", Label: "number of groups in it", Kind: rule.Number},
		{Path: "departed", Label: "number of people in it who have left", Kind: rule.Number, Private: true},
		{Path: "by_rule", Label: "has a rule of membership", Kind: rule.Boolean},
	}
	for _, d := range policy.Describe() {
		a := rule.Attribute{Path: d.Name, Label: words(d), Kind: rule.Choice, Ladder: d.Bounded}
		for _, c := range d.Choices {
			a.Choices = append(a.Choices, c.Name)
		}
		out = append(out, a)
	}
	return append(out,
		rule.Attribute{Path: "waiting", Label: "number of things that wait for a decision", Kind: rule.Number, Private: true},
		rule.Attribute{Path: "exempt", Label: "is exempt from expiring", Kind: rule.Boolean},
		rule.Attribute{Path: "created_at", Label: "made", Kind: rule.DateTime},
		rule.Attribute{Path: "renewed_at", Label: "renewed", Kind: rule.DateTime},
		rule.Attribute{Path: "ended_at", Label: "ended", Kind: rule.DateTime},
		rule.Attribute{Path: "expires_on", Label: "day on which it expires", Kind: rule.Day},
		rule.Attribute{Path: "term_rule", Label: "name of the term rule that holds for it"},
		rule.Attribute{Path: "under_hold", Label: "is under hold", Kind: rule.Boolean},
		rule.Attribute{Path: "exempt_until", Label: "day on which to look again at why it is exempt", Kind: rule.Day},
		rule.Attribute{Path: "days_left", Label: "days until it expires", Kind: rule.Number},
		rule.Attribute{Path: "finding", Label: "what the review found about it", Kind: rule.Choice, Choices: review.Names(), Many: true, Whole: true, Private: true},
		rule.Attribute{Path: "last_post_at", Label: "last post", Kind: rule.DateTime, Private: true},
		rule.Attribute{Path: "quiet_days", Label: "days since the last post, or since it was made", Kind: rule.Number, Private: true},
	)
}

// words are what a setting decides, within a sentence.
func words(d policy.Description) string {
	b := []byte(d.Asks)
	b[0] |= 0x20
	return string(b)
}

// People is what a filter over people can ask about.
var People = rule.PeopleFilter(
	rule.Attribute{Path: "groups", Label: "address of a group that they are in", Many: true, Whole: true, Private: true},
	rule.Attribute{Path: "owns", Label: "address of a group that they own", Many: true, Whole: true, Private: true},
	rule.Attribute{Path: "external", Label: "has an address outside", Kind: rule.Boolean, Private: true},
	rule.Attribute{Path: "workspace_role", Label: "role in the workspace", Kind: rule.Choice, Choices: []string{"person", "auditor", "administrator"}, Private: true},
	rule.Attribute{Path: "departed_at", Label: "left", Kind: rule.DateTime, Private: true},
	rule.Attribute{Path: "last_sign_in", Label: "last signed in", Kind: rule.DateTime, Private: true},
)

// History is what a filter over the history can ask about.
var History = rule.NewSchema(`kind eq "people.add" and at gt "2026-11-01T00:00:00Z"`, []rule.Attribute{
	{Path: "actor", Label: "address of who did it"},
	{Path: "group", Label: "address of the group that it is about"},
	{Path: "person", Label: "address of somebody whom it affected", Many: true, Whole: true},
	{Path: "kind", Label: "what was done", Kind: rule.Choice, Choices: kinds()},
	{Path: "via", Label: "by which way", Kind: rule.Choice, Choices: []string{"console", "api", "smtp", "service", "link"}},
	{Path: "at", Label: "when", Kind: rule.DateTime},
})

func kinds() []string {
	var out []string
	for _, k := range event.Kinds() {
		out = append(out, string(k))
	}
	slices.Sort(out)
	return out
}

// ErrNotSeen says that a filter asks about what whoever asks doesn't see.
var ErrNotSeen = errors.New("the filter asks about what you don't see")

// Read reads a filter for somebody who sees only some of what it can ask about. sees is asked
// about each attribute that it names; the error is that of the first that they don't.
func Read(s *rule.Schema, text string, sees func(rule.Attribute) bool) (*rule.Rule, error) {
	r, err := s.Parse(text)
	if err != nil {
		return nil, err
	}
	for _, a := range r.Attributes() {
		if !sees(a) {
			f := &fault.Fault{At: r.Place(a), Says: "You may not ask about " + a.Path + ".", Mend: "Leave it out, or ask an administrator or an auditor."}
			return nil, fmt.Errorf("%w: %w", ErrNotSeen, f)
		}
	}
	return r, nil
}
