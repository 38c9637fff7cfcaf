// Package review finds what is wrong or doubtful about the groups of a directory.
//
// [Examine] looks at the facts of one group, [ExamineOwner] at those of one person, and [Twins] and [Crowds] compare groups with
// each other. Each [Finding] has a [Kind], of which [Kinds] says what it means, how much it weighs and which
// changes mend it; the sentence of a finding is made of its facts. The same facts give the same findings: now and the
// [Limits] are arguments.
package review
