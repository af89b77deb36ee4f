package deploy

import (
	"context"
	"fmt"
	"time"

	"vorrang/core/ledger"
	"vorrang/core/sqltext"
)

// Target is one real database, held under its lock for a whole deployment.
// Its methods block. Errors are *ServerError where the server answered, and
// *LostError where the connection is gone.
type Target interface {
	// Begin opens a transaction with fresh session settings.
	Begin(ctx context.Context, s Settings) error
	// Prepare gives the session fresh settings, without a transaction.
	Prepare(ctx context.Context, s Settings) error
	// Exec runs one statement and drops its rows.
	Exec(ctx context.Context, s sqltext.Statement) error
	// Holds runs a check's query: it holds if it gives one row with true in
	// every column. got says what it gave.
	Holds(ctx context.Context, s sqltext.Statement) (holds bool, got string, err error)
	// Commit writes a ledger entry and ends the transaction with it.
	Commit(ctx context.Context, e ledger.Entry) error
	// Append writes a ledger entry in a transaction of its own.
	Append(ctx context.Context, e ledger.Entry) error
	// Rollback ends the transaction without effect. It does nothing where
	// there is none.
	Rollback(ctx context.Context) error
	// InTransaction reports whether a transaction is open, failed or not.
	InTransaction() bool
	// OnNotice sets who hears the server's notices.
	OnNotice(func(severity, message string))
}

// Settings hold for one step.
type Settings struct {
	Role             string        // taken with SET ROLE; empty for none
	LockTimeout      time.Duration // 0 waits for ever
	StatementTimeout time.Duration // 0 is none
}

// ServerError is the server's word that it refuses a statement.
type ServerError struct {
	SQLState string
	Message  string
	Detail   string
	Hint     string
	Where    string // the server's context, such as a function's line
	Position int    // in the statement, in characters from 1; 0 if the server names none
}

func (e *ServerError) Error() string {
	return fmt.Sprintf("%s (SQLSTATE %s)", e.Message, e.SQLState)
}

// lockNotAvailable is the SQLSTATE of a lock timeout.
const lockNotAvailable = "55P03"

// LostError says that the connection to the target is gone.
type LostError struct{ Err error }

func (e *LostError) Error() string {
	return fmt.Sprintf("the connection to the target was lost: %v", e.Err)
}

func (e *LostError) Unwrap() error { return e.Err }
