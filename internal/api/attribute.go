package api

// OwnAttribute is an attribute of people that the organisation keeps of its own, beside those of
// SCIM: an extension of its schema (RFC 7643, 3.3).
type OwnAttribute struct {
	Name    string `json:"name"`
	Label   string `json:"label" doc:"In plain words"`
	Kind    string `json:"kind" enum:"text,number,boolean,day"`
	Seen    bool   `json:"seen" doc:"Colleagues see it of each other; else administrators, auditors and the person alone"`
	Schema  string `json:"schema" doc:"By which its name can be qualified in rules and filters"`
	Version int    `json:"version" doc:"The ETag, as a number: of all of them together"`
}

// NewAttribute declares an attribute, or changes what is said of one.
type NewAttribute struct {
	Label string `json:"label,omitempty" maxLength:"100" doc:"In plain words; the name when left out"`
	Kind  string `json:"kind,omitempty" enum:"text,number,boolean,day" doc:"text when left out; stays as it is once it is declared"`
	Seen  bool   `json:"seen,omitempty"`
}
