package admission

import (
	"fmt"
	"strings"

	"ivytable.example/ivytable/internal/core/expand"
	"ivytable.example/ivytable/internal/core/policy"
)

// Way is how somebody comes into a group.
type Way uint8

// The ways in.
const (
	Joining    Way = iota // by themselves, in the directory
	Approving             // by a request that somebody approves
	Adding                // put in by somebody who may add people; put back too
	Inviting              // asked by somebody who may add people
	Accepting             // by an invitation
	ByLink                // by a link that somebody gave out
	ByRule                // because of the group's rule
	HandedOver            // made an owner in place of somebody who left
)

// oneself reports whether people come that way of their own will, so that words speak
// to them.
func (w Way) oneself() bool { return w == Joining || w == Accepting || w == ByLink }

// Kind is what a candidate is.
type Kind uint8

// The kinds.
const (
	Person   Kind = iota // of the workspace
	Outsider             // an address outside it
	Group
)

// Door is the group that is to be entered or left.
type Door struct {
	Name    string
	Owners  string // the address of its owners
	Ended   bool
	Policy  *policy.Policy
	Outside *Outside // nil: every address may be taken
	Public  bool     // the workspace has public pages, on which those outside it join
}

// Candidate is who, or which group, would come in.
type Candidate struct {
	Name, Address string
	Kind          Kind
	Departed      bool // has left the organisation
	Override      policy.Override
	In            bool // is in it already, by a membership of its own

	// Of a group:
	Ended     bool
	Agrees    bool     // whoever puts it in may change it, so its side agrees
	Externals bool     // it brings people from outside, as far as whoever puts it in may know
	Itself    bool     // it is the group that would be entered
	Path      []string // names of the groups by which the door is inside the candidate
	Depth     int      // groups on the longest way through both
}

// As says in what role somebody comes in, and who answers for it.
type As struct {
	Role  expand.Role
	Staff bool // an owner of the group or an administrator lets them in
	Alone bool // a group may come in without the people from outside whom it brings, where none are taken
	Other bool // it is somebody else who is told, so that words don't speak to the candidate

	Founding bool // the group is being created by a delegated administrator
	Free     bool // the group is being created where everybody may create and own groups
}

// Outcome is what a verdict comes to.
type Outcome uint8

// The outcomes.
const (
	Refused Outcome = iota
	Admitted
	Asked   // whoever runs the group decides; of a group that would be nested, whoever runs that one
	Already // it is so; nothing changes
)

// Verdict is what happens, and why.
type Verdict struct {
	Outcome Outcome
	Status  string // who the candidate is, or what stands in the way: new, external, group, asked, already, departed, barred, closed, ended, refused, rule, last_owner, pages
	Says    string // why not; "" for who is admitted
}

// Told puts a verdict about coming in, or going, as policy puts decisions: who has to ask is held. of
// is the setting that it goes by.
func (v Verdict) Told(d Door, of policy.Setting) policy.Told {
	about := d.Policy.About(of)
	switch v.Outcome {
	case Admitted:
		return policy.Tell(policy.Allow, of.String(), about, "")
	case Asked:
		if v.Status == "asked" {
			return policy.Tell(policy.Hold, "nesting", v.Says, "Agree to it, as one of its owners.")
		}
		return policy.Tell(policy.Hold, of.String(), about, "Approve the request.")
	}
	rule, mend := v.Status, ""
	switch v.Status {
	case "ended":
		rule, mend = "state", "Restore the group."
	case "barred":
		rule, mend = "person.barred", "Lift the bar."
	case "departed":
		rule, mend = "person.departed", "Mark the person as back, if they are."
	case "closed":
		rule, mend = of.String(), "Let one of its owners do it, or change "+of.String()+"."
	case "external":
		rule, mend = policy.Externals.String(), "Put an address of the workspace in, or change what the group says of external members."
	case "pages":
		mend = "Switch public pages on, in the rules of the workspace."
	case "rule":
		mend = "Change the rule, or bar the person."
	case "last_owner":
		mend = "Make somebody else an owner first."
	case "group":
		rule = "nesting"
	case "refused":
		rule = of.String()
	}
	return policy.Tell(policy.Refuse, rule, v.Says, mend)
}

func no(status, format string, args ...any) Verdict {
	return Verdict{Refused, status, fmt.Sprintf(format, args...)}
}

// In decides whether a candidate comes into a group. The first of these that applies
// settles it:
//
//  1. a group that has ended takes nobody;
//  2. who is in it already stays as they are;
//  3. who is barred stays out, whatever let them in;
//  4. who has left the organisation stays out;
//  5. what a group, or an outsider, can't be;
//  6. a role above member is given by staff alone;
//  7. who comes by themselves needs to be in the audience of the join rule, and asks
//     where it says so.
func In(way Way, d Door, c Candidate, as As) Verdict {
	oneself := way.oneself() && !as.Other
	switch {
	case d.Ended:
		return no("ended", "%s has ended. Restore it first.", d.Name)
	case c.In && oneself:
		return Verdict{Already, "already", fmt.Sprintf("You are in %s already.", d.Name)}
	case c.In:
		return Verdict{Already, "already", "Is in the group already; nothing was changed."}
	case c.Override == policy.Barred && oneself:
		return no("barred", "You can't join %s: you are barred from it.", d.Name)
	case c.Override == policy.Barred:
		return no("barred", "%s is barred from this group. Lift the bar first.", c.Address)
	case c.Departed && way == Accepting:
		return no("departed", "%s is marked as having left the organisation, so can't join %s. An administrator can mark them as back.", c.Address, d.Name)
	case c.Departed:
		return no("departed", "%s has left the organisation.", c.Name)
	case c.Kind == Group:
		return nest(way, d, c, as)
	case c.Kind == Outsider:
		return outside(way, d, c, as)
	case as.Role > expand.Member && !as.Staff && way != Accepting:
		return no("refused", "Only owners and administrators may make somebody %s.", Article(as.Role))
	case way == Joining && !d.Policy[policy.JoinAudience].Includes(policy.Workspace) && as.Other:
		return no("closed", "%s takes people by invitation only.", d.Name)
	case way == Joining && !d.Policy[policy.JoinAudience].Includes(policy.Workspace):
		return no("closed", "%s takes people by invitation only. You can write to its owners at %s.", d.Name, d.Owners)
	case way == Joining && d.Policy[policy.JoinHow] == policy.Asking:
		return Verdict{Asked, "new", ""}
	}
	return Verdict{Admitted, "new", ""}
}

func nest(way Way, d Door, c Candidate, as As) Verdict {
	switch {
	case way == Inviting:
		return no("group", "A group can't be invited. Put it in directly.")
	case as.Role > expand.Member:
		return no("group", "A group can be in a group as a member only.")
	case c.Ended:
		return no("group", "The group %s has ended.", c.Name)
	case c.Itself:
		return no("group", "A group can't be in itself.")
	case len(c.Path) > 0:
		return no("group", "%s is inside %s already (%s): the two would contain each other.", d.Name, c.Name, strings.Join(c.Path, " › "))
	case c.Depth > expand.MaxDepth:
		return no("group", "Groups can be nested %d deep at most, and this would go deeper.", expand.MaxDepth)
	case c.Externals && !as.Alone && d.Policy[policy.Externals] == policy.ExternalsBarred:
		return no("external", "%s has external members, and %s takes none. Nest it without them, or change that in the policy first.", c.Name, d.Name)
	case c.Externals && d.Policy[policy.Externals] == policy.ExternalsByOwners && !as.Staff:
		return no("external", "%s has external members, and only owners and administrators may bring those into %s.", c.Name, d.Name)
	case way != Approving && !c.Agrees:
		return Verdict{Asked, "asked", fmt.Sprintf("Its owners are asked. It comes in when they agree that %s may have it.", d.Name)}
	}
	return Verdict{Admitted, "group", ""}
}

func outside(way Way, d Door, c Candidate, as As) Verdict {
	externals := d.Policy[policy.Externals]
	why := ""
	if d.Outside != nil {
		why = d.Outside.Refuses(c.Address)
	}
	switch {
	case why != "":
		return Verdict{Refused, "external", why}
	case as.Role > expand.Member:
		return no("external", "An address outside the workspace can't be %s: it has no account here.", Article(as.Role))
	case way == Joining:
		return knock(d)
	case externals == policy.ExternalsBarred && way == Accepting:
		return no("external", "%s no longer takes people from outside. Write to its owners at %s.", d.Name, d.Owners)
	case externals == policy.ExternalsBarred:
		return no("external", "This group takes no external members. Change that in its policy first.")
	case externals == policy.ExternalsByOwners && !as.Staff && way != Accepting:
		return no("external", "Only owners and administrators may add external members to this group.")
	case way == ByLink || way == ByRule || way == HandedOver:
		return no("external", "An address outside the workspace has no account here.")
	}
	return Verdict{Admitted, "external", ""}
}

// knock decides about an outsider who comes by themselves, with an address that is proven. Where owners
// alone bring external members, they are asked, also where colleagues come in freely.
func knock(d Door) Verdict {
	p := d.Policy
	switch {
	case p[policy.Externals] == policy.ExternalsBarred:
		return no("external", "This group takes no external members. Change that in its policy first.")
	case !d.Public:
		return no("pages", "The workspace has no public pages, so nobody outside it can join a group by themselves.")
	case !p[policy.JoinAudience].Includes(policy.Anyone):
		return no("closed", "%s takes nobody from outside who comes by themselves. Its owners can be written to at %s.", d.Name, d.Owners)
	case p[policy.JoinHow] == policy.Asking || p[policy.Externals] == policy.ExternalsByOwners:
		return Verdict{Asked, "new", ""}
	}
	return Verdict{Admitted, "external", ""}
}

// Exit is how somebody goes out of a group.
type Exit uint8

// The ways out.
const (
	Leaving  Exit = iota // by themselves
	LetGo                // by a request that somebody approves
	Removing             // taken out by staff
	Barring              // barred, and so taken out
	RuleEnds             // no longer matches the group's rule
	Ending               // the membership had an end
)

// Member is who would go, or change their role.
type Member struct {
	Name      string
	Kind      Kind
	Role      expand.Role // 0: not in it
	Through   bool        // in it through a nested group alone
	ByRule    bool        // in it because of its rule
	LastOwner bool        // nobody else owns it who is here
	Staff     bool        // an owner of it or an administrator: the setting about leaving does not bind them
	Other     bool        // it is somebody else who is told, so that words don't speak to the member
}

// Out decides whether somebody goes out of a group.
func Out(exit Exit, d Door, m Member) Verdict {
	oneself := exit == Leaving
	switch {
	case m.Role == 0 && oneself && m.Through && m.Other:
		return no("refused", "%s is in %s through a group that is nested in it.", m.Name, d.Name)
	case m.Role == 0 && oneself && m.Through:
		return no("refused", "You are in %s through a group that is nested in it. Leave that one.", d.Name)
	case m.Role == 0 && oneself && !m.Other:
		return no("refused", "You are not in %s.", d.Name)
	case m.Role == 0:
		return no("refused", "%s is not in %s.", m.Name, d.Name)
	case m.LastOwner && exit != RuleEnds:
		return no("last_owner", "%s is the last owner of %s. Make somebody else an owner first.", m.Name, d.Name)
	case oneself && !m.Staff && d.Policy[policy.Leaving] == policy.LeaveFixed:
		return no("closed", "The members of %s are fixed: nobody leaves by themselves.", d.Name)
	case m.ByRule && oneself && m.Other:
		return no("rule", "%s is in %s by its rule.", m.Name, d.Name)
	case m.ByRule && oneself:
		return no("rule", "You are in %s by its rule. Write to its owners at %s: they can let you go.", d.Name, d.Owners)
	case m.ByRule && (exit == Removing || exit == LetGo || exit == Ending): // a bar goes before the rule
		return no("rule", "%s is in %s by its rule. Change the rule, or bar the person.", m.Name, d.Name)
	case oneself && !m.Staff && d.Policy[policy.Leaving] == policy.LeaveAsking:
		return Verdict{Asked, "new", fmt.Sprintf("You can't leave %s by yourself. Ask its owners to let you go.", d.Name)}
	}
	return Verdict{Outcome: Admitted}
}

// Role decides whether a member may have another role.
func Role(d Door, m Member, to expand.Role) Verdict {
	switch {
	case m.Role == to:
		return Verdict{Already, "already", "Is so already; nothing was changed."}
	case to > expand.Member && m.Kind == Group:
		return no("group", "A group can be in a group as a member only.")
	case to > expand.Member && m.Kind == Outsider:
		return no("external", "An address outside the workspace can't be %s: it has no account here.", Article(to))
	case m.LastOwner && to != expand.Owner:
		return no("last_owner", "%s is the last owner of %s. Make somebody else an owner first.", m.Name, d.Name)
	}
	return Verdict{Outcome: Admitted}
}

// Article names a role in a sentence: "an owner", "a moderator".
func Article(r expand.Role) string {
	if r == expand.Owner {
		return "an owner"
	}
	return "a " + r.String()
}
