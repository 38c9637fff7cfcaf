// Package lifecycle holds the rules for how long a group lives.
//
//	active → due → lapsed or retired → purged
//
// [Terms] are the rules of the workspace: a list of [Rule], of which the first that names a group holds
// for it. A group's [Life] says when it was last renewed, by which rule and when it expires, and whether it
// ended. A group is due from its first notice on, lapsed once its date has come, retired when somebody
// deleted it, and to be purged when the recovery window has passed.
//
// Dates are counted in days of the workspace's time zone: a group expires at the first moment of a day, and
// "in 12 days" is the number of midnights between. [Calendar] does so.
//
// An end is the last renewal plus the length of the rule, but never before what was promised: when rules put
// it before today plus the first notice, the promise is today plus the first notice, and nobody is cut off
// without warning. A date that was nearer before the change stays, since its owners know of it. A promise
// is kept until the group is renewed, so that changing rules back gives the dates that were.
//
// Everything here is computed from its arguments; now is always one of them.
package lifecycle
