package workspace

import (
	"time"

	"ivytable.example/ivytable/internal/core/admission"
)

// Outside is what the workspace says of external members, for all its groups.
type Outside struct {
	Allowed bool     `json:"allowed"`
	Only    []string `json:"only,omitempty"`    // their domains; empty: every domain
	Not     []string `json:"not,omitempty"`     // domains from which nobody is taken
	Invited bool     `json:"invited,omitempty"` // they come in when they have agreed by a letter
	Days    int      `json:"days,omitempty"`    // for how long they are in before somebody prolongs it; 0: for good
}

// FromOutside says of somebody who asks for something that they are not of the workspace.
const FromOutside = "From outside the workspace; a letter proved the address"

// OutsideSetting is the name under which it is kept.
const OutsideSetting = "outside"

// DefaultOutside is in force until something else is set: each group says whether it takes external
// members, and normally takes none.
func DefaultOutside() Outside { return Outside{Allowed: true} }

// Outside returns what the workspace says of external members, and its version.
func (v *View) Outside() (Outside, int, error) {
	o := DefaultOutside()
	version, err := v.Read.Setting(OutsideSetting, &o)
	return o, version + 1, err
}

// outside is what the core decides by. What can't be read lets nobody in.
func (v *View) outside() *admission.Outside {
	if v.outsiders == nil {
		o, _, err := v.Outside()
		v.outsiders = &admission.Outside{Barred: err != nil || !o.Allowed, Only: o.Only, Not: o.Not}
	}
	return v.outsiders
}

// StaysUntil is the moment until which somebody external may be in a group who comes in now; nil: for good.
func (v *View) StaysUntil(o Outside) *time.Time {
	if o.Days == 0 {
		return nil
	}
	y, m, d := v.today().Date()
	end := time.Date(y, m, d+o.Days+1, 0, 0, 0, 0, v.Zone()).UTC()
	return &end
}
