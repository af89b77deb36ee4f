package grammar

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vorrang/core/evidence"
	"vorrang/core/sqltext"
)

func read(t *testing.T, sql string, first, last int) evidence.Script {
	statements, err := Cut([]byte(sql))
	require.NoError(t, err)
	return Read(statements, first, last)
}

func output(script evidence.Script) string {
	var list []string
	for _, o := range script.Objects {
		word := o.String()
		if o.Gone {
			word = "no " + word
		} else if !o.Made {
			word += " still"
		}
		list = append(list, word)
	}
	for _, b := range script.Unverifiable {
		list = append(list, "blind "+b.What)
	}
	return strings.Join(list, ", ")
}

func TestAScriptSaysWhatItLeaves(t *testing.T) {
	cases := map[string]struct{ sql, leaves string }{
		"a table": {
			"CREATE TABLE harbour.berth (id int, name text, CONSTRAINT named CHECK (id > 0))",
			"column harbour.berth.id, column harbour.berth.name, constraint harbour.berth.named, table harbour.berth",
		},
		"a table made from a query": {
			"CREATE TABLE a AS SELECT 1; CREATE MATERIALIZED VIEW m AS SELECT 1",
			"table a, materialized view m",
		},
		"a temporary table": {"CREATE TEMP TABLE a (id int)", ""},
		"columns": {
			"ALTER TABLE a ADD COLUMN b int, DROP COLUMN c, ALTER COLUMN d SET NOT NULL",
			"column a.b, no column a.c, column a.d still, table a still",
		},
		"constraints": {
			"ALTER TABLE a ADD CONSTRAINT k UNIQUE (b), DROP CONSTRAINT l, VALIDATE CONSTRAINT m",
			"constraint a.k, no constraint a.l, constraint a.m still, table a still",
		},
		"renamings": {
			"ALTER TABLE a RENAME TO b; ALTER TABLE b RENAME COLUMN c TO d; ALTER INDEX i RENAME TO j; ALTER SCHEMA s " +
				"RENAME TO t",
			"no table a, table b, no column b.c, column b.d, no index i, index j, no schema s, schema t",
		},
		"other relations": {
			"CREATE VIEW v AS SELECT 1; CREATE SEQUENCE s; CREATE UNIQUE INDEX CONCURRENTLY i ON x.a (b)",
			"view v, sequence s, index x.i",
		},
		"types and routines": {
			"CREATE TYPE x.e AS ENUM ('a'); CREATE DOMAIN d AS int; CREATE TYPE c AS (a int); CREATE TYPE r AS RANGE " +
				"(subtype = int4); CREATE FUNCTION x.f() RETURNS int LANGUAGE sql AS 'SELECT 1'",
			"type x.e, type d, type c, type r, function x.f",
		},
		"what hangs on tables": {
			"CREATE TRIGGER t BEFORE INSERT ON x.a FOR EACH ROW EXECUTE FUNCTION f(); CREATE POLICY p ON a; DROP TRIGGER u " +
				"ON x.a; DROP POLICY q ON a",
			"trigger x.a.t, policy a.p, no trigger x.a.u, no policy a.q",
		},
		"a schema with a table": {"CREATE SCHEMA s; CREATE EXTENSION citext", "schema s, extension citext"},
		"drops": {
			"DROP TABLE x.a, b; DROP FUNCTION f(int); DROP TYPE x.t; DROP SCHEMA s; DROP EXTENSION e; DROP VIEW v",
			"no table b, no table x.a, no function f, no type x.t, no schema s, no extension e, no view v",
		},
		"the net of it all": {
			"CREATE TABLE a (id int); ALTER TABLE a ADD COLUMN n int; DROP TABLE a; CREATE TABLE b (id int); ALTER TABLE b " +
				"DROP COLUMN id",
			"no table a, table b, no column b.id",
		},
		"what cannot be seen": {
			"INSERT INTO a VALUES (1); update a set b = 1; GRANT SELECT ON a TO b; DO $$ BEGIN END $$; SELECT 1; COPY a FROM " +
				"stdin;\n1\n\\.\n",
			"blind INSERT INTO, blind UPDATE, blind GRANT SELECT, blind DO, blind SELECT, blind COPY",
		},
		"an index without a name": {"CREATE INDEX ON a (b)", "blind CREATE INDEX"},
	}
	for name, c := range cases {
		t.Run(name, func(t *testing.T) { assert.Equal(t, c.leaves, output(read(t, c.sql, 1, 0))) })
	}
}

func TestTheSearchPathOfTheScriptIsFollowed(t *testing.T) {
	script := read(
		t,
		"CREATE TABLE a (); SET search_path = harbour, public;\nCREATE TABLE b (); RESET search_path; CREATE TABLE c ();",
		3, 3,
	)
	require.Len(t, script.Objects, 1, "the statements before only set the path")
	assert.Equal(t, []string{"harbour", "public"}, script.Objects[0].Path)
	assert.Equal(t, "statement 3, line 2", script.Objects[0].In())
	script = read(t, "SET search_path = harbour; RESET search_path; CREATE TABLE c ();", 1, 0)
	assert.Nil(t, script.Objects[0].Path)
}

func TestAConcurrentIndexIsKnownByName(t *testing.T) {
	for sql, want := range map[string]string{
		"CREATE INDEX CONCURRENTLY i ON harbour.a (b)": "index harbour.i",
		"CREATE INDEX CONCURRENTLY ON a (b)":           "",
		"CREATE INDEX i ON a (b)":                      "",
		"DROP INDEX CONCURRENTLY i":                    "",
	} {
		index, builds := ConcurrentIndex(sqltext.Statement{SQL: []byte(sql)})
		assert.Equal(t, want != "", builds, sql)
		if builds {
			assert.Equal(t, want, index.String())
		}
	}
}

// What a later script drops, renames or changes is not what an earlier one left.
func TestOfSeveralScriptsEachIsAskedForWhatNoLaterOneTookAway(t *testing.T) {
	var scripts [][]sqltext.Statement
	for _, text := range []string{
		"CREATE TABLE berth (id int); CREATE TABLE tide (id int); SET search_path = moon; CREATE TABLE pilot (id int);",
		"DROP TABLE tide; ALTER TABLE berth ADD COLUMN depth_m int;",
		"CREATE TABLE tide (id int); ALTER TABLE berth DROP COLUMN depth_m;",
	} {
		statements, err := Cut([]byte(text))
		require.NoError(t, err)
		scripts = append(scripts, statements)
	}
	var left []string
	for i, objects := range Left(scripts) {
		for _, o := range objects {
			left = append(left, fmt.Sprint(i+1, " ", o, " ", o.Path))
		}
	}
	assert.Equal(
		t,
		[]string{
			"1 column berth.id []", "1 table berth []", "1 column pilot.id [moon]", "1 table pilot [moon]",
			"3 column tide.id []", "3 table tide []",
		},
		left,
	)
}
