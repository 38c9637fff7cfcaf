package api

import "time"

// PeopleList names people in one of five ways: as text, as a file, as the people of
// another group, as everyone in the workspace, or as those whom a change took out.
type PeopleList struct {
	Text     string            `json:"text,omitempty" doc:"Pasted: addresses, Name <address>, names; or CSV"`
	File     []byte            `json:"file,omitempty" doc:"The octets of a text or CSV file"`
	Columns  map[string]string `json:"columns,omitempty" doc:"What the headings of a CSV file stand for, where that is not plain"`
	Of       string            `json:"people_of,omitempty" maxLength:"400" doc:"The people of this group, also those of groups nested in it"`
	Everyone bool              `json:"everyone,omitempty" doc:"Everyone in the workspace"`
	TakenOut int64             `json:"taken_out_by,omitempty" minimum:"1" doc:"Those whom this entry of the history took out of its group, in the roles that they had"`
	Role     string            `json:"role,omitempty" doc:"owner, moderator or member, where the list does not say; member when left out"`
}

// NewMembers are people to add: those named one by one, and a list.
type NewMembers struct {
	People []NewPerson `json:"people,omitempty" maxItems:"10000"`
	List   *PeopleList `json:"list,omitempty"`
	Way    string      `json:"way,omitempty" doc:"direct, the way when left out, or invite: they are asked by mail"`
	Quiet  bool        `json:"quiet,omitempty" doc:"People who are put in directly are not told by mail"`
}

// Added is what became of one person of NewMembers.
type Added struct {
	Given    string `json:"given"`
	Line     int    `json:"line,omitempty" doc:"Of a list: where it stands"`
	Outcome  string `json:"outcome" enum:"added,invited,already,refused"`
	Status   string `json:"status" enum:"new,external,group,already,repeated,unknown,ambiguous,departed,barred,refused" doc:"Who this is"`
	Name     string `json:"name,omitempty"`
	Address  string `json:"address,omitempty"`
	Role     string `json:"role,omitempty"`
	External bool   `json:"external"`
	Says     string `json:"says" doc:"Why, where it was not added"`
	Choices  []Name `json:"choices,omitempty" doc:"Whom it may have meant"`
}

// AddedAll are the results: one for each person who was named one by one, in the
// order of the request, then those of the list, of which at most 1,000 are shown,
// the ones that were not added first.
type AddedAll struct {
	Results []Added        `json:"results"`
	Added   int            `json:"added" doc:"How many were added or invited"`
	Counts  map[string]int `json:"counts" doc:"How many there were of each status"`
}

// Roster is a list of people as it was read: who each line is, and whether they can
// be in the group. Of a long one 1,000 lines are shown, those to look at first.
type Roster struct {
	Kind      string         `json:"kind" enum:"text,table,group,workspace,history"`
	Encoding  string         `json:"encoding,omitempty"`
	Delimiter string         `json:"delimiter,omitempty"`
	Columns   []RosterColumn `json:"columns,omitempty"`
	Lines     []Added        `json:"lines"`
	Counts    map[string]int `json:"counts"`
	Ready     int            `json:"ready" doc:"How many can be added"`
	Total     int            `json:"total"`
}

// RosterColumn is a column of a table of people.
type RosterColumn struct {
	Heading string `json:"heading"`
	Stands  string `json:"stands_for" doc:"Empty: it is left out"`
}

// RosterRequest asks who the people of a list are.
type RosterRequest struct {
	PeopleList
	Group     string `json:"group,omitempty" maxLength:"400" doc:"Whether they could be in this group; left out for one that is yet to be made"`
	Externals string `json:"externals,omitempty" doc:"For a group that is yet to be made: barred, owners or adders"`
}

// MembersPatch changes several memberships of a group in one step.
type MembersPatch struct {
	Members  []string `json:"members" minItems:"1" maxItems:"5000" doc:"Identifiers or addresses"`
	Role     string   `json:"role,omitempty" doc:"owner, moderator or member"`
	Delivery string   `json:"delivery,omitempty" doc:"each or none"`
	Remove   bool     `json:"remove,omitempty" doc:"Take them out"`
}

// MembersChanged are the results in the order of the request.
type MembersChanged struct {
	Results []MemberChanged `json:"results"`
	Changed int             `json:"changed"`
}

// MemberChanged is what became of one member.
type MemberChanged struct {
	Given   string `json:"given"`
	Name    string `json:"name,omitempty"`
	Address string `json:"address,omitempty"`
	Outcome string `json:"outcome" enum:"changed,same,refused"`
	Says    string `json:"says"`
}

// Wish asks to join or leave a group.
type Wish struct {
	Note string `json:"note,omitempty" maxLength:"500" doc:"For whoever decides"`
}

// Wished is what became of it.
type Wished struct {
	Outcome string `json:"outcome" enum:"done,asked"`
	Says    string `json:"says"`
}

// Request is a wish to join or leave that waits for a decision, or did.
type Request struct {
	ID        string     `json:"id"`
	Kind      string     `json:"kind" enum:"join,leave"`
	Group     Name       `json:"group"`
	Person    Name       `json:"person"`
	About     string     `json:"about" doc:"The person's department and place"`
	Note      string     `json:"note"`
	State     string     `json:"state" enum:"open,approved,declined,withdrawn"`
	MadeAt    time.Time  `json:"made_at"`
	DecidedBy string     `json:"decided_by,omitempty"`
	DecidedAt *time.Time `json:"decided_at"`
	Reason    string     `json:"reason,omitempty"`
}

// Decisions decides several requests at once.
type Decisions struct {
	Requests []string `json:"requests" minItems:"1" maxItems:"500" doc:"Identifiers"`
	Verdict  string   `json:"verdict" doc:"approve or decline"`
	Reason   string   `json:"reason,omitempty" maxLength:"500" doc:"Mailed to whoever asked"`
}

// Decided is what became of one request.
type Decided struct {
	ID      string `json:"id"`
	Person  string `json:"person,omitempty"`
	Group   string `json:"group,omitempty"`
	Outcome string `json:"outcome" enum:"approved,declined,refused"`
	Says    string `json:"says"`
}

// Invitation is an offer to enter a group, as those see it who run the group.
type Invitation struct {
	ID        string    `json:"id"`
	Address   string    `json:"address"`
	Role      string    `json:"role"`
	MadeBy    string    `json:"made_by"`
	MadeAt    time.Time `json:"made_at"`
	ExpiresAt time.Time `json:"expires_at"`
}

// Offer is an invitation or a join link, as whoever holds it sees it.
type Offer struct {
	Kind        string    `json:"kind" enum:"invitation,link"`
	Group       Name      `json:"group"`
	Description string    `json:"description"`
	Sentence    string    `json:"sentence" doc:"The group's policy in one line"`
	Owners      []string  `json:"owners" doc:"Names of those who run it"`
	For         string    `json:"for,omitempty" doc:"Of an invitation: the address that it was sent to"`
	By          string    `json:"by"`
	State       string    `json:"state" enum:"open,accepted,declined,expired,called back,used up,ended"`
	Says        string    `json:"says"`
	ExpiresAt   time.Time `json:"expires_at"`
}

// Answer answers an invitation.
type Answer struct {
	Answer string `json:"answer" doc:"accept or decline"`
}

// JoinLink is a link by which people of the workspace enter a group.
type JoinLink struct {
	ID        string    `json:"id"`
	URL       string    `json:"url,omitempty" doc:"Given once, on creation"`
	Note      string    `json:"note"`
	Uses      int       `json:"uses"`
	Most      int       `json:"most" doc:"Uses after which it ends; 0: no bound"`
	MadeBy    string    `json:"made_by"`
	MadeAt    time.Time `json:"made_at"`
	ExpiresAt time.Time `json:"expires_at"`
}

// NewJoinLink asks for a link.
type NewJoinLink struct {
	Days int    `json:"days,omitempty" minimum:"1" maximum:"365" doc:"14 when left out"`
	Most int    `json:"most,omitempty" minimum:"0" maximum:"100000" doc:"Uses after which it ends; 0: no bound"`
	Note string `json:"note,omitempty" maxLength:"200" doc:"Whom it is for"`
}

// StandingOf is what is settled about one address in one group, before its policy.
type StandingOf struct {
	Address  string    `json:"address"`
	Name     string    `json:"name,omitempty"`
	Standing string    `json:"standing" enum:"barred,trusted,held"`
	Reason   string    `json:"reason"`
	By       string    `json:"by"`
	At       time.Time `json:"at"`
}

// NewStanding settles something about an address.
type NewStanding struct {
	Standing string `json:"standing" doc:"barred: neither in it nor writing to it; trusted: never held; held: always held; none: as the policy says"`
	Reason   string `json:"reason,omitempty" maxLength:"500"`
}

// Reached is a person whom a group reaches.
type Reached struct {
	ID       string   `json:"id"`
	Name     string   `json:"name"`
	Address  string   `json:"address"`
	External bool     `json:"external"`
	Role     string   `json:"role" enum:"none,member,moderator,owner" doc:"In the group itself"`
	Through  []string `json:"through" doc:"Names of the groups in which the person is"`
}

// Nesting is what is nested in a group and what it is nested in.
type Nesting struct {
	Groups  []NestedGroup `json:"groups"`
	Edges   []NestedEdge  `json:"edges"`
	Depth   int           `json:"depth" doc:"Groups on the longest way down"`
	Deepest int           `json:"deepest_allowed"`
}

// NestedGroup is a group of a Nesting. One that the asker may not find has no name.
type NestedGroup struct {
	ID      string `json:"id"`
	Name    string `json:"name"`
	Address string `json:"address"`
	People  int    `json:"people"`
	Depth   int    `json:"depth" doc:"0: the group itself; above 0: nested in it; below 0: it is nested in"`
}

// NestedEdge says that a group is nested in another.
type NestedEdge struct {
	Outer string `json:"outer"`
	Inner string `json:"inner"`
}
