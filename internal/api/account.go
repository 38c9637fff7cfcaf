package api

import "time"

// SignIn is who signs in.
type SignIn struct {
	Address  string `json:"address" maxLength:"320"`
	Password string `json:"password" maxLength:"200"`
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
	Current  string `json:"current" maxLength:"1000"`
	Password string `json:"password" maxLength:"1000"`
}
