// Package mailaddr holds the rules for mail addresses of a workspace: what an
// address may look like, when two of them count as the same, and which address
// follows from a name.
//
// # Form
//
// An [Address] is a dot-atom local part and a domain name, both ASCII
// (RFC 5321, 4.1.2; RFC 5322, 3.4.1). Quoted local parts, comments and address
// literals are refused: no directory hands them out. A local part is at most 64
// octets, a domain at most 255 and each of its labels at most 63 (RFC 5321,
// 4.5.3.1; RFC 1035, 2.3.4). Domains outside ASCII are written in their xn--
// form (RFC 5890).
//
// # Sameness
//
// Three keys, each coarser than the one before:
//
//   - [Address.Key]: lower case. Two addresses with one key are one address.
//   - [Address.Alike]: also takes 0 for o, 1 for l, and dots and underscores
//     for hyphens. A workspace has no two group addresses with one Alike.
//   - [Address.Loose]: also drops hyphens, takes i for l, rn for m, vv for w,
//     and leaves out a plural s. Two addresses with one Loose deserve a second
//     look and nothing more.
//
// # Names
//
// [Derive] makes a local part from a name: lower case, letters folded to ASCII,
// every other run of characters one hyphen, at most 64 octets. Latin letters
// lose their marks, Greek and Cyrillic letters are transliterated. A letter of a
// script with no such rule is not guessed at: Derive says which it was, so that
// a person can be asked.
package mailaddr
