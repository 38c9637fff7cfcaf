// Package api holds the shapes of the HTTP interface, once, for the service that
// answers and the client that asks. A group, a person, a decision look the same
// wherever they appear.
package api

import "time"

// Person is somebody in the directory.
type Person struct {
	ID            string            `json:"id"`
	Address       string            `json:"address"`
	Name          string            `json:"name"`
	Active        bool              `json:"active"`
	External      bool              `json:"external,omitempty" doc:"An address outside the workspace"`
	Attributes    map[string]string `json:"attributes,omitempty" doc:"Directory attributes by their SCIM names"`
	WorkspaceRole string            `json:"workspace_role,omitempty" enum:"administrator,auditor" doc:"Empty for most people"`
	Version       int               `json:"version,omitempty" doc:"The ETag, as a number"`
}

// Name is a person or group in brief.
type Name struct {
	Name    string `json:"name"`
	Address string `json:"address"`
}

// Group is a mail group as the person who asks may see it.
type Group struct {
	ID          string    `json:"id"`
	Name        string    `json:"name"`
	Address     string    `json:"address"`
	Aliases     []string  `json:"aliases"`
	Description string    `json:"description"`
	State       string    `json:"state" enum:"active,due,lapsed,retired"`
	Language    string    `json:"language"`
	Traits      []string  `json:"traits"`
	Delivery    string    `json:"default_delivery" enum:"each,none" doc:"Whether new members get each message"`
	Welcome     string    `json:"welcome" doc:"Said to new members, in the mail that tells them that they are in"`
	ByRule      bool      `json:"by_rule" doc:"It has a rule of membership"`
	Privacy     string    `json:"privacy" enum:"members,workspace,anyone,mixed"`
	Policy      Answers   `json:"policy"`
	Join        Join      `json:"join"`
	Leave       string    `json:"leave" enum:"free,asking,fixed"`
	Externals   string    `json:"externals" enum:"barred,owners,adders"`
	Hold        string    `json:"hold" enum:"nobody,outsiders,non_members,newcomers,everyone"`
	Suspicious  string    `json:"suspicious" enum:"deliver,hold,refuse"`
	Sentence    string    `json:"sentence" doc:"The policy in one line"`
	Owners      []Name    `json:"owners"`
	Counts      Counts    `json:"counts"`
	Term        Term      `json:"term"`
	MyRole      string    `json:"my_role" enum:"none,member,moderator,owner" doc:"Of the person who asks"`
	May         []string  `json:"may,omitempty" doc:"What the person who asks may do; only on a single group"`
	CreatedAt   time.Time `json:"created_at"`
	Version     int       `json:"version" doc:"The ETag, as a number"`
}

// Answers are the audiences of a policy, by question.
type Answers struct {
	Find        string `json:"find" enum:"nobody,owners,moderators,members,workspace,anyone"`
	SeePeople   string `json:"see_people" enum:"nobody,owners,moderators,members,workspace,anyone"`
	Read        string `json:"read" enum:"nobody,owners,moderators,members,workspace,anyone"`
	Post        string `json:"post" enum:"nobody,owners,moderators,members,workspace,anyone"`
	WriteOwners string `json:"write_owners" enum:"nobody,owners,moderators,members,workspace,anyone"`
	AddPeople   string `json:"add_people" enum:"nobody,owners,moderators,members,workspace,anyone"`
	SpeakAs     string `json:"speak_as" enum:"nobody,owners,moderators,members,workspace,anyone"`
	SpeakFor    string `json:"speak_for" enum:"nobody,owners,moderators,members,workspace,anyone"`
}

// Join is the join rule.
type Join struct {
	Audience string `json:"audience" enum:"nobody,workspace,anyone" doc:"nobody: by invitation only"`
	How      string `json:"how" enum:"freely,asking"`
}

// Counts are the members of a group by role. External members are counted in
// their roles too; nested groups are not people.
type Counts struct {
	Owners     int `json:"owners"`
	Moderators int `json:"moderators"`
	Members    int `json:"members"`
	External   int `json:"external"`
	Nested     int `json:"nested"`
}

// Term is how long a group lives. Times are null where there is none.
type Term struct {
	RenewedAt      time.Time  `json:"renewed_at"`
	ExpiresAt      *time.Time `json:"expires_at"`
	DaysLeft       *int       `json:"days_left" doc:"Midnights until it expires, in the workspace's time zone"`
	Standing       *Standing  `json:"standing" doc:"Exempt from the term"`
	Chosen         bool       `json:"chosen" doc:"The term applies to it where it applies to chosen groups"`
	EndedAt        *time.Time `json:"ended_at"`
	RestorableTill *time.Time `json:"restorable_till"`
}

// Standing says why a group never expires, and who said so.
type Standing struct {
	Reason string `json:"reason"`
	By     string `json:"by"`
}

// Page is part of a list. Next is the cursor for the following page, empty on the last.
type Page[T any] struct {
	Items []T    `json:"items"`
	Next  string `json:"next"`
	Total int64  `json:"total"`
}

// NewPerson is somebody to put into a group.
type NewPerson struct {
	Address string `json:"address" maxLength:"320"`
	Role    string `json:"role,omitempty" doc:"owner, moderator or member; member when left out"`
}

// PolicyPatch is any part of the policy half of a group.
type PolicyPatch struct {
	Privacy    string            `json:"privacy,omitempty" doc:"members, workspace or anyone: fills in find, see_people and read"`
	Policy     map[string]string `json:"policy,omitempty" doc:"An audience for each question to change"`
	Join       *JoinPatch        `json:"join,omitempty"`
	Leave      string            `json:"leave,omitempty"`
	Externals  string            `json:"externals,omitempty"`
	Hold       string            `json:"hold,omitempty"`
	Suspicious string            `json:"suspicious,omitempty"`
}

// Set puts an answer or a setting into the patch by its name, such as post or
// join.how. Whether there is such a question the service says.
func (p *PolicyPatch) Set(name, value string) {
	switch name {
	case "privacy":
		p.Privacy = value
	case "leave":
		p.Leave = value
	case "externals":
		p.Externals = value
	case "hold":
		p.Hold = value
	case "suspicious":
		p.Suspicious = value
	case "join.audience", "join.how":
		if p.Join == nil {
			p.Join = &JoinPatch{}
		}
		if name == "join.how" {
			p.Join.How = value
		} else {
			p.Join.Audience = value
		}
	default:
		if p.Policy == nil {
			p.Policy = map[string]string{}
		}
		p.Policy[name] = value
	}
}

// JoinPatch is any part of the join rule.
type JoinPatch struct {
	Audience string `json:"audience,omitempty"`
	How      string `json:"how,omitempty"`
}

// NewGroup is a group to create.
type NewGroup struct {
	Name        string `json:"name" maxLength:"200"`
	Address     string `json:"address,omitempty" maxLength:"400" doc:"Proposed from the name when left out"`
	Description string `json:"description,omitempty" maxLength:"2000"`
	Language    string `json:"language,omitempty" maxLength:"16" doc:"In which notices are written: en or de"`
	PolicyPatch
	StartingPoint string       `json:"starting_point,omitempty" maxLength:"60" doc:"What is left out here is as it says"`
	Aliases       []string     `json:"aliases,omitempty" maxItems:"50" doc:"Further addresses that lead to the group"`
	Traits        []string     `json:"traits,omitempty" maxItems:"4" doc:"archive, desk, calendar, access"`
	Delivery      string       `json:"default_delivery,omitempty" doc:"each or none"`
	Welcome       string       `json:"welcome,omitempty" maxLength:"2000"`
	Owners        []string     `json:"owners" maxItems:"100" doc:"Addresses"`
	People        []NewPerson  `json:"people,omitempty" maxItems:"10000"`
	Lists         []PeopleList `json:"lists,omitempty" maxItems:"20" doc:"Lists of people to put into it; whoever of them can't be is left out"`
	Rule          string       `json:"rule,omitempty" maxLength:"4000" doc:"A rule of membership, as a SCIM filter"`
	Quiet         bool         `json:"quiet,omitempty" doc:"People are not told that they were added"`
}

// GroupPatch changes what a group is called and how long it lives.
type GroupPatch struct {
	Name        *string   `json:"name,omitempty" maxLength:"200"`
	Description *string   `json:"description,omitempty" maxLength:"2000"`
	Language    *string   `json:"language,omitempty" maxLength:"16"`
	Address     *string   `json:"address,omitempty" maxLength:"400" doc:"Moves it; the old address becomes an alias"`
	Aliases     *[]string `json:"aliases,omitempty" maxItems:"50" doc:"All further addresses; those that are left out are given up"`
	Traits      *[]string `json:"traits,omitempty" maxItems:"4"`
	Delivery    *string   `json:"default_delivery,omitempty"`
	Welcome     *string   `json:"welcome,omitempty" maxLength:"2000"`
	Chosen      *bool     `json:"chosen,omitempty" doc:"The term applies to it where it applies to chosen groups"`
	Standing    *string   `json:"standing,omitempty" maxLength:"500" doc:"Why it never expires; empty takes that back"`
}

// Member is a person or a group in a group.
type Member struct {
	ID       string    `json:"id"`
	Kind     string    `json:"kind" enum:"person,group"`
	Name     string    `json:"name"`
	Address  string    `json:"address"`
	Role     string    `json:"role" enum:"member,moderator,owner"`
	External bool      `json:"external"`
	Active   bool      `json:"active"`
	Delivery string    `json:"delivery" enum:"each,none"`
	AddedAt  time.Time `json:"added_at"`
	AddedBy  string    `json:"added_by"`
	ByRule   bool      `json:"by_rule" doc:"In because of the group's rule"`
}

// MemberPatch changes a membership.
type MemberPatch struct {
	Role     string `json:"role,omitempty"`
	Delivery string `json:"delivery,omitempty" doc:"each or none"`
}

// StandIn says what one kind of person could do.
type StandIn struct {
	Who  string   `json:"who" enum:"owner,member,colleague,stranger"`
	Can  []string `json:"can"`
	Cant []string `json:"cant"`
}

// Fault is a contradiction or a doubt in a policy.
type Fault struct {
	Field string `json:"field"`
	Says  string `json:"says"`
	Mend  string `json:"mend"`
}

// Picture is a policy put in words.
type Picture struct {
	PolicyHalf
	Sentence       string    `json:"sentence"`
	StandIns       []StandIn `json:"stand_ins"`
	Contradictions []Fault   `json:"contradictions"`
	Warnings       []Fault   `json:"warnings"`
}

// PolicyHalf is the policy half of a group.
type PolicyHalf struct {
	Privacy    string  `json:"privacy" enum:"members,workspace,anyone,mixed"`
	Policy     Answers `json:"policy"`
	Join       Join    `json:"join"`
	Leave      string  `json:"leave"`
	Externals  string  `json:"externals"`
	Hold       string  `json:"hold"`
	Suspicious string  `json:"suspicious"`
}

// Share is people who gain or lose something. Count is -1 for strangers, whom
// nobody can count.
type Share struct {
	Who   string `json:"who" enum:"owners,moderators,members,colleagues,strangers"`
	Count int    `json:"count"`
}

// Shift is what a change does to one answer or setting.
type Shift struct {
	Field string  `json:"field"`
	From  string  `json:"from"`
	To    string  `json:"to"`
	Gains []Share `json:"gains"`
	Loses []Share `json:"loses"`
	Says  string  `json:"says"`
}

// Effect is what a change of policy would do.
type Effect struct {
	Shifts  []Shift `json:"shifts"`
	Picture Picture `json:"picture" doc:"The policy as it would then be"`
}

// Near is a person or group whose address is the same or like another.
type Near struct {
	Address string `json:"address"`
	Name    string `json:"name"`
	Kind    string `json:"kind" enum:"person,group,alias"`
	How     string `json:"how" enum:"same,alike,resembling"`
}

// Reason is one step of a decision.
type Reason struct {
	Rule string  `json:"rule"`
	Says string  `json:"says"`
	Mend *string `json:"mend" doc:"What would have to change; null where the step let it pass"`
}

// Recipients are the people whom a post would reach.
type Recipients struct {
	Count  int      `json:"count"`
	Sample []string `json:"sample"`
}

// Decision is what the rules come to, and why.
type Decision struct {
	Outcome    string      `json:"outcome" enum:"allow,hold,refuse"`
	Rule       string      `json:"rule"`
	Reasons    []Reason    `json:"reasons"`
	Recipients *Recipients `json:"recipients,omitempty"`
}

// Rehearsal asks what would happen.
type Rehearsal struct {
	Action string `json:"action" doc:"post, or a question of the policy"`
	Group  string `json:"group" doc:"Identifier or address"`
	As     string `json:"as" maxLength:"320" doc:"The address of who would do it"`
	Proven *bool  `json:"proven,omitempty" doc:"The author signed in to send it; true when left out"`
}

// Post is a message that waits for approval.
type Post struct {
	ID         string    `json:"id"`
	Group      Name      `json:"group"`
	Author     string    `json:"author"`
	Proven     bool      `json:"proven"`
	Subject    string    `json:"subject"`
	Size       int       `json:"size"`
	ReceivedAt time.Time `json:"received_at"`
	Decision   Decision  `json:"decision"`
}

// Verdict decides a message that waits.
type Verdict struct {
	Verdict string `json:"verdict" doc:"approve or decline"`
	Reason  string `json:"reason,omitempty" maxLength:"500" doc:"Told to the author when declined"`
}

// Expiry is the rule of the workspace for how long groups live.
type Expiry struct {
	TermDays  int    `json:"term_days" doc:"0: groups never expire"`
	Scope     string `json:"scope" doc:"all, chosen or none"`
	Notices   []int  `json:"notices" maxItems:"10" doc:"Days before the end on which owners are told, largest first"`
	Caretaker string `json:"caretaker" maxLength:"320" doc:"Gets the notices of groups with no owner"`
	TimeZone  string `json:"time_zone" maxLength:"64" doc:"In which days are counted, by its IANA name"`
	Version   int    `json:"version,omitempty"`
}

// Moved is a group whose date a change of the rule would move.
type Moved struct {
	Name    string     `json:"name"`
	Address string     `json:"address"`
	From    *time.Time `json:"from"`
	To      *time.Time `json:"to"`
}

// ExpiryEffect is what a change of the rule would do.
type ExpiryEffect struct {
	Groups    int     `json:"groups" doc:"Live groups in the workspace"`
	Gain      int     `json:"gain" doc:"Groups that get a date"`
	Lose      int     `json:"lose" doc:"Groups that lose their date"`
	Earlier   int     `json:"earlier"`
	Later     int     `json:"later"`
	DueSoon   int     `json:"due_soon" doc:"Groups that would be inside their first notice at once"`
	Ownerless int     `json:"ownerless" doc:"Groups with a date but no owner, whose notices go to the caretaker"`
	Says      string  `json:"says"`
	Sample    []Moved `json:"sample" doc:"Up to 10 of the groups, soonest first"`
}

// Week is how many groups expire in the week that begins on a day.
type Week struct {
	Begins time.Time `json:"begins"`
	Groups int       `json:"groups"`
}

// FieldChange is one thing that a change changed.
type FieldChange struct {
	Field string `json:"field"`
	From  any    `json:"from"`
	To    any    `json:"to"`
	Says  string `json:"says,omitempty" doc:"The effect, as it was shown before saving"`
}

// HistoryEntry is one recorded change.
type HistoryEntry struct {
	ID        int64         `json:"id"`
	At        time.Time     `json:"at"`
	Actor     string        `json:"actor"`
	Via       string        `json:"via" enum:"console,api,smtp,service,link"`
	Action    string        `json:"action"`
	GroupID   string        `json:"group_id,omitempty"`
	Subject   string        `json:"subject"`
	Changes   []FieldChange `json:"changes"`
	RequestID string        `json:"request_id"`
}

// SignIn is who signs in.
type SignIn struct {
	Address  string `json:"address" maxLength:"320"`
	Password string `json:"password" maxLength:"200"`
}

// Me is the person who asks.
type Me struct {
	Person
	Domains []string  `json:"domains" doc:"Mail domains of the workspace, the main one first"`
	Places  []string  `json:"places" doc:"Parts of the console that are for this person"`
	Demo    bool      `json:"demo"`
	Now     time.Time `json:"now" doc:"The time of the workspace; in the demo it can be moved"`
	Ahead   int       `json:"days_ahead" doc:"By how many days the time of a demo was moved"`
	May     []string  `json:"may" doc:"What the person may do in the workspace"`
	Waiting int       `json:"waiting" doc:"How much waits for the person's decision"`
}

// Token is an access token for scripts. Secret is given once, on creation.
type Token struct {
	ID        string    `json:"id"`
	Name      string    `json:"name"`
	CreatedAt time.Time `json:"created_at"`
	ExpiresAt time.Time `json:"expires_at"`
	Secret    string    `json:"secret,omitempty"`
}

// NewToken asks for a token.
type NewToken struct {
	Name string `json:"name" minLength:"1" maxLength:"100"`
	Days int    `json:"days,omitempty" minimum:"1" maximum:"365" doc:"90 when left out"`
}

// Clock is the time of a demo workspace.
type Clock struct {
	Now time.Time `json:"now"`
}

// ClockMove moves the time of a demo workspace.
type ClockMove struct {
	Days int `json:"days" minimum:"0" maximum:"3650" doc:"Forward; 0 goes back to the real time"`
}

// Problem names a field of the request and what is wrong with it.
type Problem struct {
	Field string `json:"field" doc:"Such as people[2].address; empty for the request as a whole"`
	Given any    `json:"given,omitempty"`
	Says  string `json:"says"`
}

// ProblemDetails is every error of the interface (RFC 9457).
type ProblemDetails struct {
	Type      string    `json:"type"`
	Title     string    `json:"title"`
	Status    int       `json:"status"`
	Detail    string    `json:"detail"`
	RequestID string    `json:"request_id,omitempty"`
	Problems  []Problem `json:"problems"`
}
