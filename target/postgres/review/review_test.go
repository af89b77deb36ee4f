package review

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vorrang/core/step"
)

func read(t *testing.T, name, text string) step.File {
	file, problems := step.ReadFile(name, []byte(text))
	require.Empty(t, problems)
	return file
}

func TestWhatCannotBeCarriedOutIsFound(t *testing.T) {
	const autocommit, batches = "/*---\nmode: autocommit\n---*/\n", "/*---\nmode: batches\n---*/\n"
	cases := map[string]struct{ text, want string }{
		"plain SQL":      {"CREATE TABLE t (a int); SELECT 1;", ""},
		"a savepoint":    {"SAVEPOINT a; SELECT 1; ROLLBACK TO a;", ""},
		"COPY with data": {"COPY t FROM stdin;\n\\d\n\\.\n", ""},
		"BEGIN": {
			"SELECT 1;\nBEGIN;\nSELECT 2;",
			"7-a.sql:2:1: BEGIN in a step of mode transaction",
		},
		"START TRANSACTION": {"START TRANSACTION;", "BEGIN in a step"},
		"COMMIT":            {"SELECT 1; COMMIT AND CHAIN;", "7-a.sql:1:11: COMMIT in a step"},
		"END":               {"END;", "COMMIT in a step"},
		"ROLLBACK":          {"ABORT;", "ROLLBACK in a step"},
		"a concurrent index": {
			"CREATE INDEX CONCURRENTLY i ON t (a);",
			"the server refuses CREATE INDEX CONCURRENTLY inside a transaction; set mode: autocommit",
		},
		"dropping one":         {"DROP INDEX CONCURRENTLY i;", "DROP INDEX CONCURRENTLY"},
		"VACUUM":               {"VACUUM t;", "VACUUM"},
		"ANALYZE":              {"ANALYZE t;", ""},
		"REINDEX CONCURRENTLY": {"REINDEX INDEX CONCURRENTLY i;", "REINDEX CONCURRENTLY"},
		"REINDEX":              {"REINDEX INDEX i;", ""},
		"REINDEX SCHEMA":       {"REINDEX SCHEMA s;", "REINDEX of a schema"},
		"CREATE DATABASE":      {"CREATE DATABASE d;", "CREATE DATABASE"},
		"ALTER SYSTEM":         {"ALTER SYSTEM SET work_mem = '1MB';", "ALTER SYSTEM"},
		"CLUSTER":              {"CLUSTER;", "CLUSTER of all tables"},
		"CLUSTER of one":       {"CLUSTER t USING i;", ""},
		"DETACH CONCURRENTLY": {
			"ALTER TABLE t DETACH PARTITION p CONCURRENTLY;",
			"DETACH PARTITION CONCURRENTLY",
		},
		"DETACH":                           {"ALTER TABLE t DETACH PARTITION p;", ""},
		"DISCARD ALL":                      {"DISCARD ALL;", "DISCARD ALL"},
		"a concurrent index in autocommit": {autocommit + "CREATE INDEX CONCURRENTLY i ON t (a);", ""},
		"BEGIN and COMMIT in autocommit":   {autocommit + "BEGIN; SELECT 1; COMMIT;", ""},
		"PREPARE TRANSACTION": {
			autocommit + "BEGIN; PREPARE TRANSACTION 'x';",
			"PREPARE TRANSACTION would leave",
		},
		"COPY TO STDOUT":                 {"COPY t TO STDOUT;", "nowhere to send its rows"},
		"REINDEX, not concurrently":      {"REINDEX (CONCURRENTLY false, VERBOSE) INDEX i;", ""},
		"REINDEX, said to be concurrent": {"REINDEX (CONCURRENTLY on) INDEX i;", "REINDEX CONCURRENTLY"},
		"a subscription with a slot": {
			"CREATE SUBSCRIPTION s CONNECTION 'x' PUBLICATION p;",
			"CREATE SUBSCRIPTION that creates a slot",
		},
		"a subscription without one": {
			"CREATE SUBSCRIPTION s CONNECTION 'x' PUBLICATION p WITH (create_slot = false);",
			"",
		},
		"a subscription that stays apart": {
			"CREATE SUBSCRIPTION s CONNECTION 'x' PUBLICATION p WITH (connect = false);",
			"",
		},
		"dropping a subscription": {"DROP SUBSCRIPTION s;", ""},
		"a database's tablespace": {"ALTER DATABASE d SET TABLESPACE t;", "ALTER DATABASE … SET TABLESPACE"},
		"a database's setting":    {"ALTER DATABASE d SET work_mem = '1MB';", ""},
		"COMMIT in a block": {
			"DO $$ BEGIN UPDATE t SET a = 1; COMMIT; END $$;",
			"COMMIT or ROLLBACK in a DO block",
		},
		"COMMIT in a block's strings": {
			"DO $$ BEGIN RAISE NOTICE 'COMMIT;'; /* ROLLBACK; */ PERFORM 1; -- COMMIT;\nEND $$;",
			"",
		},
		"COMMIT in a block, in autocommit": {autocommit + "DO $$ BEGIN COMMIT; END $$;", ""},
		"an encoding":                      {"SET client_encoding = 'LATIN1';", "steps are UTF-8"},
		"the encoding that it is":          {"SET client_encoding = 'UTF8'; SET NAMES 'utf-8';", ""},
		"the ledger's table": {
			"INSERT INTO vorrang.ledger VALUES (1);",
			"this names vorrang, the schema of Vorrang's own ledger",
		},
		"the ledger's schema":      {"DROP SCHEMA IF EXISTS \"vorrang\" CASCADE;", "this names vorrang"},
		"the ledger's schema, set": {"CREATE SCHEMA vorrang;", "this names vorrang"},
		"the ledger in a body":     {"DO $$ BEGIN DELETE FROM Vorrang . ledger; END $$;", "this names vorrang"},
		"a trigger on the ledger": {
			"CREATE TRIGGER t BEFORE INSERT ON vorrang.ledger EXECUTE FUNCTION f();",
			"this names vorrang",
		},
		"a table called so": {
			"CREATE TABLE vorrang (vorrang text); COMMENT ON TABLE vorrang IS 'see vorrang.example'; SELECT vorrang " +
				"FROM vorrang;",
			"",
		},
		"strings of another kind":          {"SET standard_conforming_strings = off;", "write E'…' for strings"},
		"strings as they are":              {"SET standard_conforming_strings = on;", ""},
		"a read-only transaction":          {"SET TRANSACTION READ ONLY;", "can therefore not be read-only"},
		"an isolation level":               {"SET TRANSACTION ISOLATION LEVEL SERIALIZABLE;", ""},
		"lines of pg_dump":                 {"\\restrict abc\nSELECT 1;\n\\unrestrict abc\n", ""},
		"a restriction within a statement": {"SELECT 1\n\\restrict abc\n;", "\\restrict is a command of psql"},
		"a command of psql":                {"\\set x 1", "7-a.sql:1:1: \\set is a command of psql"},
		"comments only":                    {"-- nothing yet", "7-a.sql: holds comments, but no statement"},
		"a backfill": {
			batches + "UPDATE t SET b = a WHERE id IN (SELECT id FROM t WHERE b IS NULL LIMIT :batch);",
			"",
		},
		"a move of rows": {
			batches + "WITH old AS (DELETE FROM t WHERE a < 5 RETURNING *) INSERT INTO u SELECT * FROM old LIMIT :batch;",
			"",
		},
		"a backfill without an end": {
			batches + "DELETE FROM t;",
			"7-a.sql:4:1: mode batches repeats the statement until it changes no row, and without WHERE that never happens",
		},
		"an insert without an end": {batches + "INSERT INTO t VALUES (1);", "until it inserts no row"},
		"two statements in batches": {
			batches + "DELETE FROM t WHERE a = 1;\nDELETE FROM t WHERE a = 2;",
			"7-a.sql:5:1: mode batches repeats one statement",
		},
		"DDL in batches": {
			batches + "CREATE TABLE t (a int);",
			"repeats an UPDATE, DELETE, INSERT or MERGE",
		},
		"COMMIT in batches": {batches + "COMMIT;", "COMMIT in a step of mode batches"},
	}
	for name, c := range cases {
		t.Run(name, func(t *testing.T) {
			problems, _ := Check(step.Step{Number: "7", Slug: "a", Forward: read(t, "7-a.sql", c.text)}, nil)
			if c.want == "" {
				assert.Empty(t, problems)
				return
			}
			require.NotEmpty(t, problems)
			assert.ErrorContains(t, problems, c.want)
		})
	}
}

func TestTheWayBackAndTheCheckAreLookedAtToo(t *testing.T) {
	back := read(t, "7-a.back.sql", "DROP INDEX CONCURRENTLY i;")
	check := read(t, "7-a.check.sql", "SELECT true;\nDELETE FROM t;\nSELECT 1 INTO u;")
	problems, _ := Check(
		step.Step{Number: "7", Slug: "a", Forward: read(t, "7-a.sql", "SELECT 1;"), Back: &back, Check: &check},
		nil,
	)
	require.Len(t, problems, 3)
	assert.ErrorContains(t, problems[0], "7-a.back.sql:1:1: the server refuses DROP INDEX CONCURRENTLY")
	assert.ErrorContains(t, problems[1], "7-a.check.sql:2:1: a check holds queries only")
	assert.ErrorContains(t, problems[2], "7-a.check.sql:3:1:")
}

// TestTheServerIsTheJudge: what the grammar cannot read is no reason to refuse.
func TestTheServerIsTheJudge(t *testing.T) {
	for name, c := range map[string]struct{ text, note string }{
		"a syntax error":          {"SELECT 1;\n  SELEC 'ж', 2;", `7-a.sql:2:3: syntax error at or near "SELEC"`},
		"one behind wide letters": {"SELECT 'жж' FROM FROM t;", "7-a.sql:1:18: syntax error"},
		"a function with a later keyword": {"CREATE FUNCTION json_value(a int) RETURNS int LANGUAGE sql AS " +
			"'SELECT 1'", "7-a.sql:1:"},
		"a clause of a later version": {"CREATE TABLE t (a int, b int GENERATED ALWAYS AS " +
			"(a) VIRTUAL)", `syntax error at or near "VIRTUAL"`},
		":batch where nothing is repeated": {"DELETE FROM t WHERE a < :batch;", "7-a.sql:1:25: syntax error"},
		"a new value in its own transaction": {"ALTER TYPE mood ADD VALUE 'rough';\n" +
			"INSERT INTO sea VALUES ('rough');", "7-a.sql:2:1: if this is the value \"rough\""},
		"a new value of a new type": {"CREATE TYPE mood AS ENUM ('calm'); ALTER TYPE mood ADD VALUE 'rough'; SELECT " +
			"'rough'::mood;", ""},
		"a new value that is not used": {"ALTER TYPE mood ADD VALUE 'rough'; SELECT 'calm';", ""},
	} {
		t.Run(name, func(t *testing.T) {
			problems, notes := Check(step.Step{Number: "7", Slug: "a", Forward: read(t, "7-a.sql", c.text)}, nil)
			assert.Empty(t, problems)
			if c.note == "" {
				assert.Empty(t, notes)
				return
			}
			require.Len(t, notes, 1)
			assert.ErrorContains(t, notes[0], c.note)
			assert.NotEmpty(t, notes[0].Source)
		})
	}
}

// TestWhatIsTooLongIsNotTakenUnread: comments do not count, rows are data, and the rest is refused
// where steps may not change everything.
func TestWhatIsTooLongIsNotTakenUnread(t *testing.T) {
	comment := "/* " + strings.Repeat("x", 2<<20) + " */ "
	lines := strings.Repeat("-- "+strings.Repeat("y", 1000)+"\n", 2000)
	long := "'" + strings.Repeat("x", 2<<20) + "'"
	for text, want := range map[string]string{
		comment + "CREATE ROLE pilot SUPERUSER":            "a role is made",
		lines + "CREATE ROLE pilot SUPERUSER":              "a role is made",
		"CREATE " + comment + " ROLE pilot SUPERUSER":      "a role is made",
		"SELECT $a$/*$a$; " + comment + "COMMIT AND CHAIN": "COMMIT in a step of mode",
		"SELECT E'\\'/*'; " + comment + "COMMIT AND CHAIN": "COMMIT in a step of mode",
		"DO $$ BEGIN EXECUTE " + long + "; END $$":         "is too long to be reviewed",
		"SELECT " + long:               "is too long to be reviewed",
		"INSERT INTO t SELECT " + long: "is too long to be reviewed",
		"WITH a AS (SELECT 1) INSERT INTO t VALUES (" + long + ")":      "is too long to be reviewed",
		"SELECT 1" + strings.Repeat(" + 1", 5000):                       "is nested too deep",
		"INSERT INTO t (a, b) VALUES (1, " + long + ")":                 "",
		"COPY t FROM stdin;\n" + strings.Repeat("x", 2<<20) + "\n\\.\n": "",
		comment + "CREATE TABLE berth (id int)":                         "",
	} {
		problems, _ := Check(step.Step{Number: "7", Forward: read(t, "7-a.sql", text)}, nil)
		if want == "" {
			assert.Empty(t, problems, text[:60])
			continue
		}
		assert.ErrorContains(t, problems, want, text[:60])
	}
	for text, note := range map[string]string{
		"SELECT " + long: "is too long to be reviewed", "SELECT 1" + strings.Repeat(" + 1", 5000): "is nested too deep to be reviewed",
	} {
		problems, notes := Check(step.Step{Number: "7", Forward: read(t, "7-a.sql", text)}, step.Special)
		assert.Empty(t, problems, "where steps may change everything, nothing is asked")
		require.Len(t, notes, 1)
		assert.ErrorContains(t, notes[0], note)
	}
	assert.NotEmpty(t, Beyond([]byte("SELECT "+long)), "no scratch database runs what is not read")
}
