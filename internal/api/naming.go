package api

// Naming is the rules of the workspace for making groups and what they are called.
type Naming struct {
	Creators   string   `json:"creators" enum:"administrators,workspace" doc:"Who may create groups"`
	Prefix     string   `json:"prefix" maxLength:"200" doc:"Put before names; {department} and other fields are the creator's"`
	Suffix     string   `json:"suffix" maxLength:"200" doc:"Put after names"`
	Words      []string `json:"words" maxItems:"500" doc:"Words that no name and no address may have, as whole words"`
	Beginnings []string `json:"beginnings" maxItems:"500" doc:"Words at the start that are kept for official groups"`
	Version    int      `json:"version,omitempty"`
}

// NamingEffect says which groups break a rule that is not in force yet.
type NamingEffect struct {
	Groups int          `json:"groups" doc:"Living groups in the workspace"`
	Broken int          `json:"broken" doc:"How many of them break a rule"`
	Says   string       `json:"says"`
	Sample []BrokenName `json:"sample" doc:"Up to 200 of them, by name"`
}

// BrokenName is a group that breaks rules of naming.
type BrokenName struct {
	Name    string   `json:"name"`
	Address string   `json:"address"`
	Says    []string `json:"says"`
}

// Proposal is an address for a name, and the name as the rules of the workspace have it.
type Proposal struct {
	Name    string   `json:"name" doc:"The final name"`
	Address string   `json:"address" doc:"The final address; empty where none can be made of the name"`
	Status  string   `json:"status" enum:"free,taken,alike,reserved,against,invalid" doc:"against: a rule of naming forbids it"`
	Says    string   `json:"says"`
	Notes   []string `json:"notes" doc:"What else to know, such as that a rule does not bind you"`
	Near    []Near   `json:"near" doc:"What is at the address or like it"`
}

// LookAlike is a group that may be the one that somebody is about to make again.
type LookAlike struct {
	Name    string   `json:"name"`
	Address string   `json:"address"`
	Owners  []Name   `json:"owners"`
	People  int      `json:"people"`
	State   string   `json:"state"`
	Why     []string `json:"why" doc:"name, address, people"`
	Says    string   `json:"says"`
}

// LookAlikeRequest asks for groups like one that is yet to be made.
type LookAlikeRequest struct {
	Name    string   `json:"name,omitempty" maxLength:"400"`
	Address string   `json:"address,omitempty" maxLength:"400"`
	People  []string `json:"people,omitempty" maxItems:"2000" doc:"Addresses of people who would be in it"`
}

// StartingPoint is a named set of answers and traits to begin a group from.
type StartingPoint struct {
	Name     string      `json:"name" doc:"By which a script names it"`
	Title    string      `json:"title" maxLength:"100"`
	About    string      `json:"about" maxLength:"500"`
	BuiltIn  bool        `json:"built_in"`
	Policy   PolicyPatch `json:"policy"`
	Traits   []string    `json:"traits"`
	Delivery string      `json:"default_delivery,omitempty"`
	Welcome  string      `json:"welcome,omitempty" maxLength:"2000"`
	Sentence string      `json:"sentence" doc:"What comes of it, in one line"`
}

// NewStartingPoint makes or changes a starting point: from a policy, or from a group.
type NewStartingPoint struct {
	Title    string      `json:"title" maxLength:"100"`
	About    string      `json:"about,omitempty" maxLength:"500"`
	From     string      `json:"from_group,omitempty" maxLength:"400" doc:"Takes policy, traits, delivery and welcome of this group"`
	Policy   PolicyPatch `json:"policy,omitempty"`
	Traits   []string    `json:"traits,omitempty" maxItems:"4"`
	Delivery string      `json:"default_delivery,omitempty"`
	Welcome  string      `json:"welcome,omitempty" maxLength:"2000"`
}
