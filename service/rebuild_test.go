package service_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vorrang/core/deploy"
	"vorrang/internal/pgtest"
	"vorrang/internal/servicetest"
)

// TestARebuildDropsWhateverADatabaseCanHold: each kind of object once, and what
// depends on each other across kinds.
func TestARebuildDropsWhateverADatabaseCanHold(t *testing.T) {
	w := servicetest.Start(t)
	w.Submitted(map[string]string{"1-all.sql": `
		CREATE SCHEMA dock; CREATE SCHEMA "Dock Two";
		CREATE TABLE call (id bigint, at date) PARTITION BY RANGE (at);
		CREATE TABLE call_2026 PARTITION OF call FOR VALUES FROM ('2026-01-01') TO ('2027-01-01') PARTITION BY LIST (id);
		CREATE TABLE dock.call_one PARTITION OF call_2026 FOR VALUES IN (1);
		CREATE INDEX ON call (at);
		CREATE TABLE parent (id int PRIMARY KEY); CREATE TABLE child (note text) INHERITS (parent);
		CREATE TYPE mood AS ENUM ('calm', 'rough'); CREATE DOMAIN depth AS numeric CHECK (VALUE > 0);
			CREATE TYPE span AS RANGE (subtype = numeric);
		CREATE TYPE point3 AS (x int, y depth);
		CREATE TABLE "Dock Two"."Odd ""Table%" (m mood, d depth, p point3, s span,
			id int GENERATED ALWAYS AS IDENTITY PRIMARY KEY);
		CREATE VIEW v AS SELECT id FROM parent; CREATE MATERIALIZED VIEW mv AS SELECT * FROM v;
		CREATE FUNCTION f(int, depth) RETURNS int LANGUAGE sql AS 'SELECT 1';
			CREATE PROCEDURE p(int) LANGUAGE sql AS 'SELECT 1';
		CREATE AGGREGATE total(int) (SFUNC = int4pl, STYPE = int, INITCOND = '0');
		CREATE FUNCTION tf() RETURNS trigger LANGUAGE plpgsql AS 'BEGIN RETURN NEW; END';
		CREATE TRIGGER tg BEFORE INSERT ON parent FOR EACH ROW EXECUTE FUNCTION tf();
		CREATE FUNCTION mi(mood) RETURNS int LANGUAGE sql AS 'SELECT 1'; CREATE CAST (mood AS int) WITH FUNCTION mi(mood);
		CREATE OPERATOR === (LEFTARG = int, RIGHTARG = int, FUNCTION = int4eq); CREATE OPERATOR FAMILY ofam USING btree;
		CREATE OPERATOR CLASS oc FOR TYPE int USING btree AS OPERATOR 1 <, FUNCTION 1 btint4cmp(int, int);
		CREATE COLLATION odd FROM "C"; CREATE TEXT SEARCH DICTIONARY dict (TEMPLATE = simple);
			CREATE TEXT SEARCH CONFIGURATION harbour (COPY = simple);
		CREATE STATISTICS st ON id, at FROM call_2026; CREATE SEQUENCE sq; CREATE RULE r AS ON INSERT TO v DO INSTEAD NOTHING;
		ALTER TABLE parent ENABLE ROW LEVEL SECURITY; CREATE POLICY po ON parent USING (true);
		ALTER DEFAULT PRIVILEGES IN SCHEMA dock GRANT SELECT ON TABLES TO pg_monitor;
		CREATE PUBLICATION pub FOR TABLE parent; CREATE CONVERSION conv FOR 'LATIN1' TO 'UTF8' FROM iso8859_1_to_utf8;`})
	ended := w.Promoted("development")
	require.Equal(t, deploy.Done, ended.Outcome, "%v", ended.Failure)
	ended = w.Ended(must(w.Rebuild(t.Context(), "harbour", "development", "development")))
	require.Equal(t, deploy.Done, ended.Outcome, "%v", ended.Failure)
	assert.Empty(t, must(w.Drift(t.Context(), "harbour", "development")).Differences)
	assert.Equal(t, "1", pgtest.Query(t, w.URLs["development"], "SELECT count(*) FROM pg_publication"))
}
