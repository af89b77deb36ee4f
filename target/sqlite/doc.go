// Package sqlite is the engine for SQLite: a target is one database file.
//
// The library is a part of the program, so there is no server: what a server would
// guard, the package guards itself. A step runs on a connection of its own, which
// asks the package before every action of a statement (guard.go). The ledger is a
// table of the file (ledger.sql), the lock is one of the operating system on a file
// beside it (lock.go), and a schema is read from the texts that SQLite keeps of it
// (table.go).
//
// Never open a database file here but through the library: to close a file gives
// back all locks that the process holds on it.
// Source: https://www.sqlite.org/howtocorrupt.html, section 2.2.
package sqlite
