package api

import "time"

// Rule is a rule of membership.
type Rule struct {
	Expression string             `json:"expression" maxLength:"5000" doc:"A SCIM filter (RFC 7644, 3.4.2.2)"`
	Guard      int                `json:"guard" minimum:"0" maximum:"100" doc:"A change that would remove more than this share of those in by rule, in percent, waits for a person; 100: none does"`
	SetBy      string             `json:"set_by,omitempty"`
	SetAt      time.Time          `json:"set_at,omitzero"`
	Members    int                `json:"members" doc:"How many are in by it"`
	Pending    *PendingRuleChange `json:"pending" doc:"A change that waits because of the guard"`
	Version    int                `json:"version" doc:"The ETag, as a number"`
}

// NewRule puts a rule in force.
type NewRule struct {
	Expression string `json:"expression" maxLength:"5000"`
	Guard      *int   `json:"guard,omitempty" minimum:"0" maximum:"100" doc:"20 when left out"`
	Confirm    bool   `json:"confirm,omitempty" doc:"Do it although it removes more than the guard allows"`
}

// PendingRuleChange is a change of who is in by rule that waits for a person.
type PendingRuleChange struct {
	At    time.Time `json:"at"`
	Cause string    `json:"cause"`
	Come  int       `json:"come"`
	Go    int       `json:"go"`
}

// RuleMatch is whom a rule takes, and what it would do in a group.
type RuleMatch struct {
	Valid    bool        `json:"valid"`
	At       int         `json:"at" doc:"Where the fault is, in octets"`
	Match    int         `json:"match"`
	Come     int         `json:"come" doc:"Matching people who are not in it"`
	Go       int         `json:"go" doc:"People who are in by rule and no longer match"`
	Near     int         `json:"near" doc:"People who miss by one comparison"`
	Guarded  bool        `json:"guarded" doc:"More would go than the guard allows"`
	Matches  []Name      `json:"matches" doc:"Up to 20"`
	Coming   []Name      `json:"coming" doc:"Up to 20"`
	Going    []Name      `json:"going" doc:"Up to 20"`
	NearMiss []NearMiss  `json:"near_misses" doc:"Up to 20"`
	Lacking  []LackCount `json:"lacking" doc:"For each attribute that the rule uses, how many people lack it"`
	People   int         `json:"people" doc:"Active people in the workspace"`
}

// NearMiss is somebody who misses by one comparison.
type NearMiss struct {
	Name
	Failed string `json:"failed" doc:"The comparison"`
	Says   string `json:"says" doc:"What they have instead"`
}

// LackCount is how many people have no value for an attribute.
type LackCount struct {
	Attribute string `json:"attribute"`
	Label     string `json:"label"`
	People    int    `json:"people"`
}

// RuleExplanation says how a rule stands for one person.
type RuleExplanation struct {
	Person  Name       `json:"person"`
	Verdict string     `json:"verdict" enum:"match,no match,unknown"`
	Parts   []RulePart `json:"parts"`
	Says    string     `json:"says"`
}

// RulePart is one comparison of a rule.
type RulePart struct {
	Text    string `json:"text"`
	Verdict string `json:"verdict" enum:"match,no match,unknown"`
	Says    string `json:"says"`
	Failed  bool   `json:"failed" doc:"It is what keeps the person out"`
}

// RuleQuestion asks about a rule, for a group or for a new one.
type RuleQuestion struct {
	Expression string `json:"expression" maxLength:"5000"`
	Group      string `json:"group,omitempty" maxLength:"400"`
	Person     string `json:"person,omitempty" maxLength:"320" doc:"With a person: how it stands for them"`
}

// RuleCompletion is what can be written at a place in a rule.
type RuleCompletion struct {
	What    string       `json:"what" enum:"attribute,operator,value,join"`
	From    int          `json:"from" doc:"Where what is being written began, in octets"`
	Choices []RuleChoice `json:"choices"`
}

// RuleChoice is one thing that can be written.
type RuleChoice struct {
	Text  string `json:"text"`
	About string `json:"about"`
}
