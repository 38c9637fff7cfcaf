package api

import "time"

// SigningKey is a key that mail in the name of a domain is signed with.
type SigningKey struct {
	Selector string     `json:"selector"`
	Used     bool       `json:"used" doc:"Mail is signed with it now"`
	Name     string     `json:"name" doc:"Where its record stands"`
	Record   string     `json:"record" doc:"The text of its TXT record"`
	MadeAt   time.Time  `json:"made_at"`
	MadeBy   string     `json:"made_by"`
	UsedAt   *time.Time `json:"used_at" doc:"Since when it is used, or was first"`
}

// DomainCheck says what a mail domain publishes, and what is missing.
type DomainCheck struct {
	Domain string         `json:"domain"`
	At     time.Time      `json:"at"`
	Open   int            `json:"open" doc:"How many of the parts are not well"`
	Items  []DomainRecord `json:"items"`
}

// DomainRecord is what there is to say of one part of it.
type DomainRecord struct {
	Part   string `json:"part" enum:"mx,spf,dkim,dmarc" doc:"mx: where its mail goes; spf: which machines may send in its name; dkim: the key that its mail is signed with; dmarc: what others do with mail that proves nothing"`
	State  string `json:"state" enum:"well,doubtful,missing,unknown"`
	Name   string `json:"name,omitempty" doc:"Where the record stands"`
	Found  string `json:"found,omitempty" doc:"What stands there"`
	Wanted string `json:"wanted,omitempty" doc:"What should stand there, where that is known"`
	Says   string `json:"says"`
}
