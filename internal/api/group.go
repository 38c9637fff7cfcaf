package api

import "time"

// Group is a mail group as the person who asks may see it.
type Group struct {
	ID          string    `json:"id"`
	Name        string    `json:"name"`
	Address     string    `json:"address"`
	Aliases     []string  `json:"aliases"`
	Description string    `json:"description"`
	State       string    `json:"state" enum:"active,due,lapsed,retired"`
	Language    string    `json:"language" enum:"en,de"`
	Traits      []string  `json:"traits" enum:"archive,desk,calendar,access"`
	Delivery    string    `json:"default_delivery" enum:"each,none" doc:"Whether new members get each message"`
	Welcome     string    `json:"welcome" doc:"Said to new members, in the mail that tells them that they are in"`
	Mail        MailTexts `json:"mail" doc:"What it adds to mail, and says to those who write"`
	ByRule      bool      `json:"by_rule" doc:"It has a rule of membership"`
	PolicyHalf
	Sentence      string    `json:"sentence" doc:"The policy in one line"`
	Owners        []Owner   `json:"owners"`
	Counts        Counts    `json:"counts"`
	Term          Term      `json:"term"`
	MyRole        string    `json:"my_role" enum:"none,member,moderator,owner" doc:"Of the person who asks"`
	May           []string  `json:"may,omitempty" doc:"What the person who asks may do; only on a single group"`
	LeftOut       []Line    `json:"left_out,omitempty" doc:"Of a group that was just made: whom its lists name and who could not be put into it, with why"`
	StartingPoint string    `json:"starting_point" doc:"The name of what it was begun from; empty for none"`
	CreatedAt     time.Time `json:"created_at"`
	Version       int       `json:"version" doc:"Counts what people edit: the ETag of the group, as a number"`
	Revision      int       `json:"revision" doc:"Counts changes of its people and its term: the ETag of its members, as a number"`
}

// Counts are the members of a group by role. External members are counted in
// their roles too; nested groups are not people.
type Counts struct {
	Owners     int  `json:"owners"`
	Moderators int  `json:"moderators"`
	Members    int  `json:"members"`
	External   int  `json:"external"`
	Nested     int  `json:"nested"`
	People     int  `json:"people" doc:"Whom it reaches, each once, through nested groups too: its size"`
	Departed   int  `json:"departed" doc:"People in it who have left the organisation; they count in no role"`
	More       bool `json:"more,omitempty" doc:"It reaches more, through groups that you may not find"`
}

// Owner is an owner of a group.
type Owner struct {
	Name     string `json:"name"`
	Address  string `json:"address"`
	Departed bool   `json:"departed,omitempty" doc:"Has left the organisation, and counts as none"`
}

// Term is how long a group lives. What it does not have is null.
type Term struct {
	RenewedAt       time.Time  `json:"renewed_at"`
	ExpiresOn       *string    `json:"expires_on" format:"date" doc:"The day from which on it takes no mail"`
	DaysLeft        *int       `json:"days_left" doc:"Midnights until it expires, in the workspace's time zone"`
	Rule            string     `json:"rule" doc:"The term rule that holds for it; empty: none"`
	Exempt          *Exempt    `json:"exempt" doc:"No term rule is for it"`
	Hold            *UnderHold `json:"hold" doc:"It is neither retired nor deleted for good"`
	EndedAt         *time.Time `json:"ended_at"`
	RestorableUntil *string    `json:"restorable_until" format:"date" doc:"The day from which on it can't be restored"`
}

// Exempt says why a group never expires, and who said so.
type Exempt struct {
	Reason string  `json:"reason"`
	By     string  `json:"by"`
	Until  *string `json:"until" format:"date" doc:"When to look at it again"`
}

// UnderHold says why a group is under hold, who put it there, and when.
type UnderHold struct {
	Reason string    `json:"reason"`
	By     string    `json:"by"`
	Since  time.Time `json:"since"`
}

// NewGroup is a group to create.
type NewGroup struct {
	Name        string `json:"name" maxLength:"200"`
	Address     string `json:"address,omitempty" maxLength:"400" doc:"Proposed from the name when left out"`
	Description string `json:"description,omitempty" maxLength:"2000"`
	Language    string `json:"language,omitempty" enum:"en,de" doc:"In which notices are written"`
	PolicyPatch
	StartingPoint string       `json:"starting_point,omitempty" maxLength:"60" doc:"What is left out here is as it says"`
	Aliases       []string     `json:"aliases,omitempty" maxItems:"50" doc:"Further addresses that lead to the group"`
	Traits        []string     `json:"traits,omitempty" maxItems:"4" enum:"archive,desk,calendar,access"`
	Delivery      string       `json:"default_delivery,omitempty" enum:"each,none"`
	Welcome       string       `json:"welcome,omitempty" maxLength:"2000"`
	Mail          MailPatch    `json:"mail,omitzero" doc:"What it adds to mail, and says to those who write"`
	Owners        []string     `json:"owners,omitempty" maxItems:"100" doc:"Addresses; left out, whoever makes a group for themselves owns it"`
	People        []NewPerson  `json:"people,omitempty" maxItems:"10000"`
	Lists         []PeopleList `json:"lists,omitempty" maxItems:"20" doc:"Lists of people to put into it; whoever of them can't be is left out"`
	Rule          string       `json:"rule,omitempty" maxLength:"4000" doc:"A rule of membership, as a SCIM filter"`
	Quiet         bool         `json:"quiet,omitempty" doc:"People are not told that they were added"`
	NestingWay
	Vouching
}

// MailTexts is what a group adds to the mail that it passes on, and says to those who write to it.
type MailTexts struct {
	Reply      string `json:"reply" doc:"Where answers go: author, group, or an address"`
	Tag        string `json:"tag" doc:"Stands in brackets before the subject, once"`
	Footer     string `json:"footer" doc:"Below each message that is not signed or encrypted"`
	Answer     string `json:"answer" doc:"Goes to whoever writes to it, once in answer_days"`
	AnswerDays int    `json:"answer_days" doc:"The same sender is answered once in so many days"`
	Notice     string `json:"notice" doc:"For whoever is about to write"`
	From       string `json:"from" enum:"author,group,due" doc:"In whose name mail of outsiders goes on: its author's; the group's, with answers to the author; or the group's where the author's domain asks others to refuse what does not prove itself (DMARC)"`
}

// MailPatch changes some of it.
type MailPatch struct {
	Reply      *string `json:"reply,omitempty" maxLength:"320" doc:"author, group, or an address"`
	Tag        *string `json:"tag,omitempty" maxLength:"200" doc:"At most 30 characters"`
	Footer     *string `json:"footer,omitempty" maxLength:"8000" doc:"At most 1000 characters, 200 in a line"`
	Answer     *string `json:"answer,omitempty" maxLength:"16000" doc:"At most 2000 characters"`
	AnswerDays *int    `json:"answer_days,omitempty" minimum:"1" maximum:"90"`
	Notice     *string `json:"notice,omitempty" maxLength:"2400" doc:"At most 300 characters, in one line"`
	From       *string `json:"from,omitempty" maxLength:"20" doc:"author, group or due"`
}

// GroupPatch changes what a group is called and how long it lives.
type GroupPatch struct {
	Name        *string   `json:"name,omitempty" maxLength:"200"`
	Description *string   `json:"description,omitempty" maxLength:"2000"`
	Language    *string   `json:"language,omitempty" enum:"en,de"`
	Address     *string   `json:"address,omitempty" maxLength:"400" doc:"Moves it; the old address becomes an alias"`
	Aliases     *[]string `json:"aliases,omitempty" maxItems:"50" doc:"All further addresses; those that are left out are given up"`
	Traits      *[]string `json:"traits,omitempty" maxItems:"4" enum:"archive,desk,calendar,access"`
	Delivery    *string   `json:"default_delivery,omitempty" enum:"each,none"`
	Welcome     *string   `json:"welcome,omitempty" maxLength:"2000"`
	Mail        MailPatch `json:"mail,omitzero" doc:"What it adds to mail, and says to those who write"`
	Exempt      *string   `json:"exempt,omitempty" maxLength:"500" doc:"Why no term rule is for it; empty takes that back"`
	ExemptUntil *string   `json:"exempt_until,omitempty" maxLength:"10" doc:"The day on which to look at that again; empty: never"`
}

// PolicySummary is a policy put in words.
type PolicySummary struct {
	PolicyHalf
	Sentence       string          `json:"sentence"`
	Sentences      []Sentence      `json:"sentences" doc:"The whole policy in words, in the order in which it is read"`
	Settings       []PolicySetting `json:"settings" doc:"Every setting with its words, in the order in which they are shown"`
	StandIns       []StandIn       `json:"stand_ins"`
	Contradictions []Fault         `json:"contradictions"`
	Warnings       []Fault         `json:"warnings"`
}

// PolicySetting is one setting of a policy with its words.
type PolicySetting struct {
	Name     string          `json:"name"`
	Part     string          `json:"part" enum:"seeing,getting_in,writing"`
	Asks     string          `json:"asks" doc:"What it decides"`
	Question bool            `json:"question" doc:"It is answered with an audience"`
	Value    string          `json:"value"`
	Can      string          `json:"can,omitempty" doc:"Of a question: what those can do whom the answer includes"`
	Short    string          `json:"short,omitempty" doc:"Of what is answered with an audience: the same in one or two words"`
	Ceiling  *SettingCeiling `json:"ceiling,omitempty" doc:"How far the workspace lets this group go"`
	Choices  []PolicyChoice  `json:"choices" doc:"The narrowest audience first, where it is a question"`
}

// Sentence is one sentence about a group, in pieces.
type Sentence struct {
	Part   string  `json:"part" enum:"seeing,getting_in,writing"`
	Pieces []Piece `json:"pieces"`
}

// Piece is a part of a sentence.
type Piece struct {
	Text    string `json:"text"`
	Setting string `json:"setting,omitempty" doc:"The setting that these words stand for; empty for mere words"`
}

// SettingCeiling is how far the workspace lets a group go in one setting.
type SettingCeiling struct {
	AtMost string `json:"at_most" enum:"nobody,owners,moderators,members,workspace"`
	SetBy  string `json:"set_by"`
	Reason string `json:"reason"`
}

// PolicyChoice is a value that a setting can have.
type PolicyChoice struct {
	Value string `json:"value"`
	Label string `json:"label"`
	In    string `json:"in" doc:"As it stands in a sentence"`
}

// StandIn says what one kind of person could do.
type StandIn struct {
	Who    string   `json:"who" enum:"owner,member,colleague,stranger"`
	Can    []string `json:"can"`
	Cannot []string `json:"cannot"`
}

// LookAlike is a group that may be the one that somebody is about to make again.
type LookAlike struct {
	Name    string   `json:"name"`
	Address string   `json:"address"`
	Owners  []Name   `json:"owners"`
	People  int      `json:"people"`
	State   string   `json:"state" enum:"active,due,lapsed,retired"`
	Why     []string `json:"why" enum:"name,address,people"`
	Says    string   `json:"says"`
}

// LookAlikeRequest asks for groups like one that is yet to be made.
type LookAlikeRequest struct {
	Name    string   `json:"name,omitempty" maxLength:"400"`
	Address string   `json:"address,omitempty" maxLength:"400"`
	People  []string `json:"people,omitempty" maxItems:"2000" doc:"Addresses of people who would be in it"`
}
