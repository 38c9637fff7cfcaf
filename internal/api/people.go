package api

import "time"

// PersonDetails is a person with the groups they are in. What the asker may not
// find is left out.
type PersonDetails struct {
	Person
	CreatedAt  time.Time     `json:"created_at"`
	DepartedAt *time.Time    `json:"departed_at"`
	SignsIn    bool          `json:"signs_in" doc:"Has a password; told to those who may change the directory"`
	Groups     []PersonGroup `json:"groups"`
	May        []string      `json:"may"`
}

// PersonGroup is a group that a person is in.
type PersonGroup struct {
	Name      string    `json:"name"`
	Address   string    `json:"address"`
	Role      string    `json:"role"`
	ByRule    bool      `json:"by_rule"`
	LastOwner bool      `json:"last_owner" doc:"Nobody else owns it"`
	Ended     bool      `json:"ended"`
	Since     time.Time `json:"since"`
}

// NewPersonEntry is somebody to put into the directory.
type NewPersonEntry struct {
	Address       string            `json:"address" maxLength:"320"`
	Name          string            `json:"name" maxLength:"200"`
	Attributes    map[string]string `json:"attributes,omitempty"`
	WorkspaceRole string            `json:"workspace_role,omitempty"`
	PasswordLink  bool              `json:"password_link,omitempty" doc:"Mail them a link by which they choose a password"`
}

// PersonPatch changes an entry of the directory. Attributes that are left out stay;
// an empty one is taken away.
type PersonPatch struct {
	Name          *string           `json:"name,omitempty" maxLength:"200"`
	Attributes    map[string]string `json:"attributes,omitempty"`
	WorkspaceRole *string           `json:"workspace_role,omitempty" doc:"administrator, auditor, or empty"`
}

// Departure says that somebody leaves the organisation.
type Departure struct {
	HandTo string `json:"hand_to,omitempty" maxLength:"320" doc:"Who becomes an owner of what only they own; left out: those groups are left without an owner, and are marked so"`
}

// DepartureEffect is what a departure would do.
type DepartureEffect struct {
	Groups    int           `json:"groups" doc:"Living groups that the person is in"`
	Owned     int           `json:"owned"`
	LastOwner []PersonGroup `json:"last_owner" doc:"Groups that nobody else owns"`
	Says      string        `json:"says"`
}

// Import is a CSV file of people for the directory.
type Import struct {
	Text    string            `json:"text,omitempty"`
	File    []byte            `json:"file,omitempty" doc:"The octets of the file"`
	Columns map[string]string `json:"columns,omitempty" doc:"What its headings stand for, where that is not plain; empty to leave one out"`
	Sync    bool              `json:"sync,omitempty" doc:"Whoever is in the directory but not in the file departs"`
	DryRun  bool              `json:"dry_run,omitempty" doc:"Say what would happen, and do nothing"`
	Links   bool              `json:"password_links,omitempty" doc:"Mail those who are new a link by which they choose a password"`
	Force   bool              `json:"force,omitempty" doc:"Let a sync depart more than a tenth of the directory"`
}

// ImportResult is what an import does, or would do.
type ImportResult struct {
	Encoding  string         `json:"encoding"`
	Delimiter string         `json:"delimiter"`
	Columns   []RosterColumn `json:"columns"`
	Counts    map[string]int `json:"counts" doc:"new, changed, same, returned, departed, wrong"`
	Lines     []ImportLine   `json:"lines" doc:"Up to 1,000 that are not the same, the wrong ones first"`
	Done      bool           `json:"done"`
	Says      string         `json:"says"`
}

// ImportLine is one person of an import.
type ImportLine struct {
	Line    int           `json:"line,omitempty"`
	Outcome string        `json:"outcome" enum:"new,changed,returned,departed,wrong"`
	Address string        `json:"address"`
	Name    string        `json:"name"`
	Changes []FieldChange `json:"changes"`
	Says    string        `json:"says,omitempty"`
}

// Rule is a rule of membership.
type Rule struct {
	Expression string    `json:"expression" maxLength:"5000" doc:"A SCIM filter (RFC 7644, 3.4.2.2)"`
	Guard      int       `json:"guard" minimum:"0" maximum:"100" doc:"A change that would remove more than this share of those in by rule, in percent, waits for a person; 100: none does"`
	SetBy      string    `json:"set_by,omitempty"`
	SetAt      time.Time `json:"set_at,omitzero"`
	Members    int       `json:"members" doc:"How many are in by it"`
	Held       *HeldRule `json:"held" doc:"A change that waits because of the guard"`
}

// NewRule puts a rule in force.
type NewRule struct {
	Expression string `json:"expression" maxLength:"5000"`
	Guard      *int   `json:"guard,omitempty" minimum:"0" maximum:"100" doc:"20 when left out"`
	Confirm    bool   `json:"confirm,omitempty" doc:"Do it although it removes more than the guard allows"`
}

// HeldRule is a change of who is in by rule that waits for a person.
type HeldRule struct {
	At    time.Time `json:"at"`
	Cause string    `json:"cause"`
	Come  int       `json:"come"`
	Go    int       `json:"go"`
}

// RuleEffect is what a rule would do in a group.
type RuleEffect struct {
	Valid    bool        `json:"valid"`
	At       int         `json:"at" doc:"Where the fault is, in octets"`
	Says     string      `json:"says" doc:"The fault, or what would happen"`
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

// PasswordLink says for whom a link is by which a password is chosen.
type PasswordLink struct {
	Name      string    `json:"name"`
	Address   string    `json:"address"`
	ExpiresAt time.Time `json:"expires_at"`
	Shortest  int       `json:"shortest" doc:"How many characters a password has at least"`
}

// PasswordWish asks for such a link.
type PasswordWish struct {
	Address string `json:"address" maxLength:"320"`
}

// NewPassword is a password that is chosen.
type NewPassword struct {
	Password string `json:"password" maxLength:"1000"`
}

// PasswordChange changes one's own password.
type PasswordChange struct {
	Current  string `json:"current" maxLength:"1000"`
	Password string `json:"password" maxLength:"1000"`
}
