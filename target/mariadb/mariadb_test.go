package mariadb_test

import (
	"context"
	"fmt"
	"net"
	"net/url"
	"path"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vorrang/core/draft"
	"vorrang/core/engine"
	"vorrang/core/evidence"
	"vorrang/core/schema"
	"vorrang/core/sqltext"
	"vorrang/internal/mariatest"
	"vorrang/target/enginetest"
	"vorrang/target/mariadb"
)

// ends breaks every connection to a database.
func ends(t testing.TB, url string) {
	db := mariatest.Open(t, mariatest.Shared(t).URL("mysql"))
	defer db.Close()
	rows, err := db.QueryContext(
		t.Context(),
		"SELECT ID FROM information_schema.PROCESSLIST WHERE DB = ?",
		path.Base(url),
	)
	require.NoError(t, err)
	var all []int64
	for rows.Next() {
		var id int64
		require.NoError(t, rows.Scan(&id))
		all = append(all, id)
	}
	require.NoError(t, rows.Err())
	for _, id := range all {
		_, _ = db.ExecContext(t.Context(), fmt.Sprintf("KILL CONNECTION %d", id)) // it may be gone
	}
	require.Eventually(t, func() bool {
		return mariatest.Query(
			t,
			mariatest.Shared(t).URL("mysql"),
			"SELECT COUNT(*) FROM information_schema.PROCESSLIST WHERE DB = '"+path.Base(url)+"'",
		) == "0"
	}, 10e9, 5e6)
}

// counters differ without any difference, and so does when an event was made.
var counters = regexp.MustCompile(` AUTO_INCREMENT=\d+| STARTS '[^']*'`)

func harness() enginetest.Harness {
	return enginetest.Harness{
		Engine: mariadb.Engine{}, Fresh: mariatest.Database, Exec: mariatest.Exec, Query: mariatest.Query, Cut: ends,
		Hold: func(t testing.TB, url, statement string) func() {
			transaction, err := mariatest.Open(t, url).BeginTx(t.Context(), nil)
			require.NoError(t, err)
			_, err = transaction.ExecContext(t.Context(), statement)
			require.NoError(t, err)
			return func() { require.NoError(t, transaction.Rollback()) }
		},
		Backup: func(t testing.TB, url string) func() {
			server, name := mariatest.Shared(t), path.Base(url)
			copied := server.DumpAll(t, name)
			return func() {
				ends(t, url)
				require.NoError(t, mariatest.Exec(t, server.URL("mysql"), "DROP DATABASE "+name))
				require.NoError(t, mariatest.Exec(t, server.URL("mysql"), "CREATE DATABASE "+name))
				output, err := server.Client(t, name, copied)
				require.NoError(t, err, output)
			}
		},
		Oracle: func(t testing.TB, url string) string {
			lines := strings.Split(counters.ReplaceAllString(mariatest.Shared(t).Dump(t, path.Base(url)), ""), "\n")
			for i, line := range lines {
				lines[i] = strings.TrimSuffix(line, ",")
			}
			slices.Sort(lines)
			return strings.Join(lines, "\n")
		},
		Ledger: "vorrang_ledger",
		Backfill: "UPDATE vessel SET draught_m = coalesce(draught_m, 0) + draught_cm / 100.0 WHERE draught_m IS NULL " +
			"ORDER BY id LIMIT :batch",
		Leaves: map[string]enginetest.Left{
			"a setting":       {Script: "SET SESSION sql_mode = '';", Gone: "SELECT @@sql_mode <> ''"},
			"a variable":      {Script: "SET @tide = 7;", Gone: "SELECT @tide IS NULL"},
			"an encoding":     {Script: "SET NAMES latin1;", Gone: "SELECT @@character_set_client = 'utf8mb4'"},
			"a named lock":    {Script: "DO GET_LOCK('tide', 0);", Gone: "SELECT IS_FREE_LOCK('tide')"},
			"no locks at all": {Script: "DO RELEASE_ALL_LOCKS();", Gone: "SELECT 1"},
			"a temporary table": {
				Script: "CREATE TEMPORARY TABLE tide (id INTEGER);",
				Gone: "SELECT COUNT(*) = 0 FROM information_schema.TABLES WHERE TABLE_SCHEMA = DATABASE() AND " +
					"TABLE_NAME = 'tide'",
			},
		},
	}
}

func TestEngine(t *testing.T) { enginetest.Run(t, harness()) }

func TestStruck(t *testing.T) { enginetest.Struck(t, harness()) }

// TestTheServersPatienceIsNotTheSteps: while the ledger is written over one session, the
// other one may be idle for longer than the server allows applications to be.
func TestTheServersPatienceIsNotTheSteps(t *testing.T) {
	limits := []string{
		"idle_transaction_timeout",
		"idle_readonly_transaction_timeout",
		"idle_write_transaction_timeout",
		"max_statement_time",
	}
	server := mariatest.Shared(t).URL("mysql")
	set := func(limit, value string) {
		require.NoError(t, mariatest.Exec(t, server, fmt.Sprintf("SET GLOBAL %s = %s", limit, value)))
	}
	url := mariatest.Database(t)
	for _, limit := range limits {
		set(limit, "77")
		t.Cleanup(func() { set(limit, "DEFAULT") })
	}
	session, err := mariadb.Engine{}.Open(t.Context(), url, "test")
	require.NoError(t, err)
	defer session.Close()
	require.NoError(t, session.Lock(t.Context()))
	require.NoError(t, session.Begin(t.Context(), engine.Settings{}))
	holds, got, err := session.Holds(
		t.Context(),
		sqltext.Statement{SQL: []byte("SELECT @@" + strings.Join(limits, " = 0, @@") + " = 0")},
	)
	require.NoError(t, err)
	require.True(t, holds, got)
}

// TestNamesInQuotesAreDrafted: a dot in a name divides nothing.
func TestNamesInQuotesAreDrafted(t *testing.T) {
	enginetest.Drafted(t, harness(), enginetest.Pair{
		Present: []string{"CREATE TABLE quay (id INTEGER NOT NULL PRIMARY KEY, `depth.m` INTEGER, `from` INTEGER)"},
		Desired: []string{
			"CREATE TABLE quay (id INTEGER NOT NULL PRIMARY KEY, `depth.max` INTEGER, `a ``tick` INTEGER)",
		},
		Rows: []string{"INSERT INTO quay VALUES (1, 9, 2)"}, Counts: "SELECT count(*) FROM quay WHERE id = 1",
		Renames: []draft.Rename{{Old: "quay.`depth.m`", New: "`depth.max`"}},
	})
}

// TestEventsAreDrafted: what the server runs by a schedule is in no script's way, and
// comes and goes with it.
func TestEventsAreDrafted(t *testing.T) {
	watch := "CREATE TABLE watch (id INTEGER NOT NULL PRIMARY KEY, ended DATE)"
	enginetest.Drafted(t, harness(), enginetest.Pair{
		Present: []string{
			watch,
			"CREATE EVENT tidy ON SCHEDULE EVERY 1 DAY DO DELETE FROM watch WHERE ended < CURDATE() - INTERVAL 1 YEAR",
			"CREATE EVENT rota ON SCHEDULE EVERY 1 HOUR DO SET @rota = 1",
			"CREATE EVENT stays ON SCHEDULE EVERY '1:30' HOUR_MINUTE DISABLE DO SET @stays = 1",
		},
		Desired: []string{
			watch,
			"CREATE EVENT tidy ON SCHEDULE EVERY 1 WEEK ON COMPLETION PRESERVE COMMENT 'a year''s \\\\ watches' DO\nBEGIN\n" +
				"  DELETE FROM watch WHERE ended < CURDATE() - INTERVAL 2 YEAR;\n  SET @tidied = NOW();\nEND",
			"CREATE EVENT once ON SCHEDULE AT '2037-01-01 04:00:00' DO SET @once = 1",
			"CREATE EVENT stays ON SCHEDULE EVERY '1:30' HOUR_MINUTE DISABLE DO SET @stays = 1",
		},
	})
	url := mariatest.Database(t)
	require.NoError(t, mariatest.Exec(t, url, "CREATE EVENT rota ON SCHEDULE EVERY 1 HOUR DO SET @rota = 1"))
	session, err := mariadb.Engine{}.Open(t.Context(), url, "test")
	require.NoError(t, err)
	defer session.Close()
	seen, err := session.Observations(
		t.Context(),
		[]evidence.Object{{Kind: evidence.Event, Name: "rota"}, {Kind: evidence.Event, Name: "once"}},
	)
	require.NoError(t, err)
	require.True(t, seen[0].There)
	require.False(t, seen[1].There)
}

// TestWhatCannotBeReadIsNotPassedOver: a view whose text is hidden would never drift.
func TestWhatCannotBeReadIsNotPassedOver(t *testing.T) {
	address := mariatest.Database(t)
	database := path.Base(address)
	for _, sql := range []string{"CREATE TABLE berth (id INTEGER)", "CREATE VIEW berths AS SELECT id " +
		"FROM berth", "CREATE OR REPLACE USER reader@'127.0.0.1' IDENTIFIED BY 'p'",
		"GRANT SELECT ON " + database + ".* TO reader@'127.0.0.1'"} {
		require.NoError(t, mariatest.Exec(t, address, sql))
	}
	u, err := url.Parse(address)
	require.NoError(t, err)
	u.User = url.UserPassword("reader", "p")
	session, err := mariadb.Engine{}.Open(t.Context(), u.String(), "test")
	require.NoError(t, err)
	defer session.Close()
	_, err = session.Snapshot(t.Context(), nil)
	require.ErrorContains(t, err, "GRANT SHOW VIEW ON")
	seen, err := session.Probe(t.Context(), "")
	require.NoError(t, err)
	for _, look := range seen.Looks {
		require.Equal(t, look.What != "ledger", look.OK, "%+v", look)
	}

	for name, c := range map[string]struct {
		change func(*url.URL)
		kind   engine.ConnectKind
	}{
		"a wrong password": {func(u *url.URL) { u.User = url.UserPassword("reader", "q") }, engine.WrongPassword},
		"nobody listens":   {func(u *url.URL) { u.Host = "127.0.0.1:1" }, engine.NobodyListens},
		"no such database": {func(u *url.URL) {
			u.User, u.Path = url.UserPassword("vorrang", "mariatest-superuser"),
				"/nowhere"
		}, engine.NoSuchDatabase},
		"not admitted":   {func(u *url.URL) { u.Path = "/mysql" }, engine.NotAdmitted},
		"no TLS there":   {func(u *url.URL) { u.RawQuery = "tls=on" }, engine.NoTLS},
		"an odd setting": {func(u *url.URL) { u.RawQuery = "allowAllFiles=true" }, engine.BadURL},
		"no such host":   {func(u *url.URL) { u.Host = "gauge.invalid:3306" }, engine.NoSuchHost},
	} {
		other := *u
		c.change(&other)
		_, err := mariadb.Engine{}.Open(t.Context(), other.String(), "test")
		var failed *engine.ConnectError
		require.ErrorAs(t, err, &failed, name)
		require.Equal(t, c.kind, failed.Kind, "%s: %s", name, err)
		require.NotContains(t, err.Error(), "mariatest-superuser")
	}

	silent, err := net.Listen("tcp", "127.0.0.1:0") // the system answers for who does not accept
	require.NoError(t, err)
	defer silent.Close()
	short, cancel := context.WithTimeout(t.Context(), 300*time.Millisecond)
	defer cancel()
	u.Host = silent.Addr().String()
	_, err = mariadb.Engine{}.Open(short, u.String(), "test")
	var failed *engine.ConnectError
	require.ErrorAs(t, err, &failed)
	require.Equal(t, engine.NoAnswer, failed.Kind)
	require.Equal(t, "nothing answers at "+u.Host, failed.Message, "how long that took, who waits knows")
}

func TestEachFindingIsTrue(t *testing.T) {
	enginetest.Findings(t, enginetest.Proofs{
		Harness: harness(),
		Alone: func(t testing.TB, url string, statements ...string) error {
			conn, err := mariatest.Open(t, url).Conn(t.Context())
			require.NoError(t, err)
			defer conn.Close()
			for _, statement := range statements {
				if _, err := conn.ExecContext(t.Context(), statement); err != nil {
					return err
				}
			}
			return nil
		},
		File: "SELECT SPACE FROM information_schema.INNODB_SYS_TABLES WHERE NAME = CONCAT(DATABASE(), '/%s')",
	})
}

// TestMarksTellOfEveryChange: each in a database of its own, since marks take a second to settle.
func TestMarksTellOfEveryChange(t *testing.T) {
	before := []string{
		"CREATE TABLE quay (id INT PRIMARY KEY, name VARCHAR(40)) ENGINE=InnoDB",
		"CREATE TABLE berth (id INT PRIMARY KEY, quay_id INT, KEY (quay_id)) ENGINE=InnoDB", "CREATE SEQUENCE call_number",
		"CREATE VIEW named AS SELECT name FROM quay", "CREATE FUNCTION metres(cm INT) RETURNS INT DETERMINISTIC RETURN cm / 100",
		"CREATE TRIGGER quay_named BEFORE INSERT ON quay FOR EACH ROW SET NEW.name = 'North'",
		"CREATE EVENT tidy ON SCHEDULE EVERY 1 DAY DO DELETE FROM berth",
	}
	changes := []string{
		"ALTER TABLE quay ALTER COLUMN name SET DEFAULT 'North'", "ALTER TABLE quay COMMENT 'where ships lie'",
		"ALTER TABLE quay ADD COLUMN depth_cm INT, ALGORITHM=INSTANT", "ALTER TABLE quay DROP COLUMN name, ALGORITHM=INSTANT",
		"ALTER TABLE quay MODIFY name VARCHAR(60)", "ALTER TABLE quay ADD CHECK (id > 0)", "CREATE INDEX quay_name ON quay (name)",
		"ALTER TABLE berth ALTER INDEX quay_id IGNORED", "ALTER TABLE berth ADD FOREIGN KEY (quay_id) REFERENCES quay (id)",
		"RENAME TABLE berth TO mooring", "ALTER TABLE quay RENAME COLUMN name TO title", "ALTER SEQUENCE call_number MAXVALUE 900",
		"ALTER TABLE quay PARTITION BY HASH (id) PARTITIONS 2", "ALTER TABLE quay CONVERT TO CHARACTER SET latin1",
		"CREATE OR REPLACE VIEW named AS SELECT id, name FROM quay", "DROP TRIGGER quay_named", "ALTER EVENT tidy DISABLE",
		"CREATE OR REPLACE FUNCTION metres(cm BIGINT) RETURNS INT DETERMINISTIC RETURN cm / 100", "DROP FUNCTION metres",
		"ALTER FUNCTION metres COMMENT 'of depth'", "CREATE OR REPLACE TABLE berth (id BIGINT PRIMARY KEY)",
	}
	type one struct {
		session engine.Session
		seen    string
		mark    string
	}
	all := make([]one, len(changes))
	look := func(o one) one {
		var err error
		var seen schema.Schema
		require.Eventually(t, func() bool {
			o.mark, err = o.session.(engine.Marker).Mark(t.Context())
			require.NoError(t, err)
			again, err := o.session.(engine.Marker).Mark(t.Context())
			require.NoError(t, err)
			return again == o.mark
		}, 20*time.Second, 50*time.Millisecond)
		seen, err = o.session.Snapshot(t.Context(), nil)
		require.NoError(t, err)
		o.seen = seen.Fingerprint()
		return o
	}
	urls := make([]string, len(changes))
	for i := range changes {
		urls[i] = mariatest.Database(t)
		for _, sql := range before {
			require.NoError(t, mariatest.Exec(t, urls[i], sql))
		}
		session, err := mariadb.Engine{}.Open(t.Context(), urls[i], "test")
		require.NoError(t, err)
		t.Cleanup(session.Close)
		all[i].session = session
	}
	for i := range changes {
		all[i] = look(all[i])
	}
	for i, change := range changes {
		require.NoError(t, mariatest.Exec(t, urls[i], change), change)
	}
	for i, change := range changes {
		after := look(all[i])
		assert.NotEqual(t, all[i].seen, after.seen, "a snapshot tells of %s", change)
		assert.NotEqual(t, all[i].mark, after.mark, change)
	}
}
