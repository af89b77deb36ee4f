package postgres

import (
	"vorrang/core/evidence"
	"vorrang/core/review"
	"vorrang/core/sqltext"
	"vorrang/core/step"
	"vorrang/target/postgres/findings"
	"vorrang/target/postgres/grammar"
	look "vorrang/target/postgres/review"
)

// dialect implements engine.Dialect by the server's own grammar.
type dialect struct{}

func (dialect) Cut(text []byte) ([]sqltext.Statement, error) { return grammar.Cut(text) }

func (dialect) Compare(before, after []byte) sqltext.Change { return grammar.Compare(before, after) }

func (dialect) SessionOf(statements []sqltext.Statement) sqltext.Session {
	return grammar.SessionOf(statements)
}

// Mode implements engine.Dialect: changes of the schema can be rolled back.
func (dialect) Mode(asked step.Mode, _ []sqltext.Statement) step.Mode { return asked }

// Whole implements engine.Dialect: what stands outside of a transaction here is there
// since it cannot be undone as a whole, such as a concurrent index build.
func (dialect) Whole(sqltext.Statement) bool { return false }

func (dialect) OnlyRows(s sqltext.Statement) bool { return grammar.OnlyRows(s) }

func (dialect) Objects(statements []sqltext.Statement, first, last int) evidence.Script {
	return grammar.Read(statements, first, last)
}

func (dialect) Left(scripts [][]sqltext.Statement) [][]evidence.Object { return grammar.Left(scripts) }

func (dialect) ConcurrentIndex(s sqltext.Statement) (evidence.Object, bool) {
	return grammar.ConcurrentIndex(s)
}

func (dialect) Review(s step.Step, may []string) (problems, notes step.Problems) {
	return look.Check(s, may)
}

func (dialect) Losses(text []byte) []review.Loss { return look.Losses(text) }

func (dialect) Beyond(text []byte) string { return look.Beyond(text) }

func (dialect) Findings() *review.Rules { return findings.Rules() }

func (d dialect) Reviewer(in review.Setting) review.Reviewer { return findings.New(in, d) }
