package postgres_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vorrang/core/engine"
	"vorrang/core/sqltext"
	"vorrang/internal/pgtest"
	"vorrang/target/postgres"
)

// TestAStepsFootprintIsMeasured: what a transaction locks, writes again and changes, of the
// tables that were there before.
func TestAStepsFootprintIsMeasured(t *testing.T) {
	url := pgtest.Database(t)
	pgtest.Exec(
		t,
		url,
		`CREATE TABLE vessel (id bigint PRIMARY KEY, length_cm integer); INSERT INTO vessel SELECT n, n
			FROM generate_series(1, 100) AS n;
		CREATE TABLE berth (id bigint PRIMARY KEY); CREATE TABLE quay (id bigint)`,
	)
	session, err := postgres.Connect(t.Context(), url, "test")
	require.NoError(t, err)
	defer session.Close()
	require.NoError(t, session.MeasureFrom(t.Context()))
	require.NoError(t, session.Begin(t.Context(), engine.Settings{}))
	for _, sql := range []string{
		"ALTER TABLE vessel ALTER COLUMN length_cm TYPE bigint", "INSERT INTO berth SELECT n FROM " +
			"generate_series(1, 7) AS n", "DELETE FROM vessel WHERE id > 90",
		"UPDATE vessel SET length_cm = 1 WHERE id = 1", "CREATE INDEX quay_by_id ON quay (id)",
		"CREATE TABLE pilot (id bigint)", "SELECT 1 FROM quay",
	} {
		_, err := session.Exec(t.Context(), sqltext.Statement{SQL: []byte(sql)})
		require.NoError(t, err, sql)
	}
	f, err := session.Footprint(t.Context())
	require.NoError(t, err)
	assert.True(t, session.InTransaction())
	assert.Positive(t, f.WALBytes)
	found := map[string]engine.TableFootprint{}
	for _, table := range f.Tables {
		found[table.Table] = table
	}
	vessel := found["public.vessel"]
	assert.Equal(t, engine.ReadsAndWrites, vessel.Blocks)
	assert.Equal(t, "AccessExclusiveLock", vessel.Mode)
	assert.True(t, vessel.Rewritten)
	assert.Positive(t, vessel.Bytes)
	assert.Equal(t, []int64{1, 10}, []int64{vessel.Updated, vessel.Deleted})
	berth := found["public.berth"]
	assert.Equal(
		t,
		engine.TableFootprint{Table: "public.berth", Mode: "RowExclusiveLock", Bytes: berth.Bytes, Inserted: 7},
		berth,
	)
	assert.Equal(t, engine.Writes, found["public.quay"].Blocks)
	assert.False(t, found["public.quay"].Rewritten)
	assert.NotContains(t, found, "public.pilot", "nobody can wait for what is new")
	assert.Contains(t, f.Text(), "public.vessel: reads and writes had to wait, written again (")
	assert.Contains(t, f.Text(), "public.berth: 7 rows inserted")
	require.NoError(t, session.Rollback(t.Context()))

	for range 2 { // what one step did is not told of the next
		require.NoError(t, session.Begin(t.Context(), engine.Settings{}))
		_, err = session.Exec(t.Context(), sqltext.Statement{SQL: []byte("DELETE FROM vessel WHERE id IN (SELECT id FROM " +
			"vessel LIMIT 3)")})
		require.NoError(t, err)
		f, err = session.Footprint(t.Context())
		require.NoError(t, err)
		require.NotEmpty(t, f.Tables)
		assert.EqualValues(t, 3, f.Tables[0].Deleted)
		_, err = session.Exec(t.Context(), sqltext.Statement{SQL: []byte("COMMIT")})
		require.NoError(t, err)
	}
}

// TestAFootprintNeverWaits: a step may lock what the measuring reads, and then goes on
// without.
func TestAFootprintNeverWaits(t *testing.T) {
	url := pgtest.Database(t)
	pgtest.Exec(t, url, "CREATE TABLE berth (id bigint PRIMARY KEY)")
	session, err := postgres.Connect(t.Context(), url, "test")
	require.NoError(t, err)
	defer session.Close()
	require.NoError(t, session.Begin(t.Context(), engine.Settings{}))
	_, err = session.Exec(t.Context(), sqltext.Statement{SQL: []byte("LOCK TABLE berth, pg_catalog.pg_class IN ACCESS " +
		"EXCLUSIVE MODE")})
	require.NoError(t, err)
	_, err = session.Footprint(t.Context())
	assert.ErrorContains(t, err, "lock timeout")
	assert.True(t, session.InTransaction())
	_, err = session.Exec(t.Context(), sqltext.Statement{SQL: []byte("SELECT 1")})
	require.NoError(t, err, "the step goes on")
	require.NoError(t, session.Rollback(t.Context()))
	require.NoError(t, session.MeasureFrom(t.Context()), "and so does our own connection")
}

// TestFootprintsOfOneStepAfterAnother: what is known of a table from an earlier step is
// asked again where somebody may have changed it.
func TestFootprintsOfOneStepAfterAnother(t *testing.T) {
	url := pgtest.Database(t)
	pgtest.Exec(t, url, "CREATE TABLE berth (id bigint PRIMARY KEY, name text); INSERT INTO berth VALUES (1, 'North')")
	session, err := postgres.Connect(t.Context(), url, "test")
	require.NoError(t, err)
	defer session.Close()
	require.NoError(t, session.MeasureFrom(t.Context()))
	step := func(end string, statements ...string) (texts []string) {
		t.Helper()
		require.NoError(t, session.Begin(t.Context(), engine.Settings{}))
		for _, sql := range statements {
			_, err := session.Exec(t.Context(), sqltext.Statement{SQL: []byte(sql)})
			require.NoError(t, err, sql)
		}
		for range 2 { // the second time nothing else is told
			f, err := session.Footprint(t.Context())
			require.NoError(t, err)
			texts = nil
			for _, table := range f.Tables {
				table.Bytes = 0
				texts = append(texts, table.Mode+" "+table.String())
			}
		}
		_, err := session.Exec(t.Context(), sqltext.Statement{SQL: []byte(end)})
		require.NoError(t, err)
		return texts
	}
	const added = "RowExclusiveLock public.berth: 1 rows inserted"
	const shared = "ShareLock public.berth: writes had to wait"
	const locked = "AccessExclusiveLock public.berth: reads and writes had to wait"
	assert.Equal(t, []string{added}, step("COMMIT", "INSERT INTO berth VALUES (2)"))
	assert.Equal(t, []string{added}, step("COMMIT", "INSERT INTO berth VALUES (3)"))
	for range 3 {
		pgtest.Exec(t, url, "VACUUM FULL berth")
		assert.Equal(t, []string{shared}, step("COMMIT", "LOCK TABLE berth IN SHARE MODE"), "another wrote it again, "+
			"before a transaction that changes nothing, and so has no number")
	}
	assert.Equal(t, []string{locked + ", written again (0 B)"}, step("ROLLBACK", "TRUNCATE berth")[:1])
	assert.Equal(t, []string{added}, step("COMMIT", "INSERT INTO berth VALUES (4)"), "it has the file of before")
	pgtest.Exec(t, url, "VACUUM FULL berth")
	assert.Equal(t, []string{added}, step("COMMIT", "INSERT INTO berth VALUES (5)"), "another wrote it again")
	pgtest.Exec(t, url, "ALTER TABLE berth RENAME TO mooring; CREATE TABLE berth (id bigint)")
	assert.Equal(t, []string{"RowExclusiveLock public.mooring: 1 rows inserted"},
		step("COMMIT", "INSERT INTO mooring VALUES (6)"), "another gave it another name")
	assert.Equal(t, []string{"AccessExclusiveLock public.mooring: reads and writes had to wait"},
		step("COMMIT", "ALTER TABLE mooring RENAME TO buoy"), "it has the name of before")
	assert.Empty(t, step("COMMIT", "CREATE TABLE pilot (id bigint)", "ALTER TABLE pilot ADD COLUMN name text"))
	assert.Equal(t, []string{"AccessExclusiveLock public.pilot: reads and writes had to wait"},
		step("COMMIT", "ALTER TABLE pilot ADD COLUMN badge int"), "an earlier step made it")
	pgtest.Exec(t, url, "CREATE TABLE tide (id bigint)")
	assert.Equal(t, []string{"AccessExclusiveLock public.tide: reads and writes had to wait"},
		step("COMMIT", "ALTER TABLE public.tide ADD COLUMN at date"), "another made it since")
	assert.Equal(t, []string{"RowExclusiveLock public.buoy: 1 rows inserted"}, step("COMMIT", "CREATE SCHEMA trap",
		"CREATE FUNCTION trap.no(oid, oid) RETURNS bool LANGUAGE plpgsql AS 'BEGIN RAISE ''caught''; END'",
		"CREATE OPERATOR trap.= (LEFTARG = oid, RIGHTARG = oid, FUNCTION = trap.no)",
		"SET LOCAL search_path = trap, pg_catalog, public", "INSERT INTO public.buoy VALUES (7)"))
}

// TestTwoLooksTellHowMuchIsWritten: by the server's clock.
func TestTwoLooksTellHowMuchIsWritten(t *testing.T) {
	url := pgtest.Database(t)
	pgtest.Exec(t, url, "CREATE TABLE berth (id bigint PRIMARY KEY); INSERT INTO berth VALUES (1), (2)")
	session, err := postgres.Connect(t.Context(), url, "test")
	require.NoError(t, err)
	defer session.Close()
	before, err := session.Figures(t.Context())
	require.NoError(t, err)
	pgtest.Exec(t, url, "INSERT INTO berth VALUES (3), (4); UPDATE berth SET id = 9 WHERE id = 3; DELETE FROM berth "+
		"WHERE id = 4; SELECT pg_stat_force_next_flush(), pg_sleep(1.1)")
	after, err := session.Figures(t.Context())
	require.NoError(t, err)
	assert.EqualValues(t, 4, after.Tables["public.berth"].Writes-before.Tables["public.berth"].Writes)
	assert.GreaterOrEqual(t, after.At.Sub(before.At), 1100*time.Millisecond, "by the clock of the server, which slept for as long")
	after.At = before.At.Add(2 * time.Second)
	rows, known := after.WritesSince(before, "public.berth")
	assert.True(t, known)
	assert.EqualValues(t, 2, rows, "in a second")
}
