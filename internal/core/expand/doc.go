// Package expand turns groups that are members of groups into people.
//
// The members of a group are people and other groups. Everybody in a nested
// group counts as a plain member of each group above it, whatever their role
// inside. A person who is in by several ways is there once, by their strongest
// role. A loop is refused when it is made ([Loop]) and harmless when met
// ([Reach] visits each group once). A group that has ended gives nobody: the
// caller leaves it out of the edges.
package expand
