// Package rule decides who is in a group because of their directory attributes.
//
// # Form
//
// A [Rule] is a SCIM filter (RFC 7644, 3.4.2.2) over the attributes of a SCIM user
// (RFC 7643, 4.1) and of the enterprise extension (4.3):
//
//	department eq "Deck" and not (title sw "Trainee")
//	addresses[type eq "work" and locality eq "Gannet Quay"] or userName ew "@crew.merrowline.example"
//
// Operators are eq, ne, co, sw, ew, gt, ge, lt, le and pr; they bind tighter than
// not, which binds tighter than and, which binds tighter than or. Names of
// attributes and operators are taken in any case. An attribute of the extension may
// be written with its schema before it or without. A rule is at most [MaxLength]
// octets long, [MaxDepth] parentheses deep, and has at most [MaxParts] comparisons.
//
// # Verdict
//
// A comparison with an attribute that a person lacks is neither true nor false but
// [Unknown], and so is what depends on it; not turns Unknown into Unknown. Only a
// person whose verdict is [Match] is in. That keeps "everyone who is not on deck"
// from taking in people of whom nobody wrote down where they are. Only pr, and
// comparing with null, ask about the absence itself.
//
// Of an attribute with several values one that fits is enough. In brackets, one
// value has to fit all of what stands between them.
//
// Text compares without regard to case, unless its schema says caseExact.
package rule
