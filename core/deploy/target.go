package deploy

import (
	"cmp"
	"context"
	"fmt"
	"strings"
	"time"

	"vorrang/core/evidence"
	"vorrang/core/ledger"
	"vorrang/core/sqltext"
	"vorrang/core/step"
)

// Target is one real database, held under its lock for a whole deployment.
// Its methods block. Errors are *ServerError where the server answered, and
// *LostError where the connection is gone.
type Target interface {
	// Begin opens a transaction in a session that nothing of an earlier step is
	// left in.
	Begin(ctx context.Context, s Settings) error
	// Prepare makes the session as Begin does, without opening a transaction.
	Prepare(ctx context.Context, s Settings) error
	// Exec runs one statement, drops its rows, and says how many it changed.
	Exec(ctx context.Context, s sqltext.Statement) (rows int64, err error)
	// Estimate is how many rows the planner expects a statement to change. It
	// does not run it.
	Estimate(ctx context.Context, s sqltext.Statement) (int64, error)
	// Blockers lists the sessions that hold what the target's session waits
	// for; none if it does not wait. It may be called while Exec runs.
	Blockers(ctx context.Context) ([]Blocker, error)
	// Holds runs a check's query: it holds if it gives one row with true in
	// every column. got says what it gave.
	Holds(ctx context.Context, s sqltext.Statement) (holds bool, got string, err error)
	// Empty drops everything in the application's schemas, within the open
	// transaction, and says how many objects that were.
	Empty(ctx context.Context) (objects int, err error)
	// Sightings looks objects up, with the search path that each stands under. It
	// must not stand in a transaction.
	Sightings(ctx context.Context, objects []evidence.Object) ([]evidence.Sighting, error)
	// DropInvalid drops an index without blocking others, if it is there and
	// marked invalid: the remains of a concurrent build that did not end. It
	// must not stand in a transaction.
	DropInvalid(ctx context.Context, index evidence.Object) (dropped bool, err error)
	// Commit writes ledger entries and ends the transaction with them. Where the
	// server refuses an entry, and not what the step did, its error is a
	// *LedgerError.
	Commit(ctx context.Context, entries ...ledger.Entry) error
	// Write writes a ledger entry into the open transaction. The settings of the
	// step that was under way are gone afterwards. Its error is as Commit's.
	Write(ctx context.Context, e ledger.Entry) error
	// Append writes a ledger entry at once, whatever the steps' session is doing.
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

// For is what holds for a step with these options.
func (s Settings) For(o step.Options) Settings {
	if o.LockTimeout != nil {
		s.LockTimeout = *o.LockTimeout
	}
	if o.StatementTimeout != nil {
		s.StatementTimeout = *o.StatementTimeout
	}
	return s
}

// Milliseconds is a timeout as a server takes it. It is rounded up, since 0 would
// mean no timeout at all.
func Milliseconds(d time.Duration) int64 {
	return (d + time.Millisecond - 1).Milliseconds()
}

// Blocker is a session that holds a lock which a deployment waits for. What the
// target's user may not see is empty.
type Blocker struct {
	PID         int32  `json:"pid"`
	User        string `json:"user,omitempty"`
	Application string `json:"application,omitempty"`
	State       string `json:"state,omitempty" description:"The server's word, such as active or idle in transaction."`
	Query       string `json:"query,omitempty" description:"Its newest statement, shortened."`
}

// String is "session 4711 (user nordmole, application psql, idle in
// transaction): LOCK TABLE berth".
func (b Blocker) String() string {
	about := []string{"user " + cmp.Or(b.User, "unknown"), "application " + cmp.Or(b.Application, "unknown")}
	if b.State != "" {
		about = append(about, b.State)
	}
	text := fmt.Sprintf("session %d (%s)", b.PID, strings.Join(about, ", "))
	if b.Query != "" {
		text += ": " + strings.Join(strings.Fields(b.Query), " ")
	}
	return text
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

// LedgerError says that the server refused a row of the ledger.
type LedgerError struct{ Err error }

func (e *LedgerError) Error() string {
	return "the ledger's row could not be written: " + e.Err.Error()
}

func (e *LedgerError) Unwrap() error { return e.Err }

// lockNotAvailable is the SQLSTATE of a lock timeout.
const lockNotAvailable = "55P03"

// LostError says that the connection to the target is gone.
type LostError struct{ Err error }

func (e *LostError) Error() string {
	return fmt.Sprintf("the connection to the target was lost: %v", e.Err)
}

func (e *LostError) Unwrap() error { return e.Err }
