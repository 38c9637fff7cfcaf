package api

import "time"

// Finding is something wrong or doubtful about a group or a person.
type Finding struct {
	ID       string        `json:"id"`
	Kind     string        `json:"kind"`
	Severity string        `json:"severity" enum:"serious,doubtful,minor"`
	Title    string        `json:"title"`
	Says     string        `json:"says" doc:"The facts, in a sentence"`
	Group    *Name         `json:"group,omitempty"`
	Person   *Name         `json:"person,omitempty" doc:"In place of a group, where it is about somebody"`
	Since    time.Time     `json:"since" doc:"Since when it is so, or since when it is known"`
	State    string        `json:"state" enum:"open,assigned,accepted"`
	Accepted *Acceptance   `json:"accepted,omitempty"`
	Assigned *Assignment   `json:"assigned,omitempty"`
	Mends    []FindingMend `json:"mends"`
}

// Acceptance says that a finding is known and fine.
type Acceptance struct {
	Reason string     `json:"reason"`
	By     string     `json:"by"`
	At     *time.Time `json:"at"`
	Until  string     `json:"until,omitempty" doc:"From this day on it is open again"`
}

// Assignment says who is to mend a finding.
type Assignment struct {
	To Name       `json:"to"`
	By string     `json:"by"`
	At *time.Time `json:"at"`
}

// FindingMend is a change that mends a finding: the name of a change of many groups, or of a part of the group's page.
type FindingMend struct {
	Do   string `json:"do" enum:"owners,retire,renew,policy,externals,exempt,aliases,people,settings,rule,nesting,waiting"`
	Says string `json:"says"`
}

// FindingKind is a kind of findings, with how many of it there are.
type FindingKind struct {
	Kind     string        `json:"kind"`
	Severity string        `json:"severity" enum:"serious,doubtful,minor"`
	Title    string        `json:"title"`
	Says     string        `json:"says" doc:"Reads on from a number: groups have no owner"`
	Why      string        `json:"why" doc:"Why it matters"`
	Open     int           `json:"open" doc:"Assigned ones among them"`
	Assigned int           `json:"assigned"`
	Accepted int           `json:"accepted"`
	WeekAgo  *int          `json:"week_ago,omitempty" doc:"How many were open a week ago, where that is known"`
	Filter   string        `json:"filter,omitempty" doc:"Finds the groups with one that is open"`
	Mends    []FindingMend `json:"mends"`
	Limit    string        `json:"limit,omitempty" doc:"The limit that it goes by"`
	Off      bool          `json:"off,omitempty" doc:"It is not looked for"`
}

// FindingKinds are all kinds, those that weigh most first.
type FindingKinds struct {
	Items      []FindingKind `json:"items"`
	Open       int           `json:"open" doc:"Of all kinds"`
	Groups     int           `json:"groups" doc:"How many were looked at last; for those who read all"`
	ReviewedAt *time.Time    `json:"reviewed_at,omitempty" doc:"When everything was looked at last, for those who read all; what changes is looked at again at once"`
}

// ReviewDay is how much there was on a day.
type ReviewDay struct {
	Day         string         `json:"day"`
	Serious     int            `json:"serious"`
	Doubtful    int            `json:"doubtful"`
	Minor       int            `json:"minor"`
	Accepted    int            `json:"accepted"`
	Kinds       map[string]int `json:"kinds" doc:"Open ones, by kind"`
	Groups      int            `json:"groups"`
	Ended       int            `json:"ended"`
	People      int            `json:"people"`
	Memberships int            `json:"memberships"`
	External    int            `json:"external"`
}

// ReviewLimits are from when on something is found.
type ReviewLimits struct {
	QuietDays   int      `json:"quiet_days" doc:"Without a post, so many days"`
	UnusedDays  int      `json:"unused_days" doc:"So many days old, and never written to"`
	WaitingDays int      `json:"waiting_days" doc:"Something waits for a decision for so many days"`
	AliasDays   int      `json:"alias_days" doc:"No mail came to a further address for so many days"`
	SamePeople  int      `json:"same_people" doc:"Groups of so many people are compared with others"`
	SamePercent int      `json:"same_percent" doc:"Two groups have so many percent of their people in common"`
	SoleGroups  int      `json:"sole_groups" doc:"Somebody is alone the owner of so many groups"`
	Off         []string `json:"off" maxItems:"40" doc:"Kinds that are not looked for"`
	Version     int      `json:"version,omitempty" doc:"The ETag, as a number"`
}

// FindingsChoice says which findings are meant.
type FindingsChoice struct {
	IDs  []string      `json:"ids,omitempty" maxItems:"1000"`
	List *FindingsList `json:"list,omitempty" doc:"All of a list, as it is by then"`
}

// FindingsList is which findings of the list are meant.
type FindingsList struct {
	Kinds    []string `json:"kinds,omitempty" maxItems:"40"`
	Severity string   `json:"severity,omitempty" enum:"serious,doubtful,minor"`
	State    string   `json:"state,omitempty" enum:"open,assigned,accepted"`
	Group    string   `json:"group,omitempty" maxLength:"320"`
	Filter   string   `json:"filter,omitempty" maxLength:"4000"`
}

// FindingsAccepted says that findings are known and fine.
type FindingsAccepted struct {
	FindingsChoice
	Reason string `json:"reason" maxLength:"500" doc:"Empty: they are to be looked at again"`
	Until  string `json:"until,omitempty" maxLength:"10" doc:"The day on which they are open again"`
}

// FindingsAssigned gives findings to somebody to mend.
type FindingsAssigned struct {
	FindingsChoice
	To   string `json:"to" maxLength:"320" doc:"An address, owners for the owners of each group, or nobody to take them back"`
	Note string `json:"note,omitempty" maxLength:"500" doc:"Stands in the letter"`
}

// FindingsDecided is what became of findings.
type FindingsDecided struct {
	Decided int              `json:"decided"`
	Refused []FindingRefused `json:"refused"`
	Says    string           `json:"says"`
}

// FindingRefused is a finding that could not be given to somebody.
type FindingRefused struct {
	ID   string `json:"id"`
	Says string `json:"says"`
}

// Report is the state of the directory on one page. Each number names the list that it counts.
type Report struct {
	At        time.Time       `json:"at"`
	Groups    []ReportNumber  `json:"groups"`
	People    []ReportNumber  `json:"people"`
	Expiring  []ReportNumber  `json:"expiring"`
	Findings  FindingKinds    `json:"findings"`
	Days      []ReviewDay     `json:"days" doc:"The last day of each month, the last year, and today"`
	Externals []ReportDomain  `json:"externals" doc:"External members by mail domain, the most first"`
	Domains   int             `json:"domains" doc:"How many mail domains external members are from"`
	Biggest   []ReportGroup   `json:"biggest"`
	Rounds    []ReportedRound `json:"rounds" doc:"The last ones"`
}

// ReportNumber is a number of a report.
type ReportNumber struct {
	Name   string `json:"name"`
	Says   string `json:"says"`
	Count  int    `json:"count"`
	List   string `json:"list,omitempty" enum:"groups,people,externals" doc:"The list that it counts"`
	Filter string `json:"filter,omitempty" doc:"The filter of that list"`
	State  string `json:"state,omitempty" doc:"The state of groups in that list; of people: here, departed or external"`
}

// ReportDomain is how many external members there are from a mail domain.
type ReportDomain struct {
	Domain      string `json:"domain"`
	People      int    `json:"people"`
	Memberships int    `json:"memberships"`
}

// ReportGroup is one of the biggest groups.
type ReportGroup struct {
	Group    Name `json:"group"`
	People   int  `json:"people"`
	External int  `json:"external"`
}

// ReportedRound is how a round went.
type ReportedRound struct {
	ID     string      `json:"id"`
	Name   string      `json:"name"`
	DueOn  string      `json:"due_on"`
	State  string      `json:"state" enum:"open,over,stopped"`
	Counts RoundCounts `json:"counts"`
}
