package api

import "time"

// SignIn is who signs in.
type SignIn struct {
	Address  string `json:"address" maxLength:"320"`
	Password string `json:"password" maxLength:"200"`
	Code     string `json:"code,omitempty" maxLength:"40" doc:"Of the second factor, or a recovery code; for who has one"`
}

// Me is the person who asks.
type Me struct {
	Person
	Domains  []string  `json:"domains" doc:"Mail domains of the workspace, the main one first"`
	Places   []string  `json:"places" enum:"mine,groups,people,waiting,care,rules,history" doc:"Parts of the console that are for this person"`
	Demo     bool      `json:"demo"`
	Now      time.Time `json:"now" doc:"The time of the workspace; in the demo it can be moved"`
	TimeZone string    `json:"time_zone" doc:"In which the workspace counts days, by its IANA name"`
	Ahead    int       `json:"days_ahead" doc:"By how many days the time of a demo was moved"`
	May      []string  `json:"may" doc:"What the person may do in the workspace"`
	Waiting  int       `json:"waiting" doc:"How much waits for the person's decision"`

	LacksFactor bool           `json:"lacks_factor" doc:"The workspace asks for a second factor: nothing else can be done before there is one"`
	Left        map[string]int `json:"left,omitempty" doc:"What the person may still do today: groups made, outsiders brought in, letters caused; none for administrators"`
}

// Token is an access token for scripts, or with the scope send a password for a mail program.
// Secret is given once, on creation.
type Token struct {
	ID         string     `json:"id"`
	Name       string     `json:"name"`
	Scopes     []string   `json:"scopes" enum:"send,read,people,groups,policy,everything"`
	CreatedAt  time.Time  `json:"created_at"`
	ExpiresAt  time.Time  `json:"expires_at"`
	LastUsedAt *time.Time `json:"last_used_at" doc:"Within ten minutes; null: never"`
	Secret     string     `json:"secret,omitempty"`
}

// NewToken asks for a token.
type NewToken struct {
	Name   string   `json:"name" minLength:"1" maxLength:"100"`
	Days   int      `json:"days,omitempty" minimum:"1" maximum:"365" doc:"90 when left out"`
	Scopes []string `json:"scopes,omitempty" maxItems:"6" enum:"send,read,people,groups,policy,everything" doc:"What it is good for; read when left out. send makes a password for a mail program, and stands alone"`
}

// PasswordLink says for whom a link is by which a password is chosen.
type PasswordLink struct {
	Name      string    `json:"name"`
	Address   string    `json:"address"`
	ExpiresAt time.Time `json:"expires_at"`
	Shortest  int       `json:"shortest" doc:"How many characters a password has at least"`
}

// PasswordLinkRequest asks for such a link.
type PasswordLinkRequest struct {
	Address string `json:"address" maxLength:"320"`
}

// NewPassword is a password that is chosen.
type NewPassword struct {
	Password string `json:"password" maxLength:"1000"`
}

// PasswordChange changes one's own password.
type PasswordChange struct {
	Current    string `json:"current" maxLength:"1000"`
	Password   string `json:"password" maxLength:"1000"`
	KeepTokens bool   `json:"keep_tokens,omitempty" doc:"Tokens and passwords of mail programs stay; else they end too"`
}

// SecondFactor is what somebody proves beside the password that they are (RFC 6238).
type SecondFactor struct {
	On            bool       `json:"on"`
	Demanded      bool       `json:"demanded" doc:"The workspace asks for it"`
	Since         *time.Time `json:"since"`
	RecoveryCodes int        `json:"recovery_codes" doc:"How many are left"`
}

// FactorBegin begins a second factor.
type FactorBegin struct {
	Password string `json:"password" maxLength:"1000" doc:"One's own"`
}

// NewFactor is what a program needs to make codes.
type NewFactor struct {
	Secret  string `json:"secret" doc:"In base32, to be typed in"`
	URI     string `json:"uri" doc:"The same for a program that opens otpauth links"`
	Picture string `json:"picture" doc:"The same for a camera, as a data URI"`
}

// FactorCode is a code that a program shows.
type FactorCode struct {
	Code string `json:"code" maxLength:"40"`
}

// RecoveryCodes are each good for one sign-in without the second factor. They are shown once.
type RecoveryCodes struct {
	Codes []string `json:"codes"`
}

// FactorEnd turns a second factor off.
type FactorEnd struct {
	Password string `json:"password" maxLength:"1000" doc:"One's own"`
	Code     string `json:"code" maxLength:"40" doc:"That the program shows, or a recovery code"`
}

// Protection is what protects the workspace from its own people and their programs.
type Protection struct {
	SecondFactor string   `json:"second_factor" enum:"nobody,administrators,everybody" doc:"Who has to have a second factor"`
	Shown        []string `json:"shown_attributes" maxItems:"30" doc:"Attributes that colleagues see of each other, beside name and address"`
	Groups       int      `json:"groups_a_day" minimum:"0" maximum:"1000000" doc:"Groups that somebody makes in a day who is no administrator"`
	Outsiders    int      `json:"outsiders_a_day" minimum:"0" maximum:"1000000" doc:"Outsiders whom they invite or put in"`
	Letters      int      `json:"letters_a_day" minimum:"0" maximum:"1000000" doc:"Letters that they cause"`
	FromOne      int      `json:"messages_of_a_writer_an_hour,omitempty" minimum:"1" maximum:"1000000" doc:"Messages of one writer that each instance takes in an hour; what only claims to be theirs is counted by itself. Left out, it stays"`
	ToGroup      int      `json:"messages_to_a_group_an_hour,omitempty" minimum:"1" maximum:"1000000" doc:"Messages to one group that each instance takes in an hour; those of strangers are counted by themselves. Left out, it stays"`
	Known        []string `json:"known_attributes,omitempty" readOnly:"true" doc:"Attributes that there are"`
	Version      int      `json:"version,omitempty" readOnly:"true"`
}
