package workspace

import (
	"strings"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/core/access"
	"ivytable.example/ivytable/internal/core/event"
	"ivytable.example/ivytable/internal/store"
)

// Actor is who does something, and by which way. The zero value is nobody.
type Actor struct {
	Person     store.Person
	Credential uuid.UUID // the session or token
	Via        string    // console, api, smtp, service, link
	RequestID  string
	Source     string // the network address that they come from

	Scopes      access.Scopes // of a token: what it is good for; nil: no token
	LacksFactor bool          // the workspace asks for a second factor, and they have none
	Part        uuid.UUID     // with a value: what is done is part of this change
	Undoes      int64         // the entry of the history that is taken back; 0: none
	Key         string        // of the client's, which makes a repeat of the same request harmless

	Preview bool         // nothing is kept: the change is only looked at
	Report  *api.Preview // with a value, what the change does is written here
}

// Service is the actor of what happens by itself, such as a lapse.
var Service = Actor{Via: "service"}

// Previewing returns the actor for a look at a change, and where what it does is
// written.
func (a Actor) Previewing() (Actor, *api.Preview) {
	a.Preview, a.Report = true, newReport()
	return a, a.Report
}

func newReport() *api.Preview {
	return &api.Preview{Effects: []api.Effect{}, Problems: []api.Problem{}, Warnings: []api.Fault{}, Sample: []api.Line{}}
}

// Subject is the actor as permission sees them.
func (a Actor) Subject() access.Subject {
	return access.Subject{SignedIn: a.SignedIn() == nil, Role: access.Role(a.Person.WorkspaceRole)}
}

// Cover checks that the actor's token, where they came with one, is good for a scope.
func (a Actor) Cover(need string) error {
	if a.Scopes == nil || a.Scopes.Cover(access.Scope(need)) {
		return nil
	}
	return Fail(NotAllowed, "This token is good for %s; this needs one for %s.", strings.Join(a.Scopes.Names(), ", "), need)
}

// ByHand checks that the actor signed in: roles in the workspace, delegations, passwords, second factors, tokens, and the addresses of
// people who have such roles are never changed by a token. It may look at such a change.
func (a Actor) ByHand() error {
	if a.Scopes == nil || a.Preview {
		return nil
	}
	says := "A token can't do this: roles, delegations, password links, second factors, tokens and the addresses of people who have roles are changed by people. Sign in with your password."
	return &Error{Kind: NotAllowed, Says: says, Problems: []api.Problem{{Field: "session", Says: says}}} // by which a program knows to ask for the password
}

// Administers reports whether the actor answers for every group.
func (a Actor) Administers() bool { return a.Subject().Administers() }

// Is reports whether who, an identifier or an address, names the actor.
func (a Actor) Is(who string) bool {
	return strings.EqualFold(who, a.Person.Address) || who == a.Person.ID.String()
}

// Name is how an actor is called in a letter.
func (a Actor) Name() string {
	if a.Person.Name == "" {
		return "The service"
	}
	return a.Person.Name
}

// String is how an actor is noted beside what they did: their address.
func (a Actor) String() string {
	if a.Person.Address == "" {
		return "the service"
	}
	return a.Person.Address
}

// Who is a person as the history names them.
func Who(p store.Person) event.Who {
	if p.Name == p.Address {
		return event.Who{Address: p.Address}
	}
	return event.Who{Name: p.Name, Address: p.Address}
}

// WhoGroup is a group as the history names it.
func WhoGroup(g *store.Group) event.Who { return event.Who{Name: g.Name, Address: g.Address} }
