package event

import (
	"fmt"
	"strings"

	"ivytable.example/ivytable/internal/core/number"
)

func init() {
	register[ExpiryChanged]()
	register[CaretakerAgreed]()
	register[ClockWentBack]()
	register[RecordsRepaired]()
	register[NamingChanged]()
	register[CeilingsChanged]()
	register[StartingPointSaved]()
	register[StartingPointDeleted]()
	register[PersonCreated]()
	register[PersonChanged]()
	register[PersonDeparted]()
	register[PersonReturned]()
	register[PeopleImported]()
	register[PasswordLinkSent]()
	register[PasswordChanged]()
	register[SecondFactorOn]()
	register[SecondFactorOff]()
	register[OutsideChanged]()
	register[PublicChanged]()
	register[AreasChanged]()
	register[ProtectionChanged]()
	register[BudgetSpent]()
	register[KeepingChanged]()
	register[HistoryForgotten]()
	register[TokenCreated]()
	register[TokenRevoked]()
	register[ViewSaved]()
	register[ViewDeleted]()
	register[AttributeDeclared]()
	register[AttributeChanged]()
	register[AttributeDeleted]()
	register[DomainAdded]()
	register[DomainLeads]()
	register[DomainRetired]()
	register[KeyMade]()
	register[KeyUsed]()
	register[KeyDeleted]()
}

// ExpiryChanged: how long groups live.
type ExpiryChanged struct {
	Before
	Changed []Change `json:"changes"`
	Effect  string   `json:"effect"`
}

func (ExpiryChanged) Kind() Kind { return "expiry.change" }
func (f ExpiryChanged) did(Who, string) string {
	return "changed how long groups live: " + told(f.Changed) + because(f.Effect)
}
func (f ExpiryChanged) changes() []Change { return f.Changed }
func (f ExpiryChanged) undo() Undo {
	return f.back("Set the terms to what they were. Dates are worked out again; groups that lapsed meanwhile have to be restored.")
}

// CaretakerAgreed: an address outside the workspace takes care of groups without owners.
type CaretakerAgreed struct {
	Address string `json:"address"`
}

func (CaretakerAgreed) Kind() Kind { return "caretaker.agree" }
func (f CaretakerAgreed) did(Who, string) string {
	return fmt.Sprintf("found that %s takes care of groups without owners", f.Address)
}
func (CaretakerAgreed) undo() Undo { return cannot("Name somebody else in the term rules.") }

// ClockWentBack: the clock of the service shows an earlier day than before. From and To are days, 2027-01-02.
type ClockWentBack struct {
	From string `json:"from"`
	To   string `json:"to"`
}

func (ClockWentBack) Kind() Kind { return "clock.back" }
func (f ClockWentBack) did(Who, string) string {
	return fmt.Sprintf("found that its clock went back from %s to %s; expiry and deletion go on by the day that it shows now", f.From, f.To)
}
func (ClockWentBack) undo() Undo { return cannot("Check the clock of the machine.") }

// RecordsRepaired: records that did not agree with those that they follow from were made right.
type RecordsRepaired struct {
	Checks  []string `json:"checks"` // that found them, with how many each
	Records int      `json:"records"`
}

func (RecordsRepaired) Kind() Kind { return "records.repair" }
func (f RecordsRepaired) did(Who, string) string {
	return fmt.Sprintf("repaired %s of the service: %s", number.Of(f.Records, "record"), strings.Join(f.Checks, ", "))
}
func (RecordsRepaired) undo() Undo { return cannot("What was wrong is not kept.") }

// CeilingsChanged: how far groups may go.
type CeilingsChanged struct {
	Before
	From  []string `json:"from,omitempty"` // each in words
	To    []string `json:"to,omitempty"`
	Above int      `json:"above,omitempty"` // groups that come down
}

func (CeilingsChanged) Kind() Kind { return "ceilings.change" }
func (f CeilingsChanged) did(Who, string) string {
	out := "changed how far groups may go"
	if f.Above == 1 {
		return out + "; 1 group comes down"
	}
	if f.Above > 0 {
		return out + fmt.Sprintf("; %d groups come down", f.Above)
	}
	return out
}
func (f CeilingsChanged) changes() []Change {
	return []Change{{Field: "ceilings", From: strings.Join(f.From, "; "), To: strings.Join(f.To, "; ")}}
}
func (f CeilingsChanged) undo() Undo {
	return f.back("Set the ceilings to what they were. The change that brought groups down is undone on its own.")
}

// NamingChanged: what groups may be called, and who creates them.
type NamingChanged struct {
	Before
	Changed []Change `json:"changes"`
	Effect  string   `json:"effect"`
}

func (NamingChanged) Kind() Kind { return "naming.change" }
func (f NamingChanged) did(Who, string) string {
	return "changed the rules of naming: " + told(f.Changed) + because(f.Effect)
}
func (f NamingChanged) changes() []Change { return f.Changed }
func (f NamingChanged) undo() Undo        { return f.back("Set the rules of naming to what they were.") }

// StartingPointSaved: one was made or changed.
type StartingPointSaved struct {
	Before
	Name  string `json:"name"`
	Title string `json:"title"`
	Reach string `json:"reach"` // its policy in one line
}

func (StartingPointSaved) Kind() Kind { return "starting_point.save" }
func (f StartingPointSaved) did(Who, string) string {
	return fmt.Sprintf("saved the starting point %s", f.Title) + because(f.Reach)
}
func (f StartingPointSaved) undo() Undo {
	if f.Before.Before == nil {
		return f.back("Delete the starting point. Groups that were begun from it stay as they are.")
	}
	return f.back("Save it as it was.")
}

// StartingPointDeleted: one was deleted.
type StartingPointDeleted struct {
	Before
	Name  string `json:"name"`
	Title string `json:"title"`
}

func (StartingPointDeleted) Kind() Kind { return "starting_point.delete" }
func (f StartingPointDeleted) did(Who, string) string {
	return "deleted the starting point " + f.Title
}
func (f StartingPointDeleted) undo() Undo { return f.back("Save it again.") }

// PersonCreated: somebody came into the directory.
type PersonCreated struct {
	Of Who `json:"of"`
}

func (PersonCreated) Kind() Kind { return "person.create" }
func (f PersonCreated) did(Who, string) string {
	return fmt.Sprintf("put %s (%s) into the directory", f.Of, f.Of.Address)
}
func (f PersonCreated) changes() []Change {
	return []Change{{Field: "name", To: f.Of.Name}, {Field: "address", To: f.Of.Address}}
}
func (PersonCreated) undo() Undo { return can("Mark the person as departed.") }

// PersonChanged: an entry of the directory.
type PersonChanged struct {
	Of      Who      `json:"of"`
	Changed []Change `json:"changes"`
}

func (PersonChanged) Kind() Kind { return "person.change" }
func (f PersonChanged) did(Who, string) string {
	return fmt.Sprintf("changed the entry of %s: %s", f.Of, told(f.Changed))
}
func (f PersonChanged) changes() []Change { return f.Changed }
func (PersonChanged) undo() Undo          { return can("Change the fields back to what they were.") }

// PersonDeparted: somebody left the organisation.
type PersonDeparted struct {
	Of       Who      `json:"of"`
	HandedTo Who      `json:"handed_to,omitzero"` // who owns now what only they owned
	Left     []Who    `json:"left,omitempty"`     // the groups that only they owned
	Handed   []Handed `json:"handed,omitempty"`   // the groups that only they owned and that others own now by the rules
	Role     string   `json:"role,omitempty"`     // that they had in the workspace, and have no more
}

// Handed is a group with who owns it now.
type Handed struct {
	Group Who `json:"group"`
	To    Who `json:"to"`
}

func (PersonDeparted) Kind() Kind { return "person.depart" }
func (f PersonDeparted) did(Who, string) string {
	s := fmt.Sprintf("marked %s as having left the organisation", f.Of)
	if f.Role != "" {
		s += ", no longer " + map[string]string{"administrator": "an administrator", "auditor": "an auditor"}[f.Role]
	}
	for i, h := range f.Handed {
		if i == 3 && len(f.Handed) > 4 {
			s += fmt.Sprintf("; by the rules %d more go to others", len(f.Handed)-i)
			break
		}
		s += fmt.Sprintf("; by the rules %s owns %s now", h.To, h.Group)
	}
	if len(f.Left) == 0 {
		return s
	}
	names := make([]string, len(f.Left))
	for i, g := range f.Left {
		names[i] = g.String()
	}
	if f.HandedTo == (Who{}) {
		return s + "; nobody owns " + listed(names) + " now"
	}
	return fmt.Sprintf("%s; %s owns %s now", s, f.HandedTo, listed(names))
}
func (PersonDeparted) changes() []Change {
	return []Change{{Field: "active", From: "true", To: "false"}}
}
func (f PersonDeparted) undo() Undo {
	if len(f.Left) > 0 {
		return can("Mark the person as here again; they are in their groups as before. Groups that were handed over by name stay with both.")
	}
	return can("Mark the person as here again; they are in their groups as before.")
}

// PersonReturned: somebody who had left is here again.
type PersonReturned struct {
	Of Who `json:"of"`
}

func (PersonReturned) Kind() Kind { return "person.return" }
func (f PersonReturned) did(Who, string) string {
	return fmt.Sprintf("marked %s as here again", f.Of)
}
func (PersonReturned) changes() []Change {
	return []Change{{Field: "active", From: "false", To: "true"}}
}
func (PersonReturned) undo() Undo { return can("Mark the person as departed.") }

// PeopleImported: the directory was made like a file.
type PeopleImported struct {
	New      int `json:"new"`
	Changed  int `json:"changed"`
	Returned int `json:"returned"`
	Departed int `json:"departed"`
}

func (PeopleImported) Kind() Kind { return "people.import" }
func (f PeopleImported) did(Who, string) string {
	var parts []string
	for _, p := range []struct {
		n    int
		what string
	}{{f.New, "new"}, {f.Changed, "changed"}, {f.Returned, "returned"}, {f.Departed, "departed"}} {
		if p.n > 0 {
			parts = append(parts, fmt.Sprintf("%d %s", p.n, p.what))
		}
	}
	if len(parts) == 0 {
		return "imported a file of people"
	}
	return "imported a file of people: " + strings.Join(parts, ", ")
}
func (PeopleImported) undo() Undo {
	return cannot("Import a file with what the entries had before; each person's history says what changed.")
}

// PasswordLinkSent: somebody was mailed a link by which they choose a password.
type PasswordLinkSent struct {
	Of Who `json:"of"`
}

func (PasswordLinkSent) Kind() Kind { return "person.password_link" }
func (f PasswordLinkSent) did(Who, string) string {
	return fmt.Sprintf("mailed %s a link to choose a password", f.Of)
}
func (PasswordLinkSent) undo() Undo {
	return cannot("The link ends by itself, and with the next password.")
}

// SecondFactorOn: somebody proves themselves by a second factor from now on.
type SecondFactorOn struct{}

func (SecondFactorOn) Kind() Kind             { return "person.factor_on" }
func (SecondFactorOn) did(Who, string) string { return "set up a second factor" }
func (SecondFactorOn) undo() Undo {
	return cannot("They can turn it off themselves, and administrators for them.")
}

// SecondFactorOff: somebody's second factor was turned off, by themselves or by somebody else.
type SecondFactorOff struct {
	Of Who `json:"of"`
}

func (SecondFactorOff) Kind() Kind { return "person.factor_off" }
func (f SecondFactorOff) did(by Who, _ string) string {
	if f.Of == by {
		return "turned the second factor off"
	}
	return "turned the second factor of " + f.Of.String() + " off"
}
func (SecondFactorOff) undo() Undo { return cannot("Its secret is not kept. They can set up another.") }

// ProtectionChanged: what protects the workspace.
type ProtectionChanged struct {
	Before
	Changed []Change `json:"changes"`
}

func (ProtectionChanged) Kind() Kind { return "protection.change" }
func (f ProtectionChanged) did(Who, string) string {
	return "changed what protects the workspace: " + told(f.Changed)
}
func (f ProtectionChanged) changes() []Change { return f.Changed }
func (f ProtectionChanged) undo() Undo        { return f.back("Set it to what it was.") }

// OutsideChanged: what the workspace says of external members.
type OutsideChanged struct {
	Before
	Changed []Change `json:"changes"`
}

func (OutsideChanged) Kind() Kind { return "outside.change" }
func (f OutsideChanged) did(Who, string) string {
	return "changed what the workspace says of external members: " + told(f.Changed)
}
func (f OutsideChanged) changes() []Change { return f.Changed }
func (f OutsideChanged) undo() Undo        { return f.back("Set it to what it was.") }

// PublicChanged: what the workspace shows on the internet.
type PublicChanged struct {
	Before
	Changed []Change `json:"changes"`
}

func (PublicChanged) Kind() Kind { return "public.change" }
func (f PublicChanged) did(Who, string) string {
	return "changed what the workspace shows on the internet: " + told(f.Changed)
}
func (f PublicChanged) changes() []Change { return f.Changed }
func (f PublicChanged) undo() Undo        { return f.back("Set it to what it was.") }

// AreasChanged: which groups are handed to helpers.
type AreasChanged struct {
	Before
	From []string `json:"from,omitempty"` // each in words
	To   []string `json:"to,omitempty"`
}

func (AreasChanged) Kind() Kind { return "areas.change" }
func (f AreasChanged) did(Who, string) string {
	return "changed which groups are handed to helpers"
}
func (f AreasChanged) changes() []Change {
	return []Change{{Field: "areas", From: strings.Join(f.From, "; "), To: strings.Join(f.To, "; ")}}
}
func (f AreasChanged) undo() Undo { return f.back("Set the areas to what they were.") }

// KeepingChanged: for how long the history is kept, and who gets its seals.
type KeepingChanged struct {
	Before
	Changed []Change `json:"changes"`
	Effect  string   `json:"effect,omitempty"`
}

func (KeepingChanged) Kind() Kind { return "history.keep" }
func (f KeepingChanged) did(Who, string) string {
	return "changed how the history is kept: " + told(f.Changed) + because(f.Effect)
}
func (f KeepingChanged) changes() []Change { return f.Changed }
func (f KeepingChanged) undo() Undo {
	return f.back("Set it to what it was. What was forgotten stays so.")
}

// HistoryForgotten: the oldest entries of the history were deleted, since they are kept no longer. What is left of them is the seal of the last
// one, by which the chain goes on.
type HistoryForgotten struct {
	Entries int    `json:"entries"` // with this
	Before  string `json:"before"`  // the day before which they were made
	Place   int64  `json:"place"`   // in the chain, of the last one
	Seal    string `json:"seal"`    // of it, in hexadecimal
}

func (HistoryForgotten) Kind() Kind { return "history.forget" }
func (f HistoryForgotten) did(Who, string) string {
	return fmt.Sprintf("forgot %s of the history from before %s: the chain begins after place %d", number.Of(f.Entries, "entry"), day(f.Before), f.Place)
}
func (HistoryForgotten) undo() Undo {
	return cannot("What was forgotten is not kept anywhere but in back-ups.")
}

// BudgetSpent: somebody wanted to do more than anybody may in a day.
type BudgetSpent struct {
	Budget string `json:"budget"`
	Most   int    `json:"most"`
}

func (BudgetSpent) Kind() Kind { return "budget.spent" }
func (f BudgetSpent) did(Who, string) string {
	return fmt.Sprintf("used up a day's budget of %d %s, and was refused more", f.Most, f.Budget)
}
func (BudgetSpent) undo() Undo { return cannot("Nothing was changed. A budget can be made larger.") }

// PasswordChanged: somebody chose a password.
type PasswordChanged struct{}

func (PasswordChanged) Kind() Kind             { return "person.password" }
func (PasswordChanged) did(Who, string) string { return "chose a new password" }
func (PasswordChanged) undo() Undo {
	return cannot("The old password is not kept. Choose another one.")
}

// TokenCreated: somebody made a token for scripts.
type TokenCreated struct {
	Name  string `json:"name"`
	Until string `json:"until,omitempty"`
}

func (TokenCreated) Kind() Kind { return "token.create" }
func (f TokenCreated) did(Who, string) string {
	if f.Until == "" {
		return fmt.Sprintf("made the token %q", f.Name)
	}
	return fmt.Sprintf("made the token %q, good until %s", f.Name, day(f.Until))
}
func (TokenCreated) undo() Undo {
	return cannot("Whoever made it can revoke it, on their account page.")
}

// TokenRevoked: a token can no longer be used.
type TokenRevoked struct {
	Name string `json:"name"`
}

func (TokenRevoked) Kind() Kind               { return "token.revoke" }
func (f TokenRevoked) did(Who, string) string { return fmt.Sprintf("revoked the token %q", f.Name) }
func (TokenRevoked) undo() Undo               { return cannot("Its secret is not kept. Make another token.") }

// ViewSaved: a filter was kept under a name, or changed.
type ViewSaved struct {
	Before
	Name   string `json:"name"`
	List   string `json:"list"`
	Filter string `json:"filter,omitempty"`
	Was    string `json:"was,omitempty"` // the filter before; "" for a new view
	Shared bool   `json:"shared,omitempty"`
	ID     string `json:"id,omitempty"`
}

func (ViewSaved) Kind() Kind { return "view.save" }
func (f ViewSaved) did(Who, string) string {
	whose := ""
	if f.Shared {
		whose = " for all administrators"
	}
	return fmt.Sprintf("kept the view %s of %s%s", f.Name, f.List, whose) + because(f.Filter)
}
func (f ViewSaved) changes() []Change {
	if f.Was == f.Filter {
		return nil
	}
	return []Change{{Field: "filter", From: f.Was, To: f.Filter}}
}
func (f ViewSaved) undo() Undo {
	if f.Before.Before == nil {
		return f.back("Delete the view.")
	}
	return f.back("Save it as it was.")
}

// ViewDeleted: one was deleted.
type ViewDeleted struct {
	Before
	Name   string `json:"name"`
	List   string `json:"list"`
	Filter string `json:"filter,omitempty"`
}

func (ViewDeleted) Kind() Kind { return "view.delete" }
func (f ViewDeleted) did(Who, string) string {
	return fmt.Sprintf("deleted the view %s of %s", f.Name, f.List)
}
func (f ViewDeleted) undo() Undo { return f.back("Save it again.") }

// DomainAdded: another mail domain of the workspace.
type DomainAdded struct {
	Domain string `json:"domain"`
}

func (DomainAdded) Kind() Kind               { return "domain.add" }
func (f DomainAdded) did(Who, string) string { return "added the mail domain " + f.Domain }
func (DomainAdded) undo() Undo               { return can("Retire the domain.") }

// DomainLeads: another mail domain is the main one.
type DomainLeads struct {
	Domain string `json:"domain"`
	Before string `json:"before"`
}

func (DomainLeads) Kind() Kind { return "domain.main" }
func (f DomainLeads) did(Who, string) string {
	return fmt.Sprintf("made %s the main mail domain in place of %s", f.Domain, f.Before)
}
func (DomainLeads) undo() Undo { return can("Make the other domain the main one.") }

// DomainRetired: a mail domain in which nothing lay any more.
type DomainRetired struct {
	Domain string `json:"domain"`
}

func (DomainRetired) Kind() Kind               { return "domain.retire" }
func (f DomainRetired) did(Who, string) string { return "retired the mail domain " + f.Domain }
func (DomainRetired) undo() Undo               { return can("Add the domain again.") }

// AttributeDeclared: an attribute of people that the organisation keeps of its own.
type AttributeDeclared struct {
	Name string `json:"name"`
	Of   string `json:"of"` // its kind
}

func (AttributeDeclared) Kind() Kind { return "attribute.declare" }
func (f AttributeDeclared) did(Who, string) string {
	return fmt.Sprintf("declared the attribute %s of people, a %s", f.Name, f.Of)
}
func (AttributeDeclared) undo() Undo { return can("Delete the attribute.") }

// AttributeChanged: what is said of an attribute.
type AttributeChanged struct {
	Name    string   `json:"name"`
	Changed []Change `json:"changes"`
}

func (AttributeChanged) Kind() Kind { return "attribute.change" }
func (f AttributeChanged) did(Who, string) string {
	return fmt.Sprintf("changed the attribute %s of people: %s", f.Name, told(f.Changed))
}
func (f AttributeChanged) changes() []Change { return f.Changed }
func (AttributeChanged) undo() Undo {
	return can("Set it to what it was, unless it was changed since.")
}

// AttributeDeleted: an attribute is no longer kept.
type AttributeDeleted struct {
	Name   string `json:"name"`
	People int    `json:"people"` // who had a value
}

func (AttributeDeleted) Kind() Kind { return "attribute.delete" }
func (f AttributeDeleted) did(Who, string) string {
	return fmt.Sprintf("deleted the attribute %s of people, in which %d had a value", f.Name, f.People)
}
func (AttributeDeleted) undo() Undo {
	return cannot("What people had in it is lost. It can be declared again, and filled in by an import.")
}

// KeyMade: a key was made that mail in the name of a domain can be signed with.
type KeyMade struct {
	Domain   string `json:"domain"`
	Selector string `json:"selector"`
}

func (KeyMade) Kind() Kind { return "key.make" }
func (f KeyMade) did(Who, string) string {
	return fmt.Sprintf("made the key %s for mail of %s", f.Selector, f.Domain)
}
func (KeyMade) undo() Undo { return cannot("Delete the key, as long as it is not used.") }

// KeyUsed: mail in the name of a domain is signed with another key.
type KeyUsed struct {
	Domain   string `json:"domain"`
	Selector string `json:"selector"`
	Before   string `json:"before,omitempty"`
}

func (KeyUsed) Kind() Kind { return "key.use" }
func (f KeyUsed) did(Who, string) string {
	out := fmt.Sprintf("had mail of %s signed with the key %s", f.Domain, f.Selector)
	if f.Before != "" {
		out += ", before with " + f.Before
	}
	return out
}
func (KeyUsed) undo() Undo {
	return cannot("Use the key that was used before, as long as it is there.")
}

// KeyDeleted: a key is gone that mail in the name of a domain could be signed with.
type KeyDeleted struct {
	Domain   string `json:"domain"`
	Selector string `json:"selector"`
}

func (KeyDeleted) Kind() Kind { return "key.delete" }
func (f KeyDeleted) did(Who, string) string {
	return fmt.Sprintf("deleted the key %s for mail of %s", f.Selector, f.Domain)
}
func (KeyDeleted) undo() Undo { return cannot("A key that is gone can't come back. Make another one.") }
