// Package mariadb is the engine for MariaDB: a target is one database of a server.
//
// The server commits by itself before and after each change of a schema. So a step
// that holds one runs statement by statement, each after a begun row, and only a
// step of changes to rows is a transaction. A single change of a schema takes effect
// or does not, whatever happens to the server: from version 10.6 on it is atomic.
// Source: https://mariadb.com/kb/en/atomic-ddl/
//
// The ledger is a table of the target's database (ledger.sql), the lock a named one of
// the session (lock.go). Text is cut as the server's own client cuts it (cut.go), and
// statements are known by their words (read.go).
package mariadb
