package deploy_test

import (
	"fmt"
	"maps"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vorrang/core/deploy"
	"vorrang/core/ledger"
	"vorrang/internal/pgtest"
)

// leaves are scripts that leave something in their session, and how the next
// step can tell that it is gone.
var leaves = map[string]struct{ script, gone string }{
	"a setting": {
		"SET DateStyle = 'German'; SET TimeZone = 'Asia/Tokyo';",
		"current_setting('DateStyle') NOT LIKE 'German%' AND current_setting('TimeZone') <> 'Asia/Tokyo'",
	},
	"the search path": {"CREATE SCHEMA dock; SET search_path = dock;", "current_schema() = 'public'"},
	"an encoding set by function": {
		"SELECT set_config('client_encoding', 'LATIN1', false);",
		"current_setting('client_encoding') = 'UTF8'",
	},
	"read-only transactions": {
		"SET SESSION CHARACTERISTICS AS TRANSACTION READ ONLY;",
		"current_setting('transaction_read_only') = 'off'",
	},
	"an isolation level": {
		"SET default_transaction_isolation = 'serializable';",
		"current_setting('transaction_isolation') = 'read committed'",
	},
	"a role":           {"SET ROLE pg_monitor;", "current_user <> 'pg_monitor'"},
	"a session's user": {"SET SESSION AUTHORIZATION pg_monitor;", "session_user <> 'pg_monitor'"},
	"a prepared statement": {
		"PREPARE tide AS SELECT 1;",
		"NOT EXISTS (SELECT FROM pg_prepared_statements WHERE name = 'tide')",
	},
	"a held cursor": {
		"DECLARE tide CURSOR WITH HOLD FOR SELECT 1;",
		"NOT EXISTS (SELECT FROM pg_cursors WHERE name = 'tide')",
	},
	"a channel": {"LISTEN tide;", "NOT EXISTS (SELECT FROM pg_listening_channels())"},
	"an advisory lock": {
		"SELECT pg_advisory_lock(7);",
		"NOT EXISTS (SELECT FROM pg_locks WHERE locktype = 'advisory' AND objid = 7)",
	},
	"no locks at all": {
		"SELECT pg_advisory_unlock_all();",
		"(SELECT count(*) FROM pg_locks WHERE locktype = 'advisory' AND objid = x'72616e67'::int) = 0",
	},
	"a temporary table": {"CREATE TEMP TABLE tide (id int);", "to_regclass('pg_temp.tide') IS NULL"},
	"strings of another kind": {
		"SELECT set_config('standard_conforming_strings', 'off', false);",
		"current_setting('standard_conforming_strings') = 'on'",
	},
	"a short timeout": {"SET statement_timeout = '50ms';", "current_setting('statement_timeout') = '0'"},
	"replication's role": {
		"SET session_replication_role = replica;",
		"current_setting('session_replication_role') = 'origin'",
	},
}

func TestWhatAScriptSetsReachesNeitherTheLedgerNorTheNextStep(t *testing.T) {
	for _, mode := range []string{"", autocommit} {
		for name, c := range leaves {
			t.Run(
				name+map[string]string{"": ", in a transaction", autocommit: ", in autocommit"}[mode],
				func(t *testing.T) {
					t.Parallel()
					y := newYard(t, map[string]string{"1-leave.sql": mode + c.script, "2-look.sql": mode + "SELECT 1;",
						"3-look.sql": "DO $$ BEGIN IF NOT (" + c.gone + ") THEN RAISE EXCEPTION 'it is still there'; END IF; END $$; " +
							"CREATE TABLE berth (id int);"})
					result := y.promote()
					require.Equal(t, deploy.Done, result.Outcome, "%v", result.Failure)
					assert.Equal(t, ledger.StatusApplied, y.status("3"))
					assert.Equal(t, "true", y.query("SELECT to_regclass('public.berth') IS NOT NULL"))
				},
			)
		}
	}
}

// TestTheLockOutlivesWhateverAScriptDoesToLocks: nobody else gets the target's
// lock between a script that gives all locks back and the deployment's end.
func TestTheLockOutlivesWhateverAScriptDoesToLocks(t *testing.T) {
	for name, script := range map[string]string{"all locks": "SELECT pg_advisory_unlock_all();",
		"everything": autocommit + "DISCARD ALL;"} {
		t.Run(name, func(t *testing.T) {
			y := newYard(t, map[string]string{"1-let-go.sql": script, "2-a.sql": "CREATE TABLE a (id int); SELECT 2;"})
			tried := 0
			y.onEvent = func(e deploy.Event) {
				if e.Kind == deploy.Statement && e.Step == "2" || e.Kind == deploy.StepDone {
					tried++
					assert.Equal(t, "false", y.query("SELECT pg_try_advisory_lock(x'566f7272616e6731'::bigint)"))
				}
			}
			require.Equal(t, deploy.Done, y.promote().Outcome)
			assert.Equal(t, 4, tried)
		})
	}
}

func TestDatabasesWithSettingsOfTheirOwn(t *testing.T) {
	server := pgtest.Shared(t)
	databases := map[string]string{
		"dates as in Germany": "ALTER DATABASE %s SET DateStyle = 'German'; ALTER DATABASE %[1]s SET IntervalStyle " +
			"= 'sql_standard'",
		"strings with backslashes":   "ALTER DATABASE %s SET standard_conforming_strings = off",
		"a search path with a trap":  "ALTER DATABASE %s SET search_path = public, pg_catalog",
		"serializable transactions":  "ALTER DATABASE %s SET default_transaction_isolation = 'serializable'",
		"idle sessions are thrown":   "ALTER DATABASE %s SET idle_session_timeout = '200ms'",
		"idle transactions as well":  "ALTER DATABASE %s SET idle_in_transaction_session_timeout = '200ms'",
		"statements of half a blink": "ALTER DATABASE %s SET statement_timeout = '200ms'",
	}
	for name, setting := range databases {
		t.Run(name, func(t *testing.T) {
			url := pgtest.Database(t)
			database := lastPart(url)
			pgtest.Exec(t, server.URL("postgres"), fmt.Sprintf(setting, database))
			y := yardAt(
				t, url,
				map[string]string{
					"1-a.sql": "CREATE TABLE a (note text);\nINSERT INTO a VALUES ('C:\\new');",
					"2-b.sql": autocommit + "CREATE TABLE b (id int);\nSELECT pg_sleep(0.3);",
				},
			)
			// Between two statements the session is idle for longer than the database allows.
			y.onEvent = func(deploy.Event) { pgtest.Exec(t, server.URL("postgres"), "SELECT pg_sleep(0.3)") }
			for range 2 {
				result := y.promote()
				require.Equal(t, deploy.Done, result.Outcome, "%v", result.Failure)
				y.files["3-c.sql"] = "CREATE TABLE c (id int);"
			}
			assert.Equal(t, `C:\new`, y.query("SELECT note FROM a"))
		})
	}
}

func TestTheLedgerIsTheSameInADatabaseOfAnyEncoding(t *testing.T) {
	server := pgtest.Shared(t)
	for _, encoding := range []string{"UTF8", "LATIN1", "SQL_ASCII", "WIN1252", "EUC_JP"} {
		t.Run(encoding, func(t *testing.T) {
			name := "odd_" + encoding
			pgtest.Exec(
				t,
				server.URL("postgres"),
				fmt.Sprintf(`CREATE DATABASE "%s" ENCODING '%s' LOCALE 'C' TEMPLATE template0`, name, encoding),
			)
			y := yardAt(
				t, server.URL(name),
				map[string]string{
					"1-a.sql": "CREATE TABLE a (note text); DO $$ BEGIN RAISE EXCEPTION 'tide at 4 °C – nö'; END $$;",
				},
			)
			result := y.promote()
			require.Equal(t, deploy.Failed, result.Outcome, "and it can be written down: %v", result.Failure)
			assert.Equal(t, ledger.StatusFailed, y.status("1"))
			y.files["1-a.sql"] = "CREATE TABLE a (note text);"
			require.Equal(t, deploy.Done, y.promote().Outcome)
			assert.Equal(t, ledger.StatusApplied, y.status("1"))
		})
	}
}

// TestALedgerRowThatIsNotWhatWasWrittenIsRefused: a trigger stands between.
func TestALedgerRowThatIsNotWhatWasWrittenIsRefused(t *testing.T) {
	y := newYard(t, map[string]string{"1-a.sql": `CREATE TABLE a (id int);
		CREATE FUNCTION forge() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN NEW.actor := 'nobody'; RETURN NEW; END $$;
		CREATE TRIGGER forge BEFORE INSERT ON vorrang.ledger FOR EACH ROW EXECUTE FUNCTION forge();`})
	result := y.promote()
	require.Equal(t, deploy.Failed, result.Outcome)
	assert.Equal(
		t,
		"1-a.sql: the ledger's row could not be written: what was written is not what was read back; a trigger or a rule "+
			"on vorrang.ledger changes it: take that away",
		result.Failure.Error(),
	)
	assert.Equal(t, "true", y.query("SELECT to_regclass('a') IS NULL"), "nothing of the step stays")
}

func TestTheRoleThatAScriptTakesStaysItsOwn(t *testing.T) {
	y := newYard(t, map[string]string{
		"1-roles.sql": autocommit + "CREATE ROLE harbour_master; GRANT CREATE ON SCHEMA public TO harbour_master;\n" +
			"SET ROLE harbour_master;\nCREATE TABLE quay (id int);\nRESET ROLE;\nSET SESSION AUTHORIZATION harbour_master;\n" +
			"CREATE TABLE mole (id int);\nSET search_path = pg_catalog;",
		"1-roles.check.sql": "SELECT current_user <> 'harbour_master'",
	})
	t.Cleanup(func() {
		pgtest.Exec(t, y.url, "DROP TABLE IF EXISTS quay, mole; DROP OWNED BY harbour_master; DROP ROLE harbour_master")
	})
	result := y.promote()
	require.Equal(t, deploy.Done, result.Outcome, "%v", result.Failure)
	assert.Equal(
		t,
		"harbour_master harbour_master",
		y.query("SELECT string_agg(tableowner, ' ') FROM pg_tables WHERE tablename IN ('quay', 'mole')"),
	)
}

// TestTheLedgersUserGetsItsTablesElsewhere: "$user" would lead to the ledger.
func TestTheLedgersUserGetsItsTablesElsewhere(t *testing.T) {
	y := newYard(
		t,
		map[string]string{"1-a.sql": "SET search_path = public; RESET search_path; CREATE TABLE a (id int);",
			"2-b.sql": autocommit + "RESET ALL;\nCREATE TABLE b (id int);\nSET search_path = DEFAULT;\n" +
				"CREATE TABLE c (id int);"},
	)
	result := y.promote()
	require.Equal(t, deploy.Done, result.Outcome, "%v", result.Failure)
	assert.Equal(
		t, "public public public",
		y.query("SELECT string_agg(schemaname, ' ') FROM pg_tables WHERE tablename IN ('a', 'b', 'c')"),
	)
	assert.Equal(t, "vorrang", y.query("SELECT current_user"), "who the user is")
}

func lastPart(url string) string { return url[strings.LastIndexByte(url, '/')+1:] }

func TestAResumedScriptGetsItsSessionAgain(t *testing.T) {
	cases := map[string]struct{ before, rest, done, refused string }{
		"a search path": {
			"CREATE SCHEMA dock;\nSET search_path = dock;",
			"CREATE TABLE b (id int);",
			"SELECT to_regclass('dock.b') IS NOT NULL",
			"",
		},
		"one set by function": {
			"CREATE SCHEMA dock;\nSELECT pg_catalog.set_config('search_path', 'dock', false);",
			"CREATE TABLE b (id int);",
			"SELECT to_regclass('dock.b') IS NOT NULL",
			"",
		},
		"one that was reset": {
			"CREATE SCHEMA dock;\nSET search_path = dock;\nRESET ALL;",
			"CREATE TABLE b (id int);",
			"SELECT to_regclass('public.b') IS NOT NULL",
			"",
		},
		"one of a transaction": {
			"CREATE SCHEMA dock;\nBEGIN;\nSET search_path = dock;\nCOMMIT;",
			"CREATE TABLE b (id int);",
			"SELECT to_regclass('dock.b') IS NOT NULL",
			"",
		},
		"one that was taken back": {
			"CREATE SCHEMA dock;\nBEGIN;\nSET search_path = dock;\nROLLBACK;",
			"CREATE TABLE b (id int);",
			"SELECT to_regclass('public.b') IS NOT NULL",
			"",
		},
		"one of a moment": {
			"CREATE SCHEMA dock;\nBEGIN;\nSET LOCAL search_path = dock;\nCOMMIT;",
			"CREATE TABLE b (id int);",
			"SELECT to_regclass('public.b') IS NOT NULL",
			"",
		},
		"a role": {
			"GRANT CREATE ON SCHEMA public TO pg_monitor;\nSET ROLE pg_monitor;",
			"CREATE TABLE b (id int);",
			"SELECT tableowner = 'pg_monitor' FROM pg_tables WHERE tablename = 'b'",
			"",
		},
		"a temporary table": {
			"CREATE TEMP TABLE tide (id int);",
			"INSERT INTO tide VALUES (1);",
			"",
			"may need the temporary table tide (line 5)",
		},
		"one that is not needed": {
			"CREATE TEMP TABLE tide (id int);\nDROP TABLE tide;",
			"CREATE TABLE b (id int);",
			"SELECT to_regclass('b') IS NOT NULL",
			"",
		},
		"a selected one": {
			"SELECT 1 AS id INTO TEMP tide;",
			"SELECT * FROM Tide;", "", "the temporary table tide",
		},
		"a prepared statement": {"PREPARE tide AS SELECT 1;", "EXECUTE tide;", "", "the prepared statement tide"},
		"a cursor": {
			"DECLARE tide CURSOR WITH HOLD FOR SELECT 1;",
			"FETCH tide;", "", "the cursor tide",
		},
		"a sequence's value": {
			"CREATE SEQUENCE tide;\nSELECT nextval('tide');",
			"SELECT currval('tide');", "",
			"the newest value of a sequence",
		},
		"settings in a block": {
			"DO $$ BEGIN PERFORM set_config('search_path', 'dock', false); END $$;",
			"CREATE TABLE b (id int);", "",
			"the setting made by set_config",
		},
	}
	for name, c := range cases {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			text := autocommit + "SELECT 1;\n" + c.before + "\nCREATE TABLE public.mark (id int CHECK (id > 0));\n" +
				"INSERT INTO public.mark VALUES (%s);\n" + c.rest
			y := newYard(t, map[string]string{"1-a.sql": fmt.Sprintf(text, "0")})
			require.Equal(t, deploy.Failed, y.promote().Outcome)
			y.files["1-a.sql"] = fmt.Sprintf(text, "1")
			result := y.promote()
			if c.refused != "" {
				require.Equal(t, deploy.Failed, result.Outcome)
				assert.Contains(t, result.Failure.Error(), c.refused)
				assert.Equal(t, "0", y.query("SELECT count(*) FROM public.mark"), "nothing of the rest ran")
				return
			}
			require.Equal(t, deploy.Done, result.Outcome, "%v", result.Failure)
			assert.Equal(t, "true", y.query(c.done))
		})
	}
}

// half is a step that fails at its third statement of four.
var half = map[string]string{
	"1-berth.sql": "CREATE TABLE berth (id int);", "1-berth.back.sql": "DROP TABLE berth;",
	"2-index.sql": autocommit + "ALTER TABLE berth ADD COLUMN name text;\nCREATE TABLE mole (id int);\n" +
		"SELECT 1/0;\nCREATE INDEX CONCURRENTLY berth_name ON berth (name);",
	"2-index.back.sql": "DROP INDEX CONCURRENTLY berth_name;\nDROP TABLE mole;\nALTER TABLE berth DROP COLUMN name;",
}

func TestARollbackUndoesWhatAHalfDoneStepLeft(t *testing.T) {
	y := newYard(t, maps.Clone(half))
	require.Equal(t, deploy.Failed, y.promote().Outcome)
	require.Equal(t, 2, y.view().State.Of("2").HalfDone())
	require.Equal(t, deploy.Done, y.rollback(1).Outcome, "it comes before the step beneath it")
	assert.Contains(t, y.output(), "statement 1 of the way back (line 1) has nothing to undo")
	assert.Equal(
		t, "id",
		y.query(
			"SELECT string_agg(attname, ' ') FROM pg_attribute WHERE attrelid = 'berth'::regclass AND attnum > 0 AND NOT "+
				"attisdropped",
		),
	)
	assert.Equal(t, "true", y.query("SELECT to_regclass('mole') IS NULL"))
	assert.Equal(t, ledger.StatusRolledBack, y.status("2"))
	assert.Equal(t, ledger.StatusApplied, y.status("1"))
	require.Equal(t, deploy.Done, y.rollback(1).Outcome)
	y.files["2-index.sql"] = strings.Replace(half["2-index.sql"], "1/0", "1", 1)
	require.Equal(t, deploy.Done, y.promote().Outcome)
	assert.Equal(t, "true", y.query("SELECT to_regclass('mole') IS NOT NULL AND to_regclass('berth_name') IS NOT NULL"))
}

func TestAWayBackThatCannotBeMatchedRunsNothing(t *testing.T) {
	for name, c := range map[string]struct{ back, message string }{
		"rows": {"UPDATE berth SET id = 0;\nDROP TABLE mole;", "whether statement 1 of the way back (line 1, " +
			"UPDATE) is to run cannot be told"},
		"something forgot": {"DROP TABLE mole;", "of what the step did this is left: column berth.name is there"},
	} {
		t.Run(name, func(t *testing.T) {
			y := newYard(t, maps.Clone(half))
			y.files["2-index.back.sql"] = c.back
			require.Equal(t, deploy.Failed, y.promote().Outcome)
			result := y.rollback(1)
			require.Equal(t, deploy.Failed, result.Outcome)
			assert.Contains(t, result.Failure.Message, c.message)
			assert.NotEqual(t, ledger.StatusRolledBack, y.status("2"))
		})
	}
}
