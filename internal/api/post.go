package api

import "time"

// Decision is what the rules come to, and why.
type Decision struct {
	Outcome    string      `json:"outcome" enum:"allow,hold,refuse"`
	Rule       string      `json:"rule"`
	Reasons    []Reason    `json:"reasons"`
	Recipients *Recipients `json:"recipients,omitempty"`
}

// Reason is one step of a decision.
type Reason struct {
	Rule string  `json:"rule"`
	Says string  `json:"says"`
	Mend *string `json:"mend" doc:"What would have to change; null where the step let it pass"`
}

// Recipients are the people whom a post would reach.
type Recipients struct {
	Count  int      `json:"count"`
	Sample []string `json:"sample"`
	Hidden string   `json:"hidden,omitempty" doc:"Whom it would reach beside, which you may not see"`
}

// Rehearsal asks what would happen.
type Rehearsal struct {
	Action string `json:"action" doc:"post, or a question of the policy"`
	Group  string `json:"group" doc:"Identifier or address"`
	As     string `json:"as" maxLength:"320" doc:"The address of who would do it"`
	Proven *bool  `json:"proven,omitempty" doc:"The author signed in to send it; true when left out"`
}

// Post is a message that waits for approval.
type Post struct {
	ID         string    `json:"id"`
	Group      Name      `json:"group"`
	Author     string    `json:"author"`
	Proven     bool      `json:"proven"`
	Subject    string    `json:"subject"`
	Size       int       `json:"size" doc:"In octets"`
	ReceivedAt time.Time `json:"received_at"`
	Decision   Decision  `json:"decision"`
}
