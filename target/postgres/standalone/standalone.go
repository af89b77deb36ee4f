// Package standalone writes a plan as one SQL file that psql runs without
// Vorrang: with the target's lock, a guard on the ledger's head, the checks, and
// the ledger rows that a deployment of the service would write.
package standalone

import (
	"bytes"
	"fmt"
	"strings"
	"time"

	"vorrang/core/deploy"
	"vorrang/core/engine"
	"vorrang/core/ledger"
	"vorrang/core/plan"
	"vorrang/core/sqltext"
	"vorrang/core/step"
	"vorrang/internal/plural"
	"vorrang/target/postgres/grammar"
)

// File is what a file is made of.
type File struct {
	engine.File
	LockKey      int64  // of the advisory lock that every deployment takes
	CreateLedger string // makes the ledger, if it is not there; empty where it is
}

func refuse(format string, args ...any) error {
	return &engine.UnwritableError{Reason: fmt.Sprintf(format, args...)}
}

// Text returns the file. The error is an *engine.UnwritableError where psql could not do what the
// service does.
func (f File) Text() ([]byte, error) {
	w := &writer{File: f}
	w.line("%s", below)
	w.guard()
	for i, action := range f.Plan.Actions {
		if err := w.action(i, action); err != nil {
			return nil, err
		}
	}
	w.line("RESET SESSION AUTHORIZATION; RESET ROLE;")
	w.line(
		"DO $done$ BEGIN PERFORM pg_catalog.pg_advisory_unlock_all(); RAISE NOTICE 'the deployment is done'; END $done$;",
	)
	body := w.out.Bytes()
	w.out = bytes.Buffer{}
	w.head()
	w.itself(step.Sum(body))
	return append(w.out.Bytes(), body...), nil
}

// below begins what the file's digest is of.
const below = "-- What stands from here on has the digest above."

// itself lets psql hand the whole file to the server, which holds it against its digest
// before anything runs. psql does not tell which file it reads, so whoever runs it does.
// Source:
// https://www.postgresql.org/docs/18/app-psql.html, \lo_import
func (w *writer) itself(digest step.Checksum) {
	marker := "pg_catalog.convert_to(E'\\n" + below + "', 'UTF8')"
	w.line(`\if :{?file}`)
	w.line("BEGIN;")
	w.line(`\lo_import :file`)
	w.line(
		"SELECT pg_catalog.encode(pg_catalog.sha256(pg_catalog.substr(f.itself, POSITION(%s IN f.itself) + 1)), 'hex') "+
			"OPERATOR(pg_catalog.=) '%s' AS vorrang_whole",
		marker, digest,
	)
	w.line(`    FROM (SELECT pg_catalog.lo_get(:LASTOID) AS itself) f \gset`)
	w.line(`SELECT pg_catalog.lo_unlink(:LASTOID) AS vorrang_read \gset`)
	w.line("COMMIT;")
	w.line(`\if :vorrang_whole`)
	w.line(`\else`)
	w.line(
		"DO $edited$ BEGIN RAISE EXCEPTION 'this file was edited: it is not as it was made' USING HINT = 'make a new " +
			"file: vorrang preview -standalone'; END $edited$;",
	)
	w.line(`\endif`)
	w.line(`\else`)
	w.line(
		"DO $named$ BEGIN RAISE EXCEPTION 'this file is held against its digest: say which file it is' USING HINT = 'psql " +
			"-X -v file=THIS-FILE -f THIS-FILE TARGET'; END $named$;",
	)
	w.line(`\endif`)
}

type writer struct {
	File
	out  bytes.Buffer
	rows int // ledger rows written so far
}

func (w *writer) line(format string, args ...any) {
	fmt.Fprintf(&w.out, format+"\n", args...)
}

// comment writes a line that cannot end before it should.
func (w *writer) comment(format string, args ...any) {
	w.line("-- %s", strings.Join(strings.Fields(fmt.Sprintf(format, args...)), " "))
}

func (w *writer) head() {
	what := "loose steps"
	if w.Release != "" {
		what = "release " + w.Release
	}
	w.comment(
		"%s of %s/%s, %s, by Vorrang's preview",
		plural.Of(len(w.Plan.Actions), "step"),
		w.Lane, w.Environment, string(w.Plan.Direction),
	)
	w.comment("Made for %s at %s UTC, of %s.", w.MadeBy, w.MadeAt.UTC().Format(time.DateTime), what)
	w.comment("")
	w.comment("Run it as the user of Vorrang's target:  psql -X -v file=THIS-FILE -f THIS-FILE TARGET")
	w.comment("The whole of it is held against its digest first, and each statement against its own.")
	w.comment(
		"It stops at the first error. It takes the lock that every deployment takes, refuses if anything was deployed",
	)
	w.comment(
		"since it was made, and writes the same ledger rows as Vorrang. If it stops half-way, do not fix this file:",
	)
	w.comment("make a new one, which goes on from there.")
	for _, hold := range w.Holds {
		w.comment("! the gate was held when this was made: %s", hold)
	}
	w.line("")
	w.line(`\set ON_ERROR_STOP on`)
	w.line(`\encoding UTF8`)
	w.line("SET standard_conforming_strings = on;")
}

// guard takes the lock, and refuses unless the ledger is as it was.
func (w *writer) guard() {
	w.line("")
	w.comment("the lock, and the ledger's head")
	w.line("DO $guard$")
	w.line("DECLARE last text := repeat('0', 64);")
	w.line("BEGIN")
	w.line("    IF NOT pg_catalog.pg_try_advisory_lock(%d) THEN", w.LockKey)
	w.line(
		"        RAISE EXCEPTION 'another deployment is running on this database; wait for it to end, and make a new file';",
	)
	w.line("    END IF;")
	w.line("    IF pg_catalog.to_regclass('vorrang.ledger') IS NOT NULL THEN")
	w.line(
		"        EXECUTE 'SELECT coalesce((SELECT hash FROM vorrang.ledger ORDER BY seq DESC LIMIT 1), repeat(''0'', " +
			"64))' INTO last;",
	)
	w.line("    END IF;")
	w.line("    IF last <> %s THEN", sqltext.Literal(w.Head.Hash))
	w.line(
		"        RAISE EXCEPTION 'the ledger''s head is not the one that this file was made for: something was deployed " +
			"or recorded since'",
	)
	w.line("            USING HINT = 'Make a new file: vorrang preview -standalone';")
	w.line("    END IF;")
	w.line("END $guard$;")
	if w.CreateLedger != "" {
		w.line("")
		w.line("SELECT pg_catalog.to_regclass('vorrang.ledger') IS NULL AS vorrang_new \\gset")
		w.line(`\if :vorrang_new`)
		w.line("BEGIN;")
		w.line("%s", strings.TrimSpace(w.CreateLedger))
		w.line("COMMIT;")
		w.line(`\endif`)
	}
}

// script is one file of a step, cut.
type script struct {
	name       string
	checksum   step.Checksum
	text       []byte
	statements []sqltext.Statement
}

func (w *writer) cut(file plan.Text) (script, error) {
	s := script{name: file.Name, checksum: file.Checksum}
	var err error
	if s.text, err = w.Texts(file.Checksum); err != nil {
		return s, err
	}
	s.statements, err = grammar.Cut(s.text)
	return s, err
}

// action writes one step.
func (w *writer) action(index int, a plan.Action) error {
	file, done := a.Step.Forward, ledger.Applied
	if a.Direction == ledger.Back {
		file, done = *a.Step.Back, ledger.RolledBack
	}
	if a.Half > 0 {
		return refuse(
			"step %s is half-done, and what of its way back is to run is decided while it runs: undo it by vorrang rollback",
			a.Step.Number,
		)
	}
	s, err := w.cut(file)
	if err != nil {
		return err
	}
	mode := a.Step.Options.Mode
	var check *script
	if a.Direction == ledger.Back {
		mode = deploy.RollbackMode(mode, s.statements)
	} else if a.Step.Check != nil {
		cut, err := w.cut(*a.Step.Check)
		if err != nil {
			return err
		}
		check = &cut
	}
	p := part{
		writer:   w,
		Action:   a,
		script:   s,
		check:    check,
		mode:     mode,
		done:     done,
		settings: w.Defaults.For(a.Step.Options),
	}
	w.line("")
	w.comment("%s", strings.Repeat("=", 70))
	w.comment(
		"%d of %d: step %s, %s (%s), mode %s",
		index+1, len(w.Plan.Actions), a.Step.Number, string(a.Direction), s.name, string(mode),
	)
	w.line(`\echo 'step %s, %s (%s)'`, a.Step.Number, a.Direction, s.name)
	p.began()
	switch mode {
	case step.Transaction:
		p.transaction()
	case step.Autocommit:
		return p.autocommit()
	case step.Batches:
		p.batches()
	}
	return nil
}

// claim is whose target this is, for the file's first entry.
func (w *writer) claim() *ledger.Owner {
	owner := w.Belongs
	w.Belongs = nil
	return owner
}
