package postgres_test

import (
	"fmt"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vorrang/core/engine"
	"vorrang/core/schema"
	"vorrang/internal/pgtest"
	"vorrang/target/postgres"
)

// What stands in the way of rows: references in circles and to oneself, rows that no
// constraint of today would let in, triggers, partitions, values that the server makes.
const crowded = `
CREATE SCHEMA harbour;
CREATE TABLE harbour.quay (id int PRIMARY KEY, head_berth int);
CREATE TABLE harbour.berth (id int PRIMARY KEY, quay int NOT NULL REFERENCES harbour.quay,
	beside int REFERENCES harbour.berth, depth_cm int NOT NULL);
ALTER TABLE harbour.quay ADD CONSTRAINT quay_head FOREIGN KEY (head_berth) REFERENCES harbour.berth;
CREATE TABLE harbour.pilot (id uuid PRIMARY KEY DEFAULT gen_random_uuid(), name text NOT NULL UNIQUE, born date,
	badge int NOT NULL UNIQUE);
CREATE TABLE harbour.call (id int GENERATED ALWAYS AS IDENTITY, at date NOT NULL,
	berth int NOT NULL REFERENCES harbour.berth, pilot uuid REFERENCES harbour.pilot,
	days int NOT NULL, weeks int GENERATED ALWAYS AS (days / 7) STORED, PRIMARY KEY (id, at)) PARTITION BY RANGE (at);
CREATE TABLE harbour.call_old PARTITION OF harbour.call FOR VALUES FROM (MINVALUE) TO ('2026-01-01');
CREATE TABLE harbour.call_new PARTITION OF harbour.call FOR VALUES FROM ('2026-01-01') TO (MAXVALUE);
CREATE TABLE harbour.dues (id bigserial PRIMARY KEY, call int NOT NULL, at date NOT NULL, cents int, "due by" text,
	FOREIGN KEY (call, at) REFERENCES harbour.call);
CREATE FUNCTION harbour.refuse() RETURNS trigger LANGUAGE plpgsql AS 'BEGIN RAISE EXCEPTION ''no more''; END';
CREATE TRIGGER closed BEFORE INSERT ON harbour.pilot FOR EACH ROW EXECUTE FUNCTION harbour.refuse();
ALTER TABLE harbour.pilot DISABLE TRIGGER closed;
CREATE TRIGGER dusk BEFORE INSERT ON harbour.dues FOR EACH ROW EXECUTE FUNCTION harbour.refuse();
ALTER TABLE harbour.dues DISABLE TRIGGER dusk;
`

const crowd = `
INSERT INTO harbour.quay SELECT n FROM generate_series(1, 50) n;
INSERT INTO harbour.berth SELECT n, 1 + n % 50, nullif(n - 1, 0), 400 + n % 900 FROM generate_series(1, 4000) n;
UPDATE harbour.quay SET head_berth = id * 7;
INSERT INTO harbour.pilot (name, born, badge) SELECT format(E'Pilot\t%s \\ Nordmole', n), date '1970-01-01' + n,
	100000 + n FROM generate_series(1, 3000) n;
INSERT INTO harbour.call (at, berth, pilot, days) SELECT date '2025-01-01' + n % 700, 1 + n % 4000, (SELECT id
	FROM harbour.pilot WHERE badge = 100001 + n % 3000), n % 40 FROM generate_series(1, 6000) n;
INSERT INTO harbour.dues (call, at, cents, "due by") SELECT id, at, days * 100, CASE WHEN days > 2 THEN 'noon' END
	FROM harbour.call;
UPDATE harbour.dues SET cents = -5 WHERE id = 4321;
UPDATE harbour.dues SET cents = NULL WHERE id % 100 = 7;
UPDATE harbour.berth SET depth_cm = 9999 WHERE id = 3777;
`

const closed = `
ALTER TABLE harbour.dues ADD CONSTRAINT dues_paid CHECK (cents >= 0) NOT VALID;
COMMENT ON CONSTRAINT dues_paid ON harbour.dues IS 'from 2026 on';
ALTER TABLE harbour.pilot ENABLE ALWAYS TRIGGER closed;
ALTER TABLE harbour.dues ENABLE TRIGGER dusk;
`

// sampled is a target with rows, and a scratch database with its schema.
func sampled(t *testing.T) (session *postgres.Session, scratch *postgres.Scratch, seen schema.Schema) {
	url := pgtest.Database(t)
	pgtest.Exec(t, url, crowded+crowd+closed)
	pgtest.Exec(t, url, "ANALYZE")
	session, err := postgres.Connect(t.Context(), url, "test")
	require.NoError(t, err)
	t.Cleanup(session.Close)
	scratch, err = postgres.NewScratch(t.Context(), url, "", true)
	require.NoError(t, err)
	t.Cleanup(scratch.Close)
	require.NoError(t, scratch.Run(t.Context(), []byte(crowded+closed), false))
	seen, err = session.Snapshot(t.Context(), nil)
	require.NoError(t, err)
	return session, scratch, seen
}

func TestRowsAreCopiedWithThoseThatBelongToThem(t *testing.T) {
	session, scratch, seen := sampled(t)
	copied, err := postgres.Engine{}.Sample(t.Context(), session, scratch, engine.Sample{Schema: seen, Most: 100})
	require.NoError(t, err)
	rows := map[string]int64{}
	for _, one := range copied {
		rows[one.Table] = one.Rows
	}
	assert.Len(t, rows, 6, "%v", rows)
	assert.EqualValues(t, 50, rows["harbour.quay"], "all of a small table")
	for _, table := range []string{"harbour.dues", "harbour.pilot", "harbour.call_old", "harbour.call_new"} {
		assert.GreaterOrEqual(t, rows[table], int64(100), table)
		assert.Less(t, rows[table], int64(600), table)
	}
	after, err := scratch.Snapshot(t.Context(), nil)
	require.NoError(t, err)
	assert.Empty(t, schema.Compare(seen, after), "constraints, comments and triggers are as they were")

	there, err := scratch.Contents(t.Context(), after)
	require.NoError(t, err)
	assert.Equal(t, rows["harbour.dues"], there["harbour.dues"].Rows)
	assert.Contains(t, there["harbour.dues"].Columns, `"due by"`)
	for query, why := range map[string]string{
		"SELECT count(*) = 1 FROM harbour.dues WHERE cents = -5": "the lowest value of a " +
			"column of a constraint, though none of today's",
		"SELECT count(*) > 0 FROM harbour.dues WHERE cents = 3900":                             "the highest value",
		"SELECT count(*) > 0 FROM harbour.dues WHERE cents IS NULL":                            "rows without a value",
		"SELECT max(badge) = 103000 FROM harbour.pilot":                                        "the end of a key",
		"SELECT count(*) = 50 FROM harbour.quay q JOIN harbour.berth b ON b.id = q.head_berth": "a circle",
		"SELECT count(*) = 0 FROM harbour.berth b WHERE beside IS NOT NULL AND NOT EXISTS (SELECT FROM harbour.berth o " +
			"WHERE o.id = b.beside)": "a chain",
		"SELECT nextval('harbour.dues_id_seq') = 6001": "sequences go on",
	} {
		require.NoError(t, scratch.Run(t.Context(), []byte(fmt.Sprintf("DO $$ BEGIN ASSERT (%s); END $$", query)), true), why)
	}
}

func TestCopiedRowsAreMasked(t *testing.T) {
	session, scratch, seen := sampled(t)
	masked := map[string]bool{"harbour.pilot.name": true, "harbour.pilot.born": true}
	sample := engine.Sample{
		Schema: seen, Most: 3000, Masked: masked,
		Mask: func(dataType, value string) string {
			if dataType == "date" {
				return "2000" + value[4:] // which has all days
			}
			assert.True(t, strings.HasPrefix(value, "Pilot\t"), "%q", value)
			return strings.NewReplacer("Pilot", "Diver", "Nordmole", "Out\\er\nmole").Replace(value)
		},
	}
	_, err := postgres.Engine{}.Sample(t.Context(), session, scratch, sample)
	require.NoError(t, err)
	require.NoError(t, scratch.Run(t.Context(), []byte(`DO $$ BEGIN
		ASSERT (SELECT count(*) = 3000 FROM harbour.pilot WHERE name LIKE E'Diver\t%' AND name LIKE E'% \\\\ Out\\\\er\nmole'
			AND born BETWEEN date '2000-01-01' AND date '2000-12-31');
		ASSERT (SELECT count(*) = 0 FROM harbour.pilot WHERE badge - 100000 IS DISTINCT FROM substring(name
			FROM E'\t(\\d+) ')::int); END $$`), true))
}

// TestMaterializedViewsHoldWhatTheCopyHolds: each after those that it reads, and one that
// nobody filled stays so.
func TestMaterializedViewsHoldWhatTheCopyHolds(t *testing.T) {
	const views = `CREATE TABLE public.call (id int PRIMARY KEY, berth int);
		CREATE MATERIALIZED VIEW public.z_by_berth AS SELECT berth, count(*) FROM public.call GROUP BY berth;
		CREATE VIEW public.between AS SELECT * FROM public.z_by_berth;
		CREATE MATERIALIZED VIEW public.most AS SELECT max(count) FROM public.between;
		CREATE OR REPLACE VIEW public.between AS SELECT * FROM public.z_by_berth;
		CREATE MATERIALIZED VIEW public.nobodys AS SELECT id FROM public.call WITH NO DATA;
		CREATE MATERIALIZED VIEW public.fails AS SELECT 1 / (count(*) - 30) FROM public.call;`
	url := pgtest.Database(t)
	pgtest.Exec(t, url, views+"INSERT INTO public.call SELECT n, n % 3 FROM generate_series(1, 30) n")
	session, err := postgres.Connect(t.Context(), url, "test")
	require.NoError(t, err)
	defer session.Close()
	scratch, err := postgres.NewScratch(t.Context(), url, "", true)
	require.NoError(t, err)
	defer scratch.Close()
	require.NoError(t, scratch.Run(t.Context(), []byte(views), false))
	seen, err := session.Snapshot(t.Context(), nil)
	require.NoError(t, err)
	_, err = postgres.Engine{}.Sample(t.Context(), session, scratch, engine.Sample{Schema: seen, Most: 100})
	require.NoError(t, err)
	require.NoError(t, scratch.Run(t.Context(), []byte(`DO $$ BEGIN
		ASSERT (SELECT max FROM public.most) = 10;
		ASSERT (SELECT relispopulated FROM pg_class WHERE relname = 'nobodys') = false;
	END $$`), true))
}

// TestACopyThatCannotTakeTheRowsSaysWhy: and the target is left without a transaction.
func TestACopyThatCannotTakeTheRowsSaysWhy(t *testing.T) {
	session, scratch, seen := sampled(t)
	require.NoError(t, scratch.Run(t.Context(), []byte("ALTER TABLE harbour.pilot ADD CHECK (badge < 0)"), true))
	_, err := postgres.Engine{}.Sample(t.Context(), session, scratch, engine.Sample{Schema: seen, Most: 10})
	require.ErrorContains(t, err, `copy rows of harbour.pilot: new row for relation "pilot" violates check constraint`)
	require.NoError(t, session.Alive(t.Context()), "the target can be asked further")
	_, err = session.Snapshot(t.Context(), nil)
	require.NoError(t, err)
}

// TestASampleHasALimit: so many rows that the service would have to keep in mind are asked
// for at once by mistake only.
func TestASampleHasALimit(t *testing.T) {
	url := pgtest.Database(t)
	pgtest.Exec(t, url, "CREATE TABLE many (id int); INSERT INTO many SELECT generate_series(1, 500001)")
	session, err := postgres.Connect(t.Context(), url, "test")
	require.NoError(t, err)
	defer session.Close()
	scratch, err := postgres.NewScratch(t.Context(), url, "", true)
	require.NoError(t, err)
	defer scratch.Close()
	seen, err := session.Snapshot(t.Context(), nil)
	require.NoError(t, err)
	_, err = postgres.Engine{}.Sample(t.Context(), session, scratch, engine.Sample{Schema: seen, Most: 600000})
	require.ErrorIs(t, err, engine.ErrSampleTooLarge)
	require.NoError(t, session.Alive(t.Context()))
}

// TestManyCopyOneClone: at once, with somebody there when they begin. Whoever waits for
// the others to leave must not be the one that the others wait for.
func TestManyCopyOneClone(t *testing.T) {
	url := pgtest.Database(t)
	pgtest.Exec(t, url, "CREATE TABLE public.call AS SELECT generate_series(1, 5) AS id")
	there := pgtest.Connect(t, url)
	var copies, begun sync.WaitGroup
	begun.Add(4)
	for range 4 {
		copies.Go(func() {
			begun.Done()
			scratch, err := postgres.Engine{}.Clone(t.Context(), url, "", true)
			if !assert.NoError(t, err) {
				return
			}
			defer scratch.Close()
			err = scratch.Run(t.Context(), []byte("SELECT 1 / (count(*) / 5)::int FROM public.call"), false)
			assert.NoError(t, err, "the copy has the rows")
		})
	}
	begun.Wait()
	waiting := "SELECT count(*) FROM pg_stat_activity WHERE query LIKE 'CREATE DATABASE%TEMPLATE%' AND state = 'active'"
	require.Eventually(t, func() bool { return pgtest.Query(t, pgtest.Shared(t).URL("postgres"), waiting) != "0" },
		time.Minute, 10*time.Millisecond)
	require.NoError(t, there.Close(t.Context()))
	copies.Wait()
}

// TestOnlyWhatATrialLeftIsSwept: a database whose name only begins like that is somebody's.
func TestOnlyWhatATrialLeftIsSwept(t *testing.T) {
	url := pgtest.Database(t)
	const home, left = "vorrang_scratch_home", "vorrang_scratch_1700000000_abcdef23"
	for _, name := range []string{home, left} {
		pgtest.Exec(t, url, "CREATE DATABASE "+name)
		t.Cleanup(func() { pgtest.Exec(t, url, "DROP DATABASE IF EXISTS "+name) })
	}
	scratch, err := postgres.NewScratch(t.Context(), url, "", true)
	require.NoError(t, err)
	defer scratch.Close()
	assert.ErrorContains(t, postgres.Engine{}.DropScratch(t.Context(), url, home), "is not a scratch database")
	assert.Equal(t, home, pgtest.Query(t, url, fmt.Sprintf(
		"SELECT string_agg(datname, ' ') FROM pg_database WHERE datname IN ('%s', '%s')", home, left)))
}
