package sqlite

import (
	"cmp"
	"fmt"

	"vorrang/core/engine"
	"vorrang/core/evidence"
	"vorrang/core/review"
	"vorrang/core/sqltext"
	"vorrang/core/step"
	"vorrang/target/words"
)

// dialect implements engine.Dialect by SQLite's tokens.
type dialect struct{ words.Dialect }

var _ engine.Dialect = language

var language = dialect{words.Dialect{Rules: rules, Cutter: cut, Leaves: leaves, Finds: findings, Patterns: patterns,
	Loses: func(s sqltext.Statement) []string { return shapeOf(s).loses },
	Query: func(s sqltext.Statement) bool { return shapeOf(s).verb == reads }}}

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

// Review implements engine.Dialect. SQLite's steps change no roles or settings of a
// server, so there is nothing that a lane could let them.
func (d dialect) Review(s step.Step, _ []string) (problems, notes step.Problems) {
	f := d.Files()
	mode := s.Options().Mode
	script := func(i int, statement sqltext.Statement) (refused, noted string) {
		is := shapeOf(statement)
		// SQLite puts no SQL together while it runs, so no name hides
		refused = cmp.Or(d.NamesOurs(statement), d.Unread(statement), refusal(is, mode))
		if refused == "" && mode == step.Batches {
			refused = review.Endless(
				i, is.change, "UPDATE, DELETE or INSERT",
				"WHERE id IN (SELECT id FROM … WHERE … IS NULL LIMIT "+sqltext.BatchPlace+")",
			)
		}
		if is.verb == other && is.kind == "" {
			noted = "this begins with no word that Vorrang knows of SQLite; whether it is right, SQLite decides"
		}
		return refused, noted
	}
	f.Read(&s.Forward, script)
	if s.Back != nil && mode == step.Batches {
		mode = step.Transaction // in which a way back may be what it likes
	}
	f.Read(s.Back, script)
	d.Check(f, s.Check)
	return f.Problems, f.Notes
}

// refusal says why a statement cannot run, or is not a step's to run.
func refusal(is shape, mode step.Mode) string {
	guarded := guard{controls: mode == step.Autocommit}
	switch {
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
