package engine

import (
	"vorrang/core/evidence"
	"vorrang/core/review"
	"vorrang/core/sqltext"
	"vorrang/core/step"
)

// Dialect is an engine's SQL: how a text is cut into statements, and what each is.
// It runs nothing and asks no server. Its methods may be called from anywhere, and
// at once. What a grammar cannot read is left to the server to judge.
type Dialect interface {
	// Cut returns the statements of a text, which is UTF-8 with LF line ends. Text
	// that holds none gives none and no error. Every error is an *sqltext.Error.
	Cut(text []byte) ([]sqltext.Statement, error)
	// Compare says what the difference between two scripts amounts to.
	Compare(before, after []byte) sqltext.Change
	// SessionOf reads what statements that ran to their end left in their session.
	SessionOf(statements []sqltext.Statement) sqltext.Session
	// Mode is the mode that a script can run in where one was asked for. A server that
	// commits by itself after each change of the schema takes none into a transaction.
	Mode(asked step.Mode, script []sqltext.Statement) step.Mode
	// OnlyRows reports whether a statement changes rows only, and no schema.
	OnlyRows(s sqltext.Statement) bool

	// Whole reports whether a statement outside of a transaction takes effect as a whole
	// or not at all, whatever becomes of the server, so that what it makes and drops
	// tells which.
	Whole(s sqltext.Statement) bool

	// Objects is what statements should leave behind in the catalogs: from a
	// statement on, up to another (both from 1, both included; a last of 0 is the
	// end).
	Objects(statements []sqltext.Statement, first, last int) evidence.Script
	// Left is what should be there of each of several scripts after all of them ran,
	// one after the other.
	Left(scripts [][]sqltext.Statement) [][]evidence.Object
	// ConcurrentIndex is the index that a statement builds without blocking others,
	// and of which a failed build may leave something.
	ConcurrentIndex(s sqltext.Statement) (index evidence.Object, builds bool)

	// Review returns what of a step could not run, and what is to be noted. may
	// names what of step.Special the lane lets steps change.
	Review(s step.Step, may []string) (problems, notes step.Problems)
	// Losses lists what a script takes away that no other script can bring back.
	Losses(text []byte) []review.Loss
	// Beyond says what of a script reaches beyond its database; empty for nothing.
	Beyond(text []byte) string

	// Findings are the rules of what Reviewer gives. They never change.
	Findings() *review.Rules
	// Reviewer reads steps, in their order, for what a reviewer should know of them.
	Reviewer(in review.Setting) review.Reviewer
}
