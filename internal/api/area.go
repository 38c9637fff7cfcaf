package api

import "time"

// Area is the groups that a filter names, handed to helpers with powers.
type Area struct {
	Name    string    `json:"name"`
	Filter  string    `json:"filter" doc:"Which groups, by domain, starting_point, address, name, language and traits"`
	Powers  []string  `json:"powers" enum:"people,owners,change,policy,life,posts,create"`
	Helpers []Helper  `json:"helpers"`
	Groups  int       `json:"groups" doc:"How many groups are in it"`
	SetBy   string    `json:"set_by"`
	SetAt   time.Time `json:"set_at"`
}

// Helper is somebody who helps in an area.
type Helper struct {
	Name     string `json:"name"`
	Address  string `json:"address"`
	Departed bool   `json:"departed,omitempty" doc:"Has left the organisation, and so may do nothing"`
}

// Power is what helpers may be given.
type Power struct {
	Name string `json:"name"`
	Says string `json:"says"`
}

// Areas are the areas of a workspace.
type Areas struct {
	Areas   []Area  `json:"areas"`
	Known   []Power `json:"known_powers" doc:"What helpers may be given; whoever helps finds the groups, sees who is in them and reads their history"`
	Version int     `json:"version"`
}

// NewArea is an area as it is set.
type NewArea struct {
	Name    string   `json:"name" maxLength:"100"`
	Filter  string   `json:"filter" maxLength:"1000" doc:"Which groups, by domain, starting_point, address, name, language and traits"`
	Powers  []string `json:"powers" maxItems:"10" enum:"people,owners,change,policy,life,posts,create"`
	Helpers []string `json:"helpers" maxItems:"50" doc:"Addresses"`
}

// NewAreas are all areas of a workspace, in place of those before.
type NewAreas struct {
	Areas []NewArea `json:"areas" maxItems:"100"`
}
