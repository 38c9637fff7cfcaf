package api

import "time"

// Terms is how long groups live. Of the rules the first that names a group holds for it; groups that none names have
// no end.
type Terms struct {
	Rules        []TermRule  `json:"rules" maxItems:"50"`
	Notices      []int       `json:"notices" maxItems:"10" doc:"Days before the end on which owners are told, largest first, where a rule says nothing else"`
	RecoveryDays int         `json:"recovery_days" minimum:"7" maximum:"730" doc:"For how long a group that ended can be restored"`
	AddressDays  int         `json:"address_days" minimum:"0" maximum:"3650" doc:"For how long the addresses of a group that is gone are nobody's"`
	Managers     bool        `json:"managers" doc:"The last notice goes to the owners' managers too"`
	Caretakers   []Caretaker `json:"caretakers" maxItems:"50" doc:"Who gets the notices of groups without owners: the first that names a group, else the administrators"`
	TimeZone     string      `json:"time_zone" maxLength:"64" doc:"In which days are counted, by its IANA name"`
	Version      int         `json:"version,omitempty" doc:"The ETag, as a number"`
}

// TermRule is how long the groups live that a filter names.
type TermRule struct {
	Name      string   `json:"name" maxLength:"100"`
	Filter    string   `json:"filter,omitempty" maxLength:"2000" doc:"Over groups, in the grammar of SCIM filters; left out: all groups"`
	Length    string   `json:"length" maxLength:"40" doc:"Such as 180 days, 26 weeks, 6 months, 2 years, a day such as 2027-03-31 (each year), or never"`
	Notices   []int    `json:"notices,omitempty" maxItems:"10" doc:"Its own; left out: those of the workspace"`
	RenewedBy []string `json:"renewed_by,omitempty" maxItems:"2" enum:"post,join" doc:"What renews a group by itself, beside its owners and administrators: that it is written to, that somebody comes in by themselves"`
	Groups    int      `json:"groups,omitempty" readOnly:"true" doc:"For how many living groups it holds"`
}

// Caretaker gets the notices of the groups without owners that a filter names.
type Caretaker struct {
	Address string `json:"address" maxLength:"320" doc:"Of somebody of the workspace, of a group that lives, or of somebody outside it who is asked first"`
	Filter  string `json:"filter,omitempty" maxLength:"2000" doc:"As in a term rule; left out: all groups"`
	State   string `json:"state,omitempty" readOnly:"true" enum:"reads,asked,nobody" doc:"Whether mail to it is read: asked, where somebody outside has not agreed yet"`
}

// TermTrial asks which rule takes a group.
type TermTrial struct {
	Group string `json:"group" maxLength:"400" doc:"Its address or identifier"`
	Terms *Terms `json:"terms,omitempty" doc:"Rules to try; left out: those in force"`
}

// TermTried is which rule takes a group, and why.
type TermTried struct {
	Rule      string     `json:"rule" doc:"Empty: none"`
	Says      string     `json:"says"`
	ExpiresOn string     `json:"expires_on,omitempty" doc:"When the group would end by it"`
	Steps     []TermStep `json:"steps" doc:"Each rule in its order, up to the one that takes it and beyond"`
}

// TermStep is what a rule says of a group.
type TermStep struct {
	Rule  string   `json:"rule"`
	Names bool     `json:"names"`
	Takes bool     `json:"takes" doc:"It is the first that names the group"`
	Why   []string `json:"why" doc:"The parts of its filter by which that is so"`
}

// Period is how many groups end in a week or a month.
type Period struct {
	From   string       `json:"from" format:"date"`
	To     string       `json:"to" format:"date" doc:"The first day after it"`
	Groups int          `json:"groups"`
	Parts  []PeriodPart `json:"parts,omitempty" doc:"By what was asked for, the largest first"`
	Filter string       `json:"filter" doc:"Of the list of these groups"`
}

// PeriodPart is how many of them belong to one rule, domain or owner.
type PeriodPart struct {
	Name   string `json:"name"`
	Groups int    `json:"groups"`
}

// Point is a part of a chart of what a change does: how many groups end in a time, before and after, and how many people
// are written to then.
type Point struct {
	From    string `json:"from" format:"date"`
	To      string `json:"to" format:"date"`
	Was     int    `json:"was"`
	Will    int    `json:"will"`
	Letters int    `json:"letters" doc:"People who get a letter about groups of theirs"`
}

// Renewal is why a group is renewed.
type Renewal struct {
	Reason string `json:"reason,omitempty" maxLength:"500" doc:"Kept in the history"`
}

// Hold keeps a group from being retired or deleted for good.
type Hold struct {
	Reason string `json:"reason" minLength:"1" maxLength:"500"`
}

// Told is what a letter told its recipient about, for whoever holds its link.
type Told struct {
	Recipient string      `json:"recipient"`
	Groups    []ToldGroup `json:"groups"`
}

// ToldGroup is a group that a letter told of.
type ToldGroup struct {
	ID          string  `json:"id"`
	Name        string  `json:"name"`
	Address     string  `json:"address"`
	Description string  `json:"description"`
	People      int     `json:"people"`
	State       string  `json:"state" enum:"active,due,lapsed,retired"`
	ExpiresOn   *string `json:"expires_on" format:"date"`
	DaysLeft    *int    `json:"days_left"`
	Until       string  `json:"until,omitempty" format:"date" doc:"Until when it can be restored"`
	Renewable   bool    `json:"renewable" doc:"By this link, now"`
	Says        string  `json:"says,omitempty" doc:"Why not"`
}

// ToldRenewal renews groups by the link of a letter.
type ToldRenewal struct {
	Groups []string `json:"groups" minItems:"1" maxItems:"1000" doc:"Their identifiers"`
	Reason string   `json:"reason,omitempty" maxLength:"500"`
}

// PurgedGroup is what is left of a group that is gone, beside its history.
type PurgedGroup struct {
	ID          string    `json:"id"`
	Name        string    `json:"name"`
	Address     string    `json:"address"`
	Aliases     []string  `json:"aliases"`
	Description string    `json:"description"`
	Owners      []string  `json:"owners"`
	People      int       `json:"people" doc:"Who were in it"`
	CreatedAt   time.Time `json:"created_at"`
	EndedAt     time.Time `json:"ended_at"`
	Ended       string    `json:"ended" enum:"lapsed,retired"`
	PurgedAt    time.Time `json:"purged_at"`
	FreeOn      string    `json:"free_on" format:"date" doc:"From when on its addresses can be used again"`
}

// Feed is the address of a calendar in the iCalendar format, which needs no signing in: whoever has it reads it.
type Feed struct {
	URL string `json:"url" doc:"Shown once"`
}

// CaretakerAsked is what somebody outside is asked: to take care of groups without owners.
type CaretakerAsked struct {
	Address string `json:"address"`
	Agreed  bool   `json:"agreed"`
}

// Clock is the time of a demo workspace.
type Clock struct {
	Now time.Time `json:"now"`
}

// ClockMove moves the time of a demo workspace.
type ClockMove struct {
	Days int `json:"days" minimum:"0" maximum:"3650" doc:"Forward; 0 goes back to the real time"`
}
