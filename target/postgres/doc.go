// Package postgres is the Target engine for PostgreSQL.
//
// A connection URL goes in; a Session comes out: one connection that can take
// the target's lock, read and write its ledger, run statements and count what
// is there. A connection that fails gives a *engine.ConnectError that says which of the
// usual causes it is. The package stores no URL and puts no password into an
// error.
package postgres
