package standalone

import (
	"bytes"
	"fmt"
	"regexp"
	"strings"

	"vorrang/core/ledger"
	"vorrang/core/sqltext"
	"vorrang/core/step"
)

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
		"SELECT CASE WHEN %s AND pg_catalog.encode(pg_catalog.sha256(pg_catalog.convert_to(sql, "+
			"pg_catalog.pg_client_encoding())), 'hex') OPERATOR(pg_catalog.=) '%s'",
		ranSoFar(before), step.Sum(sql),
	)
	p.line("    THEN sql ELSE %s END FROM (SELECT %s", p.edited("what stands here, or before it, is not"), tag)
	p.out.Truncate(p.out.Len() - 1) // the literal begins right after its tag
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
			"DO $edited$ BEGIN RAISE EXCEPTION 'this file was edited: %s the text of step %s' USING HINT = 'make a new file: "+
				"vorrang preview -standalone'; END $edited$",
			what, p.Step.Number,
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
        IF EXISTS (SELECT FROM pg_catalog.json_each_text(pg_catalog.to_json(vorrang_row)) v WHERE v.value IS DISTINCT
        	FROM 'true') THEN
            RAISE EXCEPTION 'query %[3]d of the check does not hold: it gave %%, and must give true in every column',
            	vorrang_row;
        END IF;
    END LOOP;
    IF vorrang_rows <> 1 THEN RAISE EXCEPTION 'query %[3]d of the check does not hold: it gave %% rows, and must give one', vorrang_rows; END IF;
END %[1]s`, tag, query.SQL, index+1))
}

// tagFor is a dollar quote that is not in a text.
func tagFor(name string, text []byte) string {
	tag := name + "$"
	for i := 2; bytes.Contains(text, []byte(tag)); i++ {
		tag = fmt.Sprintf("%s%d$", name, i)
	}
	return tag
}

// note writes a ledger row after the head, with its hash, as docs/ledger.md
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
		duration = "(1000 * (extract(epoch FROM pg_catalog.clock_timestamp()) - " +
			"pg_catalog.current_setting('vorrang.began')::numeric))::bigint"
		p.line(`SELECT pg_catalog.set_config('vorrang.began', :'vorrang_began', false) AS vorrang_began \gset`)
	}
	p.line("DO $note$ BEGIN")
	p.line("SET LOCAL SESSION AUTHORIZATION DEFAULT; SET LOCAL ROLE NONE;")
	p.line(
		"PERFORM pg_catalog.set_config('search_path', '', true), pg_catalog.set_config('statement_timeout', '0', true), " +
			"pg_catalog.set_config('default_transaction_read_only', 'off', true);",
	)
	p.line(
		"IF NOT pg_catalog.pg_try_advisory_lock(%d) THEN RAISE EXCEPTION 'the step gave the lock back, and another "+
			"deployment took it'; END IF;",
		p.LockKey,
	)
	p.line("INSERT INTO vorrang.ledger")
	p.line("SELECT e.*, %s", ledger.HashSQL)
	p.line(
		"FROM (SELECT coalesce(max(seq), 0) + 1 AS seq, clock_timestamp() AS at, %s::text AS action, %s::text AS step, "+
			"%s::text AS slug,",
		sqltext.Literal(string(action)), sqltext.Literal(string(p.Step.Number)), sqltext.Literal(p.Step.Slug),
	)
	p.line("    %s::text AS checksum, %s::text AS deployment, session_user::text AS actor, %s AS duration_ms,",
		sqltext.Literal(string(p.checksum)), sqltext.Literal(p.Name()), duration)
	p.line("    (%s)::json AS detail,", detail(d, rows, proof))
	p.line(
		"    coalesce((SELECT hash FROM vorrang.ledger ORDER BY seq DESC LIMIT 1), repeat('0', 64)) AS prev_hash FROM " +
			"vorrang.ledger) e;",
	)
	p.line("END $note$;")
}
