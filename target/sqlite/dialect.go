package sqlite

import (
	"bytes"
	"errors"
	"fmt"
	"regexp"
	"unicode/utf8"

	"vorrang/core/engine"
	"vorrang/core/evidence"
	"vorrang/core/review"
	"vorrang/core/sqltext"
	"vorrang/core/step"
	"vorrang/internal/visible"
	"vorrang/target/words"
)

// dialect implements engine.Dialect by SQLite's tokens.
type dialect struct{}

var _ engine.Dialect = dialect{}

func (dialect) Cut(text []byte) ([]sqltext.Statement, error) { return cut(text) }

func (dialect) SessionOf(statements []sqltext.Statement) sqltext.Session {
	return sessionOf(statements)
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
	r := &reviewer{mode: s.Options().Mode}
	r.file(&s.Forward, r.script)
	if r.mode == step.Batches {
		r.batches(&s.Forward)
	}
	r.file(s.Back, r.script)
	r.file(s.Check, r.query)
	return r.problems, r.notes
}

type reviewer struct {
	mode            step.Mode
	problems, notes step.Problems
}

// file cuts a file, and asks about every statement why it is refused.
func (r *reviewer) file(file *step.File, refusal func(sqltext.Statement, shape) string) {
	if file == nil {
		return
	}
	text := file.Text()
	if at := bytes.IndexFunc(text, visible.Hidden); at >= 0 {
		found, _ := utf8.DecodeRune(text[at:])
		r.notes = append(r.notes, step.Problem{File: file.Name, Message: fmt.Sprintf(
			"the character U+%04X stands here: it is not shown, and can change how what stands beside it is shown; look at the text byte by byte", found)}.In(text, at))
	}
	statements, err := cut(text)
	var place *sqltext.Error
	switch {
	case errors.As(err, &place):
		r.problems = append(r.problems, step.Problem{File: file.Name, Message: place.Message}.In(text, place.Offset))
	case len(statements) == 0:
		r.problems = append(r.problems, step.Problem{File: file.Name, Message: "holds comments, but no statement; write its SQL, or delete the file"})
	}
	for _, s := range statements {
		is := shapeOf(s)
		message := refusal(s, is)
		if names(s) {
			message = "this names " + ledgerTable + ", Vorrang's own ledger; what the ledger says is written by deployments and repairs only: take it out"
		}
		if message != "" {
			r.problems = append(r.problems, step.Problem{File: file.Name, Message: message}.In(text, s.Offset))
		}
		if note := noted(is); note != "" {
			r.notes = append(r.notes, step.Problem{File: file.Name, Message: note}.In(text, s.Offset))
		}
	}
}

// names reports whether a statement speaks of the ledger. SQLite has no SQL that is
// put together while it runs, so nothing hides.
func names(s sqltext.Statement) bool {
	for _, t := range rules.Tokens(s.SQL) {
		if (t.Kind == words.Word || t.Kind == words.Quoted) && isOurs(t.Name()) {
			return true
		}
	}
	return false
}

func (r *reviewer) script(_ sqltext.Statement, is shape) string {
	guarded := guard{controls: r.mode == step.Autocommit}
	switch {
	case is.verb == attaches, is.into:
		return "a step reaches its target's file only: take out what attaches or writes another"
	case is.verb == sets:
		return guarded.whyPragma(is.name, "set")
	case (is.verb == opens || is.verb == closes) && r.mode != step.Autocommit:
		return fmt.Sprintf("this opens or ends a transaction in a step of mode %s: Vorrang does that itself; "+
			"take it out, or, if the step must control its transactions, set mode: autocommit", r.mode)
	case is.verb == vacuums && r.mode != step.Autocommit:
		return "SQLite refuses VACUUM inside a transaction; set mode: autocommit in the step's options"
	}
	return ""
}

// noted is what may go wrong with a statement, and is not refused.
func noted(is shape) string {
	if is.verb == other && is.kind == "" {
		return "this begins with no word that Vorrang knows of SQLite; whether it is right, SQLite decides"
	}
	return ""
}

func (r *reviewer) query(_ sqltext.Statement, is shape) string {
	if is.verb == reads {
		return ""
	}
	return "a check holds queries only: each must give one row, with true (a number other than 0) in every column"
}

// batches makes sure that a statement that is repeated comes to an end.
func (r *reviewer) batches(file *step.File) {
	text := file.Text()
	statements, err := cut(text)
	if err != nil {
		return // which was said
	}
	refuse := func(s sqltext.Statement, message string) {
		r.problems = append(r.problems, step.Problem{File: file.Name, Message: message}.In(text, s.Offset))
	}
	for i, s := range statements {
		is := shapeOf(s)
		switch {
		case i > 0:
			refuse(s, "mode batches repeats one statement; put this one into a step of its own")
		case is.verb != changes:
			refuse(s, "mode batches repeats an UPDATE, DELETE or INSERT until it changes no row; for other statements use mode: autocommit or transaction")
		case is.word != "INSERT" && !is.where:
			refuse(s, "mode batches repeats the statement until it changes no row, and without WHERE that never happens; name the rows that are left, as in "+
				"WHERE id IN (SELECT id FROM … WHERE … IS NULL LIMIT "+sqltext.BatchPlace+")")
		case is.word == "INSERT" && !is.from:
			refuse(s, "mode batches repeats the statement until it inserts no row; select the rows that are left FROM somewhere")
		}
	}
}
