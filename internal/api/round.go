package api

import "time"

// NewRound asks those who own groups to confirm them.
type NewRound struct {
	Name        string   `json:"name" maxLength:"120" doc:"By which people speak of it: Autumn round 2027"`
	Filter      string   `json:"filter,omitempty" maxLength:"4000" doc:"Of the living groups that this filter names; of all, when left out"`
	Questions   []string `json:"questions" minItems:"1" maxItems:"4" enum:"needed,people,policy,owner" doc:"What is to be confirmed"`
	DueOn       string   `json:"due_on" maxLength:"10" doc:"The last day on which to answer"`
	Reminders   []int    `json:"reminders,omitempty" maxItems:"6" doc:"So many days before it, the most first"`
	StandIn     string   `json:"stand_in,omitempty" maxLength:"320" doc:"Who answers for groups without owners: somebody of the workspace; their caretakers, when left out"`
	Silence     string   `json:"silence,omitempty" enum:"nothing,retire,caretaker" doc:"What becomes of groups about which nobody answers; nothing, when left out"`
	EveryMonths int      `json:"every_months,omitempty" minimum:"0" maximum:"60" doc:"It begins again so many months after it began; 0 for once"`
	Note        string   `json:"note,omitempty" maxLength:"1000" doc:"Stands in the letters"`
}

// RoundPatch changes a round that is open. What is left out stays.
type RoundPatch struct {
	Name        *string `json:"name,omitempty" maxLength:"120"`
	DueOn       *string `json:"due_on,omitempty" maxLength:"10" doc:"Later than it was, or sooner, but a day to come"`
	Reminders   *[]int  `json:"reminders,omitempty" maxItems:"6"`
	Silence     *string `json:"silence,omitempty" enum:"nothing,retire,caretaker"`
	EveryMonths *int    `json:"every_months,omitempty" minimum:"0" maximum:"60"`
	Note        *string `json:"note,omitempty" maxLength:"1000"`
}

// Round is a dated request to those who own groups to confirm that these are needed and right.
type Round struct {
	ID          string      `json:"id"`
	Name        string      `json:"name"`
	Filter      string      `json:"filter,omitempty"`
	Questions   []Asks      `json:"questions"`
	DueOn       string      `json:"due_on"`
	DaysLeft    int         `json:"days_left" doc:"Negative once its day has passed"`
	Reminders   []int       `json:"reminders"`
	StandIn     string      `json:"stand_in,omitempty"`
	Silence     string      `json:"silence" enum:"nothing,retire,caretaker"`
	EveryMonths int         `json:"every_months,omitempty"`
	Note        string      `json:"note,omitempty"`
	State       string      `json:"state" enum:"open,over,stopped"`
	Counts      RoundCounts `json:"counts"`
	By          string      `json:"by" doc:"The address of who began it"`
	BegunAt     time.Time   `json:"begun_at"`
	ToldAt      *time.Time  `json:"told_at,omitempty" doc:"When the last letters went out"`
	ClosedAt    *time.Time  `json:"closed_at,omitempty"`
	NextOn      string      `json:"next_on,omitempty" doc:"The day on which it begins again"`
	Previous    string      `json:"previous,omitempty" doc:"The round that it repeats"`
	Version     int         `json:"version" doc:"The ETag, as a number"`
}

// Asks is a question of a round, with its words.
type Asks struct {
	Question string `json:"question" enum:"needed,people,policy,owner"`
	Says     string `json:"says"`
}

// RoundCounts are how many groups are in which state.
type RoundCounts struct {
	Total   int `json:"total"`
	Waiting int `json:"waiting"`
	Kept    int `json:"kept"`
	Retired int `json:"retired"`
	Silent  int `json:"silent" doc:"Its day passed without an answer"`
	Gone    int `json:"gone" doc:"They ended otherwise"`
}

// RoundPart is how far a part of a round is.
type RoundPart struct {
	Name string `json:"name"`
	RoundCounts
}

// RoundGroup is a group in a round: as it was when the round began, and what was answered.
type RoundGroup struct {
	ID         string     `json:"id"`
	Group      Name       `json:"group"`
	Owners     []string   `json:"owners" doc:"Addresses of those who owned it then"`
	People     int        `json:"people"`
	External   int        `json:"external"`
	State      string     `json:"state" enum:"waiting,kept,retired,silent,gone"`
	Nobody     bool       `json:"nobody,omitempty" doc:"Nobody owns it by now"`
	AskedAt    time.Time  `json:"asked_at"`
	Confirmed  []string   `json:"confirmed"`
	Removed    int        `json:"removed,omitempty" doc:"People whom the answer took out"`
	Note       string     `json:"note,omitempty"`
	Says       string     `json:"says,omitempty"`
	AnsweredBy *Name      `json:"answered_by,omitempty"`
	AnsweredAt *time.Time `json:"answered_at,omitempty"`
	Via        string     `json:"via,omitempty" doc:"link: by the link of a letter"`
}

// RoundQuestion asks somebody to confirm a group.
type RoundQuestion struct {
	ID          string    `json:"id"`
	Round       string    `json:"round" doc:"Its name"`
	RoundID     string    `json:"round_id"`
	Note        string    `json:"note,omitempty"`
	Questions   []Asks    `json:"questions"`
	DueOn       string    `json:"due_on"`
	DaysLeft    int       `json:"days_left"`
	Silence     string    `json:"silence" enum:"nothing,retire,caretaker"`
	Group       Name      `json:"group"`
	Description string    `json:"description,omitempty"`
	Sentence    string    `json:"sentence" doc:"Its policy, in short"`
	Owners      []string  `json:"owners" doc:"Names of those who own it"`
	People      int       `json:"people"`
	External    int       `json:"external"`
	Since       time.Time `json:"since" doc:"When it was confirmed last, or when it was made"`
	First       bool      `json:"first,omitempty" doc:"It was never confirmed"`
	Came        int       `json:"came" doc:"People who came into it since then"`
	Left        int       `json:"left" doc:"People who left it since then"`
	MayRetire   bool      `json:"may_retire,omitempty"`
	MayChange   bool      `json:"may_change,omitempty" doc:"I may take people out, and make somebody else an owner"`
}

// RoundAnswer answers for groups.
type RoundAnswer struct {
	IDs       []string `json:"ids" minItems:"1" maxItems:"200" doc:"Of what was asked"`
	Answer    string   `json:"answer" enum:"keep,retire,hand_over"`
	Confirmed []string `json:"confirmed,omitempty" maxItems:"4" doc:"With keep: every question of the round"`
	Remove    []string `json:"remove,omitempty" maxItems:"1000" doc:"With keep, of one group: addresses of those who are taken out of it"`
	To        string   `json:"to,omitempty" maxLength:"320" doc:"With hand_over: who owns it in my place, and is asked"`
	Note      string   `json:"note,omitempty" maxLength:"500" doc:"Is kept with the answer"`
}

// RoundTold is what a letter of a round asked, for whoever holds its link.
type RoundTold struct {
	Recipient string      `json:"recipient"`
	Round     string      `json:"round"`
	Note      string      `json:"note,omitempty"`
	Questions []Asks      `json:"questions"`
	DueOn     string      `json:"due_on"`
	DaysLeft  int         `json:"days_left"`
	Open      bool        `json:"open" doc:"It can be answered still"`
	Groups    []ToldAsked `json:"groups" doc:"Those that still wait for an answer"`
	Kept      int         `json:"kept" doc:"Groups that were kept by this link just now"`
}

// ToldAsked is a group in the letter of a round.
type ToldAsked struct {
	ID       string `json:"id"`
	Name     string `json:"name"`
	Address  string `json:"address"`
	People   int    `json:"people"`
	External int    `json:"external"`
}

// RoundKept keeps groups as they are, by the link of a letter.
type RoundKept struct {
	IDs  []string `json:"ids" minItems:"1" maxItems:"1000"`
	Note string   `json:"note,omitempty" maxLength:"500"`
}

// RoundEvidence is what was answered about a group, with where that stands in the history.
type RoundEvidence struct {
	Round string `json:"round"`
	RoundGroup
	Entry int64  `json:"history_entry,omitempty" doc:"Of the history, which says the same"`
	Seal  string `json:"history_seal,omitempty" doc:"Of that entry, in hexadecimal; it is sealed within a second"`
}
