// Package store keeps the records of a workspace in MariaDB. It is the only
// package that knows the database: its tables, its queries, its migrations and
// its ways to fail.
//
// A [Store] is a connection pool or one transaction; [Store.Tx] makes the latter
// and tries again after a deadlock, so what runs inside must be free of other
// effects. Lists are read by key from a cursor, never by offset, and lists of
// things that belong to other things are read for all of them in one query.
//
// Times are UTC with microseconds. Addresses are compared by their keys in a
// binary collation; the table addresses is where no two may be the same.
package store
