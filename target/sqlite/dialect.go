package sqlite

import (
	"fmt"
	"regexp"

	"vorrang/core/engine"
	"vorrang/core/evidence"
	"vorrang/core/review"
	"vorrang/core/sqltext"
	"vorrang/core/step"
	"vorrang/target/words"
)

// dialect implements engine.Dialect by SQLite's tokens.
type dialect struct{}

var _ engine.Dialect = dialect{}

func (dialect) Cut(text []byte) ([]sqltext.Statement, error) { return cut(text) }

func (dialect) SessionOf(statements []sqltext.Statement) sqltext.Session {
	return sessionOf(statements)
}

// Mode implements engine.Dialect: changes of the schema can be rolled back.
func (dialect) Mode(asked step.Mode, _ []sqltext.Statement) step.Mode { return asked }

// Whole implements engine.Dialect.
func (dialect) Whole(s sqltext.Statement) bool {
	is := shapeOf(s)
	return is.verb == creates && !is.temporary || is.verb == drops || is.verb == renames || is.verb == recolumns
}

func (dialect) OnlyRows(s sqltext.Statement) bool {
	verb := shapeOf(s).verb
	return verb == reads || verb == changes
}

func (dialect) Objects(statements []sqltext.Statement, first, last int) evidence.Script {
	return evidence.Collect(statements, first, last, leaves)
}

func (dialect) Left(scripts [][]sqltext.Statement) [][]evidence.Object {
	return evidence.CollectLeft(scripts, leaves)
}

// ConcurrentIndex implements engine.Dialect: SQLite builds none.
func (dialect) ConcurrentIndex(sqltext.Statement) (evidence.Object, bool) {
	return evidence.Object{}, false
}

func (dialect) Losses(text []byte) []review.Loss {
	statements, err := cut(text)
	if err != nil {
		return nil // such a script is refused when it is submitted
	}
	var losses []review.Loss
	for _, s := range statements {
		if what := lost(shapeOf(s)); what != "" {
			losses = append(losses, review.Loss{Line: s.Line, What: what})
		}
	}
	return losses
}

func (dialect) Beyond(text []byte) string {
	statements, err := cut(text)
	if err != nil {
		return "" // which the review says as well
	}
	for _, s := range statements {
		if is := shapeOf(s); is.verb == attaches || is.into {
			return fmt.Sprintf("line %d: %s reaches beyond the database", s.Line, evidence.FirstWords(s.SQL))
		}
	}
	return ""
}

func (dialect) Compare(before, after []byte) sqltext.Change { return rules.Compare(before, after) }

// mention finds a name in a statement.
func mention(name string) *regexp.Regexp {
	return regexp.MustCompile(`(?i)` + regexp.QuoteMeta(name))
}

// Review implements engine.Dialect. SQLite's steps change no roles or settings of a
// server, so there is nothing that a lane could let them.
func (dialect) Review(s step.Step, _ []string) (problems, notes step.Problems) {
	r := words.Review{Cut: cut}
	mode := s.Options().Mode
	script := func(i int, statement sqltext.Statement) (refused, noted string) {
		is := shapeOf(statement)
		if refused = refusal(statement, is, mode); refused == "" && mode == step.Batches {
			refused = words.Endless(i, words.Change{Verb: is.word, Where: is.where, From: is.from}, "WHERE id IN (SELECT id FROM … WHERE … IS NULL LIMIT "+sqltext.BatchPlace+")")
		}
		if is.verb == other && is.kind == "" {
			noted = "this begins with no word that Vorrang knows of SQLite; whether it is right, SQLite decides"
		}
		return refused, noted
	}
	r.File(&s.Forward, script)
	if s.Back != nil && mode == step.Batches {
		mode = step.Transaction // in which a way back may be what it likes
	}
	r.File(s.Back, script)
	r.File(s.Check, func(_ int, statement sqltext.Statement) (refused, noted string) {
		if shapeOf(statement).verb != reads {
			refused = "a check holds queries only: each must give one row, with true (a number other than 0) in every column"
		}
		return refused, ""
	})
	return r.Problems, r.Notes
}

// refusal says why a statement cannot run, or is not a step's to run.
func refusal(s sqltext.Statement, is shape, mode step.Mode) string {
	guarded := guard{controls: mode == step.Autocommit}
	switch {
	case rules.Names(s, isOurs): // SQLite puts no SQL together while it runs, so nothing hides
		return "this names " + ledgerTable + ", Vorrang's own ledger; what the ledger says is written by deployments and repairs only: take it out"
	case is.verb == attaches, is.into:
		return "a step reaches its target's file only: take out what attaches or writes another"
	case is.verb == sets:
		return guarded.whyPragma(is.name, "set")
	case (is.verb == opens || is.verb == closes) && mode != step.Autocommit:
		return fmt.Sprintf("this opens or ends a transaction in a step of mode %s: Vorrang does that itself; "+
			"take it out, or, if the step must control its transactions, set mode: autocommit", mode)
	case is.verb == vacuums && mode != step.Autocommit:
		return "SQLite refuses VACUUM inside a transaction; set mode: autocommit in the step's options"
	}
	return ""
}
