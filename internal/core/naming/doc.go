// Package naming holds a workspace's rules for what groups may be called.
//
// # Parts
//
// A prefix and a suffix stand around the name that somebody types. They are
// templates: text, and fields of the directory in braces, filled in from whoever
// creates the group. With the suffix " ({locality})" somebody in Gannet Quay who
// types Lost Keys makes Lost Keys (Gannet Quay), lost-keys-gannet-quay@. A template
// with a field that the creator lacks falls away whole, and that is said.
//
// # Words
//
// A reserved word may stand in no name and no address, as a whole word and in
// whatever case and script it is written: "payroll" keeps out PAYROLL, pаyroll with
// a Cyrillic а, and Payroll-Nord, but neither Payrolls nor Scunthorpe's letters.
// Scripts that put no spaces between words are searched for it. A reserved beginning
// is one or more whole words at the start, kept for official groups.
//
// Administrators are exempt: their names stay as typed. What a rule would have said
// is told to them all the same.
package naming
