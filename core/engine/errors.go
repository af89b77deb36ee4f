package engine

import (
	"errors"
	"fmt"
	"strings"
	"time"
)

// Kind is what a server's error means, whatever its code.
type Kind string

const (
	LockTimeout Kind = "lock-timeout" // a lock was not granted in time; others go first
	Duplicate   Kind = "duplicate"    // something with this name is there already
	Missing     Kind = "missing"      // something that is named is not there
	Cancelled   Kind = "cancelled"    // the statement was cancelled, or took longer than it may
	Other       Kind = "other"
)

// ServerError is the server's word that it refuses a statement.
type ServerError struct {
	Kind     Kind
	SQLState string // or the server's own code; for showing
	Message  string
	Detail   string
	Hint     string
	Where    string // the server's context, such as a function's line
	Position int    // in the statement, in characters from 1; 0 if the server names none
}

func (e *ServerError) Error() string {
	return fmt.Sprintf("%s (%s)", e.Message, Code(e.SQLState))
}

// Bounded is a server's text of at most 16 KiB, with a word where it was cut: a step can
// make it as long as it likes.
func Bounded(text string) string {
	const most = 16 << 10
	if len(text) <= most {
		return text
	}
	return strings.ToValidUTF8(text[:most], "") + fmt.Sprintf(" … (cut; it has %d bytes)", len(text))
}

// Code is a server's code as people know it: SQLSTATE 42P07, error 1050, SQLITE_BUSY.
func Code(code string) string {
	const sqlState = 5 // characters
	switch {
	case len(code) == sqlState:
		return "SQLSTATE " + code
	case strings.Trim(code, "0123456789") == "":
		return "error " + code
	}
	return code
}

// LedgerError says that the server refused a row of the ledger.
type LedgerError struct{ Err error }

func (e *LedgerError) Error() string {
	return "the ledger's row could not be written: " + e.Err.Error()
}

// Unwrap is the server's refusal.
func (e *LedgerError) Unwrap() error { return e.Err }

// EndedError says that a step ended the transaction that Begin had opened for it, whether or not
// it began another at once.
type EndedError struct{}

func (*EndedError) Error() string {
	return "the script ended Vorrang's transaction by itself; take COMMIT and ROLLBACK out of it, and out of what it calls"
}

// LostError says that the connection to the target is gone.
type LostError struct{ Err error }

func (e *LostError) Error() string {
	return fmt.Sprintf("the connection to the target was lost: %v", e.Err)
}

// Unwrap is the driver's error.
func (e *LostError) Unwrap() error { return e.Err }

// LockedError says who holds a target's lock.
type LockedError struct {
	PID         int32
	Application string
	User        string
	Since       time.Time
}

func (e *LockedError) Error() string {
	if e.PID == 0 {
		return "the target's lock is held by another session"
	}
	since := ""
	if !e.Since.IsZero() {
		since = ", connected since " + e.Since.UTC().Format(time.DateTime+" UTC")
	}
	return fmt.Sprintf("the target's lock is held by session %d (%s, user %s)%s", e.PID, e.Application, e.User, since)
}

// ConnectKind is why a target cannot be used.
type ConnectKind string

const (
	BadURL         ConnectKind = "bad-url"
	NoSuchHost     ConnectKind = "no-such-host"
	NobodyListens  ConnectKind = "nobody-listens"
	NoAnswer       ConnectKind = "no-answer"
	WrongPassword  ConnectKind = "wrong-password"
	NotAdmitted    ConnectKind = "not-admitted"
	NoSuchDatabase ConnectKind = "no-such-database"
	NoTLS          ConnectKind = "no-tls"
	BadCertificate ConnectKind = "bad-certificate"
	TooMany        ConnectKind = "too-many-connections"
	NotReady       ConnectKind = "not-ready"
	Pooled         ConnectKind = "transaction-pooler"
	Unknown        ConnectKind = "other"
)

// ConnectError says why a target cannot be used, and what to change. It never
// holds a password, but what it wraps may.
type ConnectError struct {
	Kind    ConnectKind
	Message string
	Fix     string
	Err     error // the driver's or the server's; nil where there is none
}

func (e *ConnectError) Error() string { return e.Message + "; " + e.Fix }

// Unwrap is the driver's or the server's error.
func (e *ConnectError) Unwrap() error { return e.Err }

// OwnsMore says that a user could reach more from a scratch database than that.
type OwnsMore struct {
	User, What string
	Fix        string // what to do at the server, such as a GRANT; empty where another user is all that helps
}

func (e *OwnsMore) Error() string { return fmt.Sprintf("%s %s", e.User, e.What) }

// ErrTooManyRows says that a table's rows are more than a file may hold.
var ErrTooManyRows = errors.New("there are more rows than a step's file may hold")
