package api

// Domain is a mail domain of the workspace, with what lies in it.
type Domain struct {
	Name    string `json:"name"`
	Main    bool   `json:"main" doc:"An address that is given without its domain lies in it"`
	People  int    `json:"people" doc:"Here and departed"`
	Groups  int    `json:"groups"`
	Aliases int    `json:"aliases"`
	Former  int    `json:"former_addresses" doc:"Addresses that people had before"`
	Version int    `json:"version" doc:"The ETag, as a number: of all domains together"`
}

// NewDomain is another mail domain.
type NewDomain struct {
	Name string `json:"name" maxLength:"255"`
}
