// Package admission decides who comes into a group and who goes out of it, by
// whichever way.
//
// There is one decision for coming in, [In], and one for going out, [Out]. Every way
// that leads there asks them: joining, asking, being added, invited, by link, by rule,
// nested, copied, put back. What holds for one way and not for another stands in the
// decision, not in the way. [Role] decides about a change of role.
//
// A [Verdict] is a value: what happens, why not, and in words. Where somebody acts for
// themselves, the words speak to them.
package admission
