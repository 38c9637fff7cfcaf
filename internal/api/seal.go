package api

// Seal is the last seal of the history: whoever keeps it elsewhere can prove later that nothing before it was changed.
type Seal struct {
	Place int64  `json:"place" doc:"In the chain: how many entries are sealed"`
	Entry int64  `json:"entry" doc:"The highest entry that is sealed"`
	Seal  string `json:"seal" doc:"In hexadecimal (SHA-512/256); empty: none is yet"`
}

// KeptSeal is a seal that was kept elsewhere.
type KeptSeal struct {
	Place int64  `json:"place" minimum:"1"`
	Seal  string `json:"seal" maxLength:"64" doc:"In hexadecimal"`
}

// Verify asks to go along the history.
type Verify struct {
	Kept []KeptSeal `json:"kept,omitempty" maxItems:"100" doc:"Seals that were kept elsewhere, to be compared"`
}

// Verification is what going along the history found.
type Verification struct {
	Says   string      `json:"says"`
	Right  int64       `json:"right" doc:"Entries that are as they were sealed"`
	Faults []SealFault `json:"faults" doc:"What is wrong, in the order of the chain: up to 1,000"`
	Total  int         `json:"total" doc:"How many faults there are"`
	Seal   Seal        `json:"seal" doc:"The last seal, to be kept"`
}

// SealFault is one thing that is wrong with the history.
type SealFault struct {
	Kind  string `json:"kind" enum:"edited,missing,added,reordered,erased,rewritten"`
	Place int64  `json:"place" doc:"In the chain; 0 for an entry that has none"`
	Entry int64  `json:"entry" doc:"0 where that is not known"`
	Says  string `json:"says"`
}
