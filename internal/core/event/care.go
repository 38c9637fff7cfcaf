package event

import "fmt"

func init() {
	register[FindingAccepted]()
	register[FindingAssigned]()
	register[LimitsChanged]()
	register[DeparturesChanged]()
	register[PersonErased]()
	register[MailPaused]()
	register[MailResumed]()
	register[DigestsMoved]()
}

// FindingAccepted: what the review found is known and fine, or, without a reason, is not any more.
type FindingAccepted struct {
	What   string `json:"what"` // kinds, with how many of each
	Reason string `json:"reason,omitempty"`
	Until  string `json:"until,omitempty"` // the day on which it is open again
}

func (FindingAccepted) Kind() Kind { return "finding.accept" }
func (f FindingAccepted) did(_ Who, group string) string {
	of := ""
	if group != "" {
		of = " of " + group
	}
	switch {
	case f.Reason == "":
		return fmt.Sprintf("opened findings%s again: %s", of, f.What)
	case f.Until != "":
		return fmt.Sprintf("accepted findings%s until %s, %s%s", of, day(f.Until), f.What, because(f.Reason))
	}
	return fmt.Sprintf("accepted findings%s, %s%s", of, f.What, because(f.Reason))
}
func (f FindingAccepted) undo() Undo {
	if f.Reason == "" {
		return cannot("They can be accepted again, with a reason.")
	}
	return cannot("They can be opened again, each by itself or all of a kind.")
}

// FindingAssigned: what the review found was given to somebody to mend, or taken back.
type FindingAssigned struct {
	What string `json:"what"`
	To   string `json:"to,omitempty"` // a name, or the owners of each group; "" for nobody
	Note string `json:"note,omitempty"`
}

func (FindingAssigned) Kind() Kind { return "finding.assign" }
func (f FindingAssigned) did(_ Who, group string) string {
	of := ""
	if group != "" {
		of = " of " + group
	}
	if f.To == "" {
		return fmt.Sprintf("took findings%s back: %s", of, f.What)
	}
	return fmt.Sprintf("gave findings%s to %s, %s%s", of, f.To, f.What, because(f.Note))
}
func (f FindingAssigned) undo() Undo {
	if f.To == "" {
		return cannot("They can be given to somebody again, who gets a letter.")
	}
	return cannot("They can be taken back, or given to somebody else.")
}

// LimitsChanged: from when on the review finds something.
type LimitsChanged struct {
	Before
	Changed []Change `json:"changes"`
	Effect  string   `json:"effect,omitempty"`
}

func (LimitsChanged) Kind() Kind { return "review.change" }
func (f LimitsChanged) did(Who, string) string {
	return "changed what the review finds: " + told(f.Changed)
}
func (f LimitsChanged) changes() []Change { return f.Changed }
func (f LimitsChanged) undo() Undo        { return f.back("Set the limits to what they were.") }

// DeparturesChanged: who takes over what somebody leaves behind.
type DeparturesChanged struct {
	Before
	Changed []Change `json:"changes"`
}

func (DeparturesChanged) Kind() Kind { return "departures.change" }
func (f DeparturesChanged) did(Who, string) string {
	return "changed who takes over what somebody leaves behind: " + told(f.Changed)
}
func (f DeparturesChanged) changes() []Change { return f.Changed }
func (f DeparturesChanged) undo() Undo        { return f.back("Set the rules to what they were.") }

// PersonErased: what named somebody was taken out of the directory and the history, on a lawful request.
type PersonErased struct {
	Entries int    `json:"entries"` // out of which something was taken
	Reason  string `json:"reason"`
	Left    string `json:"left"` // the digest of what is left of these, in hexadecimal
}

func (PersonErased) Kind() Kind { return "person.erase" }
func (f PersonErased) did(Who, string) string {
	of := fmt.Sprintf("%d entries", f.Entries)
	if f.Entries == 1 {
		of = "1 entry"
	}
	return fmt.Sprintf("took what named somebody out of the directory and %s of the history%s", of, because(f.Reason))
}
func (PersonErased) undo() Undo { return cannot("What was taken out is not kept anywhere.") }

// MailPaused: no mail of groups goes to somebody, as they asked, or since it came back.
type MailPaused struct {
	Name     string `json:"name"`
	Until    string `json:"until,omitempty"`    // the last day, where they asked
	Returned int    `json:"returned,omitempty"` // messages that came back
	Reply    string `json:"reply,omitempty"`    // what was said of the last one
}

func (MailPaused) Kind() Kind { return "person.pause" }
func (f MailPaused) did(Who, string) string {
	if f.Returned > 0 {
		return fmt.Sprintf("paused the mail of groups to %s, since %d messages came back: %s", f.Name, f.Returned, f.Reply)
	}
	return fmt.Sprintf("paused the mail of groups to %s up to and with %s", f.Name, day(f.Until))
}
func (MailPaused) undo() Undo { return cannot("They, or an administrator, can let it go on at once.") }

// MailResumed: mail of groups reaches somebody again.
type MailResumed struct {
	Name string `json:"name"`
}

func (MailResumed) Kind() Kind { return "person.resume" }
func (f MailResumed) did(Who, string) string {
	return fmt.Sprintf("let the mail of groups reach %s again", f.Name)
}
func (MailResumed) undo() Undo { return cannot("It can be paused again, until a day.") }

// DigestsMoved: somebody gets their digests at another hour.
type DigestsMoved struct {
	Name string `json:"name"`
	At   string `json:"at"`
	Was  string `json:"was"`
}

func (DigestsMoved) Kind() Kind { return "person.digests" }
func (f DigestsMoved) did(Who, string) string {
	return fmt.Sprintf("had the digests of %s come at %s, before at %s", f.Name, f.At, f.Was)
}
func (f DigestsMoved) undo() Undo { return cannot("Set the hour to what it was.") }
