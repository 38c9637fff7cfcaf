// Package api holds the shapes of the HTTP interface, once, for the service that
// answers and the client that asks. A group, a person, a decision look the same
// wherever they appear. A file is a subject, as everywhere.
//
// Days are dates in the workspace's zone (2027-01-02), moments are RFC 3339 with an
// offset. Every list is a [Page]. What a change would do is a [Preview].
package api

// Name is a person or group in brief.
type Name struct {
	Name    string `json:"name"`
	Address string `json:"address"`
}

// Page is part of a list. Next is the cursor for the following page, empty on the last.
type Page[T any] struct {
	Items  []T    `json:"items"`
	Next   string `json:"next" doc:"The cursor of the next page of the same list; empty on the last"`
	Total  int64  `json:"total" doc:"How many there are on all pages; -1 where they are not counted"`
	Hidden string `json:"hidden,omitempty" doc:"What there is beside, which you may not see"`
	Note   string `json:"note,omitempty" doc:"What there is to know of how the list was read"`
}

// Preview is what a change would do. It has the same parts whatever the change is; the
// last three are there where they say something.
type Preview struct {
	Says     string         `json:"says" doc:"In one or two sentences"`
	Effects  []Effect       `json:"effects" doc:"What changes, one by one"`
	Problems []Problem      `json:"problems" doc:"What keeps it from being done as it is; empty: it can be done"`
	Warnings []Fault        `json:"warnings" doc:"What is allowed but doubtful"`
	Sample   []Line         `json:"sample" doc:"Whom or what it touches: up to 1,000, those to look at first"`
	Total    int            `json:"total" doc:"How many the sample is of"`
	Ready    int            `json:"ready,omitempty" doc:"To how many of them it is done; the others say why not"`
	Counts   map[string]int `json:"counts,omitempty" doc:"How many there are of each status"`
	Policy   *PolicySummary `json:"policy,omitempty" doc:"The policy as it would then be"`
	List     *ListReading   `json:"list,omitempty" doc:"How a list of people was read"`
	Rule     *RuleMatch     `json:"rule,omitempty" doc:"Whom a rule takes"`
	Series   []Point        `json:"series,omitempty" doc:"When groups end, before and after: by week, then by month"`
}

// Effect is one thing that a change does.
type Effect struct {
	Field string           `json:"field" doc:"What changes, such as policy.post or term_days"`
	From  string           `json:"from"`
	To    string           `json:"to"`
	Gains []AudienceChange `json:"gains,omitempty" doc:"Who can do more than before"`
	Loses []AudienceChange `json:"loses,omitempty" doc:"Who can do less"`
	Names []string         `json:"names,omitempty" doc:"Some of those who gain or lose, as far as you may see who is in the group"`
	Count int              `json:"count,omitempty" doc:"How many groups or people it touches"`
	Says  string           `json:"says"`
}

// AudienceChange is people who gain or lose something. Count is -1 for strangers, whom
// nobody can count.
type AudienceChange struct {
	Who   string `json:"who" enum:"owners,moderators,members,external_members,colleagues,strangers"`
	Count int    `json:"count"`
}

// Line is one person, group or address that a list named or a change touches.
type Line struct {
	Line     int      `json:"line,omitempty" doc:"Of a list: where it stands"`
	Given    string   `json:"given,omitempty"`
	Name     string   `json:"name,omitempty"`
	Address  string   `json:"address,omitempty"`
	Role     string   `json:"role,omitempty"`
	External bool     `json:"external,omitempty"`
	Outcome  string   `json:"outcome" doc:"What becomes of it: added, invited, already, changed, same, removed, refused; of groups and entries of the directory: moved, broken, ownerless, handed_over, new, changed, returned, departed, wrong"`
	Status   string   `json:"status,omitempty" doc:"Who this is: new, external, group, already, repeated, unknown, ambiguous, departed, barred, refused"`
	From     string   `json:"from,omitempty"`
	To       string   `json:"to,omitempty"`
	Says     string   `json:"says" doc:"Why, where there is a reason"`
	Choices  []Name   `json:"choices,omitempty" doc:"Whom it may have meant"`
	Changes  []Change `json:"changes,omitempty"`
}

// Change is one field that changes.
type Change struct {
	Field string `json:"field"`
	Label string `json:"label" doc:"The field in words"`
	From  string `json:"from"`
	To    string `json:"to"`
	Says  string `json:"says,omitempty" doc:"The effect, as it was shown before"`
}

// Fault is a contradiction or a doubt.
type Fault struct {
	Field string `json:"field"`
	Says  string `json:"says"`
	Mend  string `json:"mend"`
}

// Problem names a field of the request and what is wrong with it.
type Problem struct {
	Field string `json:"field" doc:"Such as people[2].address; empty for the request as a whole"`
	Given any    `json:"given,omitempty"`
	Says  string `json:"says"`
	At    *int   `json:"at,omitempty" doc:"Of a text with a grammar, such as a filter: where in it, in octets from 0"`
}

// ProblemDetails is every error of the interface (RFC 9457).
type ProblemDetails struct {
	Type      string    `json:"type"`
	Title     string    `json:"title"`
	Status    int       `json:"status"`
	Detail    string    `json:"detail"`
	RequestID string    `json:"request_id,omitempty"`
	Problems  []Problem `json:"problems"`
}
