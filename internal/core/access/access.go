// Package access decides who may do what: with a group, and with the workspace.
//
// A question is put in three values: who asks ([Subject]), where they stand with the
// group ([Relation]), and what the group's policy answers. [Subject.May] is the whole
// of permission; the table beside it says it for every [Action], and an action that is
// not in the table is nobody's.
//
// What somebody may not find must be answered as what is not there; that is for
// whoever asks to see to.
package access

import (
	"ivytable.example/ivytable/internal/core/expand"
	"ivytable.example/ivytable/internal/core/policy"
)

// Role is somebody's role in the workspace, "" for most people.
type Role string

// The roles in the workspace.
const (
	Administrator Role = "administrator"
	Auditor       Role = "auditor"
)

// Subject is who asks. The zero value is nobody.
type Subject struct {
	SignedIn bool // and of the workspace, and here
	Role     Role
	Visitor  bool // is not signed in, and the workspace has public pages
}

// Administers reports whether the subject answers for every group.
func (s Subject) Administers() bool { return s.SignedIn && s.Role == Administrator }

// ReadsAll reports whether the subject finds every group and sees who is in it.
func (s Subject) ReadsAll() bool {
	return s.SignedIn && (s.Role == Administrator || s.Role == Auditor)
}

// Relation is where somebody stands with a group.
type Relation struct {
	Role   expand.Role     // their own role in it, 0 for none
	Rung   policy.Audience // the narrowest audience that includes them
	Powers Powers          // as a helper of an area that the group is in
}

// RelationOf returns where somebody stands who has a role of their own in a group, 0
// for none, is in it through a nested group or not, and is of the workspace or not.
func RelationOf(own expand.Role, inside, outsider bool) Relation {
	switch {
	case own == expand.Owner:
		return Relation{Role: own, Rung: policy.Owners}
	case own == expand.Moderator:
		return Relation{Role: own, Rung: policy.Moderators}
	case own == expand.Member, inside:
		return Relation{Role: own, Rung: policy.Members}
	case outsider:
		return Relation{Rung: policy.Anyone}
	}
	return Relation{Rung: policy.Workspace}
}

// Action is something that needs permission. Its text is its name in the API.
type Action string

// What can be done to a group.
const (
	ReadGroup      Action = "read"
	OwnPart        Action = "own_part" // leaving, and how its mail reaches oneself: whoever is in it, whether they can find it or not
	SeePeople      Action = "see_people"
	SeeDeparted    Action = "see_departed" // who in it has left the organisation
	AddPeople      Action = "add_people"
	ChangePeople   Action = "change_people"
	ChangeGroup    Action = "change"
	ChangePolicy   Action = "policy"
	ChangeTerm     Action = "term"
	HoldGroup      Action = "hold"
	RenewGroup     Action = "renew"
	RetireGroup    Action = "retire"
	RestoreGroup   Action = "restore"
	DecidePosts    Action = "decide_posts"
	DecideRequests Action = "decide_requests"
	ManageLinks    Action = "join_links"
	SetOverrides   Action = "overrides"
	ChangeRule     Action = "rule"
	ReadHistory    Action = "history"
	Rehearse       Action = "rehearse"
)

// What can be done to the workspace.
const (
	CreateGroup          Action = "create_group"
	SearchPeople         Action = "search_people"
	ReadTerms            Action = "read_terms"
	ChangeTerms          Action = "change_terms"
	ReadWorkspaceHistory Action = "read_workspace_history"
	ChangeKeeping        Action = "change_history_keeping"
	ReadNaming           Action = "read_naming"
	ChangeNaming         Action = "change_naming"
	ReadStartingPoints   Action = "read_starting_points"
	ChangeStartingPoints Action = "change_starting_points"
	ReadDeparted         Action = "read_departed"
	ChangeDirectory      Action = "change_directory"
	AddEverybody         Action = "add_everybody"
	ReadNestings         Action = "read_nestings"
	ReadOutside          Action = "read_external_rules"
	ChangeOutside        Action = "change_external_rules"
	ReadAreas            Action = "read_areas"
	ChangeAreas          Action = "change_areas"
	ReadPublic           Action = "read_public_pages"
	ChangePublic         Action = "change_public_pages"
	ReadProtection       Action = "read_protection"
	ChangeProtection     Action = "change_protection"
	ShareViews           Action = "share_views"
	ChangeAttributes     Action = "change_attributes"
	ReadDomains          Action = "read_domains"
	ChangeDomains        Action = "change_domains"
	ReadMany             Action = "read_many"
	ReadReach            Action = "read_reach"
	ReadCeilings         Action = "read_ceilings"
	ChangeCeilings       Action = "change_ceilings"
	ChangeMany           Action = "change_many"
	ReadReview           Action = "read_review"
	ChangeReview         Action = "change_review"
	CheckRecords         Action = "check_records"
	RepairRecords        Action = "repair_records"
)

// permit says who may do something. Administrators may do everything.
type permit struct {
	action   Action
	auditor  bool            // auditors may
	everyone bool            // everybody who is signed in may
	creators bool            // those may whom the workspace lets create groups
	rung     policy.Audience // of a group: this audience of it may
	ask      policy.Setting  // of a group: the audience may that its policy names; where asks
	asks     bool
	member   bool   // of a group: whoever has a role of their own in it may, whatever its policy answers
	public   bool   // of a group: where anyone may, visitors may too
	implied  bool   // of a group: it is not named among what somebody may do to it
	refusal  string // why not, for those who may not
}

var onGroup = []permit{
	{action: ReadGroup, auditor: true, asks: true, ask: policy.Find, public: true, implied: true},
	{action: OwnPart, auditor: true, asks: true, ask: policy.Find, member: true, implied: true},
	{action: SeeDeparted, auditor: true, rung: policy.Owners, implied: true, refusal: "Only its owners, administrators and auditors see who in it has left."},
	{action: SeePeople, auditor: true, asks: true, ask: policy.SeePeople, public: true, refusal: "This group does not show you who is in it."},
	{action: AddPeople, asks: true, ask: policy.AddPeople, refusal: "This group does not let you add people."},
	{action: ChangePeople, rung: policy.Owners, refusal: "Only its owners and administrators may change roles or remove people."},
	{action: ChangeGroup, rung: policy.Owners, refusal: "Only its owners and administrators may change this group."},
	{action: ChangePolicy, rung: policy.Owners, refusal: "Only its owners and administrators may change its policy."},
	{action: ChangeTerm, refusal: "Only administrators may exempt a group from the term rules."},
	{action: HoldGroup, refusal: "Only administrators may put a group under hold, or release it."},
	{action: RenewGroup, rung: policy.Owners, refusal: "Only its owners and administrators may renew this group."},
	{action: RetireGroup, rung: policy.Owners, refusal: "Only its owners and administrators may retire this group."},
	{action: RestoreGroup, rung: policy.Owners, refusal: "Only its owners and administrators may restore this group."},
	{action: DecidePosts, rung: policy.Moderators, refusal: "Only its owners, moderators and administrators decide about waiting posts."},
	{action: DecideRequests, rung: policy.Moderators, refusal: "Only its owners, moderators and administrators decide about requests."},
	{action: ManageLinks, rung: policy.Moderators, refusal: "Only its owners, moderators and administrators give out links and invitations."},
	{action: SetOverrides, rung: policy.Moderators, refusal: "Only its owners, moderators and administrators bar, trust or hold people."},
	{action: ChangeRule, rung: policy.Owners, refusal: "Only its owners and administrators may change the rule of this group."},
	{action: ReadHistory, auditor: true, rung: policy.Owners, refusal: "Only its owners, administrators and auditors may read this group's history."},
	{action: Rehearse, auditor: true, rung: policy.Moderators, refusal: "Only its owners and moderators, administrators and auditors may rehearse for somebody else."},
}

var onWorkspace = []permit{
	{action: CreateGroup, creators: true, refusal: "Only administrators may create groups."},
	{action: SearchPeople, auditor: true, everyone: true},
	{action: ReadTerms, auditor: true, refusal: "Only administrators and auditors may read how long groups live."},
	{action: ChangeTerms, refusal: "Only administrators may change how long groups live."},
	{action: ReadWorkspaceHistory, auditor: true, refusal: "Only administrators and auditors may read the history of the whole workspace."},
	{action: ChangeKeeping, refusal: "Only administrators say for how long the history is kept."},
	{action: ReadNaming, auditor: true, refusal: "Only administrators and auditors may read the rules of naming."},
	{action: ChangeNaming, refusal: "Only administrators may change the rules of naming."},
	{action: ReadStartingPoints, auditor: true, everyone: true},
	{action: ChangeStartingPoints, refusal: "Only administrators may change the starting points."},
	{action: ReadDeparted, auditor: true, refusal: "Only administrators and auditors see who has left."},
	{action: ChangeDirectory, refusal: "Only administrators may change the directory of people."},
	{action: AddEverybody, refusal: "Only administrators may put everybody of the workspace into a group."},
	{action: ReadNestings, auditor: true, refusal: "Only administrators and auditors may list which groups are nested in which."},
	{action: ReadOutside, auditor: true, everyone: true},
	{action: ChangeOutside, refusal: "Only administrators may change what the workspace says of external members."},
	{action: ReadAreas, auditor: true, refusal: "Only administrators and auditors see the areas of all helpers."},
	{action: ChangeAreas, refusal: "Only administrators say who helps with which groups."},
	{action: ReadPublic, auditor: true, everyone: true},
	{action: ChangePublic, refusal: "Only administrators may change what the workspace shows on the internet."},
	{action: ReadProtection, auditor: true, refusal: "Only administrators and auditors may read what protects the workspace."},
	{action: ChangeProtection, refusal: "Only administrators may change what protects the workspace."},
	{action: ChangeAttributes, refusal: "Only administrators may say what the directory keeps of people."},
	{action: ReadDomains, auditor: true, refusal: "Only administrators and auditors see what lies in the mail domains."},
	{action: ChangeDomains, refusal: "Only administrators may change the mail domains."},
	{action: ReadMany, auditor: true, refusal: "Only administrators and auditors see changes of many groups."},
	{action: ChangeMany, refusal: "Only administrators may change many groups at once."},
	{action: ReadReview, auditor: true, refusal: "Only administrators and auditors see how the review of the whole directory goes."},
	{action: ChangeReview, refusal: "Only administrators say what the review finds, and who mends it."},
	{action: CheckRecords, auditor: true, refusal: "Only administrators and auditors may check the records of the service."},
	{action: RepairRecords, refusal: "Only administrators may repair the records of the service."},
	{action: ReadReach, auditor: true, refusal: "Only administrators and auditors see what somebody else may do in all groups."},
	{action: ReadCeilings, auditor: true, creators: true, refusal: "Only administrators, auditors and those who may create groups see the ceilings of the workspace."},
	{action: ChangeCeilings, refusal: "Only administrators may change the ceilings of the workspace."},
	{action: ShareViews, refusal: "Only administrators may keep views for all administrators."},
}

func find(all []permit, do Action) *permit {
	for i := range all {
		if all[i].action == do {
			return &all[i]
		}
	}
	return nil
}

// May reports whether somebody who stands so with a group may do something to it.
func (s Subject) May(do Action, r Relation, p *policy.Policy) bool {
	row := find(onGroup, do)
	switch {
	case row == nil:
		return false
	case !s.SignedIn: // wherever they stand: no page knows who they are
		return s.Visitor && row.public && p[row.ask].Includes(policy.Anyone)
	case s.Role == Administrator, row.auditor && s.Role == Auditor:
		return true
	case s.Role == "" && r.Powers.Cover(do), row.member && r.Role != 0:
		return true
	case row.asks:
		return p[row.ask].Includes(r.Rung)
	}
	return row.rung.Includes(r.Rung)
}

// Why is [Subject.May] in words: by which rule it is so, and what would have to change.
func (s Subject) Why(do Action, r Relation, p *policy.Policy) policy.Told {
	row := find(onGroup, do)
	switch {
	case row == nil:
		return policy.Tell(policy.Refuse, "account", do.Refusal(), "")
	case !s.SignedIn && row.public && s.Visitor:
		return p.Allows(row.ask, policy.Anyone).Told()
	case !s.SignedIn && row.public && p[row.ask].Includes(policy.Anyone):
		return policy.Tell(policy.Refuse, "pages", "Anyone may, but the workspace has no public pages.", "Switch public pages on, in the rules of the workspace.")
	case !s.SignedIn:
		return policy.Tell(policy.Refuse, "account", "Only somebody who has an account here and is here can do this.", "Put the person into the directory of the workspace.")
	case s.Role == Administrator:
		return policy.Tell(policy.Allow, "role.administrator", "Administrators may do this in every group.", "")
	case row.auditor && s.Role == Auditor:
		return policy.Tell(policy.Allow, "role.auditor", "Auditors may look at every group.", "")
	case s.Role == "" && r.Powers.Cover(do) && !s.May(do, Relation{Role: r.Role, Rung: r.Rung}, p):
		return policy.Tell(policy.Allow, "role.helper", "Helpers may do this in the groups of their area.", "")
	case row.member && r.Role != 0:
		return policy.Tell(policy.Allow, "role", "Whoever is in the group decides about their own part in it.", "")
	case row.asks:
		return p.Allows(row.ask, r.Rung).Told()
	case row.rung.Includes(r.Rung):
		return policy.Tell(policy.Allow, "role", "Those who run the group may do this.", "")
	}
	return policy.Tell(policy.Refuse, "role", row.refusal, "Give the person a role in the group that may.")
}

// MayHere reports whether somebody may do something to the workspace. everybodyCreates
// says that the workspace lets everybody in it create groups; auditors never do.
func (s Subject) MayHere(do Action, everybodyCreates bool) bool {
	row := find(onWorkspace, do)
	switch {
	case row == nil || !s.SignedIn:
		return false
	case s.Role == Administrator, row.everyone, row.auditor && s.Role == Auditor:
		return true
	}
	return row.creators && everybodyCreates && s.Role != Auditor
}

// MayActOn reports whether somebody who stands so with a group may act on a member of it
// who has a role, 0 for none: nobody acts on somebody of a higher one.
func (s Subject) MayActOn(r Relation, role expand.Role) bool {
	return s.Administers() || role <= r.Role || s.Role == "" && r.Powers.Cover(ChangePeople) && (role < expand.Owner || r.Powers&PowerOwners != 0)
}

// Appointment is a change of somebody's role in a group, 0 for none.
type Appointment struct {
	From, To expand.Role
	Delegate bool // it is of whoever makes it, or of another delegated administrator
	Founding bool // the group is being created
}

// MayAppoint says why somebody who may change people of a group may not change a role so; "" where they may. A power that appoints is a
// power: a delegated administrator appoints neither themselves nor another one, since each would have more power by it than they
// were given, and owners, who have every power, only where the delegation says so.
func (s Subject) MayAppoint(r Relation, a Appointment) string {
	switch {
	case s.Role != "" || r.Powers == 0 || r.Role == expand.Owner || a.From == a.To:
		return ""
	case a.Delegate && a.To > expand.Member && a.To > a.From:
		return "Delegated administrators give a role above member neither to themselves nor to each other. Ask an owner or an administrator."
	case (a.From == expand.Owner || a.To == expand.Owner) && !a.Founding && r.Powers&PowerOwners == 0:
		return "Your delegation does not let you appoint or remove owners. Ask an owner or an administrator."
	}
	return ""
}

// Refusal says why somebody may not do something.
func (do Action) Refusal() string {
	for _, all := range [][]permit{onGroup, onWorkspace} {
		if row := find(all, do); row != nil {
			return row.refusal
		}
	}
	return "Nobody may do this."
}

// OnGroup returns what somebody who stands so with a group may do to it, but for what is
// implied, such as finding it.
func (s Subject) OnGroup(r Relation, p *policy.Policy) []Action {
	var out []Action
	for _, row := range onGroup {
		if !row.implied && s.May(row.action, r, p) {
			out = append(out, row.action)
		}
	}
	return out
}

// OnWorkspace returns what somebody may do to the workspace.
func (s Subject) OnWorkspace(everybodyCreates bool) []Action {
	var out []Action
	for _, row := range onWorkspace {
		if s.MayHere(row.action, everybodyCreates) {
			out = append(out, row.action)
		}
	}
	return out
}
