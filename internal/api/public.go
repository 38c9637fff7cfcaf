package api

// PublicPages is what the workspace shows on the internet of groups that anyone may find.
type PublicPages struct {
	Pages   bool `json:"pages" doc:"Each has a page there, by which people outside the workspace join or ask to"`
	List    bool `json:"list" doc:"They stand in a list there, too"`
	Groups  int  `json:"groups,omitempty" doc:"How many groups that live anyone may find; not set by you"`
	Version int  `json:"version,omitempty" doc:"The ETag, as a number"`
}

// PublicGroup is a group as anyone on the internet sees it.
type PublicGroup struct {
	Name        string   `json:"name"`
	Address     string   `json:"address"`
	Description string   `json:"description"`
	Language    string   `json:"language"`
	Writing     string   `json:"writing" doc:"What happens to what a stranger writes to it"`
	MayWrite    bool     `json:"may_write"`
	Notice      string   `json:"notice,omitempty" doc:"What the group says to those who write"`
	Owners      string   `json:"owners,omitempty" doc:"The address of its owners, where anyone may write to them"`
	Joining     string   `json:"joining" enum:"freely,asking,closed" doc:"How somebody outside the workspace comes in by themselves"`
	Joins       string   `json:"joins" doc:"The same in words"`
	People      []string `json:"people,omitempty" doc:"Names of people in it, where anyone may see who is; at most 100"`
	Number      int      `json:"number,omitempty" doc:"How many people are in it, where anyone may see who is, and no groups are"`
}

// PublicGroupHead is a group in the list that anyone on the internet sees.
type PublicGroupHead struct {
	Name        string `json:"name"`
	Address     string `json:"address"`
	Description string `json:"description"`
}

// Approach is that somebody outside the workspace wants to be in a group.
type Approach struct {
	Address string `json:"address" minLength:"3" maxLength:"320" doc:"A letter goes there by which it is proven"`
	Name    string `json:"name,omitempty" maxLength:"100" doc:"What they are called, for the owners"`
	Note    string `json:"note,omitempty" maxLength:"500" doc:"For the owners, where they are asked"`
}

// Approached is what becomes of it, the same for every address.
type Approached struct {
	Says string `json:"says"`
}

// ProofLink is what a letter's link is for by which somebody proves their address.
type ProofLink struct {
	Group       Name   `json:"group"`
	Description string `json:"description"`
	Address     string `json:"address" doc:"That is proven"`
	Joining     string `json:"joining" enum:"freely,asking,closed"`
	Outcome     string `json:"outcome" enum:"open,done,asked" doc:"open: nothing has happened yet"`
	Says        string `json:"says" doc:"What will happen, or has"`
}
