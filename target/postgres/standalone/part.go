package standalone

import (
	"fmt"
	"regexp"

	"vorrang/core/deploy"
	"vorrang/core/engine"
	"vorrang/core/ledger"
	"vorrang/core/plan"
	"vorrang/core/sqltext"
	"vorrang/core/step"
	"vorrang/target/postgres/grammar"
)

// part is one step on its way into the file.
type part struct {
	*writer
	plan.Action
	script
	check    *script
	mode     step.Mode
	done     ledger.Action
	settings engine.Settings
	ran      int  // texts that the file has the server run so far
	held     bool // a statement of the step ran already
}

// asRead are the settings by which steps were cut and reviewed.
const asRead = "SET standard_conforming_strings = on; SET client_encoding = 'UTF8';"

// began remembers when the step began.
func (p *part) began() {
	p.line(
		"CLOSE ALL; RESET SESSION AUTHORIZATION; RESET ALL; DEALLOCATE ALL; UNLISTEN *; DISCARD PLANS; DISCARD SEQUENCES; " +
			"DISCARD TEMP;",
	)
	p.line(asRead)
	p.held = false
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
		"    PERFORM pg_catalog.set_config('search_path', replace(pg_catalog.current_setting('search_path'), '\"$user\"', "+
			"'public'), %t); -- \"$user\" is the ledger's schema",
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

// autocommit writes statement by statement, each after a row that says that it
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
				"step %s: an earlier try ran the statements before number %d, and these were changed since; put them back "+
					"as they were",
				p.Step.Number, from,
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
		"RESET SESSION AUTHORIZATION; RESET ALL; " + asRead,
	)
	p.line("BEGIN;")
	p.set("LOCAL")
	p.mark()
	p.finish("")
	return nil
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
	if p.held { // what ran before may have changed the settings by which psql and the server read a text
		p.line(asRead)
	}
	p.held = true
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
