package policy

import (
	"fmt"
	"strings"
)

// Outcome is what a decision comes to.
type Outcome uint8

// The outcomes.
const (
	Refuse Outcome = iota
	Hold
	Allow
)

func (o Outcome) String() string {
	if names := [...]string{"refuse", "hold", "allow"}; int(o) < len(names) {
		return names[o]
	}
	return "refuse"
}

// Override is what has been settled about one person in one group; it goes
// before the group's answers.
type Override uint8

// The overrides.
const (
	NoOverride Override = iota
	Barred
	Trusted
	Held
)

var overrideNames = []string{"none", "barred", "trusted", "held"}

func (o Override) String() string {
	if int(o) < len(overrideNames) {
		return overrideNames[o]
	}
	return "none"
}

// ParseOverride reads an override by its name. The error is a *[fault.Fault].
func ParseOverride(name string) (Override, error) {
	for i, n := range overrideNames {
		if n == name {
			return Override(i), nil
		}
	}
	return 0, unknown("override", "an override", name, []string{"barred", "trusted", "held", "none"})
}

// Author is what is known of the author of a message when it arrives.
type Author struct {
	Rung      Audience // where the address in From stands: Owners to Anyone
	Workspace bool     // the address lies in a domain of the workspace
	Proven    bool     // by SMTP AUTH, or by a relay that the workspace trusts
	Newcomer  bool     // joined less than NewcomerDays ago, and had less than NewcomerPosts let through
	Automatic bool     // the message says that no person wrote it (RFC 3834)
	Override  Override
}

// Rule is a step of a decision.
type Rule uint8

// The rules, in the order in which Post takes them.
const (
	RuleNone Rule = iota
	RuleBarred
	RulePost
	RuleProof
	RuleAutomatic
	RuleTrusted
	RuleHeld
	RuleHold
	RuleAnswer // the answer to a question other than Post
)

// Decision is the outcome for one author or actor, with the steps that led to it.
type Decision struct {
	Outcome Outcome
	Rule    Rule // the step that settled it

	policy   Policy
	question Setting
	author   Author
	steps    [6]Rule
	n        uint8
}

func (d *Decision) step(r Rule) { d.steps[d.n] = r; d.n++ }

func (d *Decision) settle(o Outcome, r Rule) { d.Outcome, d.Rule = o, r }

// Post decides about a message to the group. It allocates nothing.
func (p *Policy) Post(a Author) Decision { return p.Write(Post, a) }

// Write decides about a message to the group, or to its owners: to is Post or WriteOwners. It
// allocates nothing.
func (p *Policy) Write(to Setting, a Author) (d Decision) {
	d.policy, d.question, d.author = *p, to, a
	if a.Override == Barred {
		d.step(RuleBarred)
		d.settle(Refuse, RuleBarred)
		return d
	}
	d.step(RulePost)
	audience := p[to]
	if !audience.Includes(a.Rung) {
		d.settle(Refuse, RulePost)
		return d
	}
	d.settle(Allow, RulePost)
	if !a.Proven && (a.Workspace || !audience.Includes(Anyone)) {
		d.step(RuleProof)
		switch p[Suspicious] {
		case SuspiciousHold:
			d.settle(Hold, RuleProof)
			return d
		case SuspiciousRefuse:
			d.settle(Refuse, RuleProof)
			return d
		}
	}
	if a.Automatic && p[Automatic] != AutomaticDeliver {
		d.step(RuleAutomatic)
		d.settle(Hold, RuleAutomatic)
		if p[Automatic] == AutomaticRefuse {
			d.settle(Refuse, RuleAutomatic)
		}
		return d
	}
	switch a.Override {
	case Trusted:
		d.step(RuleTrusted)
		d.settle(Allow, RuleTrusted)
		return d
	case Held:
		d.step(RuleHeld)
		d.settle(Hold, RuleHeld)
		return d
	}
	if p[Holding] != HoldNobody {
		d.step(RuleHold)
		if p.holds(a) {
			d.settle(Hold, RuleHold)
		}
	}
	return d
}

// holds reports whether the setting Hold stops an author. Owners and moderators
// are never held: they are the ones who would approve.
func (p *Policy) holds(a Author) bool {
	if a.Rung <= Moderators {
		return false
	}
	switch p[Holding] {
	case HoldOutsiders:
		return !a.Workspace && a.Rung > Members
	case HoldNonMembers:
		return a.Rung > Members
	case HoldNewcomers:
		return a.Rung > Members || a.Newcomer
	case HoldEveryone:
		return true
	}
	return false
}

// Allows decides about everything but a message: whether a person on rung is
// included in the answer to q.
func (p *Policy) Allows(q Setting, rung Audience) (d Decision) {
	d.policy, d.question, d.author.Rung = *p, q, rung
	d.step(RuleAnswer)
	d.settle(Refuse, RuleAnswer)
	if p[q].Includes(rung) {
		d.Outcome = Allow
	}
	return d
}

// Author is who was decided about.
func (d Decision) Author() Author { return d.author }

// RuleName returns the name of the settling rule as the API shows it, such as
// "post" or "hold.outsiders".
func (d Decision) RuleName() string { return d.name(d.Rule) }

func (d Decision) name(r Rule) string {
	switch r {
	case RuleBarred, RuleTrusted, RuleHeld:
		return "person." + d.author.Override.String()
	case RuleProof:
		return "suspicious." + Suspicious.value(d.policy[Suspicious])
	case RuleAutomatic:
		return "automatic." + Automatic.value(d.policy[Automatic])
	case RuleHold:
		return "hold." + Holding.value(d.policy[Holding])
	default:
		return d.question.String()
	}
}

// Reason is one step in words.
type Reason struct {
	Rule string // as RuleName gives it
	Says string // what the rule says, one sentence
	Mend string // what would have to change for another outcome; "" where the step let it pass
}

// Reasons puts the steps in words, in the order in which they were taken. Only
// the settling step of a decision that did not allow has a Mend.
func (d Decision) Reasons() []Reason {
	out := make([]Reason, 0, d.n)
	for _, r := range d.steps[:d.n] {
		says, mend := d.words(r)
		if r != d.Rule || d.Outcome == Allow {
			mend = ""
		}
		out = append(out, Reason{d.name(r), says, mend})
	}
	return out
}

// Told is a decision in words.
type Told struct {
	Outcome Outcome
	Rule    string // the one that settled it
	Reasons []Reason
}

// Told puts a decision in words.
func (d Decision) Told() Told { return Told{d.Outcome, d.RuleName(), d.Reasons()} }

// Tell returns a decision that one rule settled.
func Tell(o Outcome, rule, says, mend string) Told {
	return Told{o, rule, []Reason{{rule, says, mend}}}
}

// Says returns the sentence of the settling step.
func (d Decision) Says() string {
	says, _ := d.words(d.Rule)
	return says
}

func (d Decision) words(r Rule) (says, mend string) {
	a := d.policy[d.question]
	switch r {
	case RuleBarred:
		return "This person is barred from the group.", "Lift the bar on this person."
	case RuleTrusted:
		return "This person's messages are always trusted here.", ""
	case RuleHeld:
		return "This person's messages always wait for approval here.", "Approve the message, or stop holding this person's messages."
	case RuleProof:
		if d.policy[Suspicious] == SuspiciousDeliver {
			return "Nothing proves who wrote it, and the group delivers such mail all the same.", ""
		}
		says = "Nothing proves that the author wrote it."
		if d.policy[Suspicious] == SuspiciousHold {
			says = "Nothing proves that the author wrote it, so it waits for approval."
		}
		return says, "Send it signed in to the mail service, or change what happens to suspicious mail."
	case RuleAutomatic:
		if d.Outcome == Hold {
			return "Mail that a program wrote waits for approval here.", "Approve the message, or deliver mail that programs write."
		}
		return "Mail that a program wrote is refused here.", "Let a person write it, or deliver mail that programs write."
	case RuleHold:
		return d.holdWords()
	}
	if a == Nobody {
		return "Nobody " + table[d.question].can + ".", d.mend()
	}
	if a.Includes(d.author.Rung) {
		return upper(a.Who()) + " " + table[d.question].may + ".", ""
	}
	return "Only " + a.Who() + " " + table[d.question].may + ".", d.mend()
}

// mend names the narrowest change of the answer that would let the author in.
func (d Decision) mend() string {
	change := fmt.Sprintf("let %s %s", d.author.Rung.Who(), strings.TrimPrefix(table[d.question].can, "can "))
	if d.author.Rung == Anyone || d.author.Rung == Workspace {
		return "Add the person to the group with a role that may, or " + change + "."
	}
	return "Give the person a role that may, or " + change + "."
}

func (d Decision) holdWords() (says, mend string) {
	mend = "Approve the message, trust its author, or hold fewer messages."
	switch d.policy[Holding] {
	case HoldOutsiders:
		says = "Mail from outsiders who are not members waits for approval."
	case HoldNonMembers:
		says = "Mail from people who are not members waits for approval."
	case HoldNewcomers:
		says = fmt.Sprintf("Mail from people who are not members, or joined less than %d days ago and had less than %d messages let through, waits for approval.", NewcomerDays, NewcomerPosts)
	default:
		says = "All mail waits for approval, but for that of owners and moderators."
	}
	if d.Rule != RuleHold || d.Outcome == Allow {
		says += " That does not touch this author."
	}
	return says, mend
}
