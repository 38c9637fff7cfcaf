package policy

import "fmt"

// Outcome is what a decision comes to.
type Outcome uint8

// The outcomes.
const (
	Refuse Outcome = iota
	HoldIt
	Allow
)

func (o Outcome) String() string { return [...]string{"refuse", "hold", "allow"}[o] }

// Standing is what has been settled about one person in one group; it goes
// before the group's answers.
type Standing uint8

// The standings.
const (
	NoStanding Standing = iota
	Barred
	Trusted
	Held
)

func (s Standing) String() string { return [...]string{"none", "barred", "trusted", "held"}[s] }

// Author is what is known of the author of a message when it arrives.
type Author struct {
	Rung      Audience // where the address in From stands: Owners to Anyone
	Workspace bool     // the address lies in a domain of the workspace
	Proven    bool     // by SMTP AUTH, or by a relay that the workspace trusts
	Newcomer  bool     // joined less than NewcomerDays ago
	Standing  Standing
}

// Rule is a step of a decision.
type Rule uint8

// The rules, in the order in which Post takes them.
const (
	RuleNone Rule = iota
	RuleBarred
	RulePost
	RuleProof
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
	question Question
	author   Author
	steps    [6]Rule
	n        uint8
}

func (d *Decision) step(r Rule) { d.steps[d.n] = r; d.n++ }

func (d *Decision) settle(o Outcome, r Rule) { d.Outcome, d.Rule = o, r }

// Post decides about a message to the group. It allocates nothing.
func (p *Policy) Post(a Author) (d Decision) {
	d.policy, d.question, d.author = *p, Post, a
	if a.Standing == Barred {
		d.step(RuleBarred)
		d.settle(Refuse, RuleBarred)
		return d
	}
	d.step(RulePost)
	audience := p.Answers[Post]
	if !audience.Includes(a.Rung) {
		d.settle(Refuse, RulePost)
		return d
	}
	d.settle(Allow, RulePost)
	if !a.Proven && (a.Workspace || !audience.Includes(Anyone)) {
		d.step(RuleProof)
		switch p.Suspicious {
		case SuspiciousHold:
			d.settle(HoldIt, RuleProof)
			return d
		case SuspiciousRefuse:
			d.settle(Refuse, RuleProof)
			return d
		}
	}
	switch a.Standing {
	case Trusted:
		d.step(RuleTrusted)
		d.settle(Allow, RuleTrusted)
		return d
	case Held:
		d.step(RuleHeld)
		d.settle(HoldIt, RuleHeld)
		return d
	}
	if p.Hold != HoldNobody {
		d.step(RuleHold)
		if p.holds(a) {
			d.settle(HoldIt, RuleHold)
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
	switch p.Hold {
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
func (p *Policy) Allows(q Question, rung Audience) (d Decision) {
	d.policy, d.question, d.author.Rung = *p, q, rung
	d.step(RuleAnswer)
	d.settle(Refuse, RuleAnswer)
	if p.Answers[q].Includes(rung) {
		d.Outcome = Allow
	}
	return d
}

// RuleName returns the name of the settling rule as the API shows it, such as
// "post" or "hold.outsiders".
func (d Decision) RuleName() string { return d.name(d.Rule) }

func (d Decision) name(r Rule) string {
	switch r {
	case RuleBarred, RuleTrusted, RuleHeld:
		return "person." + d.author.Standing.String()
	case RuleProof:
		return "suspicious." + d.policy.Suspicious.String()
	case RuleHold:
		return "hold." + d.policy.Hold.String()
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

// Says returns the sentence of the settling step.
func (d Decision) Says() string {
	says, _ := d.words(d.Rule)
	return says
}

func (d Decision) words(r Rule) (says, mend string) {
	a := d.policy.Answers[d.question]
	switch r {
	case RuleBarred:
		return "This person is barred from the group.", "Lift the bar on this person."
	case RuleTrusted:
		return "This person's messages are always trusted here.", ""
	case RuleHeld:
		return "This person's messages always wait for approval here.", "Approve the message, or stop holding this person's messages."
	case RuleProof:
		if d.policy.Suspicious == SuspiciousDeliver {
			return "Nothing proves who wrote it, and the group delivers such mail all the same.", ""
		}
		says = "Nothing proves that the author wrote it."
		if d.policy.Suspicious == SuspiciousHold {
			says = "Nothing proves that the author wrote it, so it waits for approval."
		}
		return says, "Send it signed in to the mail service, or change what happens to suspicious mail."
	case RuleHold:
		return d.holdWords()
	}
	if a == Nobody {
		return "Nobody " + d.question.verb(false) + ".", d.mend()
	}
	if a.Includes(d.author.Rung) {
		return upper(a.Who()) + " " + d.question.verb(true) + ".", ""
	}
	return "Only " + a.Who() + " " + d.question.verb(true) + ".", d.mend()
}

// mend names the narrowest change of the answer that would let the author in.
func (d Decision) mend() string {
	change := fmt.Sprintf("open %s to %s", d.question, d.author.Rung)
	if d.author.Rung == Anyone || d.author.Rung == Workspace {
		return "Add the person to the group with a role that may, or " + change + "."
	}
	return "Give the person a role that may, or " + change + "."
}

func (d Decision) holdWords() (says, mend string) {
	mend = "Approve the message, trust its author, or hold fewer messages."
	switch d.policy.Hold {
	case HoldOutsiders:
		says = "Mail from outsiders who are not members waits for approval."
	case HoldNonMembers:
		says = "Mail from people who are not members waits for approval."
	case HoldNewcomers:
		says = fmt.Sprintf("Mail from people who are not members, or joined less than %d days ago, waits for approval.", NewcomerDays)
	default:
		says = "All mail waits for approval, but for that of owners and moderators."
	}
	if d.Rule != RuleHold || d.Outcome == Allow {
		says += " That does not touch this author."
	}
	return says, mend
}

func (q Question) verb(may bool) string {
	if !may {
		return [...]string{"can find the group", "can see who is in it", "can read its archive", "can write to it",
			"can write to its owners", "can add people to it", "can write as the group", "can write for the group"}[q]
	}
	return [...]string{"can find the group", "can see who is in it", "can read its archive", "may write to this group",
		"may write to its owners", "may add people to it", "may write as the group", "may write for the group"}[q]
}

// Who names an audience in a sentence.
func (a Audience) Who() string {
	return [...]string{"nobody", "its owners", "its owners and moderators", "its members", "people of the workspace", "anyone"}[a]
}

func upper(s string) string { return string(s[0]-'a'+'A') + s[1:] }
