// Package policy decides who may do what with a mail group.
//
// A [Policy] has a [Value] for every [Setting]. The first eight settings are
// questions, answered with an [Audience]: a rung of a ladder on which every rung
// includes those below it.
//
//	nobody < owners < moderators < members < workspace < anyone
//
// A person stands on one rung for one group, the narrowest audience that
// includes them; [Audience.Includes] is the whole rule of permission. Beside the
// questions a policy says: who may join and how, leaving, external members,
// what is held for approval, and what happens to mail whose author is not proven.
//
// [Policy.Write] decides about a message, [Policy.Allows] about everything else.
// A [Decision] is a plain value without pointers: it holds the steps that led to
// it and puts them in words only when [Decision.Reasons] is asked for.
//
// The order of the steps of Write, the first that settles it wins:
//
//  1. a barred person is refused;
//  2. the audience of [Post] must include the author;
//  3. an author who claims a workspace address, or who may write only as a
//     member, must be proven, else the setting [Suspicious] applies;
//  4. a trusted person is let through, a held person is held;
//  5. the setting [Holding] applies.
//
// All that is known of a setting stands in one table: its name, its values, its
// words, its checks. What is generated from the table is internal/api/policy.gen.go.
//
// [Policy.Check] finds answers that contradict each other, [Policy.Warnings]
// finds doubtful ones, [Effect] says what a change does and to how many.
package policy
