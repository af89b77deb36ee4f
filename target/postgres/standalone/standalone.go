// Package standalone writes a plan as one SQL file that psql runs without
// Vorrang: with the target's lock, a guard on the ledger's head, the checks, and
// the ledger rows that a deployment of the service would write.
package standalone

import (
	"bytes"
	"fmt"
	"regexp"
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
		"SELECT pg_catalog.encode(pg_catalog.sha256(pg_catalog.substr(f.itself, POSITION(%s IN f.itself) + 1)), 'hex') OPERATOR(pg_catalog.=) '%s' AS vorrang_whole",
		marker,
		digest,
	)
	w.line(`    FROM (SELECT pg_catalog.lo_get(:LASTOID) AS itself) f \gset`)
	w.line(`SELECT pg_catalog.lo_unlink(:LASTOID) AS vorrang_read \gset`)
	w.line("COMMIT;")
	w.line(`\if :vorrang_whole`)
	w.line(`\else`)
	w.line(
		"DO $edited$ BEGIN RAISE EXCEPTION 'this file was edited: it is not as it was made' USING HINT = 'make a new file: vorrang preview -standalone'; END $edited$;",
	)
	w.line(`\endif`)
	w.line(`\else`)
	w.line(
		"DO $named$ BEGIN RAISE EXCEPTION 'this file is held against its digest: say which file it is' USING HINT = 'psql -X -v file=THIS-FILE -f THIS-FILE TARGET'; END $named$;",
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
		w.Lane,
		w.Environment,
		string(w.Plan.Direction),
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
		"        EXECUTE 'SELECT coalesce((SELECT hash FROM vorrang.ledger ORDER BY seq DESC LIMIT 1), repeat(''0'', 64))' INTO last;",
	)
	w.line("    END IF;")
	w.line("    IF last <> %s THEN", sqltext.Literal(w.Head.Hash))
	w.line(
		"        RAISE EXCEPTION 'the ledger''s head is not the one that this file was made for: something was deployed or recorded since'",
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
		index+1,
		len(w.Plan.Actions),
		a.Step.Number,
		string(a.Direction),
		s.name,
		string(mode),
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

// part is one step on its way into the file.
type part struct {
	*writer
	plan.Action
	script
	check    *script
	mode     step.Mode
	done     ledger.Action
	settings engine.Settings
	ran      int // texts that the file has the server run so far
}

// began remembers when the step began.
func (p *part) began() {
	p.line(
		"CLOSE ALL; RESET SESSION AUTHORIZATION; RESET ALL; DEALLOCATE ALL; UNLISTEN *; DISCARD PLANS; DISCARD SEQUENCES; DISCARD TEMP;",
	)
	p.line("SET standard_conforming_strings = on; SET client_encoding = 'UTF8';")
	p.line(`SELECT extract(epoch FROM pg_catalog.clock_timestamp())::text AS vorrang_began \gset`)
	p.line(`\set vorrang_ran 0`)
}

// set puts the step's settings into force, for the transaction where local.
func (p *part) set(local string) {
	p.line("SET %s lock_timeout = '%dms';", local, engine.Milliseconds(p.settings.LockTimeout))
	p.line("SET %s statement_timeout = '%dms';", local, engine.Milliseconds(p.settings.StatementTimeout))
	if p.settings.Role != "" {
		p.line("SET %s ROLE %s;", local, sqltext.Identifier(p.settings.Role))
	}
	p.path(local)
}

// path takes "$user" out of the search path of a user who is called like the
// ledger's schema: the application's objects would land there.
func (p *part) path(local string) {
	p.line("DO $path$ BEGIN IF 'vorrang' IN (session_user, current_user) THEN")
	p.line(
		"    PERFORM pg_catalog.set_config('search_path', replace(pg_catalog.current_setting('search_path'), '\"$user\"', 'public'), %t); -- \"$user\" is the ledger's schema",
		local != "SESSION",
	)
	p.line("END IF; END $path$;")
}

// givesPathBack finds statements that bring the search path back that the session
// began with.
var givesPathBack = regexp.MustCompile(
	`(?i)\b(?:RESET\s+(?:ALL|search_path)|DISCARD\s+ALL|search_path\s*(?:=|\bTO\b)\s*DEFAULT)\b`,
)

// transaction runs the whole script in one, with its check and its ledger row.
func (p *part) transaction() {
	p.line("BEGIN;")
	p.line("DO $busy$ BEGIN PERFORM pg_catalog.pg_advisory_xact_lock(%d); END $busy$;", p.LockKey+1)
	p.set("LOCAL")
	p.mark()
	for _, statement := range p.statements {
		p.statement(statement)
	}
	p.finish("")
}

// mark is how finish knows that it is still in the transaction that it ends.
func (p *part) mark() { p.line("SET LOCAL vorrang.step = %s;", sqltext.Literal(string(p.Step.Number))) }

// run lets the server execute SQL that psql does not read: psql finds its own
// commands, variables and ends of statements by rules that are not the server's,
// and a step's text must mean the same to both. The text goes over as one literal
// in dollar quotes, comes back as a row, and \gexec sends it as it is. A text that
// was edited in the file is not run.
//
// Source: https://www.postgresql.org/docs/18/app-psql.html, \gexec
//
// Each text counts itself when it has run, on the line that runs it, in a variable
// of psql that no SQL can reach; and it runs only as the next one. So what was taken
// away or moved is noticed before anything else runs.
func (p *part) run(sql []byte) {
	before := p.ran
	p.ran++
	if beforeAnyQuery.Match(sql) {
		p.line("%s; \\set vorrang_ran %d", bytes.TrimSpace(sql), p.ran)
		return
	}
	tag := tagFor("$sql", sql)
	p.line(
		"SELECT CASE WHEN %s AND pg_catalog.encode(pg_catalog.sha256(pg_catalog.convert_to(sql, pg_catalog.pg_client_encoding())), 'hex') OPERATOR(pg_catalog.=) '%s'",
		ranSoFar(before),
		step.Sum(sql),
	)
	p.line("    THEN sql ELSE %s END FROM (SELECT %s", p.edited("what stands here, or before it, is not"), tag)
	p.out.Truncate(p.out.Len() - 1) // the literal begins right behind its tag
	p.out.Write(sql)
	p.line("%s::pg_catalog.text) s (sql) \\gexec \\set vorrang_ran %d", tag, p.ran)
}

// ranSoFar is the SQL of whether so many texts of the step have run.
func ranSoFar(n int) string {
	return fmt.Sprintf(":'vorrang_ran'::pg_catalog.text OPERATOR(pg_catalog.=) '%d'", n)
}

// edited is the SQL of a text that stops because the file is not as it was made.
func (p *part) edited(what string) string {
	return sqltext.Literal(
		fmt.Sprintf(
			"DO $edited$ BEGIN RAISE EXCEPTION 'this file was edited: %s the text of step %s' USING HINT = 'make a new file: vorrang preview -standalone'; END $edited$",
			what,
			p.Step.Number,
		),
	)
}

// beforeAnyQuery is what must be the first in its transaction, before the query
// that run makes. There is nothing in it that psql could read in another way.
var beforeAnyQuery = regexp.MustCompile(`(?i)^\s*SET\s+TRANSACTION\s+[A-Z ,]+$`)

// finish checks, writes the row that says that the step is done, and commits.
// rows is SQL for the rows that batches changed; empty for other modes.
func (p *part) finish(rows string) {
	p.line(
		"DO $still$ BEGIN IF pg_catalog.current_setting('vorrang.step', true) IS DISTINCT FROM %s THEN",
		sqltext.Literal(string(p.Step.Number)),
	)
	p.line("    RAISE EXCEPTION 'the script ended its transaction by itself; take COMMIT and ROLLBACK out of it';")
	p.line("END IF; END $still$;")
	if p.check != nil {
		for i, query := range p.check.statements {
			p.holds(i, query)
		}
	}
	p.line(
		"SELECT CASE WHEN %s THEN 'SET CONSTRAINTS ALL IMMEDIATE' ELSE %s END \\gexec",
		ranSoFar(p.ran),
		p.edited("what ran is not all of"),
	)
	p.note(p.done, p.doneDetail(), rows)
	p.line("COMMIT;")
}

// doneDetail is the detail of the row that ends a step.
func (p *part) doneDetail() ledger.Detail {
	d := ledger.Detail{Belongs: p.claim()}
	if p.mode != step.Transaction {
		d.Mode = p.mode
		if p.Direction == ledger.Back {
			d.Direction = ledger.Back
		}
	}
	return d
}

// detail is the SQL of a row's detail. rows is SQL, and proof a text; both may be empty.
func detail(d ledger.Detail, rows, proof string) string {
	sql, text := "", strings.TrimSuffix(string(d.JSON()), "}")
	member := func(name string) {
		if text != "{" {
			text += ","
		}
		text += `"` + name + `":`
	}
	if rows != "" {
		member("rows")
		sql, text = sqltext.Literal(text)+" || "+rows+" || ", ""
	}
	if proof != "" {
		member("proof")
		text += `"` + proof + `"`
	}
	return sql + sqltext.Literal(text+"}")
}

// holds writes a query of the check: it must give one row with true in every
// column.
func (p *part) holds(index int, query sqltext.Statement) {
	tag := tagFor("$check", query.SQL)
	p.run(fmt.Appendf(nil, `DO %[1]s DECLARE vorrang_row record; vorrang_rows int := 0;
BEGIN
    FOR vorrang_row IN
%[2]s
    LOOP
        vorrang_rows := vorrang_rows + 1;
        IF EXISTS (SELECT FROM pg_catalog.json_each_text(pg_catalog.to_json(vorrang_row)) v WHERE v.value IS DISTINCT FROM 'true') THEN
            RAISE EXCEPTION 'query %[3]d of the check does not hold: it gave %%, and must give true in every column', vorrang_row;
        END IF;
    END LOOP;
    IF vorrang_rows <> 1 THEN RAISE EXCEPTION 'query %[3]d of the check does not hold: it gave %% rows, and must give one', vorrang_rows; END IF;
END %[1]s`, tag, query.SQL, index+1))
}

// tagFor is a dollar quote that does not stand in a text.
func tagFor(name string, text []byte) string {
	tag := name + "$"
	for i := 2; bytes.Contains(text, []byte(tag)); i++ {
		tag = fmt.Sprintf("%s%d$", name, i)
	}
	return tag
}

// note writes a ledger row behind the head, with its hash, as docs/ledger.md
// defines it. rows is SQL for the rows that batches changed, or empty. Whatever role and settings the step is under, the row
// is the user's own and means the same; they are in force again afterwards. It
// takes the lock again, since the step may have given it back.
func (p *part) note(action ledger.Action, d ledger.Detail, rows string) {
	proof := p.Key.Proof(
		ledger.Row{Deployment: p.Name(), Index: p.rows, Action: action, Step: p.Step.Number, Checksum: p.checksum},
	)
	p.rows++
	duration := "0::bigint"
	if action == p.done {
		duration = "(1000 * (extract(epoch FROM pg_catalog.clock_timestamp()) - pg_catalog.current_setting('vorrang.began')::numeric))::bigint"
		p.line(`SELECT pg_catalog.set_config('vorrang.began', :'vorrang_began', false) AS vorrang_began \gset`)
	}
	p.line("DO $note$ BEGIN")
	p.line("SET LOCAL SESSION AUTHORIZATION DEFAULT; SET LOCAL ROLE NONE;")
	p.line(
		"PERFORM pg_catalog.set_config('search_path', '', true), pg_catalog.set_config('statement_timeout', '0', true), pg_catalog.set_config('default_transaction_read_only', 'off', true);",
	)
	p.line(
		"IF NOT pg_catalog.pg_try_advisory_lock(%d) THEN RAISE EXCEPTION 'the step gave the lock back, and another deployment took it'; END IF;",
		p.LockKey,
	)
	p.line("INSERT INTO vorrang.ledger")
	p.line("SELECT e.*, %s", ledger.HashSQL)
	p.line(
		"FROM (SELECT coalesce(max(seq), 0) + 1 AS seq, clock_timestamp() AS at, %s::text AS action, %s::text AS step, %s::text AS slug,",
		sqltext.Literal(string(action)),
		sqltext.Literal(string(p.Step.Number)),
		sqltext.Literal(p.Step.Slug),
	)
	p.line("    %s::text AS checksum, %s::text AS deployment, session_user::text AS actor, %s AS duration_ms,",
		sqltext.Literal(string(p.checksum)), sqltext.Literal(p.Name()), duration)
	p.line("    (%s)::json AS detail,", detail(d, rows, proof))
	p.line(
		"    coalesce((SELECT hash FROM vorrang.ledger ORDER BY seq DESC LIMIT 1), repeat('0', 64)) AS prev_hash FROM vorrang.ledger) e;",
	)
	p.line("END $note$;")
}

// autocommit writes statement by statement, each behind a row that says that it
// begins.
func (p *part) autocommit() error {
	from := max(p.Resume, 1)
	var sum sqltext.Sum
	open := false
	p.set("SESSION")
	if err := p.sessionAgain(from); err != nil {
		return err
	}
	for i, statement := range p.statements {
		done := sum.Total()
		sum.Add(statement)
		if i+1 < from {
			continue
		}
		if i+1 == from && from > 1 && done != p.Done {
			return refuse(
				"step %s: an earlier try carried out the statements before number %d, and these were changed since; put them back as they were",
				p.Step.Number,
				from,
			)
		}
		if !open {
			p.note(ledger.Begun, p.begun(i+1, done), "")
		}
		p.statement(statement)
		switch grammar.Transaction(statement) {
		case grammar.Opens:
			open = true
		case grammar.Closes:
			open = false
		case grammar.Neither:
		}
	}
	if open {
		return refuse("step %s: the script leaves its transaction open; end it with COMMIT", p.Step.Number)
	}
	p.line(
		"RESET SESSION AUTHORIZATION; RESET ALL; SET standard_conforming_strings = on; SET client_encoding = 'UTF8';",
	)
	p.line("BEGIN;")
	p.set("LOCAL")
	p.mark()
	p.finish("")
	return nil
}

// claim is whose target this is, for the file's first entry.
func (w *writer) claim() *ledger.Owner {
	owner := w.Belongs
	w.Belongs = nil
	return owner
}

// sessionAgain gives a script that goes on in a new session the settings that it
// made in the one that is gone.
func (p *part) sessionAgain(from int) error {
	before, rest := p.statements[:min(from-1, len(p.statements))], p.statements[min(from-1, len(p.statements)):]
	session := grammar.SessionOf(before)
	if _, why := deploy.Unresumable(session, rest); why != "" {
		return refuse("step %s: %s", p.Step.Number, why)
	}
	for _, again := range session.Again {
		p.statement(again)
	}
	return nil
}

func (p *part) begun(statement int, done string) ledger.Detail {
	d := ledger.Detail{Mode: p.mode, Statement: statement, Of: len(p.statements), Done: done, Belongs: p.claim()}
	if p.Direction == ledger.Back {
		d.Direction = ledger.Back
	}
	return d
}

func (p *part) statement(s sqltext.Statement) {
	p.line("")
	p.run(s.SQL)
	if s.IsCopy {
		p.out.Write(s.CopyData)
		p.line(`\.`)
	}
	if givesPathBack.Match(s.SQL) {
		p.path(map[bool]string{true: "LOCAL", false: "SESSION"}[p.mode == step.Transaction])
	}
}

// batches repeats the statement, a transaction each, until it changes no row;
// the check and the ledger's row commit with one last time.
func (p *part) batches() {
	batch := p.statements[0].WithBatch(int64(p.Step.Options.BatchSize))
	tag := tagFor("$batches", batch.SQL)
	p.note(ledger.Begun, p.begun(1, ""), "")
	p.set("SESSION")
	p.run(fmt.Appendf(nil, `DO %[1]s DECLARE vorrang_rows bigint; vorrang_total bigint := %[2]d;
BEGIN
    LOOP
%[3]s
;
        GET DIAGNOSTICS vorrang_rows = ROW_COUNT;
        vorrang_total := vorrang_total + vorrang_rows;
        COMMIT;
        EXIT WHEN vorrang_rows = 0;
        PERFORM pg_catalog.pg_sleep(%[4]s);
    END LOOP;
    PERFORM pg_catalog.set_config('vorrang.rows', vorrang_total::text, false);
END %[1]s`, tag, p.Rows, batch.SQL, fmt.Sprintf("%.3f", p.Step.Options.Pause.Seconds())))
	p.line("BEGIN;")
	p.set("LOCAL")
	p.mark()
	p.finish("pg_catalog.current_setting('vorrang.rows')")
	p.line("RESET ROLE; RESET lock_timeout; RESET statement_timeout; RESET search_path;")
}
