package event

import (
	"fmt"
	"strings"

	"ivytable.example/ivytable/internal/core/number"
)

func init() {
	register[RuleKept]()
	register[OwnersSet]()
	register[ManyChanged]()
	register[GroupCreated]()
	register[GroupChanged]()
	register[PolicyChanged]()
	register[GroupRenewed]()
	register[TermExtended]()
	register[GroupRetired]()
	register[GroupRestored]()
	register[GroupLapsed]()
	register[GroupPurged]()
	register[GroupHeld]()
	register[GroupReleased]()
	register[TermMoved]()
	register[AddressesFreed]()
	register[NoticeSent]()
	register[RuleSet]()
	register[RuleDeleted]()
	register[RuleFollowed]()
	register[PostApproved]()
	register[PostDeclined]()
	register[PostRead]()
	register[MailRetried]()
	register[OverrideSet]()
	register[Spoken]()
}

// GroupCreated: a group was made.
type GroupCreated struct {
	Address string `json:"address"`
	Reach   string `json:"reach"` // its policy in one line
}

func (GroupCreated) Kind() Kind { return "group.create" }
func (f GroupCreated) did(_ Who, group string) string {
	return fmt.Sprintf("created %s at %s", group, f.Address) + because(f.Reach)
}
func (f GroupCreated) changes() []Change {
	return []Change{{Field: "address", To: f.Address}, {Field: "policy", To: f.Reach}}
}
func (GroupCreated) undo() Undo { return can("Retire the group; it can be restored for a time.") }

// GroupChanged: what a group is called, where it is, what it does or how long it lives.
type GroupChanged struct {
	Changed []Change `json:"changes"`
}

func (GroupChanged) Kind() Kind { return "group.change" }
func (f GroupChanged) did(_ Who, group string) string {
	return fmt.Sprintf("changed %s: %s", group, told(f.Changed))
}
func (f GroupChanged) changes() []Change { return f.Changed }
func (GroupChanged) undo() Undo          { return can("Change the fields back to what they were.") }

// PolicyChanged: who may do what with a group.
type PolicyChanged struct {
	Changed []Change `json:"changes"`
}

func (PolicyChanged) Kind() Kind { return "policy.change" }
func (f PolicyChanged) did(_ Who, group string) string {
	return fmt.Sprintf("changed who may do what with %s: %s", group, told(f.Changed))
}
func (f PolicyChanged) changes() []Change { return f.Changed }
func (PolicyChanged) undo() Undo          { return can("Change the settings back to what they were.") }

// GroupRenewed: its term began again.
type GroupRenewed struct {
	From   string `json:"from,omitempty"`  // the date on which it would have ended
	Until  string `json:"until,omitempty"` // the new one; "" for never
	Reason string `json:"reason,omitempty"`
	Since  string `json:"since,omitempty"` // by what happened in it on this day: it was written to, or somebody came in
}

func (GroupRenewed) Kind() Kind { return "group.renew" }
func (f GroupRenewed) did(_ Who, group string) string {
	did := fmt.Sprintf("renewed %s until %s", group, day(f.Until))
	if f.Until == "" {
		did = fmt.Sprintf("renewed %s, which has no end", group)
	}
	if f.Since != "" {
		did += ", since it was in use on " + day(f.Since)
	}
	return did + because(f.Reason)
}
func (f GroupRenewed) changes() []Change {
	return []Change{{Field: "expires_on", From: f.From, To: f.Until}}
}
func (GroupRenewed) undo() Undo {
	return cannot("A renewal gives time and takes nothing, so there is nothing to undo.")
}

// TermExtended: its end was moved, since nobody had been told of it in time.
type TermExtended struct {
	From string `json:"from"`
	To   string `json:"to"`
}

func (TermExtended) Kind() Kind { return "group.extend" }
func (f TermExtended) did(_ Who, group string) string {
	return fmt.Sprintf("moved the end of %s to %s, since its owners had not been told in time", group, day(f.To))
}
func (f TermExtended) changes() []Change {
	return []Change{{Field: "expires_on", From: f.From, To: f.To}}
}
func (TermExtended) undo() Undo {
	return cannot("Nobody is cut off unwarned. Retire the group, if it is not needed.")
}

// TermMoved: another term rule holds for it, or its rule says another end.
type TermMoved struct {
	From     string `json:"from,omitempty"` // the end; "" for none
	To       string `json:"to,omitempty"`
	RuleFrom string `json:"rule_from,omitempty"`
	Rule     string `json:"rule,omitempty"`
}

func (TermMoved) Kind() Kind { return "group.term" }
func (f TermMoved) did(_ Who, group string) string {
	by := ", by the term rule " + f.Rule
	if f.Rule == "" {
		by = ", which no term rule names"
	}
	switch {
	case f.To == "":
		return fmt.Sprintf("took the end from %s%s", group, by)
	case f.From == "":
		return fmt.Sprintf("gave %s an end on %s%s", group, day(f.To), by)
	}
	return fmt.Sprintf("moved the end of %s to %s%s", group, day(f.To), by)
}
func (f TermMoved) changes() []Change {
	return []Change{{Field: "expires_on", From: f.From, To: f.To}, {Field: "term_rule", From: f.RuleFrom, To: f.Rule}}
}
func (TermMoved) undo() Undo {
	return cannot("It follows from the term rules. Change them back, renew the group, or make it exempt.")
}

// GroupHeld: it was put under hold.
type GroupHeld struct {
	Reason string `json:"reason"`
}

func (GroupHeld) Kind() Kind { return "group.hold" }
func (f GroupHeld) did(_ Who, group string) string {
	return fmt.Sprintf("put %s under hold, so that it is neither retired nor deleted for good", group) + because(f.Reason)
}
func (f GroupHeld) changes() []Change { return []Change{{Field: "under_hold", To: f.Reason}} }
func (GroupHeld) undo() Undo          { return can("Release the group.") }

// GroupReleased: it is under hold no more.
type GroupReleased struct {
	Reason string `json:"reason"` // why it was
}

func (GroupReleased) Kind() Kind { return "group.release" }
func (f GroupReleased) did(_ Who, group string) string {
	return fmt.Sprintf("released %s, which was under hold", group) + because(f.Reason)
}
func (f GroupReleased) changes() []Change { return []Change{{Field: "under_hold", From: f.Reason}} }
func (GroupReleased) undo() Undo {
	return can("Put it under hold again, unless it has been deleted for good.")
}

// AddressesFreed: the addresses of a group that is gone are anybody's again.
type AddressesFreed struct {
	Addresses []string `json:"addresses"`
}

func (AddressesFreed) Kind() Kind { return "group.free" }
func (f AddressesFreed) did(_ Who, group string) string {
	return fmt.Sprintf("gave back %s, which belonged to %s", listed(f.Addresses), group)
}
func (AddressesFreed) undo() Undo {
	return cannot("Addresses that are free can be taken by whoever makes a group.")
}

// GroupRetired: somebody ended it.
type GroupRetired struct {
	Until string `json:"until,omitempty"` // the last day on which it can be restored
}

func (GroupRetired) Kind() Kind { return "group.retire" }
func (f GroupRetired) did(_ Who, group string) string {
	if f.Until == "" {
		return "retired " + group
	}
	return fmt.Sprintf("retired %s, which can be restored until %s", group, day(f.Until))
}
func (GroupRetired) changes() []Change {
	return []Change{{Field: "state", From: "active", To: "retired"}}
}
func (GroupRetired) undo() Undo { return can("Restore the group.") }

// GroupRestored: it came back with everything in it.
type GroupRestored struct {
	Was   string `json:"was"`             // lapsed or retired
	Until string `json:"until,omitempty"` // when it will end; "" for never
}

func (GroupRestored) Kind() Kind                       { return "group.restore" }
func (f GroupRestored) did(_ Who, group string) string { return fmt.Sprintf("restored %s", group) }
func (f GroupRestored) changes() []Change {
	return []Change{{Field: "state", From: f.Was, To: "active"}, {Field: "expires_on", To: f.Until}}
}
func (GroupRestored) undo() Undo { return can("Retire the group.") }

// GroupLapsed: its time ran out.
type GroupLapsed struct {
	Until string `json:"until,omitempty"` // the last day on which it can be restored
}

func (GroupLapsed) Kind() Kind { return "group.lapse" }
func (f GroupLapsed) did(_ Who, group string) string {
	return fmt.Sprintf("let %s lapse, since nobody renewed it", group)
}
func (GroupLapsed) changes() []Change { return []Change{{Field: "state", From: "due", To: "lapsed"}} }
func (GroupLapsed) undo() Undo        { return can("Restore the group.") }

// GroupPurged: it is gone, after the time in which it could be restored.
type GroupPurged struct{}

func (GroupPurged) Kind() Kind { return "group.purge" }
func (GroupPurged) did(_ Who, group string) string {
	return fmt.Sprintf("deleted %s for good, since nobody restored it in time", group)
}
func (GroupPurged) undo() Undo {
	return cannot("What was in the group is gone. Its addresses can be used again after a time.")
}

// NoticeSent: its owners were told that it will end.
type NoticeSent struct {
	Days int      `json:"days"` // before the end
	To   []string `json:"to"`
}

func (NoticeSent) Kind() Kind { return "notice.send" }
func (f NoticeSent) did(_ Who, group string) string {
	if f.Days == 0 {
		return fmt.Sprintf("told %s that %s has ended and can be restored", listed(f.To), group)
	}
	return fmt.Sprintf("told %s that %s ends soon: the notice of %d days before", listed(f.To), group, f.Days)
}
func (NoticeSent) undo() Undo { return cannot("A letter that was sent can't be taken back.") }

// RuleSet: a rule of membership was put in force.
type RuleSet struct {
	From      string `json:"from,omitempty"`
	To        string `json:"to"`
	GuardFrom int    `json:"guard_from,omitempty"` // percent
	Guard     int    `json:"guard"`
	Come      int    `json:"come"`
	Go        int    `json:"go"`
}

func (RuleSet) Kind() Kind { return "rule.set" }
func (f RuleSet) did(_ Who, group string) string {
	return fmt.Sprintf("set the rule of %s to %s: %d came in, %d went out", group, f.To, f.Come, f.Go)
}
func (f RuleSet) changes() []Change {
	out := []Change{{Field: "rule", From: f.From, To: f.To}}
	if f.GuardFrom != f.Guard {
		out = append(out, Change{Field: "guard", From: fmt.Sprint(f.GuardFrom), To: fmt.Sprint(f.Guard)})
	}
	return out
}
func (f RuleSet) undo() Undo {
	if f.From == "" {
		return can("Delete the rule, and those with it who came in by it.")
	}
	return can("Set the rule to what it was.")
}

// RuleDeleted: a rule of membership was taken away.
type RuleDeleted struct {
	Rule string `json:"rule"`
	Kept bool   `json:"kept"` // those who were in by it stayed
	Go   int    `json:"go"`
}

func (RuleDeleted) Kind() Kind { return "rule.delete" }
func (f RuleDeleted) did(_ Who, group string) string {
	if f.Kept {
		return fmt.Sprintf("deleted the rule of %s, %s; those who were in by it stay", group, f.Rule)
	}
	return fmt.Sprintf("deleted the rule of %s, %s, and took out those who were in by it: %s", group, f.Rule, number.Of(f.Go, "person"))
}
func (f RuleDeleted) changes() []Change { return []Change{{Field: "rule", From: f.Rule}} }
func (RuleDeleted) undo() Undo          { return can("Set the rule again.") }

// RuleFollowed: people came and went because of a rule.
type RuleFollowed struct {
	Cause string `json:"cause"`
	In    People `json:"in"`
	Out   People `json:"out"`
}

func (RuleFollowed) Kind() Kind { return "rule.follow" }
func (f RuleFollowed) did(_ Who, group string) string {
	var parts []string
	if f.In.Count > 0 {
		parts = append(parts, fmt.Sprintf("brought %s into %s", f.In, group))
	}
	if f.Out.Count > 0 {
		parts = append(parts, fmt.Sprintf("took %s out of %s", f.Out, group))
	}
	return listed(parts) + " by its rule" + because(f.Cause)
}
func (RuleFollowed) undo() Undo {
	return cannot("Who is in follows from the rule. Change the rule, or the entry of the person.")
}

// PostApproved: a message that waited was let through.
type PostApproved struct {
	Author  string `json:"author"`
	Subject string `json:"subject"`
}

func (PostApproved) Kind() Kind { return "post.approve" }
func (f PostApproved) did(_ Who, group string) string {
	return fmt.Sprintf("approved the post %q by %s to %s", short(f.Subject), f.Author, group)
}
func (PostApproved) changes() []Change {
	return []Change{{Field: "state", From: "waiting", To: "accepted"}}
}
func (PostApproved) undo() Undo { return cannot("A message that was sent can't be taken back.") }

// PostRead: an administrator whom nobody else gave a part in a group read a post that waits there.
type PostRead struct {
	As      string `json:"as,omitempty"` // the role that they gave themselves; "": they have no part in it
	Author  string `json:"author"`
	Subject string `json:"subject"`
	Reason  string `json:"reason"`
}

func (PostRead) Kind() Kind { return "post.read" }
func (f PostRead) did(_ Who, group string) string {
	as := ""
	if f.As != "" {
		as = ", as " + f.As + " by their own appointment"
	}
	return fmt.Sprintf("read the post %q by %s to %s%s, because: %s", short(f.Subject), f.Author, group, as, f.Reason)
}
func (PostRead) undo() Undo { return cannot("What was read can't be unread.") }

// MailRetried: mail that could not be delivered was to be tried again.
type MailRetried struct {
	Author  string `json:"author"`
	Subject string `json:"subject"`
	To      string `json:"to,omitempty"` // whom it goes to once more; "": all who did not get it
}

func (MailRetried) Kind() Kind { return "mail.retry" }
func (f MailRetried) did(Who, string) string {
	if f.To != "" {
		return fmt.Sprintf("sent the message %q by %s to %s again", short(f.Subject), f.Author, f.To)
	}
	return fmt.Sprintf("had the message %q by %s tried again", short(f.Subject), f.Author)
}
func (MailRetried) undo() Undo { return cannot("A message that was sent can't be taken back.") }

// PostDeclined: a message that waited was turned away.
type PostDeclined struct {
	Author  string `json:"author"`
	Subject string `json:"subject"`
	Reason  string `json:"reason,omitempty"`
}

func (PostDeclined) Kind() Kind { return "post.decline" }
func (f PostDeclined) did(_ Who, group string) string {
	return fmt.Sprintf("declined the post %q by %s to %s", short(f.Subject), f.Author, group) + because(f.Reason)
}
func (PostDeclined) changes() []Change {
	return []Change{{Field: "state", From: "waiting", To: "declined"}}
}
func (PostDeclined) undo() Undo { return cannot("Ask its author to send it again.") }

// OverrideSet: something was settled about one address in a group.
type OverrideSet struct {
	Of     Who    `json:"of"`
	From   string `json:"from"` // none, barred, trusted, held
	To     string `json:"to"`
	Reason string `json:"reason,omitempty"`
}

func (OverrideSet) Kind() Kind { return "override.set" }
func (f OverrideSet) did(_ Who, group string) string {
	var did string
	switch f.To {
	case "barred":
		did = fmt.Sprintf("barred %s from %s", f.Of, group)
	case "trusted":
		did = fmt.Sprintf("trusted %s in %s: their mail never waits", f.Of, group)
	case "held":
		did = fmt.Sprintf("held %s in %s: their mail always waits", f.Of, group)
	default:
		was := map[string]string{"barred": "the bar on", "trusted": "the trust in", "held": "the hold on"}[f.From]
		did = fmt.Sprintf("lifted %s %s in %s", was, f.Of, group)
	}
	if f.To == "trusted" || f.To == "held" {
		if f.Reason != "" {
			return did + " (" + f.Reason + ")"
		}
		return did
	}
	return did + because(f.Reason)
}
func (f OverrideSet) changes() []Change {
	return []Change{{Field: f.Of.Address, From: f.From, To: f.To}}
}
func (f OverrideSet) undo() Undo {
	if f.To == "barred" {
		return can("Lift the bar. Who was taken out by it has to be put back.")
	}
	if f.From == "none" {
		return can("Lift it.")
	}
	return can("Set it back to %s.", f.From)
}

// OwnersSet: who owns a group was changed together with that of others.
type OwnersSet struct {
	New    []Who `json:"new,omitempty"`
	Former []Who `json:"former,omitempty"` // members since
	Undone bool  `json:"undone,omitempty"` // as it was before
}

func (OwnersSet) Kind() Kind { return "owners.set" }
func (f OwnersSet) did(_ Who, group string) string {
	var parts []string
	if len(f.New) > 0 {
		parts = append(parts, fmt.Sprintf("made %s %s of %s", Of(f.New...), map[bool]string{true: "an owner", false: "owners"}[len(f.New) == 1], group))
	}
	if len(f.Former) > 0 {
		parts = append(parts, fmt.Sprintf("ended that %s %s it", Of(f.Former...), map[bool]string{true: "owns", false: "own"}[len(f.Former) == 1]))
	}
	if f.Undone {
		return "undid a change of owners of " + group + ": " + strings.Join(parts, " and ")
	}
	return strings.Join(parts, " and ")
}
func (OwnersSet) undo() Undo {
	return can("Give each of them back the role they had; the whole change can be undone, too.")
}

// ManyChanged: many groups went through one change.
type ManyChanged struct {
	Change  string `json:"change"` // its identifier
	Says    string `json:"says"`
	Total   int    `json:"total"`
	Changed int    `json:"changed"`
	Same    int    `json:"same"`
	Refused int    `json:"refused"`
	Stopped bool   `json:"stopped,omitempty"`
	Undid   bool   `json:"undid,omitempty"`
}

func (ManyChanged) Kind() Kind { return "groups.change" }
func (f ManyChanged) did(Who, string) string {
	out := fmt.Sprintf("changed %d of %d groups: %s", f.Changed, f.Total, f.Says)
	if f.Refused > 0 {
		out += fmt.Sprintf("; %d could not be changed", f.Refused)
	}
	if f.Stopped {
		out += "; it was stopped"
	}
	return out
}
func (f ManyChanged) undo() Undo {
	if f.Undid {
		return cannot("It undid another change. Make that one again.")
	}
	return can("Undo the whole change; groups that were changed since stay as they are.")
}

// RuleKept: those whom a rule would have let go stay.
type RuleKept struct {
	People int `json:"people"`
}

func (RuleKept) Kind() Kind { return "rule.keep" }
func (f RuleKept) did(_ Who, group string) string {
	if f.People == 1 {
		return "kept 1 member in " + group + " whom its rule no longer takes"
	}
	return fmt.Sprintf("kept %d members in %s whom its rule no longer takes", f.People, group)
}
func (RuleKept) undo() Undo { return can("Take them out: they are members by hand now.") }

// Spoken: somebody wrote in the name of a group.
type Spoken struct {
	Subject string   `json:"subject"`
	To      []string `json:"to"`
	As      bool     `json:"as"` // the group alone is named
}

func (Spoken) Kind() Kind { return "post.speak" }
func (f Spoken) did(_ Who, group string) string {
	how := "for"
	if f.As {
		how = "as"
	}
	return fmt.Sprintf("wrote %q %s %s to %s", f.Subject, how, group, listed(f.To))
}
func (Spoken) undo() Undo { return cannot("A message that was sent can't be taken back.") }
