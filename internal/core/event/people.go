package event

import (
	"fmt"

	"ivytable.example/ivytable/internal/core/number"
)

func init() {
	register[PeopleAdded]()
	register[Joined]()
	register[PeopleChanged]()
	register[PeopleRemoved]()
	register[PeopleInvited]()
	register[ExternalsVouched]()
	register[RequestMade]()
	register[RequestApproved]()
	register[RequestDeclined]()
	register[RequestWithdrawn]()
	register[InvitationCalledBack]()
	register[InvitationAccepted]()
	register[InvitationDeclined]()
	register[JoinLinkCreated]()
	register[JoinLinkCalledBack]()
}

// PeopleAdded: people or groups were put into a group.
type PeopleAdded struct {
	People
}

func (PeopleAdded) Kind() Kind { return "people.add" }
func (f PeopleAdded) did(_ Who, group string) string {
	return fmt.Sprintf("added %s to %s", f.People, group)
}
func (PeopleAdded) undo() Undo { return can("Take them out of the group.") }

// Joined: somebody came in of their own will.
type Joined struct {
	Way string `json:"way,omitempty"` // "", invitation, link or page
}

func (Joined) Kind() Kind { return "people.join" }
func (f Joined) did(_ Who, group string) string {
	switch f.Way {
	case "invitation":
		return fmt.Sprintf("came into %s by invitation", group)
	case "link":
		return fmt.Sprintf("came into %s by a join link", group)
	case "page":
		return fmt.Sprintf("came into %s by its public page", group)
	}
	return "joined " + group
}
func (Joined) undo() Undo { return can("Take the person out of the group.") }

// PeopleChanged: the role, the delivery or the end of people in a group.
type PeopleChanged struct {
	People
	Role     string `json:"role,omitempty"`
	Delivery string `json:"delivery,omitempty"`
	Was      string `json:"was,omitempty"`   // the delivery before; "several" where not all had the same
	Until    string `json:"until,omitempty"` // the last day, or none
}

func (PeopleChanged) Kind() Kind { return "people.change" }
func (f PeopleChanged) did(by Who, group string) string {
	delivery := map[string]string{"each": "each message", "digest": "a digest of each day", "conversations": "conversations that they take part in", "none": "no messages"}[f.Delivery]
	whose := "the delivery of " + f.People.String()
	if f.Count == 1 && f.First[0].Address == by.Address {
		whose = "their delivery"
	}
	end := ""
	switch f.Until {
	case "":
	case "none":
		end = "without an end"
	default:
		end = "until " + f.Until
	}
	switch {
	case end != "" && f.Role == "" && f.Delivery == "":
		return fmt.Sprintf("put %s in %s %s", f.People, group, end)
	case end != "":
		end = ", " + end
	}
	switch {
	case f.Role != "" && f.Delivery != "":
		return fmt.Sprintf("gave %s the role %s in %s, and %s", f.People, f.Role, group, delivery) + end
	case f.Role != "":
		return fmt.Sprintf("gave %s the role %s in %s", f.People, f.Role, group) + end
	}
	return fmt.Sprintf("set %s in %s to %s", whose, group, delivery) + end
}
func (f PeopleChanged) undo() Undo {
	if f.Until != "" {
		return cannot("Until when each of them was in it before is not kept. Set their last day by hand.")
	}
	if f.Role != "" && f.Delivery != "" {
		return cannot("Which of the two was changed of whom is not kept. Change the roles and the delivery by hand.")
	}
	if f.Was == "several" {
		return cannot("Which delivery each of them had is not kept. Change it by hand.")
	}
	return can("Give each of them back what they had, unless it was changed since.")
}

// PeopleRemoved: people or groups went out of a group.
type PeopleRemoved struct {
	People
	Left  bool `json:"left,omitempty"`  // of their own will
	Ended bool `json:"ended,omitempty"` // their time in it was over
}

func (PeopleRemoved) Kind() Kind { return "people.remove" }
func (f PeopleRemoved) did(_ Who, group string) string {
	if f.Left {
		return "left " + group
	}
	if f.Ended {
		return fmt.Sprintf("took %s out of %s: their time in it was over", f.People, group)
	}
	return fmt.Sprintf("took %s out of %s", f.People, group)
}
func (PeopleRemoved) undo() Undo {
	return can("Put them back in the roles that they had; with a delivery and an end as for anybody who is new.")
}

// PeopleInvited: people were asked whether they want to be in a group.
type PeopleInvited struct {
	People
}

func (PeopleInvited) Kind() Kind { return "people.invite" }
func (f PeopleInvited) did(_ Who, group string) string {
	return fmt.Sprintf("invited %s to %s", f.People, group)
}
func (PeopleInvited) undo() Undo { return can("Call back the invitations that nobody has answered.") }

// RequestMade: somebody asked to join or to leave.
type RequestMade struct {
	To   string `json:"to"` // join or leave
	Note string `json:"note,omitempty"`
}

func (RequestMade) Kind() Kind { return "request.make" }
func (f RequestMade) did(_ Who, group string) string {
	return fmt.Sprintf("asked to %s %s", f.To, group) + because(f.Note)
}
func (RequestMade) undo() Undo { return cannot("Whoever asked can withdraw it until it is decided.") }

// RequestApproved: somebody may join or leave as they asked.
type RequestApproved struct {
	Of     Who    `json:"of"`
	To     string `json:"to"` // join or leave
	Reason string `json:"reason,omitempty"`
}

func (RequestApproved) Kind() Kind { return "request.approve" }
func (f RequestApproved) did(_ Who, group string) string {
	return fmt.Sprintf("let %s %s %s, as they had asked", f.Of, f.To, group) + because(f.Reason)
}
func (f RequestApproved) undo() Undo {
	if f.To == "leave" {
		return cannot("Undo the entry beside it, which took the person out.")
	}
	return cannot("Undo the entry beside it, which let the person in.")
}

// RequestDeclined: somebody may not join or leave as they asked.
type RequestDeclined struct {
	Of     Who    `json:"of"`
	To     string `json:"to"` // join or leave
	Reason string `json:"reason,omitempty"`
}

func (RequestDeclined) Kind() Kind { return "request.decline" }
func (f RequestDeclined) did(_ Who, group string) string {
	return fmt.Sprintf("declined that %s may %s %s", f.Of, f.To, group) + because(f.Reason)
}
func (RequestDeclined) undo() Undo { return cannot("Add the person, or let them ask again.") }

// RequestWithdrawn: somebody no longer asks.
type RequestWithdrawn struct {
	To string `json:"to"` // join or leave
}

func (RequestWithdrawn) Kind() Kind { return "request.withdraw" }
func (f RequestWithdrawn) did(_ Who, group string) string {
	return fmt.Sprintf("withdrew their request to %s %s", f.To, group)
}
func (RequestWithdrawn) undo() Undo { return cannot("They can ask again.") }

// InvitationCalledBack: an invitation that was not answered ended.
type InvitationCalledBack struct {
	Of Who `json:"of"`
}

func (InvitationCalledBack) Kind() Kind { return "invitation.call_back" }
func (f InvitationCalledBack) did(_ Who, group string) string {
	return fmt.Sprintf("called back the invitation of %s to %s", f.Of, group)
}
func (InvitationCalledBack) undo() Undo { return cannot("Invite the person again.") }

// InvitationAccepted: whoever was invited wants to be in the group.
type InvitationAccepted struct {
	Role string `json:"role"`
}

func (InvitationAccepted) Kind() Kind { return "invitation.accept" }
func (f InvitationAccepted) did(_ Who, group string) string {
	return fmt.Sprintf("accepted the invitation to %s as %s", group, f.Role)
}
func (InvitationAccepted) undo() Undo { return can("Take the person out of the group.") }

// InvitationDeclined: whoever was invited does not want to be in the group.
type InvitationDeclined struct{}

func (InvitationDeclined) Kind() Kind { return "invitation.decline" }
func (InvitationDeclined) did(_ Who, group string) string {
	return "declined the invitation to " + group
}
func (InvitationDeclined) undo() Undo { return cannot("Invite the person again.") }

// JoinLinkCreated: a link was given out by which people come in.
type JoinLinkCreated struct {
	Note  string `json:"note,omitempty"`
	Until string `json:"until"`
	Max   int    `json:"max,omitempty"` // uses; 0: no bound
	Link  string `json:"link,omitempty"`
}

func (JoinLinkCreated) Kind() Kind { return "join_link.create" }
func (f JoinLinkCreated) did(_ Who, group string) string {
	s := fmt.Sprintf("made a join link%s to %s, good until %s", named(f.Note), group, day(f.Until))
	if f.Max > 0 {
		s += fmt.Sprintf(" for up to %s", number.Of(f.Max, "person"))
	}
	return s
}
func (f JoinLinkCreated) undo() Undo {
	if f.Link == "" {
		return cannot("Call the link back by hand. Who came in by it stays.")
	}
	return can("Call the link back. Who came in by it stays.")
}

// JoinLinkCalledBack: a link can no longer be used.
type JoinLinkCalledBack struct {
	Note string `json:"note,omitempty"`
	Uses int    `json:"uses"`
}

func (JoinLinkCalledBack) Kind() Kind { return "join_link.call_back" }
func (f JoinLinkCalledBack) did(_ Who, group string) string {
	return fmt.Sprintf("called back the join link%s to %s, which %s had used", named(f.Note), group, number.Of(f.Uses, "person"))
}
func (JoinLinkCalledBack) undo() Undo { return cannot("Its secret is not kept. Make another link.") }

// named puts the note by which a link is known into a sentence.
func named(note string) string {
	if note == "" {
		return ""
	}
	return fmt.Sprintf(" %q", note)
}

// ExternalsVouched: somebody answers for external members of a group, or why they are in it was written.
type ExternalsVouched struct {
	People
	Voucher Who      `json:"voucher,omitzero"`
	Nobody  bool     `json:"nobody,omitempty"` // answers for them any more
	Reason  string   `json:"reason,omitempty"`
	Was     *Vouched `json:"was,omitempty"`
}

// Vouched is who answers for an external member, and why they are in the group.
type Vouched struct {
	By     Who    `json:"by,omitzero"`
	Reason string `json:"reason,omitempty"`
}

func (ExternalsVouched) Kind() Kind { return "people.vouch" }
func (f ExternalsVouched) did(_ Who, group string) string {
	if f.Nobody {
		return fmt.Sprintf("left %s in %s without anybody who answers for them", f.People, group) + because(f.Reason)
	}
	if f.Voucher == (Who{}) {
		return fmt.Sprintf("wrote why %s is in %s", f.People, group) + because(f.Reason)
	}
	return fmt.Sprintf("made %s answer for %s in %s", f.Voucher, f.People, group) + because(f.Reason)
}
func (f ExternalsVouched) undo() Undo {
	if f.Was == nil {
		return cannot("Who answered for them before is not kept with this entry. Name somebody by hand.")
	}
	return can("Have whoever answered for them before do so again, for the reason there was.")
}
