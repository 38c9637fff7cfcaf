// Package lifecycle holds the rules for how long a group lives.
//
//	active → due → lapsed or retired → purged
//
// A [Policy] sets the term of the workspace. A group's [Life] says when it was
// last renewed, when it expires and whether it ended. [Policy.State] derives the
// state from both and the time: a group is due inside the first notice, lapsed
// once its date has come, retired when somebody deleted it, and to be purged when
// the recovery window has passed.
//
// Dates are counted in days of the workspace's time zone: a group expires at the
// first moment of a day, and "in 12 days" is the number of midnights between.
//
// When a policy would put a date before today plus the first notice, the date is
// today plus the first notice: nobody is cut off without warning. A date that was
// nearer than that before the change stays, so that saving a policy again moves none.
//
// Everything here is computed from its arguments; now is always one of them.
package lifecycle
