package api

import "time"

// Ceiling is how far groups may go in one setting.
type Ceiling struct {
	Setting string    `json:"setting" enum:"find,see_people,read,post,write_owners,add_people,speak_as,speak_for,join.audience"`
	AtMost  string    `json:"at_most" enum:"nobody,owners,moderators,members,workspace" doc:"The widest audience that may be chosen"`
	Filter  string    `json:"filter" maxLength:"1000" doc:"Which groups, by domain and starting_point; empty: all"`
	Reason  string    `json:"reason" maxLength:"300" doc:"Told to whoever would go further"`
	SetBy   string    `json:"set_by"`
	SetAt   time.Time `json:"set_at"`
}

// NewCeiling is a ceiling as it is set.
type NewCeiling struct {
	Setting string `json:"setting" enum:"find,see_people,read,post,write_owners,add_people,speak_as,speak_for,join.audience"`
	AtMost  string `json:"at_most" enum:"nobody,owners,moderators,members,workspace" doc:"The widest audience that may be chosen"`
	Filter  string `json:"filter,omitempty" maxLength:"1000" doc:"Which groups, by domain and starting_point; empty: all"`
	Reason  string `json:"reason,omitempty" maxLength:"300" doc:"Told to whoever would go further"`
}

// NewCeilings are all ceilings of a workspace, in place of those before.
type NewCeilings struct {
	Ceilings []NewCeiling `json:"ceilings" maxItems:"50"`
}

// Ceilings are all ceilings of a workspace.
type Ceilings struct {
	Ceilings []Ceiling `json:"ceilings"`
	Change   string    `json:"change,omitempty" doc:"Of a change of ceilings: the change of many groups that brings down those above"`
	Version  int       `json:"version"`
}
