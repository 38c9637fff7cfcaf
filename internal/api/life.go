package api

import "time"

// Expiry is the rule of the workspace for how long groups live.
type Expiry struct {
	TermDays  int    `json:"term_days" doc:"0: groups never expire"`
	Scope     string `json:"scope" enum:"all,chosen,none"`
	Notices   []int  `json:"notices" maxItems:"10" doc:"Days before the end on which owners are told, largest first"`
	Caretaker string `json:"caretaker" maxLength:"320" doc:"Gets the notices of groups with no owner"`
	TimeZone  string `json:"time_zone" maxLength:"64" doc:"In which days are counted, by its IANA name"`
	Version   int    `json:"version,omitempty" doc:"The ETag, as a number"`
}

// Week is how many groups expire in the week that begins on a day.
type Week struct {
	Begins string `json:"begins" format:"date"`
	Groups int    `json:"groups"`
}

// Clock is the time of a demo workspace.
type Clock struct {
	Now time.Time `json:"now"`
}

// ClockMove moves the time of a demo workspace.
type ClockMove struct {
	Days int `json:"days" minimum:"0" maximum:"3650" doc:"Forward; 0 goes back to the real time"`
}
