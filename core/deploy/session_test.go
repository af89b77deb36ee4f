package deploy_test

import (
	"fmt"
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
	"a setting":                   {"SET DateStyle = 'German'; SET TimeZone = 'Asia/Tokyo';", "current_setting('DateStyle') NOT LIKE 'German%' AND current_setting('TimeZone') <> 'Asia/Tokyo'"},
	"the search path":             {"CREATE SCHEMA dock; SET search_path = dock;", "current_schema() = 'public'"},
	"an encoding set by function": {"SELECT set_config('client_encoding', 'LATIN1', false);", "current_setting('client_encoding') = 'UTF8'"},
	"read-only transactions":      {"SET SESSION CHARACTERISTICS AS TRANSACTION READ ONLY;", "current_setting('transaction_read_only') = 'off'"},
	"an isolation level":          {"SET default_transaction_isolation = 'serializable';", "current_setting('transaction_isolation') = 'read committed'"},
	"a role":                      {"SET ROLE pg_monitor;", "current_user <> 'pg_monitor'"},
	"a session's user":            {"SET SESSION AUTHORIZATION pg_monitor;", "session_user <> 'pg_monitor'"},
	"a prepared statement":        {"PREPARE tide AS SELECT 1;", "NOT EXISTS (SELECT FROM pg_prepared_statements WHERE name = 'tide')"},
	"a held cursor":               {"DECLARE tide CURSOR WITH HOLD FOR SELECT 1;", "NOT EXISTS (SELECT FROM pg_cursors WHERE name = 'tide')"},
	"a channel":                   {"LISTEN tide;", "NOT EXISTS (SELECT FROM pg_listening_channels())"},
	"an advisory lock":            {"SELECT pg_advisory_lock(7);", "NOT EXISTS (SELECT FROM pg_locks WHERE locktype = 'advisory' AND objid = 7)"},
	"no locks at all":             {"SELECT pg_advisory_unlock_all();", "(SELECT count(*) FROM pg_locks WHERE locktype = 'advisory' AND objid = x'72616e67'::int) = 0"},
	"a temporary table":           {"CREATE TEMP TABLE tide (id int);", "to_regclass('pg_temp.tide') IS NULL"},
	"strings of another kind":     {"SELECT set_config('standard_conforming_strings', 'off', false);", "current_setting('standard_conforming_strings') = 'on'"},
	"a short timeout":             {"SET statement_timeout = '50ms';", "current_setting('statement_timeout') = '0'"},
	"replication's role":          {"SET session_replication_role = replica;", "current_setting('session_replication_role') = 'origin'"},
}

func TestWhatAScriptSetsReachesNeitherTheLedgerNorTheNextStep(t *testing.T) {
	for _, mode := range []string{"", autocommit} {
		for name, c := range leaves {
			t.Run(name+map[string]string{"": ", in a transaction", autocommit: ", in autocommit"}[mode], func(t *testing.T) {
				t.Parallel()
				y := newYard(t, map[string]string{"1-leave.sql": mode + c.script, "2-look.sql": mode + "SELECT 1;",
					"3-look.sql": "DO $$ BEGIN IF NOT (" + c.gone + ") THEN RAISE EXCEPTION 'it is still there'; END IF; END $$; CREATE TABLE berth (id int);"})
				result := y.promote()
				require.Equal(t, deploy.Done, result.Outcome, "%v", result.Failure)
				assert.Equal(t, ledger.StatusApplied, y.status("3"))
				assert.Equal(t, "true", y.query("SELECT to_regclass('public.berth') IS NOT NULL"))
			})
		}
	}
}

// TestTheLockOutlivesWhateverAScriptDoesToLocks: nobody else gets the target's
// lock between a script that gives all locks back and the deployment's end.
func TestTheLockOutlivesWhateverAScriptDoesToLocks(t *testing.T) {
	for name, script := range map[string]string{"all locks": "SELECT pg_advisory_unlock_all();", "everything": autocommit + "DISCARD ALL;"} {
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
		"dates as in Germany":        "ALTER DATABASE %s SET DateStyle = 'German'; ALTER DATABASE %[1]s SET IntervalStyle = 'sql_standard'",
		"strings with backslashes":   "ALTER DATABASE %s SET standard_conforming_strings = off",
		"a search path with a trap":  "ALTER DATABASE %s SET search_path = public, pg_catalog",
		"serializable transactions":  "ALTER DATABASE %s SET default_transaction_isolation = 'serializable'",
		"idle sessions are thrown":   "ALTER DATABASE %s SET idle_session_timeout = '200ms'",
		"statements of half a blink": "ALTER DATABASE %s SET statement_timeout = '1ms'",
	}
	for name, setting := range databases {
		t.Run(name, func(t *testing.T) {
			url := pgtest.Database(t)
			database := lastPart(url)
			pgtest.Exec(t, server.URL("postgres"), fmt.Sprintf(setting, database))
			y := yardAt(t, url, map[string]string{"1-a.sql": "CREATE TABLE a (note text);\nINSERT INTO a VALUES ('C:\\new');", "2-b.sql": autocommit + "CREATE TABLE b (id int);\nSELECT pg_sleep(0.3);"})
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
			pgtest.Exec(t, server.URL("postgres"), fmt.Sprintf(`CREATE DATABASE "%s" ENCODING '%s' LOCALE 'C' TEMPLATE template0`, name, encoding))
			y := yardAt(t, server.URL(name), map[string]string{"1-a.sql": "CREATE TABLE a (note text); DO $$ BEGIN RAISE EXCEPTION 'tide at 4 °C – nö'; END $$;"})
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
	assert.Equal(t, "1-a.sql: the ledger's row could not be written: what was written is not what was read back; a trigger or a rule on vorrang.ledger changes it: take that away",
		result.Failure.Error())
	assert.Equal(t, "true", y.query("SELECT to_regclass('a') IS NULL"), "nothing of the step stays")
}

func TestTheRoleThatAScriptTakesStaysItsOwn(t *testing.T) {
	y := newYard(t, map[string]string{
		"1-roles.sql":       autocommit + "CREATE ROLE harbour_master; GRANT CREATE ON SCHEMA public TO harbour_master;\nSET ROLE harbour_master;\nCREATE TABLE quay (id int);\nRESET ROLE;\nSET SESSION AUTHORIZATION harbour_master;\nCREATE TABLE mole (id int);\nSET search_path = pg_catalog;",
		"1-roles.check.sql": "SELECT current_user <> 'harbour_master'",
	})
	t.Cleanup(func() {
		pgtest.Exec(t, y.url, "DROP TABLE IF EXISTS quay, mole; DROP OWNED BY harbour_master; DROP ROLE harbour_master")
	})
	result := y.promote()
	require.Equal(t, deploy.Done, result.Outcome, "%v", result.Failure)
	assert.Equal(t, "harbour_master harbour_master", y.query("SELECT string_agg(tableowner, ' ') FROM pg_tables WHERE tablename IN ('quay', 'mole')"))
}

// TestTheLedgersUserGetsItsTablesElsewhere: "$user" would lead to the ledger.
func TestTheLedgersUserGetsItsTablesElsewhere(t *testing.T) {
	y := newYard(t, map[string]string{"1-a.sql": "SET search_path = public; RESET search_path; CREATE TABLE a (id int);",
		"2-b.sql": autocommit + "RESET ALL;\nCREATE TABLE b (id int);\nSET search_path = DEFAULT;\nCREATE TABLE c (id int);"})
	result := y.promote()
	require.Equal(t, deploy.Done, result.Outcome, "%v", result.Failure)
	assert.Equal(t, "public public public", y.query("SELECT string_agg(schemaname, ' ') FROM pg_tables WHERE tablename IN ('a', 'b', 'c')"))
	assert.Equal(t, "vorrang", y.query("SELECT current_user"), "who the user is")
}

func lastPart(url string) string { return url[strings.LastIndexByte(url, '/')+1:] }
