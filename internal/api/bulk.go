package api

import "time"

// NewBulk is one change for many groups: for those that are named, or for all that a list has.
type NewBulk struct {
	Groups   []string  `json:"groups,omitempty" maxItems:"1000" doc:"Identifiers or addresses"`
	List     *BulkList `json:"list,omitempty" doc:"All groups of a list, as it is when the change begins"`
	Expected *int      `json:"expected,omitempty" minimum:"0" doc:"How many groups there were when it was looked at; with another number it is refused"`

	Owners    *OwnersChange    `json:"owners,omitempty"`
	Language  string           `json:"language,omitempty" enum:"en,de"`
	Traits    *TraitsChange    `json:"traits,omitempty"`
	Retire    bool             `json:"retire,omitempty"`
	Restore   bool             `json:"restore,omitempty"`
	Renew     *Renewal         `json:"renew,omitempty"`
	Exempt    *ExemptChange    `json:"exempt,omitempty"`
	Hold      *Hold            `json:"hold,omitempty" doc:"They are put under hold"`
	Release   bool             `json:"release,omitempty" doc:"They are under hold no more"`
	Policy    *PolicyPatch     `json:"policy,omitempty" doc:"Settings that all of them get"`
	Ceilings  bool             `json:"ceilings,omitempty" doc:"They come down under the ceilings that hold"`
	Aliases   *AliasesChange   `json:"aliases,omitempty"`
	Externals *ExternalsChange `json:"external_members,omitempty"`
	Start     string           `json:"starting_point,omitempty" maxLength:"60" doc:"They get the whole policy, the traits and the texts of this starting point"`
}

// GroupSheet is an export of groups that was edited: each line becomes what its columns say. Columns that are left out stay as they are,
// and so do those that can't be changed so, such as state and people.
type GroupSheet struct {
	Text     string `json:"text,omitempty"`
	File     []byte `json:"file,omitempty" doc:"The octets of the file"`
	LeaveOut bool   `json:"leave_out,omitempty" doc:"Lines that can't be done are left out; without it one of them refuses the whole sheet"`
}

// BulkList is which groups of the directory are meant.
type BulkList struct {
	Q      string   `json:"q,omitempty" maxLength:"200"`
	States []string `json:"states,omitempty" maxItems:"4" enum:"active,due,lapsed,retired"`
	Filter string   `json:"filter,omitempty" maxLength:"4000"`
}

// AliasesChange says one thing of further addresses of groups.
type AliasesChange struct {
	AddIn      string `json:"add_in,omitempty" maxLength:"255" doc:"A mail domain of the workspace in which each can be written to, too, by the same local part"`
	RemoveIn   string `json:"remove_in,omitempty" maxLength:"255" doc:"A mail domain in which they lose their further addresses"`
	UnusedDays int    `json:"unused_days,omitempty" doc:"They lose those to which no mail came for so many days, 7 to 3650"`
}

// ExternalsChange says what becomes of the external members of groups: that they are taken out, or some of the rest.
type ExternalsChange struct {
	Domain  string  `json:"domain,omitempty" maxLength:"255" doc:"Of those alone at this mail domain and below it"`
	Alone   bool    `json:"without_voucher,omitempty" doc:"Of those alone for whom nobody vouches who is here"`
	Remove  bool    `json:"remove,omitempty" doc:"They are taken out"`
	Until   string  `json:"until,omitempty" maxLength:"10" doc:"Their last day, such as 2027-01-31, or none"`
	Voucher string  `json:"voucher,omitempty" maxLength:"400" doc:"Who of the workspace vouches for them from now on, by address"`
	Reason  *string `json:"reason,omitempty" maxLength:"500" doc:"Why they are in it"`
}

// OwnersChange makes people owners.
type OwnersChange struct {
	Add     []string `json:"add" minItems:"1" maxItems:"10" doc:"Addresses of people of the workspace"`
	Replace bool     `json:"replace,omitempty" doc:"Whoever else owns a group becomes a member"`
}

// ExemptChange says that no term rule is for groups, and why.
type ExemptChange struct {
	Reason string `json:"reason" maxLength:"500" doc:"Empty: the rules are for them again"`
	Until  string `json:"until,omitempty" maxLength:"10" doc:"The day on which to look at that again"`
}

// TraitsChange switches traits on and off.
type TraitsChange struct {
	On  []string `json:"on,omitempty" maxItems:"4"`
	Off []string `json:"off,omitempty" maxItems:"4"`
}

// Bulk is one change that many groups go through, some at a time.
type Bulk struct {
	ID      string     `json:"id"`
	Kind    string     `json:"kind" enum:"owners,language,traits,retire,restore,renew,exempt,hold,policy,ceilings,starting point,aliases,externals,sheet,undo"`
	Says    string     `json:"says" doc:"What it does, in one sentence"`
	State   string     `json:"state" enum:"running,stopped,done"`
	Reason  string     `json:"reason,omitempty" doc:"Why it was stopped"`
	Total   int        `json:"total" doc:"How many groups"`
	Come    int        `json:"come" doc:"How many it has come to: those of the next three together"`
	Changed int        `json:"changed"`
	Same    int        `json:"same" doc:"They were so already"`
	Refused int        `json:"refused" doc:"They could not be changed; the items say why"`
	UndoOf  string     `json:"undo_of,omitempty" doc:"The change that this one undoes"`
	Undone  string     `json:"undone_by,omitempty" doc:"The change that undoes this one"`
	MayUndo bool       `json:"may_undo"`
	By      string     `json:"by" doc:"The address of who made it"`
	MadeAt  time.Time  `json:"made_at"`
	EndedAt *time.Time `json:"ended_at"`
}

// BulkItem is what became of one group.
type BulkItem struct {
	Group   string `json:"group"`
	Name    string `json:"name"`
	Address string `json:"address"`
	Outcome string `json:"outcome" enum:"waits,changed,same,refused"`
	Says    string `json:"says,omitempty" doc:"Why it could not be changed"`
}
