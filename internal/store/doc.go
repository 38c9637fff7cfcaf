// Package store keeps the records of a workspace in MariaDB. It is the only
// package that knows the database: its tables, its queries, its migrations and
// its ways to fail.
//
// A [Pool] is the connections. It gives out [Reads], the queries, each of which takes a
// connection for as long as it lasts; and, by [Pool.Transact], a [Tx], which has the
// same queries within one transaction, and beside them locks and all that is written.
// They are different types, so that what runs in a transaction can't ask the pool for a
// second connection. Transact tries again after a deadlock, so what runs inside must be
// free of other effects.
//
// Lists are read by key from a cursor, never by offset, and lists of things that belong
// to other things are read for all of them in one query.
//
// Times are UTC with microseconds. Addresses are compared by their keys in a
// binary collation; the table addresses is where no two may be the same. What is stored
// as JSON or as text has types of its own, here or in the core.
package store
