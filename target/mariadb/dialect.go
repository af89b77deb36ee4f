package mariadb

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"vorrang/core/engine"
	"vorrang/core/evidence"
	"vorrang/core/review"
	"vorrang/core/sqltext"
	"vorrang/core/step"
	"vorrang/target/words"
)

// dialect implements engine.Dialect by the words of statements.
type dialect struct{ words.Dialect }

var _ engine.Dialect = language

var language = dialect{words.Dialect{Rules: rules, Cutter: cut, Leaves: leaves, Finds: findings, Patterns: patterns,
	Loses: func(s sqltext.Statement) []string { return shapeOf(s).loses },
	Query: func(s sqltext.Statement) bool { return shapeOf(s).verb == reads }}}

// Mode implements engine.Dialect: only changes of rows can be rolled back.
func (dialect) Mode(asked step.Mode, script []sqltext.Statement) step.Mode {
	if asked == step.Transaction && slices.ContainsFunc(script, commits) {
		return step.Autocommit
	}
	return asked
}

// commits reports whether the server may commit by itself before or after a statement.
// Source: https://mariadb.com/kb/en/sql-statements-that-cause-an-implicit-commit/
func commits(s sqltext.Statement) bool {
	switch shapeOf(s).verb {
	case reads, changes, sets, saves:
		return false
	}
	return true
}

// Whole implements engine.Dialect. DROP takes its tables away one by one.
// Source: https://mariadb.com/kb/en/atomic-ddl/
func (dialect) Whole(s sqltext.Statement) bool {
	is := shapeOf(s)
	gone := 0
	for _, e := range is.effects {
		if e.does == drops && e.Of == "" {
			gone++
		}
	}
	return is.verb == defines && len(is.effects) > 0 && gone < 2
}

func (dialect) OnlyRows(s sqltext.Statement) bool {
	verb := shapeOf(s).verb
	return verb == reads || verb == changes || verb == sets
}

// SessionOf implements engine.Dialect.
func (dialect) SessionOf(statements []sqltext.Statement) sqltext.Session {
	var left sqltext.Session
	for _, s := range statements {
		switch is := shapeOf(s); {
		case is.temp:
			what := "temporary table"
			if is.verb == sets {
				what = "prepared statement"
			}
			left.Lost = append(
				left.Lost,
				sqltext.Lost{What: what, Name: is.name, Line: s.Line, Needs: words.Mention(is.name)},
			)
		case is.verb == sets:
			left.Again = append(left.Again, s)
		case is.verb == changes && len(is.effects) > 0: // a temporary table is dropped
			left.Lost = slices.DeleteFunc(left.Lost, func(l sqltext.Lost) bool {
				return slices.ContainsFunc(is.effects, func(e effect) bool { return strings.EqualFold(e.Name, l.Name) })
			})
		}
	}
	return left
}

func (dialect) Beyond(text []byte) string {
	statements, err := cut(text)
	if err != nil {
		return "" // which the server says as well
	}
	for _, s := range statements {
		if is := shapeOf(s); is.verb == beyond {
			return fmt.Sprintf(
				"line %d: %s reaches beyond the database: %s",
				s.Line, evidence.FirstWords(s.SQL), is.what,
			)
		}
		if what := reach(s); what != "" {
			return fmt.Sprintf("line %d: %s reaches %s", s.Line, evidence.FirstWords(s.SQL), what)
		}
	}
	return ""
}

// Review implements engine.Dialect. may can hold roles and settings, which a lane lets
// its steps change.
func (d dialect) Review(s step.Step, may []string) (problems, notes step.Problems) {
	f := d.Files()
	asked := s.Options().Mode
	script := func(mode step.Mode, text []byte) func(int, sqltext.Statement) (refused, noted string) {
		statements, _ := cut(text) // f says what is wrong with it
		alone := mode == step.Transaction && d.Mode(mode, statements) == step.Autocommit
		told := false
		return func(i int, statement sqltext.Statement) (refused, noted string) {
			is := shapeOf(statement)
			refused = cmp.Or(d.NamesOurs(statement), d.Unread(statement), refusal(is, mode, may))
			if what := reach(statement); refused == "" && what != "" {
				refused = refusal(shape{verb: beyond, what: what}, mode, may)
			}
			if refused == "" && mode == step.Batches {
				refused = review.Endless(
					i, is.change, "UPDATE, DELETE or INSERT",
					"WHERE … IS NULL LIMIT "+sqltext.BatchPlace,
				)
			}
			switch {
			case alone && !told && commits(statement):
				told = true
				noted = fmt.Sprintf(
					"MariaDB commits by itself before and after this (%s): the %d statements of the file run one by one, each with "+
						"a row in the ledger before it, and what ran before a failure stays",
					evidence.FirstWords(statement.SQL), len(statements),
				)
				if len(statements) == 1 {
					noted = fmt.Sprintf(
						"MariaDB commits by itself before and after this (%s): it cannot be rolled back",
						evidence.FirstWords(statement.SQL),
					)
				}
			case is.verb == other:
				noted = "this begins with no word that Vorrang knows of MariaDB; whether it is right, the server decides"
			case is.verb == calls:
				noted = "what this runs is not looked into"
			}
			return refused, noted
		}
	}
	f.Read(&s.Forward, script(asked, s.Forward.Text()))
	if s.Back != nil {
		mode := asked
		if mode == step.Batches {
			mode = step.Transaction
		}
		f.Read(s.Back, script(mode, s.Back.Text()))
	}
	d.Check(f, s.Check)
	return f.Problems, f.Notes
}

// refusal says why a statement cannot run, or is not a step's to run.
func refusal(is shape, mode step.Mode, may []string) string {
	switch {
	case is.verb == beyond && (is.what == "rights of users" || is.what == "users and roles" || is.what == "a user"):
		if !slices.Contains(may, "roles") {
			return "this changes " + is.what + "; a lane lets its steps do that with steps-may: [roles]"
		}
	case is.verb == beyond && strings.Contains(is.what, "setting"):
		if !slices.Contains(may, "settings") {
			return "this changes " + is.what + "; a lane lets its steps do that with steps-may: [settings]"
		}
	case is.verb == beyond:
		return "a step reaches its target's database only, and this reaches " + is.what + ": take it out"
	case is.verb == control && mode != step.Autocommit:
		return fmt.Sprintf("%s in a step of mode %s: Vorrang opens and ends the transaction itself; "+
			"take it out, or, if the step must control its transactions, set mode: autocommit", is.what, mode)
	}
	return ""
}
