package workspace

import (
	"context"
	"errors"
	"slices"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/core/expand"
	"ivytable.example/ivytable/internal/core/policy"
	"ivytable.example/ivytable/internal/store"
)

// Workspace roles.
const (
	Administrator = "administrator"
	Auditor       = "auditor"
)

// Actor is who does something, and by which way. The zero value is nobody.
type Actor struct {
	Person     store.Person
	Credential uuid.UUID // the session or token
	Via        string    // console, api, smtp, service
	RequestID  string
}

// Service is the actor of what happens by itself, such as a lapse.
var Service = Actor{Via: "service"}

// String names the actor in the history.
func (a Actor) String() string {
	if a.Person.ID == uuid.Nil {
		return "the service"
	}
	return a.Person.Address
}

func (a Actor) administrator() bool { return a.Person.WorkspaceRole == Administrator }

// readsAll reports whether the actor sees every group and person list.
func (a Actor) readsAll() bool { return a.administrator() || a.Person.WorkspaceRole == Auditor }

// action is something that needs permission.
type action string

// What can be done to a group, and to the workspace.
const (
	readGroup    action = "read"
	seePeople    action = "see_people"
	addPeople    action = "add_people"
	changePeople action = "change_people"
	changeGroup  action = "change"
	changePolicy action = "policy"
	changeTerm   action = "term" // standing, chosen
	renewGroup   action = "renew"
	retireGroup  action = "retire"
	restoreGroup action = "restore"
	decidePosts  action = "decide_posts"
	readHistory  action = "history"
	rehearse     action = "rehearse"
	decideJoins  action = "decide_requests"
	manageLinks  action = "join_links"
	settlePerson action = "standings"
	changeRule   action = "rule"

	createGroup     action = "create_group"
	searchPeople    action = "search_people"
	readExpiry      action = "read_expiry"
	changeExpiry    action = "change_expiry"
	readAllChange   action = "read_workspace_history"
	readNaming      action = "read_naming"
	changeNaming    action = "change_naming"
	changeStarts    action = "change_starting_points"
	readDeparted    action = "read_departed"
	changeDirectory action = "change_directory"
)

// permit says who may do something. Administrators may do everything.
type permit struct {
	auditor  bool             // auditors may
	everyone bool             // everybody who is signed in may
	rung     policy.Audience  // for a group: this audience of it may
	ask      *policy.Question // for a group: the audience that its policy names may
	says     string           // why not, for those who may not
}

func question(q policy.Question) *policy.Question { return &q }

// permits is the whole of permission. An action that is missing is nobody's.
var permits = map[action]permit{
	readGroup:    {auditor: true, ask: question(policy.Find)},
	seePeople:    {auditor: true, ask: question(policy.SeePeople), says: "This group does not show you who is in it."},
	addPeople:    {ask: question(policy.AddPeople), says: "This group does not let you add people."},
	changePeople: {rung: policy.Owners, says: "Only its owners and administrators may change roles or remove people."},
	changeGroup:  {rung: policy.Owners, says: "Only its owners and administrators may change this group."},
	changePolicy: {rung: policy.Owners, says: "Only its owners and administrators may change its policy."},
	changeTerm:   {says: "Only administrators may exempt a group from its term or choose it for one."},
	renewGroup:   {rung: policy.Owners, says: "Only its owners and administrators may renew this group."},
	retireGroup:  {rung: policy.Owners, says: "Only its owners and administrators may retire this group."},
	restoreGroup: {rung: policy.Owners, says: "Only its owners and administrators may restore this group."},
	decidePosts:  {rung: policy.Moderators, says: "Only its owners, moderators and administrators decide about waiting posts."},
	readHistory:  {auditor: true, rung: policy.Owners, says: "Only its owners, administrators and auditors may read this group's history."},
	decideJoins:  {rung: policy.Moderators, says: "Only its owners, moderators and administrators decide about requests."},
	manageLinks:  {rung: policy.Moderators, says: "Only its owners, moderators and administrators give out links and invitations."},
	settlePerson: {rung: policy.Moderators, says: "Only its owners, moderators and administrators bar, trust or hold people."},
	changeRule:   {rung: policy.Owners, says: "Only its owners and administrators may change the rule of this group."},
	rehearse:     {auditor: true, rung: policy.Moderators, says: "Only its owners and moderators, administrators and auditors may rehearse for somebody else."},

	createGroup:     {says: "Only administrators may create groups."},
	searchPeople:    {auditor: true, everyone: true},
	readExpiry:      {auditor: true, says: "Only administrators and auditors may read the expiry policy."},
	changeExpiry:    {says: "Only administrators may change the expiry policy."},
	readNaming:      {auditor: true, says: "Only administrators and auditors may read the rules of naming."},
	changeNaming:    {says: "Only administrators may change the rules of naming."},
	changeStarts:    {says: "Only administrators may change the starting points."},
	readDeparted:    {auditor: true, says: "Only administrators and auditors see who has left."},
	changeDirectory: {says: "Only administrators may change the directory of people."},
	readAllChange:   {auditor: true, says: "Only administrators and auditors may read the history of the whole workspace."},
}

// standing is where an actor stands with a group.
type standing struct {
	role expand.Role // own role in it, 0 for none
	rung policy.Audience
}

func rungOf(r expand.Role) policy.Audience {
	return [...]policy.Audience{policy.Workspace, policy.Members, policy.Moderators, policy.Owners}[r]
}

// standingOf returns where a person stands with a group, counting nested groups.
func (w *Workspace) standingOf(ctx context.Context, p store.Person, g *store.Group) (standing, error) {
	m, err := w.store.Membership(ctx, g.ID, p.ID)
	switch {
	case err == nil:
		return standing{m.Role, rungOf(m.Role)}, nil
	case !errors.Is(err, store.ErrNotFound):
		return standing{}, err
	}
	above, err := w.store.Above(ctx, p.ID, w.now(ctx))
	if err != nil {
		return standing{}, err
	}
	switch {
	case slices.Contains(above, g.ID):
		return standing{0, policy.Members}, nil
	case p.External:
		return standing{0, policy.Anyone}, nil
	}
	return standing{0, policy.Workspace}, nil
}

// standingsOf is standingOf for many groups at once, by group.
func (w *Workspace) standingsOf(ctx context.Context, p store.Person, groups []uuid.UUID) (map[uuid.UUID]standing, error) {
	out := make(map[uuid.UUID]standing, len(groups))
	if len(groups) == 0 {
		return out, nil
	}
	roles, err := w.store.Roles(ctx, p.ID, groups)
	if err != nil {
		return nil, err
	}
	above, err := w.store.Above(ctx, p.ID, w.now(ctx))
	if err != nil {
		return nil, err
	}
	for _, g := range groups {
		switch r := roles[g]; {
		case r != 0:
			out[g] = standing{r, rungOf(r)}
		case slices.Contains(above, g):
			out[g] = standing{0, policy.Members}
		case p.External:
			out[g] = standing{0, policy.Anyone}
		default:
			out[g] = standing{0, policy.Workspace}
		}
	}
	return out, nil
}

// may reports whether an actor who stands so with a group may do something to it.
func (a Actor) may(do action, g *store.Group, s standing) bool {
	p, known := permits[do]
	switch {
	case !known || a.Person.ID == uuid.Nil || !a.Person.Active:
		return false
	case a.administrator(), p.everyone, p.auditor && a.Person.WorkspaceRole == Auditor:
		return true
	case g == nil:
		return false
	case p.ask != nil:
		gp := g.Policy()
		return gp.Answers[*p.ask].Includes(s.rung)
	}
	return p.rung.Includes(s.rung)
}

// signedIn checks that there is an actor at all, for what everybody may do.
func signedIn(a Actor) error {
	if a.Person.ID == uuid.Nil {
		return fail(SignedOut, "Sign in first.")
	}
	return nil
}

// allow checks an actor against an action on the workspace.
func allow(a Actor, do action) error {
	if err := signedIn(a); err != nil {
		return err
	}
	if !a.may(do, nil, standing{}) {
		return fail(NotAllowed, "%s", permits[do].says)
	}
	return nil
}

// allowCreate checks an actor against creating groups: administrators may, and
// everybody in the workspace but auditors where the workspace lets them.
func (w *Workspace) allowCreate(ctx context.Context, a Actor) error {
	err := allow(a, createGroup)
	if err == nil || a.Person.ID == uuid.Nil || a.Person.WorkspaceRole == Auditor {
		return err
	}
	n, _, nerr := w.naming(ctx)
	if nerr != nil {
		return nerr
	}
	if n.Creators == creatorsWorkspace {
		return nil
	}
	return err
}

// allowOn checks an actor against an action on a group and returns where the actor
// stands. Who may not find the group is told that there is none.
func (w *Workspace) allowOn(ctx context.Context, a Actor, do action, g *store.Group) (standing, error) {
	if err := signedIn(a); err != nil {
		return standing{}, err
	}
	s, err := w.standingOf(ctx, a.Person, g)
	switch {
	case err != nil:
		return s, err
	case !a.may(readGroup, g, s) && !a.may(do, g, s):
		return s, errNoGroup(g.Address)
	case !a.may(do, g, s):
		return s, fail(NotAllowed, "%s", permits[do].says)
	}
	return s, nil
}

func errNoGroup(ref string) error {
	return fail(NotFound, "There is no group %q that you can find. Check the address, or ask an administrator.", cut(ref, 100))
}

// workspaceMay lists what an actor may do to the workspace.
func (w *Workspace) workspaceMay(ctx context.Context, a Actor) []string {
	out := []string{}
	if w.allowCreate(ctx, a) == nil {
		out = append(out, string(createGroup))
	}
	for _, do := range []action{readExpiry, changeExpiry, readAllChange, readNaming, changeNaming, changeStarts, readDeparted, changeDirectory} {
		if allow(a, do) == nil {
			out = append(out, string(do))
		}
	}
	return out
}

// groupMay lists what an actor may do to a group.
func (a Actor) groupMay(g *store.Group, s standing) []string {
	var out []string
	for _, do := range []action{seePeople, addPeople, changePeople, changeGroup, changePolicy, changeTerm, renewGroup, retireGroup, restoreGroup, decidePosts, decideJoins, manageLinks, settlePerson, changeRule, readHistory, rehearse} {
		if a.may(do, g, s) {
			out = append(out, string(do))
		}
	}
	return out
}
