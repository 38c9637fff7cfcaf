package event

import "fmt"

func init() {
	register[ConsentAsked]()
	register[ConsentGiven]()
	register[ConsentEnded]()
	register[ConsentOver]()
}

// ConsentAsked: those who run a group are asked whether it may be in another.
type ConsentAsked struct {
	Outer Who `json:"outer"`
	Inner Who `json:"inner"`
}

func (ConsentAsked) Kind() Kind { return "consent.ask" }
func (f ConsentAsked) did(_ Who, _ string) string {
	return fmt.Sprintf("asked the owners of %s whether it may be in %s", f.Inner, f.Outer)
}
func (ConsentAsked) undo() Undo {
	return can("Take the question back, until it is answered.")
}

// ConsentGiven: a group may be in another.
type ConsentGiven struct {
	Outer Who    `json:"outer"`
	Inner Who    `json:"inner"`
	Scope string `json:"scope"`         // counted or seen
	Was   string `json:"was,omitempty"` // what was agreed before
}

func (ConsentGiven) Kind() Kind { return "consent.give" }
func (f ConsentGiven) did(_ Who, _ string) string {
	return fmt.Sprintf("agreed that %s is in %s, where its people are %s", f.Inner, f.Outer, f.Scope)
}
func (f ConsentGiven) changes() []Change {
	return []Change{{Field: "consent", From: f.Was, To: f.Scope}}
}
func (f ConsentGiven) undo() Undo {
	if f.Was == "counted" || f.Was == "seen" {
		return can("Agree to what was agreed before: its people are %s there.", f.Was)
	}
	return can("End the consent: the group goes out of the other one.")
}

// ConsentEnded: a group is not, or no longer, in another.
type ConsentEnded struct {
	Outer  Who    `json:"outer"`
	Inner  Who    `json:"inner"`
	How    string `json:"how"` // ended, declined or withdrawn
	Reason string `json:"reason,omitempty"`
}

func (ConsentEnded) Kind() Kind { return "consent.end" }
func (f ConsentEnded) did(_ Who, _ string) string {
	switch f.How {
	case "declined":
		return fmt.Sprintf("declined that %s is in %s", f.Inner, f.Outer) + because(f.Reason)
	case "withdrawn":
		return fmt.Sprintf("no longer asks that %s be in %s", f.Inner, f.Outer) + because(f.Reason)
	}
	return fmt.Sprintf("ended that %s is in %s", f.Inner, f.Outer) + because(f.Reason)
}
func (f ConsentEnded) undo() Undo {
	if f.How == "withdrawn" {
		return can("Ask again.")
	}
	return can("Put the group into the other one again, as far as you may; else those who run it are asked.")
}

// ConsentOver: a change of policy contradicted what was agreed, which is asked for again.
type ConsentOver struct {
	Outer Who    `json:"outer"`
	Inner Who    `json:"inner"`
	Why   string `json:"why"`
}

func (ConsentOver) Kind() Kind { return "consent.over" }
func (f ConsentOver) did(_ Who, _ string) string {
	return fmt.Sprintf("changed a policy, by which it is to be agreed again that %s is in %s", f.Inner, f.Outer) + because(f.Why)
}
func (ConsentOver) undo() Undo {
	return cannot("Change the policy back, and ask the owners of the group to agree.")
}
