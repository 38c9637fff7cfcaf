package api

import "time"

// Person is somebody in the directory.
type Person struct {
	ID            string            `json:"id"`
	Address       string            `json:"address"`
	Name          string            `json:"name"`
	Active        bool              `json:"active"`
	External      bool              `json:"external,omitempty" doc:"An address outside the workspace"`
	Attributes    map[string]string `json:"attributes,omitempty" doc:"Directory attributes by their SCIM names"`
	WorkspaceRole string            `json:"workspace_role,omitempty" enum:"administrator,auditor" doc:"Empty for most people"`
	Version       int               `json:"version,omitempty" doc:"The ETag, as a number"`
}

// PersonDetails is a person with the groups they are in. What the asker may not
// find is left out.
type PersonDetails struct {
	Person
	Former     []string      `json:"former_addresses,omitempty" doc:"Addresses that they had before, which lead to them still"`
	Note       string        `json:"note,omitempty" doc:"What there is to know of what was done"`
	CreatedAt  time.Time     `json:"created_at"`
	DepartedAt *time.Time    `json:"departed_at"`
	SignsIn    bool          `json:"signs_in" doc:"Has a password; told to those who may change the directory"`
	Groups     []PersonGroup `json:"groups" doc:"In which they are themselves"`
	Reached    []ReachedBy   `json:"reached_by" doc:"Groups that reach them through groups nested in them"`
	Waiting    []Asked       `json:"waiting" doc:"What they asked for that nobody has decided yet"`
	Mail       MailState     `json:"mail" doc:"Whether the mail of groups reaches them; told to themselves and to administrators"`
	May        []string      `json:"may"`
}

// ReachedBy is a group that reaches somebody through groups nested in it.
type ReachedBy struct {
	Name    string   `json:"name"`
	Address string   `json:"address"`
	Through []string `json:"through" doc:"Names of the nested groups"`
}

// Asked is an open request of somebody.
type Asked struct {
	ID    string    `json:"id"`
	Kind  string    `json:"kind" enum:"join,leave"`
	Group Name      `json:"group"`
	At    time.Time `json:"at"`
}

// PersonGroup is a group that a person is in.
type PersonGroup struct {
	Name      string    `json:"name"`
	Address   string    `json:"address"`
	Role      string    `json:"role" enum:"owner,moderator,member"`
	ByRule    bool      `json:"by_rule"`
	LastOwner bool      `json:"last_owner" doc:"Nobody else owns it"`
	Ended     bool      `json:"ended"`
	Until     string    `json:"until,omitempty" doc:"The last day of the membership"`
	Since     time.Time `json:"since"`
}

// NewPersonEntry is somebody to put into the directory.
type NewPersonEntry struct {
	Address       string            `json:"address" maxLength:"320"`
	Name          string            `json:"name" maxLength:"200"`
	Attributes    map[string]string `json:"attributes,omitempty"`
	WorkspaceRole string            `json:"workspace_role,omitempty" enum:"administrator,auditor"`
	PasswordLink  bool              `json:"password_link,omitempty" doc:"Mail them a link by which they choose a password"`
}

// PersonPatch changes an entry of the directory. Attributes that are left out stay;
// an empty one is taken away.
type PersonPatch struct {
	Address       *string           `json:"address,omitempty" maxLength:"320" doc:"Another address; the one before leads to them still"`
	Former        *[]string         `json:"former_addresses,omitempty" maxItems:"50" doc:"Those of the addresses before that are to lead to them still"`
	Name          *string           `json:"name,omitempty" maxLength:"200"`
	Attributes    map[string]string `json:"attributes,omitempty"`
	WorkspaceRole *string           `json:"workspace_role,omitempty" enum:"administrator,auditor,none" doc:"none: neither"`
}

// Departure says that somebody leaves the organisation.
type Departure struct {
	Successor string `json:"successor,omitempty" maxLength:"320" doc:"Who becomes an owner of what only they own; left out: those groups are left without an owner, and are marked so"`
}

// Import is a CSV file of people for the directory.
type Import struct {
	Text    string            `json:"text,omitempty"`
	File    []byte            `json:"file,omitempty" doc:"The octets of the file"`
	Columns map[string]string `json:"columns,omitempty" doc:"What its headings stand for, where that is not plain; empty to leave one out"`
	Sync    bool              `json:"sync,omitempty" doc:"Whoever is in the directory but not in the file departs"`
	Links   bool              `json:"password_links,omitempty" doc:"Mail those who are new a link by which they choose a password"`
	Force   bool              `json:"force,omitempty" doc:"Let a sync depart more than a tenth of the directory"`
}

// ImportResult is what an import did.
type ImportResult struct {
	List   ListReading    `json:"list"`
	Counts map[string]int `json:"counts" doc:"new, changed, same, returned, departed, wrong"`
	Lines  []Line         `json:"lines" doc:"Up to 1,000 that are not the same, the wrong ones first"`
	Says   string         `json:"says"`
}

// DepartureRules say who takes over what somebody leaves behind: the first of each list whom there is. With none it is left to
// nobody, told to caretakers and owners, and found by the review.
type DepartureRules struct {
	Owned   []string `json:"owned" maxItems:"3" enum:"manager,moderator,caretaker" doc:"Groups that nobody else owns. moderator: who has been one for longest; caretaker: where it is a person of the workspace"`
	Vouched []string `json:"vouched" maxItems:"2" enum:"manager,owner" doc:"External members for whom they vouched"`
	Version int      `json:"version,omitempty" doc:"The ETag, as a number"`
}

// Erasure asks that what names somebody is taken out.
type Erasure struct {
	Reason string `json:"reason" maxLength:"500" doc:"On what ground; it is kept, so don't name the person in it"`
}

// Erased is what was taken out.
type Erased struct {
	Address string `json:"address" doc:"By which they are known from now on"`
	Entries int    `json:"entries" doc:"Of the history, out of which something was taken"`
	Says    string `json:"says"`
}

// MailState says whether the mail of groups reaches somebody.
type MailState struct {
	Paused bool   `json:"paused"`
	Why    string `json:"why,omitempty" enum:"away,returned" doc:"away: they asked for it; returned: messages came back"`
	Until  string `json:"until,omitempty" doc:"The last day of it"`
	Says   string `json:"says"`
	Digest string `json:"digest,omitempty" doc:"When their digests come, such as 07:00 in Europe/Oslo; empty: they get none"`
}

// DigestTime is when somebody gets their digests.
type DigestTime struct {
	Hour int    `json:"hour" minimum:"0" maximum:"23" doc:"Of the day"`
	Zone string `json:"zone,omitempty" maxLength:"64" doc:"Its time zone, by its IANA name; empty: that of the workspace"`
}

// MailPause stops the mail of all groups to somebody for a while.
type MailPause struct {
	Until string `json:"until" format:"date" doc:"The last day of it"`
}
