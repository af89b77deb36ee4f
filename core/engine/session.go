package engine

import (
	"cmp"
	"context"
	"fmt"
	"strings"
	"time"

	"vorrang/core/evidence"
	"vorrang/core/ledger"
	"vorrang/core/remedy"
	"vorrang/core/review"
	"vorrang/core/schema"
	"vorrang/core/sqltext"
	"vorrang/core/step"
	"vorrang/internal/plural"
)

// Session is a target as the service works on it. Its methods block. Errors are
// *ServerError where the server answered, and *LostError where the connection is
// gone. It is not safe for concurrent use, but for Blockers.
type Session interface {
	Steps
	Ledger
	Lock

	// Identity is the same for two sessions if they are on the same database, by
	// what the server says, not by the URL.
	Identity(ctx context.Context) (string, error)
	// Probe looks at the target, and changes nothing: whether it is reached, may be
	// written to, and can hold a ledger. role is one that steps are to run as; empty
	// for none.
	Probe(ctx context.Context, role string) (Probe, error)
	// HasTables reports whether all of some tables are there, each as schema.name.
	HasTables(ctx context.Context, tables ...string) (bool, error)
	// Schemas says which schemas are the application's; none are all but the
	// server's and Vorrang's.
	Schemas(schemas []string)
	// Existing counts the objects in the application's schemas.
	Existing(ctx context.Context, schemas []string) (Existing, error)
	// Snapshot reads the schema. Its objects come without what they need.
	Snapshot(ctx context.Context, schemas []string) (schema.Schema, error)
	// SnapshotWithNeeds also says which objects need which.
	SnapshotWithNeeds(ctx context.Context, schemas []string) (schema.Schema, error)
	// Peek looks, reading only, whether objects are there and whether the queries
	// of a check hold, with the settings that a step would have.
	Peek(
		ctx context.Context, settings Settings, objects []evidence.Object, check []sqltext.Statement,
	) ([]evidence.Observation, []evidence.Outcome, error)

	// Closed reports whether a connection is gone.
	Closed() bool
	// Close ends the session, and with it its lock.
	Close()
}

// Steps is the side of a session on which steps run. It is held under the target's
// lock for a whole deployment.
type Steps interface {
	// Begin opens a transaction in a session that nothing of an earlier step is
	// left in.
	Begin(ctx context.Context, s Settings) error
	// Prepare makes the session as Begin does, without opening a transaction.
	Prepare(ctx context.Context, s Settings) error
	// Exec runs one statement, drops its rows, and says how many it changed. A text that is
	// more than one to the server is refused. Where the statement ended the transaction that
	// Begin opened, and another is open, its error is an *EndedError.
	Exec(ctx context.Context, s sqltext.Statement) (rows int64, err error)
	// Holds runs a check's query: it holds if it gives one row with true in
	// every column. got says what it gave.
	Holds(ctx context.Context, s sqltext.Statement) (holds bool, got string, err error)
	// Empty drops everything in the application's schemas, within the open
	// transaction, and says how many objects that were.
	Empty(ctx context.Context) (objects int, err error)
	// Observations looks objects up, with the search path that each stands under. It
	// must not be in a transaction.
	Observations(ctx context.Context, objects []evidence.Object) ([]evidence.Observation, error)
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

// Ledger is the ledger's side of a session.
type Ledger interface {
	// ReadLedger returns all entries, oldest first. exists is false for a target
	// that has no ledger.
	ReadLedger(ctx context.Context) (entries []ledger.Entry, exists bool, err error)
	// ReadLedgerFrom returns those whose Seq is at least seq.
	ReadLedgerFrom(ctx context.Context, seq int64) (entries []ledger.Entry, exists bool, err error)
	// LedgerAltered says what of the ledger's table is not as it was made; an
	// empty text where there is nothing, or no ledger.
	LedgerAltered(ctx context.Context) (string, error)
	// CreateLedger makes the ledger where there is none, in a transaction of its
	// own. It may be repeated. Call it under the target's lock.
	CreateLedger(ctx context.Context) error
	// AppendAll writes entries in one transaction of their own.
	AppendAll(ctx context.Context, entries []ledger.Entry) error
}

// Lock is what keeps two deployments of one target apart.
type Lock interface {
	// Lock takes the target's lock until the session ends. It does not wait: a lock
	// that another session holds is a *LockedError.
	Lock(ctx context.Context) error
	// Unlock gives it back.
	Unlock()
	// Alive asks the server whether the session that holds the lock is there.
	Alive(ctx context.Context) error
}

// Expecter is a session that can end a step and begin the next in one round trip.
type Expecter interface {
	// Expect says that Begin follows the next Commit at once, with these settings. Where it
	// does not, Rollback must.
	Expect(next Settings)
}

// Estimator is a session whose server can say beforehand how many rows a statement
// may change.
type Estimator interface {
	// Estimate is how many rows the planner expects a statement to change. It
	// does not run it.
	Estimate(ctx context.Context, s sqltext.Statement) (int64, error)
}

// Watcher is a session whose server tells who holds a lock.
type Watcher interface {
	// Blockers lists the sessions that hold what the steps' session waits for;
	// none if it does not wait. It may be called while Exec runs.
	Blockers(ctx context.Context) ([]Blocker, error)
}

// Yielder is a session whose server tells who waits for the steps' session, and cancels
// what runs there. Both may be called while Exec runs, one after the other.
type Yielder interface {
	// KeptWaiting lists the sessions that wait for what the steps' session holds or is
	// first in line for, and those that wait after them.
	KeptWaiting(ctx context.Context) ([]Blocker, error)
	// CancelStatement cancels the statement that runs in the steps' session. Exec then
	// ends with an error. It does nothing where none runs.
	CancelStatement(ctx context.Context) error
}

// Sweeper is a session whose server can leave an index half built.
type Sweeper interface {
	// DropInvalid drops an index without blocking others, if it is there and
	// marked invalid: the remains of a concurrent build that did not end. It
	// must not be in a transaction.
	DropInvalid(ctx context.Context, index evidence.Object) (dropped bool, err error)
}

// Marker is a session that says cheaply whether a snapshot would find anything changed.
type Marker interface {
	// Mark stays the same for as long as a snapshot of the same schemas would be the same. It may
	// change where that would not.
	Mark(ctx context.Context) (string, error)
}

// Rester is a session that may be kept, idle, from one look to the next.
type Rester interface {
	// Clean reports whether nothing but our own questions ran in it, and it is connected. It
	// asks nobody.
	Clean() bool
	// MayStay asks whether it can look once more, and whether nobody waits for the database to
	// be left by all sessions.
	MayStay(ctx context.Context) bool
}

// Counter is a session whose server counts how large its objects are and how often
// they are used.
type Counter interface {
	// Figures reads what is counted. What the session's user may not see is left out.
	Figures(ctx context.Context) (review.Figures, error)
}

// Asker is a session that answers questions about rows.
type Asker interface {
	// CountRows is how many rows a query has, up to most. It only reads, and gives up after
	// AskPatience, or where it would wait for a lock.
	CountRows(ctx context.Context, query string, most int64) (int64, error)
}

// AskPatience bounds a question about rows.
const AskPatience = 5 * time.Second

// Copier is a session that gives a table's rows in a form that a step can hold.
type Copier interface {
	// Rows reads a table's rows, and where its sequences stand. most is in bytes;
	// more is ErrTooManyRows. Columns that are computed are left out.
	Rows(ctx context.Context, seen schema.Schema, table string, most int) (schema.Rows, error)
}

// Owned is a session whose ledger may have an owner of its own.
type Owned interface {
	// LedgerOwner says that the ledger belongs to a role that the session's user is
	// no member of, and with which key entries are proved.
	LedgerOwner(role, key string)
}

// Workshop is an engine that can make databases for trials.
type Workshop interface {
	// NewScratch makes an empty database on the server that a URL names, and opens
	// a session on it. It belongs to role, where one is given. Where the URL's user
	// could reach more from there, its error is *OwnsMore, unless the lane declares
	// that it may.
	NewScratch(ctx context.Context, url, role string, declared bool) (Scratch, error)
	// DropScratch drops one that was left behind, by its name. It is no error if it is
	// gone.
	DropScratch(ctx context.Context, url, name string) error
}

// Scratch is an empty database for trials. Close drops it.
type Scratch interface {
	Session
	// Name is what it is called on its server.
	Name() string
	// Run runs a file's statements: all in one transaction, or each in its own.
	// An error names the statement's line.
	Run(ctx context.Context, text []byte, autocommit bool) error
}

// ScratchMark stands on a scratch database, where its server has a place for it.
const ScratchMark = "made by Vorrang for a trial; it is dropped when that ends, and may be dropped once nobody is " +
	"connected to it"

// Drafter is an engine that writes the statements which turn one schema into another.
type Drafter interface {
	// Draft writes them. Both schemas must have been read with their needs. It runs
	// nothing.
	Draft(is, should schema.Schema, style schema.Style) schema.Script
}

// Scripts is an engine for which files can be written that run without
// Vorrang.
type Scripts interface {
	// Script writes a plan as one file. Its error is an *UnwritableError where the
	// server's own client could not do what the service does.
	Script(f File) ([]byte, error)
	// LedgerOwnerSQL is what gives the ledger an owner of its own; login is the
	// user of the target's URL.
	LedgerOwnerSQL(owner, login string) string
}

// Settings hold for one step.
type Settings struct {
	Role             string        // that the step runs as; empty for the target's user
	LockTimeout      time.Duration // 0 waits for ever
	StatementTimeout time.Duration // 0 is none

	// BlockAtMost is how long others may wait because of a statement before it gives way
	// to them; 0 is for as long as it takes.
	BlockAtMost time.Duration
}

// For is what holds for a step with these options.
func (s Settings) For(o step.Options) Settings {
	if o.LockTimeout != nil {
		s.LockTimeout = *o.LockTimeout
	}
	if o.StatementTimeout != nil {
		s.StatementTimeout = *o.StatementTimeout
	}
	if o.BlockAtMost != nil {
		s.BlockAtMost = *o.BlockAtMost
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
	Table       string `json:"table,omitempty" description:"The table whose lock is waited for, where the server says."`
}

// String is "session 4711 (user nordmole, application psql, idle in
// transaction, lock on public.berth): LOCK TABLE berth".
func (b Blocker) String() string {
	about := []string{"user " + cmp.Or(b.User, "unknown"), "application " + cmp.Or(b.Application, "unknown")}
	if b.State != "" {
		about = append(about, b.State)
	}
	if b.Table != "" {
		about = append(about, "lock on "+b.Table)
	}
	text := fmt.Sprintf("session %d (%s)", b.PID, strings.Join(about, ", "))
	if b.Query != "" {
		text += ": " + strings.Join(strings.Fields(b.Query), " ")
	}
	return text
}

// Probe is what can be said of a target without changing it.
type Probe struct {
	Version   string // such as 15.18; it begins with the major version
	Database  string
	User      string // empty for an engine that has none
	HasLedger bool
	Looks     []Look // in the order in which people ask
}

// Look is one thing that a probe checked.
type Look struct {
	What    string `json:"what"`
	OK      bool   `json:"ok"`
	Message string `json:"message"`
	Fix     string `json:"fix,omitempty" description:"What to do at the target, such as a GRANT."`

	Remedies []remedy.Remedy `json:"remedies,omitempty" description:"What to do by Vorrang."`
}

// Look adds what was checked; fix is for where it is not right.
func (p *Probe) Look(what string, ok bool, message, fix string) {
	if ok {
		fix = ""
	}
	p.Looks = append(p.Looks, Look{What: what, OK: ok, Message: message, Fix: fix})
}

// Existing counts what is found in a database that has no ledger.
type Existing struct {
	Tables int
	Others int // views, functions, types and the like
}

// Any reports whether there is anything.
func (e Existing) Any() bool { return e.Tables+e.Others > 0 }

// String is "7 tables and 2 other objects".
func (e Existing) String() string {
	switch {
	case e.Others == 0:
		return plural.Of(e.Tables, "table")
	case e.Tables == 0:
		return plural.Of(e.Others, "object")
	}
	return plural.Of(e.Tables, "table") + " and " + plural.Of(e.Others, "other object")
}
