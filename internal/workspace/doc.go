// Package workspace is the kernel of the use cases: what each of them works with.
//
// A use case that only looks takes a [View]: who asks, at what time, and the records. One
// that changes something runs in [Kernel.Do], or [Kernel.OnGroup], with a [Change]: a View
// within one transaction, with locks and writes, and the only way to the history
// ([Change.Record]) and to letters ([Change.Send]). What is only to be looked at first runs
// in the same way and is not kept; what it would do stands in the Report.
//
// Who may do what is decided by core/access and asked in [View.FindGroup],
// [Change.LockGroup] and [Actor.Allow]; nowhere else. A group that the actor may not find
// is answered exactly as one that does not exist.
//
// The use cases themselves stand in the packages below this folder, one a subject. From
// the lowest up: people, history, naming, member, joining, rules, directory, group, life,
// post; account stands beside them. A lower one never imports a higher one.
//
// Use cases take and give the shapes of package api. What is stored has types of its own,
// in the core and in package store.
//
// Every error that a person can do something about is an *[Error].
package workspace
