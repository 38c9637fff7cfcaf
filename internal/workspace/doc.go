// Package workspace is what people do with a workspace: its use cases, one file a
// subject. Each checks the actor, asks the core, and writes in one transaction
// with the history and whatever mail follows from it.
//
// Permission is decided in permit.go and nowhere else. A group that the actor may
// not find is answered exactly as one that does not exist.
//
// Every error that a person can do something about is an *[Error].
package workspace
