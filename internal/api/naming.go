package api

// Naming is the rules of the workspace for making groups and what they are called.
type Naming struct {
	Creators   string        `json:"creators" enum:"administrators,workspace" doc:"Who may create groups"`
	Pattern    string        `json:"pattern" maxLength:"400" doc:"How groups are named: {name} is what is typed, {locality} and other fields are the creator's; a field that is empty falls away with its brackets. Empty: names are as they are typed"`
	Patterns   []NamePattern `json:"patterns,omitempty" maxItems:"20" doc:"Other patterns for some groups; the first whose filter matches holds"`
	Words      []string      `json:"words" maxItems:"500" doc:"Words that no name and no address may have, as whole words"`
	Beginnings []string      `json:"beginnings" maxItems:"500" doc:"Words at the start that are kept for official groups"`
	Version    int           `json:"version,omitempty" doc:"The ETag, as a number"`
}

// NamePattern is how groups are named that a filter matches.
type NamePattern struct {
	Filter  string `json:"filter" maxLength:"4000" doc:"Of groups, by what is known before they are made: domain, starting_point, language, traits"`
	Pattern string `json:"pattern" maxLength:"400"`
}

// Proposal is an address for a name, and the name as the rules of the workspace make it.
type Proposal struct {
	Name    string   `json:"name" doc:"The final name"`
	Address string   `json:"address" doc:"The final address; empty where none can be made of the name"`
	Status  string   `json:"status" enum:"free,taken,alike,reserved,unavailable,against,invalid" doc:"unavailable: it can't be had, and whoever asks is told no more; against: a rule of naming forbids it"`
	Says    string   `json:"says"`
	Notes   []string `json:"notes" doc:"What else to know, such as that a rule does not bind you"`
	Near    []Near   `json:"near" doc:"What is at the address or like it"`
}

// Near is a person or group whose address is the same or like another.
type Near struct {
	Address string `json:"address"`
	Name    string `json:"name"`
	Kind    string `json:"kind" enum:"person,group,alias,former"`
	How     string `json:"how" enum:"same,alike,resembling"`
}

// StartingPoint is a named set of answers and traits to begin a group from.
type StartingPoint struct {
	Name     string      `json:"name" doc:"By which a script names it"`
	Title    string      `json:"title" maxLength:"100"`
	About    string      `json:"about" maxLength:"500"`
	BuiltIn  bool        `json:"built_in"`
	Policy   PolicyPatch `json:"policy"`
	Traits   []string    `json:"traits" enum:"archive,desk,calendar,access"`
	Delivery string      `json:"default_delivery,omitempty" enum:"each,none"`
	Welcome  string      `json:"welcome,omitempty" maxLength:"2000"`
	Mail     MailTexts   `json:"mail,omitzero" doc:"What is empty is as the group has it"`
	Sentence string      `json:"sentence" doc:"What comes of it, in one line"`
	Version  int         `json:"version" doc:"The ETag, as a number; 0 for a built-in one"`
}

// Beginning says from which starting point a group begins again.
type Beginning struct {
	StartingPoint string `json:"starting_point" minLength:"1" maxLength:"60"`
}

// Differing is a group that differs from the starting point that it was begun from.
type Differing struct {
	ID            string       `json:"id"`
	Group         Name         `json:"group"`
	StartingPoint string       `json:"starting_point"`
	Title         string       `json:"title" doc:"Of the starting point"`
	Differences   []Difference `json:"differences"`
}

// Difference is a field in which two things differ.
type Difference struct {
	Field string `json:"field"`
	From  string `json:"from" doc:"What the starting point says"`
	To    string `json:"to" doc:"What the group has"`
}

// NewStartingPoint makes or changes a starting point: from a policy, or from a group.
type NewStartingPoint struct {
	Title    string      `json:"title,omitempty" maxLength:"100" doc:"Its name when left out of a new one"`
	About    *string     `json:"about,omitempty" maxLength:"500"`
	From     string      `json:"from_group,omitempty" maxLength:"400" doc:"Takes policy, traits, delivery and texts of this group"`
	Policy   PolicyPatch `json:"policy,omitempty"`
	Traits   []string    `json:"traits,omitempty" maxItems:"4" enum:"archive,desk,calendar,access"`
	Delivery string      `json:"default_delivery,omitempty" enum:"each,none"`
	Welcome  *string     `json:"welcome,omitempty" maxLength:"2000"`
	Mail     MailPatch   `json:"mail,omitzero"`
}
