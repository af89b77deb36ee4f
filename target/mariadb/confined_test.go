package mariadb_test

import (
	"errors"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vorrang/core/engine"
	"vorrang/internal/mariatest"
	"vorrang/target/mariadb"
)

// bodies write to another database when they run: by its name, by a text that is put together,
// by what a table's change sets off. %s is the database's name.
var bodies = map[string]string{
	"a statement":       "INSERT INTO %s.dues VALUES (1);",
	"a computed text":   "SET @s = CONCAT('DELETE FROM ', '%s', '.dues'); PREPARE s FROM @s; EXECUTE s;",
	"at once":           "EXECUTE IMMEDIATE CONCAT('TRUNCATE %s.', 'dues');",
	"a trigger":         "CREATE TABLE a (id INT); CREATE TRIGGER t AFTER INSERT ON a FOR EACH ROW INSERT INTO %s.dues VALUES (2); INSERT INTO a VALUES (1);",
	"a procedure":       "CREATE PROCEDURE p() BEGIN UPDATE %s.dues SET cents = 0; END; CALL p();",
	"a function":        "CREATE FUNCTION f() RETURNS INT BEGIN DELETE FROM %s.dues; RETURN 1; END; SELECT f();",
	"a view":            "CREATE VIEW v AS SELECT * FROM %s.dues; DELETE FROM v;",
	"another's routine": "CALL %s.clear();",
	"a compound":        "BEGIN NOT ATOMIC DROP DATABASE %s; END;",
	"a dropped table":   "DROP TABLE %s.dues;",
	"a renamed table":   "CREATE TABLE b (id INT); RENAME TABLE b TO %s.b;",
	"a grant":           "GRANT ALL ON %s.* TO CURRENT_USER();",
	"a file":            "SELECT 1 INTO OUTFILE '/tmp/%s';",
	"the server":        "DELETE FROM mysql.global_priv WHERE User = '%s';",
	"the ledger":        "INSERT INTO %s.vorrang_ledger VALUES (1);",
	"the other trial":   "SET ROLE ALL; DELETE FROM %s.dues;",
	"an event's work":   "CREATE EVENT e ON SCHEDULE EVERY 1 SECOND DO DELETE FROM %s.dues;",
}

// TestATrialReachesItsScratchDatabaseOnly, whichever text tries to leave it.
func TestATrialReachesItsScratchDatabaseOnly(t *testing.T) {
	server := mariatest.Shared(t)
	url := mariatest.Database(t)
	database := url[strings.LastIndex(url, "/")+1:]
	for _, statement := range []string{
		"CREATE TABLE dues (cents INT)", "INSERT INTO dues VALUES (1900)",
		"CREATE PROCEDURE clear() DELETE FROM dues",
	} {
		require.NoError(t, mariatest.Exec(t, url, statement))
	}
	before := server.DumpAll(t, database) + accounts(t, url)
	for name, body := range bodies {
		t.Run(name, func(t *testing.T) {
			scratch, err := mariadb.Engine{}.NewScratch(t.Context(), url, "", true)
			require.NoError(t, err)
			statements, err := mariadb.Engine{}.Dialect().Cut([]byte(strings.ReplaceAll(body, "%s", database)))
			require.NoError(t, err)
			var refused error
			for _, s := range statements {
				require.NoError(t, scratch.Prepare(t.Context(), engine.Settings{}))
				if _, err := scratch.Exec(t.Context(), s); err != nil {
					refused = errors.Join(refused, err)
				}
			}
			if name != "an event's work" { // which would be refused when it is due
				assert.Error(t, refused)
			}
			scratch.Close()
			assert.Equal(t, before, server.DumpAll(t, database)+accounts(t, url), "nothing else on the server changed")
		})
	}
}

// accounts are the server's users and databases.
func accounts(t *testing.T, url string) string {
	return mariatest.Query(t, url, `SELECT CONCAT((SELECT GROUP_CONCAT(User, '@', Host, Priv ORDER BY 1) FROM mysql.global_priv),
		(SELECT GROUP_CONCAT(SCHEMA_NAME ORDER BY 1) FROM information_schema.SCHEMATA
			WHERE SCHEMA_NAME NOT LIKE 'test\\_%'))`)
}

// TestATrialIsRefusedWhereItsUserReachesMore, with the grant to give, and made where it does not.
func TestATrialIsRefusedWhereItsUserReachesMore(t *testing.T) {
	url := mariatest.Database(t)
	database := url[strings.LastIndex(url, "/")+1:]
	as := func(user, on string, grants ...string) string {
		t.Cleanup(func() { _ = mariatest.Exec(t, url, "DROP USER IF EXISTS "+user+"@'127.0.0.1'") })
		require.NoError(t, mariatest.Exec(t, url, "CREATE USER "+user+"@'127.0.0.1' IDENTIFIED BY 'pw'"))
		for _, grant := range append(grants, "ALL ON `vorrang\\_scratch\\_%`.*") {
			require.NoError(t, mariatest.Exec(t, url, fmt.Sprintf("GRANT %s TO %s@'127.0.0.1'", grant, user)))
		}
		_, host, _ := strings.Cut(url, "@")
		host, _, _ = strings.Cut(host, "/")
		return "mysql://" + user + ":pw@" + host + "/" + on
	}
	require.NoError(t, mariatest.Exec(t, url, "CREATE TABLE vorrang_scratch_x (id INT)"))
	require.NoError(t, mariatest.Exec(t, url, "CREATE ROLE "+database+"_r"))
	t.Cleanup(func() { _ = mariatest.Exec(t, url, "DROP ROLE "+database+"_r") })
	for name, c := range map[string]struct{ url, says string }{
		"the target's user": {as("trial_a", database, "ALL ON "+database+".*"), "has rights outside of scratch databases"},
		"one table":         {as("trial_b", database, "SELECT ON "+database+".vorrang_scratch_x"), "has rights outside of scratch databases"},
		"all databases":     {as("trial_c", database, "UPDATE ON *.*"), "has rights on all databases there: UPDATE"},
		"a role":            {as("trial_d", "information_schema", database+"_r"), "may take on the role"},
	} {
		_, err := mariadb.Engine{}.NewScratch(t.Context(), c.url, "", true)
		var more *engine.OwnsMore
		require.ErrorAs(t, err, &more, name)
		assert.Contains(t, more.Error(), c.says, name)
		assert.Contains(t, more.Fix, "GRANT ALL ON `vorrang\\_scratch\\_%`.* TO", name)
	}
	scratch, err := mariadb.Engine{}.NewScratch(t.Context(), as("trial_e", "information_schema"), "", true)
	require.NoError(t, err)
	require.NoError(t, scratch.Run(t.Context(), []byte("CREATE TABLE berth (id INT)"), true))
	scratch.Close()
	assert.Equal(t, "0", mariatest.Query(t, url, "SELECT COUNT(*) FROM information_schema.SCHEMATA WHERE SCHEMA_NAME "+
		"LIKE 'vorrang\\_scratch\\_1%'"))
}

// TestAProcedureThatCommitsIsNotCalledRolledBack, also where it begins another transaction.
func TestAProcedureThatCommitsIsNotCalledRolledBack(t *testing.T) {
	url := mariatest.Database(t)
	for _, statement := range []string{
		"CREATE TABLE dues (cents INT)",
		"CREATE PROCEDURE plain() INSERT INTO dues VALUES (1)",
		"CREATE PROCEDURE ends() BEGIN INSERT INTO dues VALUES (2); COMMIT; END",
		"CREATE PROCEDURE chains() BEGIN INSERT INTO dues VALUES (3); COMMIT AND CHAIN; INSERT INTO dues VALUES (4); END",
		"CREATE PROCEDURE fails() BEGIN COMMIT; SIGNAL SQLSTATE '45000' SET MESSAGE_TEXT = 'low tide'; END",
	} {
		require.NoError(t, mariatest.Exec(t, url, statement))
	}
	session, err := mariadb.Engine{}.Open(t.Context(), url, "test")
	require.NoError(t, err)
	defer session.Close()
	for name, ended := range map[string]bool{"plain": false, "ends": true, "chains": true, "fails": true} {
		require.NoError(t, session.Begin(t.Context(), engine.Settings{}))
		statements, err := mariadb.Engine{}.Dialect().Cut([]byte("CALL " + name + "()"))
		require.NoError(t, err)
		_, err = session.Exec(t.Context(), statements[0])
		var left *engine.EndedError
		assert.Equal(t, ended, errors.As(err, &left), "%s: %v", name, err)
		require.NoError(t, session.Rollback(t.Context()))
	}
	assert.Equal(t, "2,3", mariatest.Query(t, url, "SELECT GROUP_CONCAT(cents ORDER BY cents) FROM dues"))
}
