package postgres_test

import (
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vorrang/core/engine"
	"vorrang/core/schema"
	"vorrang/core/sqltext"
	"vorrang/internal/pgtest"
	"vorrang/target/postgres"
)

func snapshot(t testing.TB, url string) schema.Schema {
	session, err := postgres.Connect(t.Context(), url, "test")
	require.NoError(t, err)
	defer session.Close()
	s, err := session.Snapshot(t.Context(), nil)
	require.NoError(t, err)
	return s
}

// apart are statements that do not depend on each other, after first.
const first = `CREATE SCHEMA harbour; CREATE SCHEMA "Old Port"; CREATE TYPE harbour.kind AS ENUM ('tug', 'ferry');
	CREATE TABLE harbour.vessel (id int GENERATED ALWAYS AS IDENTITY PRIMARY KEY, name text COLLATE "C" NOT NULL,
		kind harbour.kind DEFAULT 'tug', draught numeric(5,2), hull text);
	ALTER TABLE harbour.vessel ADD CONSTRAINT deep CHECK (draught > 0) NOT VALID;
	ALTER TABLE harbour.vessel ALTER COLUMN hull SET STORAGE EXTERNAL, ALTER COLUMN hull SET STATISTICS 500;`

var apart = []string{
	`CREATE TABLE "Old Port"."The Quay" ("a b" int DEFAULT 7, EXCLUDE USING btree ("a b" WITH =))`,
	`CREATE TABLE harbour.call (id bigserial, vessel int REFERENCES harbour.vessel DEFERRABLE INITIALLY DEFERRED,
		at date) PARTITION BY RANGE (at); CREATE TABLE harbour.call_2026 PARTITION OF harbour.call FOR VALUES
		FROM ('2026-01-01') TO ('2027-01-01')`,
	`CREATE UNLOGGED TABLE harbour.scratch (LIKE harbour.vessel)`,
	`CREATE TABLE harbour.tug (pull int,
		double int GENERATED ALWAYS AS (pull * 2) STORED) INHERITS (harbour.vessel) WITH (fillfactor = 70)`,
	`CREATE INDEX vessel_name ON harbour.vessel (lower(name)) INCLUDE (draught) WHERE draught > 1`,
	`CREATE VIEW harbour.named AS SELECT name FROM harbour.vessel; COMMENT ON VIEW harbour.named IS 'it''s a view'`,
	`CREATE MATERIALIZED VIEW harbour.counted AS SELECT count(*) FROM harbour.vessel WITH NO DATA`,
	`CREATE FUNCTION harbour.greet(who text, times int DEFAULT 1) RETURNS text LANGUAGE sql IMMUTABLE AS 'SELECT $1';
		REVOKE ALL ON FUNCTION harbour.greet FROM public`,
	`CREATE PROCEDURE harbour.nothing() LANGUAGE sql AS ''`,
	`CREATE AGGREGATE harbour.longest(text) (SFUNC = textcat, STYPE = text, INITCOND = '')`,
	`CREATE FUNCTION harbour.touch() RETURNS trigger LANGUAGE plpgsql AS 'BEGIN RETURN NEW; END';
		CREATE TRIGGER touched BEFORE UPDATE OF name ON harbour.vessel FOR EACH ROW
		WHEN (OLD.name <> NEW.name) EXECUTE FUNCTION harbour.touch()`,
	`CREATE TYPE harbour.place AS (lat numeric, lon numeric);
		CREATE DOMAIN harbour.mmsi AS text CHECK (VALUE ~ '^[0-9]{9}$') NOT NULL;
		CREATE TYPE harbour.tides AS RANGE (subtype = numeric)`,
	`ALTER TABLE harbour.vessel ENABLE ROW LEVEL SECURITY; CREATE POLICY own ON harbour.vessel FOR
		SELECT USING (name = current_user)`,
	`CREATE RULE quiet AS ON DELETE TO harbour.vessel DO INSTEAD NOTHING`,
	`CREATE STATISTICS harbour.together ON name, draught FROM harbour.vessel`,
	`CREATE PUBLICATION ships FOR TABLE ONLY harbour.vessel WITH (publish = 'insert')`,
	`GRANT SELECT (name) ON harbour.vessel TO PUBLIC;
		ALTER DEFAULT PRIVILEGES IN SCHEMA "Old Port" GRANT USAGE ON SEQUENCES TO PUBLIC`,
	`CREATE EXTENSION pg_trgm SCHEMA "Old Port"`,
	`CREATE SEQUENCE harbour.berths START 5 CYCLE MAXVALUE 100`,
}

func TestASnapshotDoesNotDependOnHowASchemaCameToBe(t *testing.T) {
	made := func(order []int) string {
		url := pgtest.Database(t)
		pgtest.Exec(t, url, first)
		for _, i := range order {
			pgtest.Exec(t, url, apart[i])
		}
		return url
	}
	order := make([]int, len(apart))
	for i := range order {
		order[i] = i
	}
	url := made(order)
	one := snapshot(t, url)
	rand.Shuffle(len(order), func(i, j int) { order[i], order[j] = order[j], order[i] })
	two := snapshot(t, made(order))
	if d := schema.Compare(one, two); !assert.Empty(t, d) {
		t.Logf("%+v", d[0].Props)
	}
	assert.Equal(t, one.Fingerprint(), two.Fingerprint())
	assert.Empty(t, one.Uncovered)

	text := one.Text()
	for _, line := range []string{
		"extension pg_trgm\n", `table "Old Port"."The Quay"`, "  partition: FOR VALUES FROM ('2026-01-01') TO " +
			"('2027-01-01')", "  unlogged: yes", "  inherits: harbour.vessel",
		"  generated: (pull * 2)", "  identity: always\n", "  sequence: SEQUENCE NAME " +
			"harbour.vessel_id_seq START 1", "  type: harbour.kind", "  default: 'tug'::harbour.kind", `  collation: "C"`,
		"  storage: external", "  statistics: 500",
		"  definition: FOREIGN KEY (vessel) REFERENCES harbour.vessel(id) DEFERRABLE INITIALLY DEFERRED",
		"  definition: CHECK ((draught > (0)::numeric)) NOT VALID",
		"INCLUDE (draught) WHERE (draught > (1)::numeric)", "  labels: 'tug', 'ferry'", "  row security: enabled",
		"policy harbour.vessel.own", "rule harbour.vessel.quiet",
		"publication ships", `default privileges vorrang sequences in "Old Port"`, "  comment: it's a view",
		"  populated: no", "  definition: CREATE AGGREGATE harbour.longest(text) (SFUNC = textcat, STYPE = text, " +
			"INITCOND = '')",
		"function harbour.greet(who text, times integer)", "  base: text", "  range: SUBTYPE = numeric",
		"sequence harbour.berths", "  owned by: harbour.call.id", "statistics harbour.together",
	} {
		assert.Contains(t, text, line)
	}
	assert.NotContains(t, text, "similarity", "what belongs to an extension is its own")
	assert.NotContains(t, text, "vorrang.ledger")
}

func TestEveryChangeOfASchemaIsSeen(t *testing.T) {
	url := pgtest.Database(t)
	pgtest.Exec(t, url, first+strings.Join(apart, ";"))
	for change, message := range map[string]string{
		`ALTER TABLE harbour.vessel ADD COLUMN flag text`:                   "added column harbour.vessel.flag",
		`ALTER TABLE harbour.vessel ALTER COLUMN draught TYPE numeric(6,2)`: "changed column harbour.vessel.draught",
		`ALTER TABLE harbour.vessel VALIDATE CONSTRAINT deep`:               "changed constraint harbour.vessel.deep",
		`ALTER TYPE harbour.kind ADD VALUE 'pilot' BEFORE 'ferry'`:          "changed type harbour.kind",
		`DROP INDEX harbour.vessel_name`:                                    "removed index harbour.vessel_name",
		`REVOKE SELECT (name) ON harbour.vessel FROM PUBLIC`:                "changed column harbour.vessel.name",
		`ALTER TABLE harbour.vessel DISABLE TRIGGER touched`:                "changed trigger harbour.vessel.touched",
		`ALTER POLICY own ON harbour.vessel USING (true)`:                   "changed policy harbour.vessel.own",
		`CREATE OR REPLACE FUNCTION harbour.greet(who text,
			times int DEFAULT 1) RETURNS text LANGUAGE sql IMMUTABLE AS 'SELECT $1 || $1'`: "changed function harbour.greet(who text, times integer)",
		`COMMENT ON COLUMN harbour.vessel.hull IS 'of steel'`:                               "changed column harbour.vessel.hull",
		`DROP TABLE harbour.call`:                                                           "removed table harbour.call",
		`ALTER SEQUENCE harbour.berths CACHE 20`:                                            "changed sequence harbour.berths",
		`CREATE OPERATOR harbour.### (LEFTARG = text, RIGHTARG = text, FUNCTION = textcat)`: "",
	} {
		before, marked := snapshot(t, url), mark(t, url)
		assert.Equal(t, marked, mark(t, url), "nothing was written")
		pgtest.Exec(t, url, change)
		after := snapshot(t, url)
		assert.NotEqual(t, marked, mark(t, url), change)
		var output []string
		for _, d := range schema.Compare(before, after) {
			output = append(output, d.String())
		}
		if message == "" {
			assert.Empty(t, output)
			assert.Equal(
				t,
				[]schema.Uncovered{{What: "operator", Count: 1, Names: []string{"harbour.###(text,text)"}}},
				after.Uncovered,
				"it is named, not passed over",
			)
			continue
		}
		assert.Contains(t, output, message, change)
	}
}

// TestWorkDoesNotMarkASchema: what applications and the server do all day does not have it read again.
func TestWorkDoesNotMarkASchema(t *testing.T) {
	url := pgtest.Database(t)
	pgtest.Exec(t, url, `CREATE TABLE tide (id serial PRIMARY KEY, at timestamptz)`)
	before := mark(t, url)
	pgtest.Exec(t, url, `INSERT INTO tide (at) SELECT now() FROM generate_series(1, 1000)`)
	pgtest.Exec(t, url, `UPDATE tide SET at = now()`)
	pgtest.Exec(t, url, `ANALYZE tide`)
	pgtest.Exec(t, url, `VACUUM tide`)
	assert.Equal(t, before, mark(t, url))
	copied := pgtest.Database(t)
	pgtest.Exec(t, copied, `CREATE TABLE tide (id serial PRIMARY KEY, at timestamptz)`)
	assert.NotEqual(t, before, mark(t, copied), "another database")
}

func mark(t *testing.T, url string) string {
	t.Helper()
	session, err := postgres.Connect(t.Context(), url, "test")
	require.NoError(t, err)
	defer session.Close()
	mark, err := session.Mark(t.Context())
	require.NoError(t, err)
	return mark
}

func TestARoleThatOnlyReadsCatalogsCanSnapshot(t *testing.T) {
	url := pgtest.Database(t)
	pgtest.Exec(
		t, url,
		first+strings.Join(apart, ";")+`; DROP ROLE IF EXISTS onlooker; CREATE ROLE onlooker LOGIN PASSWORD 'x'`,
	)
	whole := snapshot(t, url)
	conn := pgtest.Connect(t, url)
	config := conn.Config()
	other := strings.Replace(url, config.User+":"+config.Password+"@", "onlooker:x@", 1)
	assert.Equal(t, whole.Fingerprint(), snapshot(t, other).Fingerprint())
	assert.NotEmpty(t, mark(t, other))

	pgtest.Exec(t, url, "REVOKE SELECT ON pg_catalog.pg_policy FROM PUBLIC")
	session, err := postgres.Connect(t.Context(), other, "test")
	require.NoError(t, err)
	defer session.Close()
	_, err = session.Snapshot(t.Context(), nil)
	assert.ErrorContains(
		t,
		err,
		`permission denied for table pg_policy (SQLSTATE 42501); let user "onlooker" read it: `+
			`GRANT SELECT ON pg_catalog.pg_policy TO "onlooker"`,
	)
}

// Another session's uncommitted changes are not seen, and neither waits for the
// other, whatever it holds but the catalogs' rows.
func TestASnapshotSeesOneStateAndBlocksNobody(t *testing.T) {
	url := pgtest.Database(t)
	pgtest.Exec(t, url, "CREATE TABLE public.vessel (id int); CREATE TABLE public.berth (id int)")
	before := snapshot(t, url)
	other := pgtest.Connect(t, url)
	for _, sql := range []string{"BEGIN", "LOCK TABLE public.berth IN ACCESS EXCLUSIVE MODE",
		"CREATE TABLE public.tug (id int)"} {
		_, err := other.Exec(t.Context(), sql)
		require.NoError(t, err)
	}
	assert.Equal(t, before.Fingerprint(), snapshot(t, url).Fingerprint())

	session, err := postgres.Connect(t.Context(), url, "test")
	require.NoError(t, err)
	defer session.Close()
	require.NoError(t, session.Begin(t.Context(), engine.Settings{}))
	_, err = session.Exec(t.Context(), sqltext.Statement{SQL: []byte("CREATE TABLE public.own (id int)")})
	require.NoError(t, err)
	own, err := session.Snapshot(t.Context(), nil)
	require.NoError(t, err)
	assert.Empty(t, schema.Compare(before, own), "what a step's transaction did is not seen before it commits")
	assert.True(t, session.InTransaction(), "which goes on")
	assert.Empty(t, schema.Compare(before, snapshot(t, url)))
}

// TestWhatIsWrittenHereIsWrittenAsTheServerDoes: keys, indexes and defaults that the snapshot writes by itself, since the
// server takes long, are word for word the server's.
func TestWhatIsWrittenHereIsWrittenAsTheServerDoes(t *testing.T) {
	url := pgtest.Database(t)
	pgtest.Exec(t, url, first+strings.Join(apart, ";")+`;
		CREATE TABLE "Old Port"."Select" ("Order" varchar(9) PRIMARY KEY, "a""b" text COLLATE "C", c int DEFAULT 1 + 2,
			d timestamptz DEFAULT now(), e int[] DEFAULT '{1}', f text DEFAULT 'x'::text || 'y', g int,
			h int GENERATED ALWAYS AS (c + 1) STORED, UNIQUE (c), UNIQUE (c, g) INCLUDE (d));
		CREATE TABLE harbour.mooring (a int, b int, PRIMARY KEY (b, a) DEFERRABLE);
		CREATE TABLE harbour.rope (a int, PRIMARY KEY (a) INITIALLY DEFERRED);
		CREATE TABLE harbour.buoy (a int, b int, PRIMARY KEY (a) INCLUDE (b) WITH (fillfactor = 70));
		CREATE INDEX "An Index" ON "Old Port"."Select" ("Order");
		CREATE INDEX ON "Old Port"."Select" ("a""b"); CREATE INDEX ON "Old Port"."Select" ("a""b" COLLATE "POSIX");
		CREATE INDEX ON "Old Port"."Select" (c, g); CREATE INDEX ON "Old Port"."Select" (c DESC);
		CREATE INDEX ON "Old Port"."Select" ("Order" varchar_pattern_ops); CREATE INDEX ON "Old Port"."Select" USING hash (c);
		CREATE INDEX ON "Old Port"."Select" (e); CREATE INDEX ON "Old Port"."Select" (c) INCLUDE (g);
		CREATE INDEX ON "Old Port"."Select" (c) WHERE g > 1; CREATE UNIQUE INDEX ON "Old Port"."Select" (g);
		CREATE INDEX ON "Old Port"."Select" (c) WITH (fillfactor = 50); CREATE INDEX ON harbour.call (at)`)
	written := map[string]string{}
	for _, o := range snapshot(t, url).Objects {
		for _, p := range []schema.Property{schema.Definition, schema.Default, schema.Generated} {
			if o.Props[p] != "" && (o.Kind == schema.Index || o.Kind == schema.Constraint || o.Kind == schema.Column) {
				written[o.Name] = o.Props[p]
			}
		}
	}
	conn := pgtest.Connect(t, url)
	_, err := conn.Exec(t.Context(), "SET search_path = ''")
	require.NoError(t, err)
	rows, err := conn.Query(t.Context(), `
		SELECT format('%s.%I', conrelid::regclass, conname), pg_get_constraintdef(oid) FROM pg_constraint
			WHERE conrelid <> 0 AND conparentid = 0 AND connamespace >= 16384
		UNION ALL SELECT indexrelid::regclass::text, pg_get_indexdef(indexrelid) FROM pg_index i
			WHERE indexrelid >= 16384 AND NOT EXISTS (SELECT FROM pg_constraint WHERE conindid = indexrelid)
			AND indrelid::regclass::text !~ '^pg_toast'
		UNION ALL SELECT format('%s.%I', adrelid::regclass, attname), pg_get_expr(adbin, adrelid) FROM pg_attrdef
			JOIN pg_attribute ON attrelid = adrelid AND attnum = adnum`)
	require.NoError(t, err)
	compared := 0
	for rows.Next() {
		var name, text string
		require.NoError(t, rows.Scan(&name, &text))
		assert.Equal(t, text, written[name], name)
		compared++
	}
	require.NoError(t, rows.Err())
	assert.Greater(t, compared, 35)
}

// A scratch database is looked at after every step: one second reader helps with each look, sees what the
// first sees, and goes with the session.
func TestAScratchDatabaseIsReadByTwoThatStay(t *testing.T) {
	scratch := ground(t, pgtest.Database(t))
	url := pgtest.Shared(t).URL(scratch.Name())
	readers := func() string {
		return pgtest.Query(t, url, `SELECT string_agg(pid::text, ' ' ORDER BY pid) FROM pg_stat_activity
			WHERE datname = current_database() AND pid <> pg_backend_pid() AND application_name = 'vorrangd scratch'`)
	}
	look := func() schema.Schema {
		seen, err := scratch.SnapshotWithNeeds(t.Context(), nil)
		require.NoError(t, err)
		assert.Equal(t, detailed(t, url).Objects, seen.Objects)
		return seen
	}
	require.Empty(t, look().Objects[1:], "but the schema public")
	require.Len(t, strings.Fields(readers()), 1, "an empty schema is read by one")

	pgtest.Exec(t, url, first+strings.Join(apart, ";"))
	pgtest.Exec(t, url, `DO $$ BEGIN FOR i IN 1..60 LOOP EXECUTE format('CREATE TABLE berth_%s (id int PRIMARY KEY)', i);
		END LOOP; END $$`)
	before, both := look(), readers()
	require.Len(t, strings.Fields(both), 2)
	pgtest.Exec(t, url, `DROP TABLE berth_7; ALTER TABLE berth_8 ADD COLUMN name text; CREATE VIEW deep AS SELECT 1 AS one`)
	assert.Len(t, schema.Compare(before, look()), 3)
	assert.Equal(t, both, readers())

	_, helper, _ := strings.Cut(both, " ")
	pgtest.Query(t, url, "SELECT pg_terminate_backend("+helper+")::text")
	_, err := scratch.Snapshot(t.Context(), nil)
	assert.Error(t, err, "what was cut off in between is said")
	look() // and the next look has a new one
}
