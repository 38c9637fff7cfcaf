package api

import "time"

// Decision is what the rules come to, and why.
type Decision struct {
	Outcome    string      `json:"outcome" enum:"allow,hold,refuse"`
	Rule       string      `json:"rule"`
	Reasons    []Reason    `json:"reasons"`
	Recipients *Recipients `json:"recipients,omitempty"`
	Notice     string      `json:"notice,omitempty" doc:"What the group says to those who write to it"`
	Hidden     string      `json:"hidden,omitempty" doc:"What was left out of account, since you may not see it"`
}

// Reason is one step of a decision.
type Reason struct {
	Rule string  `json:"rule"`
	Says string  `json:"says"`
	Mend *string `json:"mend" doc:"What would have to change; null where the step let it pass"`
}

// Recipients are the people whom a post would reach.
type Recipients struct {
	Count   int      `json:"count"`
	Sample  []string `json:"sample" doc:"The addresses of some"`
	Ways    []Way    `json:"ways" doc:"The first twenty, with the way by which each is reached"`
	Without int      `json:"without" doc:"How many people of the group chose to get no mail from it"`
	Hidden  string   `json:"hidden,omitempty" doc:"Whom it would reach beside, which you may not see"`
}

// Way is how somebody is reached by a post.
type Way struct {
	Name     string   `json:"name"`
	Address  string   `json:"address"`
	External bool     `json:"external"`
	Role     string   `json:"role,omitempty" doc:"Their own in the group"`
	Through  []string `json:"through,omitempty" doc:"Names of the nested groups by which they are in it, where they have no role of their own"`
}

// Rehearsal asks what would happen.
type Rehearsal struct {
	Action string `json:"action" enum:"find,see_people,read,join,leave,add_people,invite,nest,post,write_owners,speak_as,speak_for"`
	Group  string `json:"group" maxLength:"320" doc:"Identifier or address"`
	As     string `json:"as,omitempty" maxLength:"320" doc:"The address of who would do it"`
	Role   string `json:"role,omitempty" enum:"owner,moderator,member,external_member,colleague,stranger,administrator,auditor" doc:"In place of an address: anybody who is that"`
	Proven *bool  `json:"proven,omitempty" doc:"Of mail: it is proven who wrote it; true when left out"`
	With   string `json:"with,omitempty" maxLength:"320" doc:"Of nesting: the group that would be put into it"`
}

// Permitted is somebody who may do something with a group, or whom something that is settled about
// them keeps from it.
type Permitted struct {
	Name     string   `json:"name"`
	Address  string   `json:"address" doc:"*@DOMAIN for all addresses of a domain about which something is settled, * for everybody else"`
	External bool     `json:"external"`
	Role     string   `json:"role" enum:"owner,moderator,member,none" doc:"Their own in the group"`
	Through  []string `json:"through" doc:"Names of nested groups by which they are in it"`
	Outcome  string   `json:"outcome" enum:"allow,hold,refuse"`
	Was      string   `json:"was,omitempty" enum:"allow,hold,refuse" doc:"Of a draft: the outcome as it is now"`
	Rule     string   `json:"rule"`
	Says     string   `json:"says"`
}

// Abilities is what one person may do with one group.
type Abilities struct {
	Group   Name      `json:"group"`
	State   string    `json:"state" enum:"active,due,lapsed,retired"`
	Role    string    `json:"role" enum:"owner,moderator,member,none" doc:"Their own in the group"`
	Inside  bool      `json:"inside" doc:"They are in it, by themselves or through nested groups"`
	Settled string    `json:"settled" enum:"none,barred,trusted,held" doc:"What is settled about them in it"`
	May     []Ability `json:"may"`
}

// Ability is whether somebody may do one thing, and why.
type Ability struct {
	Action  string `json:"action"`
	Outcome string `json:"outcome" enum:"allow,hold,refuse"`
	Rule    string `json:"rule"`
	Says    string `json:"says"`
}

// Waiting is something that needs somebody's decision.
type Waiting struct {
	ID       string    `json:"id"`
	Kind     string    `json:"kind" enum:"post,join,leave,rule,nest,round" doc:"A post to approve, a request to join or leave, a change of who is in by rule, a group that would be in another, a group to confirm"`
	Group    Name      `json:"group"`
	Who      Name      `json:"who" doc:"Who wrote or asks; empty for a rule"`
	Proven   bool      `json:"proven" doc:"It is proven who that is"`
	External bool      `json:"external,omitempty" doc:"Who asks is not of the workspace"`
	Subject  string    `json:"subject" doc:"Of a post; the note of a request; what a rule would do"`
	Says     string    `json:"says" doc:"Why a post waits, who it is that asks, or what brought a rule about"`
	Size     int       `json:"size,omitempty" doc:"Of a post, in octets"`
	At       time.Time `json:"at" doc:"Since when it waits"`
}

// Writing is what somebody should know who is about to write to a group.
type Writing struct {
	Group   Name   `json:"group"`
	Outcome string `json:"outcome" enum:"allow,hold,refuse" doc:"What would become of their message"`
	Says    string `json:"says" doc:"Why"`
	Notice  string `json:"notice,omitempty" doc:"What the group says to those who write"`
	Replies string `json:"replies" doc:"Where answers go: author, group, or an address"`
	People  *int   `json:"people,omitempty" doc:"How many people get it, where they may see who is in it"`
}

// HeldPost is a message that waits for approval, as text alone.
type HeldPost struct {
	PostHead
	Group      Name       `json:"group"`
	From       string     `json:"from" doc:"The field as it came, decoded"`
	WrittenBy  string     `json:"written_by,omitempty" doc:"Who wrote it, where the author is a group that they speak for, or another address of theirs"`
	To         string     `json:"to"`
	Date       string     `json:"date"`
	Text       string     `json:"text" doc:"What it says, at most 32 kB"`
	Markup     bool       `json:"markup" doc:"It was written as HTML; this is its text, with the addresses of links"`
	Cut        bool       `json:"cut" doc:"There is more than is shown"`
	Files      []HeldFile `json:"files" doc:"What came with it, at most 50"`
	MoreFiles  int        `json:"more_files,omitempty"`
	Unreadable string     `json:"unreadable,omitempty" doc:"Why some or all of it can't be shown"`
	Reasons    []Reason   `json:"reasons" doc:"What led to its waiting, in order"`
}

// Because says why somebody does something.
type Because struct {
	Reason string `json:"reason" minLength:"1" maxLength:"300"`
}

// HeldFile is a file that came with a message.
type HeldFile struct {
	Name string `json:"name"`
	Type string `json:"type"`
	Size int    `json:"size" doc:"In octets"`
}

// PostHead is what is the same wherever a post is shown.
type PostHead struct {
	ID         string    `json:"id"`
	Author     string    `json:"author"`
	Proven     bool      `json:"proven"`
	Subject    string    `json:"subject"`
	Size       int       `json:"size" doc:"Of its body, in octets"`
	ReceivedAt time.Time `json:"received_at"`
}

// Undelivered is mail that could not be handed to everybody, or not yet.
type Undelivered struct {
	PostHead
	Group      *Name             `json:"group" doc:"Null for a letter about no group"`
	HandedOver int               `json:"handed_over" doc:"For how many people the mail system has taken it over"`
	Failed     int               `json:"failed" doc:"How many people were refused or put off"`
	Trying     bool              `json:"trying" doc:"It is tried again by itself"`
	NextAt     *time.Time        `json:"next_at" doc:"When it is tried again"`
	Says       string            `json:"says" doc:"What became of it"`
	Recipients []FailedRecipient `json:"recipients" doc:"The first of those who were refused or put off, as far as one may see who is in the group"`
	Hidden     string            `json:"hidden,omitempty" doc:"Says that there are others"`
}

// FailedRecipient is somebody whom a message could not be handed to.
type FailedRecipient struct {
	Address  string    `json:"address"`
	GivenUp  bool      `json:"given_up" doc:"False: it is tried again"`
	Attempts int       `json:"attempts"`
	At       time.Time `json:"at" doc:"Of the last attempt"`
	Reply    string    `json:"reply" doc:"What the mail system said"`
}

// Retries says which mail is to be tried again.
type Retries struct {
	IDs []string `json:"ids" minItems:"1" maxItems:"100" doc:"Of undelivered mail"`
}

// Post is a message to a group, and what became of it.
type Post struct {
	PostHead
	State      string   `json:"state" enum:"accepted,waiting,declined"`
	Decision   Decision `json:"decision" doc:"What the rules came to when it came in, and why"`
	Says       string   `json:"says" doc:"What became of it"`
	HandedOver *int     `json:"handed_over" doc:"For how many people the mail system has taken it over; null where you don't see who is in the group"`
	Failed     *int     `json:"failed" doc:"How many people were refused or put off"`
	Going      bool     `json:"going" doc:"It is not done with yet"`
	Trouble    bool     `json:"trouble" doc:"Somebody did not get it, or not yet"`
}

// Delivery is what became of a post for one recipient.
type Delivery struct {
	Recipient string     `json:"recipient"`
	State     string     `json:"state" enum:"handed_over,returned,refused,trying,waiting" doc:"handed_over: the mail system took it over; returned: it took it over, and could not deliver it; refused: for good; trying: it was put off and is tried again; waiting: its turn has not come"`
	At        *time.Time `json:"at,omitempty" doc:"When it was handed over, refused or put off last"`
	NextAt    *time.Time `json:"next_at,omitempty" doc:"When it is tried"`
	Attempts  int        `json:"attempts"`
	Reply     string     `json:"reply,omitempty" doc:"What the mail system said"`
}

// SendAgain names whom a post goes to once more.
type SendAgain struct {
	Recipient string `json:"recipient" minLength:"3" maxLength:"320"`
}
