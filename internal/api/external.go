package api

import "time"

// External is an external member of a group.
type External struct {
	ID          string    `json:"id" doc:"Of the group, a dot, of the person"`
	Group       Name      `json:"group"`
	Person      Name      `json:"person"`
	Domain      string    `json:"domain"`
	Voucher     *Name     `json:"voucher,omitempty" doc:"Who of the workspace vouches for them; left out: nobody"`
	VoucherLeft bool      `json:"voucher_left,omitempty" doc:"Whoever vouches for them has left the organisation"`
	Reason      string    `json:"reason,omitempty" doc:"Why they are in it"`
	Since       time.Time `json:"since"`
	Until       string    `json:"until,omitempty" doc:"Their last day in the group; left out: without an end"`
	Delivery    string    `json:"delivery" enum:"each,digest,conversations,none" doc:"each message as it comes, those of a day together, those of conversations that they take part in, or none"`
	Refused     string    `json:"refused,omitempty" doc:"Why the workspace would not take them any more"`
	MayChange   bool      `json:"may_change" doc:"You may change this"`
}

// ExternalsPatch changes external members of groups, each by itself.
type ExternalsPatch struct {
	IDs     []string `json:"ids" minItems:"1" maxItems:"500"`
	Until   string   `json:"until,omitempty" maxLength:"10" doc:"Their last day, such as 2027-01-31, or none"`
	Voucher string   `json:"voucher,omitempty" maxLength:"400" doc:"Who of the workspace vouches for them from now on, by address"`
	Reason  *string  `json:"reason,omitempty" maxLength:"500" doc:"Why they are in it"`
	Remove  bool     `json:"remove,omitempty" doc:"Take them out"`
}

// ExternalRules is what the workspace says of external members, for all its groups.
type ExternalRules struct {
	Allowed bool     `json:"allowed" doc:"Groups may take external members; each says whether it does"`
	Only    []string `json:"only_domains" maxItems:"500" doc:"From these domains and what is below them alone; empty: from every domain"`
	Not     []string `json:"refused_domains" maxItems:"500" doc:"From these domains and what is below them nobody is taken"`
	Invited bool     `json:"by_letter" doc:"They come in when they have agreed by a letter, whoever adds them"`
	Days    int      `json:"days" minimum:"0" maximum:"3650" doc:"For how many days they are in before somebody prolongs it; 0: for good"`
	Version int      `json:"version,omitempty" doc:"The ETag, as a number"`
}

// OwnPart is somebody's own part in a group, for themselves, and for whoever has the link to it from a letter.
type OwnPart struct {
	Group       Name     `json:"group"`
	Description string   `json:"description"`
	Person      Name     `json:"person"`
	Role        string   `json:"role,omitempty" enum:"owner,moderator,member" doc:"Left out for who is not in it"`
	Delivery    string   `json:"delivery" enum:"each,digest,conversations,none" doc:"each message as it comes, those of a day together, those of conversations that they take part in, or none"`
	Until       string   `json:"until,omitempty"`
	Owners      []string `json:"owners" doc:"Names"`
	Paused      bool     `json:"paused,omitempty" doc:"No mail of any group goes to them, since messages came back"`
	State       string   `json:"state" enum:"in,out,ended" doc:"out: they are not in it any more; ended: the group has ended"`
	Leaving     string   `json:"leaving,omitempty" enum:"free,asking,fixed" doc:"How they leave: at once, by asking, or not by themselves"`
	Says        string   `json:"says,omitempty" doc:"What was asked for, or why they can't leave"`
}

// OwnChange changes somebody's own part in a group.
type OwnChange struct {
	Do string `json:"do" enum:"each,digest,conversations,none,leave,resume" doc:"each: its mail reaches them; digest: those of a day together; conversations: those that they take part in; none: it doesn't; leave: they go; resume: mail that was paused, since it came back, goes on"`
}
