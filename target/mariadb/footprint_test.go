package mariadb_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vorrang/core/engine"
	"vorrang/internal/mariatest"
	"vorrang/target/mariadb"
)

// TestWhatIsWrittenAgainIsSeen: by the numbers that InnoDB gives its tables.
func TestWhatIsWrittenAgainIsSeen(t *testing.T) {
	url := mariatest.Database(t)
	db := mariatest.Open(t, url)
	run := func(statements ...string) {
		t.Helper()
		for _, sql := range statements {
			_, err := db.ExecContext(t.Context(), sql)
			require.NoError(t, err, sql)
		}
	}
	run("CREATE TABLE duty (id INT PRIMARY KEY, pilot VARCHAR(80))", "CREATE TABLE `Tide-Log Ö` (id INT, note TEXT)",
		"INSERT INTO duty VALUES (1, 'Pilot One')")
	session, err := mariadb.Engine{}.Open(t.Context(), url, "test")
	require.NoError(t, err)
	defer session.Close()
	var before engine.Survey
	since := func(statements ...string) (tables []string) {
		t.Helper()
		run(statements...)
		now, err := session.(engine.Surveyor).Survey(t.Context())
		require.NoError(t, err)
		f := now.Since(before)
		assert.GreaterOrEqual(t, f.WALBytes, int64(0))
		for _, table := range f.Tables {
			assert.True(t, table.Rewritten)
			assert.Positive(t, table.Bytes)
			tables = append(tables, table.Table)
		}
		before = now
		return tables
	}
	assert.Empty(t, since(), "there was nothing before")
	assert.Len(t, before.Relations, 2)
	assert.Empty(t, since("ALTER TABLE duty ADD COLUMN day DATE", "INSERT INTO duty VALUES (2, 'Pilot Two', NULL)"),
		"a column at the end is there in an instant")
	assert.Equal(t, []string{"Tide-Log Ö", "duty"}, since("ALTER TABLE duty MODIFY pilot TEXT CHARACTER SET ascii",
		"ALTER TABLE `Tide-Log Ö` FORCE"))
	assert.Empty(t, since("CREATE TABLE berth (id INT)"), "what is new was not written again")
	assert.Empty(t, since("RENAME TABLE berth TO quay", "DROP TABLE quay"))
}

// TestOnlyWhatATrialLeftIsSwept: a database whose name only begins like that is somebody's.
func TestOnlyWhatATrialLeftIsSwept(t *testing.T) {
	url := mariatest.Database(t)
	db := mariatest.Open(t, url)
	const home, left = "vorrang_scratch_home", "vorrang_scratch_1700000000_abcdef23"
	for _, name := range []string{home, left} {
		_, err := db.ExecContext(t.Context(), "CREATE DATABASE "+name)
		require.NoError(t, err)
		t.Cleanup(func() { _, _ = db.Exec("DROP DATABASE IF EXISTS " + name) })
	}
	scratch, err := mariadb.Engine{}.NewScratch(t.Context(), url, "", true)
	require.NoError(t, err)
	defer scratch.Close()
	assert.ErrorContains(t, mariadb.Engine{}.DropScratch(t.Context(), url, home), "is not a scratch database")
	var stays string
	require.NoError(t, db.QueryRowContext(t.Context(), "SELECT GROUP_CONCAT(SCHEMA_NAME) FROM "+
		"information_schema.SCHEMATA WHERE SCHEMA_NAME IN (?, ?)", home, left).Scan(&stays))
	assert.Equal(t, home, stays)
}
