package api

import "time"

// HistoryEntry is one event of the history.
type HistoryEntry struct {
	ID       int64          `json:"id"`
	ChangeID string         `json:"change_id" doc:"Shared by all events of one change"`
	At       time.Time      `json:"at"`
	Kind     string         `json:"kind" doc:"What kind of event it is, such as people.add"`
	Says     string         `json:"says" doc:"What happened, in one sentence"`
	Actor    Name           `json:"actor" doc:"Who did it, as they were called then; both empty for the service"`
	Via      string         `json:"via" enum:"console,api,smtp,service,link"`
	GroupID  string         `json:"group_id,omitempty"`
	Group    *Name          `json:"group" doc:"As it was called then; null for what is about no group"`
	Fields   map[string]any `json:"fields" doc:"What is known of it, by the kind of event"`
	Changes  []Change       `json:"changes" doc:"Which fields changed, from what to what"`
	Undo     Undo           `json:"undo"`
	Request  string         `json:"request_id"`
}

// HistoryKeeping is for how long the history is kept, and who gets its seals by mail.
type HistoryKeeping struct {
	Months  int      `json:"months" minimum:"0" maximum:"600" doc:"Entries that are older are forgotten, at night; 12 at least, 0: never"`
	SealsTo []string `json:"seals_to" maxItems:"20" doc:"Addresses of people of the workspace who get the last seal by mail, to keep it"`
	Every   string   `json:"seals_every" enum:"day,week,month" doc:"How often they get it"`
	From    string   `json:"from,omitempty" readOnly:"true" doc:"The day of the oldest entry that there is"`
	Version int      `json:"version,omitempty" doc:"The ETag, as a number"`
}

// Undone says what was taken back.
type Undone struct {
	Entry  int64  `json:"entry" doc:"The entry that was undone"`
	Says   string `json:"says"`
	Change string `json:"change,omitempty" doc:"The change of many groups that undoes another"`
}

// Undo says whether an event can be undone by one call, and what that does, or why not and what to do in its place.
type Undo struct {
	Possible bool   `json:"possible"`
	Says     string `json:"says"`
}

// Affected is one person, group or address that an event affected.
type Affected struct {
	Name    string `json:"name"`
	Address string `json:"address"`
	Was     string `json:"was" doc:"Their role before; empty for none"`
	Now     string `json:"now" doc:"Their role after; empty for none"`
}
