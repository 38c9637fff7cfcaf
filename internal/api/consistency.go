package api

// Consistency says whether the records agree with those that they follow from.
type Consistency struct {
	Checks []Checked `json:"checks"`
	Wrong  int       `json:"wrong" doc:"Records that are not as they have to be"`
	Says   string    `json:"says"`
}

// Checked is what one check found.
type Checked struct {
	Name       string   `json:"name"`
	About      string   `json:"about" doc:"What is compared"`
	Wrong      int      `json:"wrong"`
	Says       []string `json:"says" doc:"What is wrong, of up to 100 records"`
	Repairable bool     `json:"repairable" doc:"The service can make it right by itself"`
	Repaired   bool     `json:"repaired,omitempty"`
}
