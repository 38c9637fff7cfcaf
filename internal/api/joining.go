package api

import "time"

// JoinRequest asks to join or leave a group.
type JoinRequest struct {
	Note string `json:"note,omitempty" maxLength:"500" doc:"For whoever decides"`
}

// JoinResult is what became of it.
type JoinResult struct {
	Outcome string `json:"outcome" enum:"done,asked"`
	Says    string `json:"says"`
}

// Request is a request to join or leave that waits for a decision, or did.
type Request struct {
	ID        string     `json:"id"`
	Kind      string     `json:"kind" enum:"join,leave"`
	Group     Name       `json:"group"`
	Person    Name       `json:"person"`
	External  bool       `json:"external,omitempty" doc:"They are not of the workspace"`
	About     string     `json:"about" doc:"The person's department and place"`
	Note      string     `json:"note"`
	State     string     `json:"state" enum:"open,approved,declined,withdrawn"`
	MadeAt    time.Time  `json:"made_at"`
	DecidedBy string     `json:"decided_by,omitempty"`
	DecidedAt *time.Time `json:"decided_at"`
	Reason    string     `json:"reason,omitempty"`
}

// Decisions decides several requests, or several posts, at once.
type Decisions struct {
	IDs     []string `json:"ids" minItems:"1" maxItems:"500"`
	Verdict string   `json:"verdict" enum:"approve,decline"`
	Reason  string   `json:"reason,omitempty" maxLength:"500" doc:"Mailed to whoever asked or wrote"`
	Author  string   `json:"author,omitempty" enum:"trust,bar" doc:"Of posts: what is settled about their authors in the group from now on; trust with an approval, bar with a refusal"`
	Consent string   `json:"consent,omitempty" enum:"counted,seen" doc:"Of groups that would be in others, when approved: whether their people are seen there, or only counted, as when left out"`
}

// DecidedAll are the results in the order of the request.
type DecidedAll struct {
	Results []Decided `json:"results"`
	Decided int       `json:"decided" doc:"How many were decided; the others say why not"`
	Says    string    `json:"says"`
}

// Decided is what became of one request or post.
type Decided struct {
	ID      string `json:"id"`
	Person  string `json:"person,omitempty" doc:"Who asked or wrote"`
	Group   string `json:"group,omitempty"`
	Subject string `json:"subject,omitempty" doc:"Of a post"`
	Outcome string `json:"outcome" enum:"approved,declined,tried again,changed,removed,refused"`
	Says    string `json:"says"`
}

// Invitation is an offer to enter a group, as those see it who run the group.
type Invitation struct {
	ID        string    `json:"id"`
	Address   string    `json:"address"`
	Role      string    `json:"role" enum:"owner,moderator,member"`
	MadeBy    string    `json:"made_by"`
	MadeAt    time.Time `json:"made_at"`
	ExpiresAt time.Time `json:"expires_at"`
}

// LinkPreview is an invitation or a join link, as whoever holds it sees it.
type LinkPreview struct {
	Kind        string    `json:"kind" enum:"invitation,link"`
	Group       Name      `json:"group" doc:"Empty, as all that is said of the group, once what the link stands for is over"`
	Description string    `json:"description"`
	Sentence    string    `json:"sentence" doc:"The group's policy in one line"`
	Owners      []string  `json:"owners" doc:"Names of those who run it"`
	For         string    `json:"for,omitempty" doc:"Of an invitation: the address that it was sent to"`
	SignIn      bool      `json:"sign_in,omitempty" doc:"Of an invitation: it is for somebody of the workspace, who has to be signed in to answer"`
	By          string    `json:"by"`
	State       string    `json:"state" enum:"open,accepted,declined,expired,called back,used up,ended"`
	Says        string    `json:"says"`
	ExpiresAt   time.Time `json:"expires_at"`
}

// Answer answers an invitation.
type Answer struct {
	Answer string `json:"answer" enum:"accept,decline"`
}

// JoinLink is a link by which people of the workspace enter a group.
type JoinLink struct {
	ID        string    `json:"id"`
	URL       string    `json:"url,omitempty" doc:"Given once, on creation"`
	Note      string    `json:"note"`
	Uses      int       `json:"uses"`
	Max       int       `json:"max" doc:"Uses after which it ends; 0: no bound"`
	MadeBy    string    `json:"made_by"`
	MadeAt    time.Time `json:"made_at"`
	ExpiresAt time.Time `json:"expires_at"`
}

// NewJoinLink asks for a link.
type NewJoinLink struct {
	Days int    `json:"days,omitempty" minimum:"1" maximum:"365" doc:"14 when left out"`
	Max  int    `json:"max,omitempty" minimum:"0" maximum:"100000" doc:"Uses after which it ends; 0: no bound"`
	Note string `json:"note,omitempty" maxLength:"200" doc:"Whom it is for"`
}
