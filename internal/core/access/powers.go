package access

import (
	"slices"
	"strings"
)

// Powers are what somebody may do with the groups of an area as its helper, beside what each group's policy
// lets them. The zero value is nobody's helper.
type Powers uint8

// The powers. Who has any finds the groups of the area, sees who is in them, and reads their history.
const (
	helps Powers = 1 << iota
	PowerPeople
	PowerChange
	PowerPolicy
	PowerLife
	PowerPosts
	PowerCreate
	PowerOwners
)

// Power is one of the list of powers.
type Power struct {
	Name    string
	Says    string // what helpers may do by it
	bit     Powers
	actions []Action
}

var powers = []Power{
	{"people", "Add and remove members and moderators, decide about requests, links, exceptions and membership rules", PowerPeople, changingPeople},
	{"owners", "Appoint and remove owners, beside what people lets; never oneself or another delegated administrator", PowerOwners, changingPeople},
	{"change", "Change names, addresses and texts", PowerChange, []Action{ChangeGroup}},
	{"policy", "Change policies, within the ceilings", PowerPolicy, []Action{ChangePolicy}},
	{"life", "Renew groups, retire and restore them", PowerLife, []Action{RenewGroup, RetireGroup, RestoreGroup}},
	{"posts", "Decide about posts that wait", PowerPosts, []Action{DecidePosts}},
	{"create", "Create groups in the area", PowerCreate, nil},
}

var changingPeople = []Action{AddPeople, ChangePeople, SeeDeparted, DecideRequests, ManageLinks, SetOverrides, ChangeRule}

var helping = []Action{ReadGroup, OwnPart, SeePeople, ReadHistory, Rehearse}

// ListPowers returns the powers, in the order in which they are shown.
func ListPowers() []Power { return slices.Clone(powers) }

// ParsePowers reads the names of powers; unknown is the first that is none.
func ParsePowers(names []string) (p Powers, unknown string) {
	p = helps
	for _, name := range names {
		i := slices.IndexFunc(powers, func(x Power) bool { return x.Name == name })
		if i < 0 {
			return p, name
		}
		p |= powers[i].bit
	}
	return p, ""
}

// Names returns what ParsePowers read.
func (p Powers) Names() []string {
	out := []string{}
	for _, x := range powers {
		if p&x.bit != 0 {
			out = append(out, x.Name)
		}
	}
	return out
}

// String lists the names.
func (p Powers) String() string { return strings.Join(p.Names(), ", ") }

// Cover reports whether a helper with the powers may do something to a group of the area.
func (p Powers) Cover(do Action) bool {
	if p == 0 {
		return false
	}
	return slices.Contains(helping, do) || slices.ContainsFunc(powers, func(x Power) bool { return p&x.bit != 0 && slices.Contains(x.actions, do) })
}
