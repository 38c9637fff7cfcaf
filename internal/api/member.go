package api

import "time"

// Member is a person or a group in a group.
type Member struct {
	ID       string    `json:"id"`
	Kind     string    `json:"kind" enum:"person,group"`
	Name     string    `json:"name"`
	Address  string    `json:"address"`
	Role     string    `json:"role" enum:"member,moderator,owner"`
	External bool      `json:"external"`
	Active   bool      `json:"active"`
	Delivery string    `json:"delivery" enum:"each,digest,conversations,none" doc:"each message as it comes, those of a day together, those of conversations that they take part in, or none"`
	AddedAt  time.Time `json:"added_at"`
	AddedBy  string    `json:"added_by"`
	Until    string    `json:"until,omitempty" doc:"The last day of the membership, such as 2027-01-31; absent for one that does not end"`
	ByRule   bool      `json:"by_rule" doc:"In because of the group's rule"`
}

// NewPerson is somebody to put into a group.
type NewPerson struct {
	Address string `json:"address" maxLength:"320"`
	Role    string `json:"role,omitempty" enum:"owner,moderator,member" doc:"member when left out"`
	Until   string `json:"until,omitempty" maxLength:"10" doc:"The last day of the membership, such as 2027-01-31; left out: it does not end"`
}

// MemberPatch changes a membership.
type MemberPatch struct {
	Role     string `json:"role,omitempty" enum:"owner,moderator,member"`
	Delivery string `json:"delivery,omitempty" enum:"each,digest,conversations,none" doc:"each message as it comes, those of a day together, those of conversations that they take part in, or none"`
	Until    string `json:"until,omitempty" maxLength:"10" doc:"The last day of the membership, such as 2027-01-31, or none"`
}

// PeopleList names people in one of five ways: as text, as a file, as the people of
// another group, as everyone in the workspace, or as those whom a change took out.
type PeopleList struct {
	Text     string            `json:"text,omitempty" doc:"Pasted: addresses, Name <address>, names; or CSV"`
	File     []byte            `json:"file,omitempty" doc:"The octets of a text or CSV file"`
	Columns  map[string]string `json:"columns,omitempty" doc:"What the headings of a CSV file stand for, where that is not plain"`
	Of       string            `json:"people_of,omitempty" maxLength:"400" doc:"The people of this group, also those of groups nested in it"`
	Everyone bool              `json:"everyone,omitempty" doc:"Everyone in the workspace"`
	TakenOut int64             `json:"taken_out_by,omitempty" minimum:"1" doc:"Those whom this entry of the history took out of its group, in the roles that they had"`
	Role     string            `json:"role,omitempty" enum:"owner,moderator,member" doc:"Where the list does not say; member when left out"`
}

// NewMembers are people to add: those named one by one, and a list.
type NewMembers struct {
	People []NewPerson `json:"people,omitempty" maxItems:"10000"`
	List   *PeopleList `json:"list,omitempty"`
	Way    string      `json:"way,omitempty" enum:"direct,invite" doc:"direct, the way when left out, or invite: they are asked by mail"`
	Until  string      `json:"until,omitempty" maxLength:"10" doc:"The last day for those who are put in directly and of whom none is said, such as 2027-01-31"`
	Quiet  bool        `json:"quiet,omitempty" doc:"People who are put in directly are not told by mail"`
	NestingWay
	Vouching
}

// Vouching says who answers for external members among those to add.
type Vouching struct {
	Voucher string `json:"voucher,omitempty" maxLength:"400" doc:"Who of the workspace vouches for external members among them, by address; whoever adds them when left out"`
	Reason  string `json:"reason,omitempty" maxLength:"500" doc:"Why they are in it"`
}

// NestingWay says how groups among those to add come in.
type NestingWay struct {
	Consent          string `json:"consent,omitempty" enum:"counted,seen" doc:"Of groups that you may change, so that you agree for their side: whether their people are seen there, or only counted, as when left out"`
	WithoutExternals bool   `json:"without_externals,omitempty" doc:"A group may come in without its external members, where the outer group takes none from whoever adds it"`
}

// AddedAll are the results: one for each person who was named one by one, in the
// order of the request, then those of the list, of which at most 1,000 are shown,
// the ones that were not added first.
type AddedAll struct {
	Results []Line         `json:"results"`
	Added   int            `json:"added" doc:"How many were added or invited"`
	Counts  map[string]int `json:"counts" doc:"How many there were of each status"`
	Says    string         `json:"says"`
}

// ListReading is how a list of people was read.
type ListReading struct {
	Kind      string       `json:"kind" enum:"text,table,group,workspace,history"`
	Encoding  string       `json:"encoding,omitempty"`
	Delimiter string       `json:"delimiter,omitempty"`
	Columns   []ListColumn `json:"columns,omitempty"`
	Hidden    string       `json:"hidden,omitempty" doc:"What was left out, because you may not see it"`
}

// ListColumn is a column of a table of people.
type ListColumn struct {
	Heading string `json:"heading"`
	Stands  string `json:"stands_for" doc:"Empty: it is left out"`
}

// PeopleListRequest asks who the people of a list are.
type PeopleListRequest struct {
	PeopleList
	Group     string `json:"group,omitempty" maxLength:"400" doc:"Whether they could be in this group; left out for one that is yet to be made"`
	Externals string `json:"externals,omitempty" enum:"barred,owners,adders" doc:"Of a group that is yet to be made"`
	NestingWay
}

// MembersPatch changes several memberships of a group in one step.
type MembersPatch struct {
	Members  []string `json:"members" minItems:"1" maxItems:"5000" doc:"Identifiers or addresses"`
	Role     string   `json:"role,omitempty" enum:"owner,moderator,member"`
	Delivery string   `json:"delivery,omitempty" enum:"each,digest,conversations,none" doc:"each message as it comes, those of a day together, those of conversations that they take part in, or none"`
	Until    string   `json:"until,omitempty" maxLength:"10" doc:"The last day of the memberships, such as 2027-01-31, or none"`
	Remove   bool     `json:"remove,omitempty" doc:"Take them out"`
}

// MembersChanged are the results in the order of the request.
type MembersChanged struct {
	Results []Line `json:"results"`
	Changed int    `json:"changed"`
	Says    string `json:"says"`
}

// Override is what is settled about one address in one group; it goes before the
// group's policy.
type Override struct {
	Address  string    `json:"address"`
	Name     string    `json:"name,omitempty"`
	Override string    `json:"override" enum:"barred,trusted,held"`
	Reason   string    `json:"reason"`
	By       string    `json:"by"`
	At       time.Time `json:"at"`
	Version  int       `json:"version" doc:"The ETag, as a number"`
}

// NewOverride settles something about an address.
type NewOverride struct {
	Override string `json:"override" enum:"barred,trusted,held,none" doc:"barred: neither in it nor writing to it; trusted: never held; held: always held; none: as the policy says"`
	Reason   string `json:"reason,omitempty" maxLength:"500"`
}

// EffectiveMember is a person whom a group reaches.
type EffectiveMember struct {
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

// NestedGroup is a group of a Nesting.
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

// Nested is a group that is in another, or would be, and what those who run it agreed to.
type Nested struct {
	ID        string     `json:"id"`
	Outer     Name       `json:"outer"`
	Inner     Name       `json:"inner"`
	Consent   string     `json:"consent" enum:"asked,counted,seen" doc:"asked: the owners of the inner group have not agreed yet; counted: its people may be counted in the outer group; seen: whoever sees the people of the outer group sees them"`
	In        bool       `json:"in" doc:"It is in the other group; else that waits for the consent"`
	By        string     `json:"by" doc:"Who put it in, or asks"`
	Since     time.Time  `json:"since" doc:"Since when it is asked for, or in it"`
	DecidedBy string     `json:"decided_by,omitempty"`
	DecidedAt *time.Time `json:"decided_at,omitempty"`
	MayDecide bool       `json:"may_decide" doc:"You may agree or end it for the inner group"`
	MayEnd    bool       `json:"may_end" doc:"You may take it out, or take the question back"`
	Doubts    []string   `json:"doubts" doc:"What the outer group's policy allows that the inner one's does not"`
}

// NewConsent agrees that a group is in another.
type NewConsent struct {
	Consent string `json:"consent" enum:"counted,seen" doc:"Whether its people are seen there by whoever sees those of the other group, or only counted"`
}

// Moves are groups that somebody comes into and goes out of, in one change.
type Moves struct {
	Join  []JoinGroup `json:"join,omitempty" maxItems:"500"`
	Leave []string    `json:"leave,omitempty" maxItems:"500" doc:"Identifiers or addresses of groups"`
	Like  string      `json:"like,omitempty" maxLength:"400" doc:"Somebody in whose groups they are to be, as far as you see those"`
	Roles bool        `json:"same_roles,omitempty" doc:"With like: in the same roles; else as members"`
	Until string      `json:"until,omitempty" maxLength:"10" doc:"The last day in the groups that they join, such as 2027-01-31"`
}

// JoinGroup is a group that somebody comes into.
type JoinGroup struct {
	Group string `json:"group" maxLength:"400" doc:"Identifier or address"`
	Role  string `json:"role,omitempty" enum:"owner,moderator,member" doc:"member when left out"`
}

// Moved says what became of each group: those to join, those to leave, those of like.
type Moved struct {
	Results []Line `json:"results"`
	Changed int    `json:"changed"`
	Says    string `json:"says"`
}
