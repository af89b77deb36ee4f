package evidence

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vorrang/core/sqltext"
)

func read(t *testing.T, sql string, first, last int) Script {
	statements, err := sqltext.Cut([]byte(sql))
	require.NoError(t, err)
	return Read(statements, first, last)
}

func words(script Script) string {
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
	for _, b := range script.Blind {
		list = append(list, "blind "+b.What)
	}
	return strings.Join(list, ", ")
}

func TestAScriptSaysWhatItLeaves(t *testing.T) {
	cases := map[string]struct{ sql, leaves string }{
		"a table":                   {"CREATE TABLE harbour.berth (id int, name text, CONSTRAINT named CHECK (id > 0))", "column harbour.berth.id, column harbour.berth.name, constraint harbour.berth.named, table harbour.berth"},
		"a table made from a query": {"CREATE TABLE a AS SELECT 1; CREATE MATERIALIZED VIEW m AS SELECT 1", "table a, materialized view m"},
		"a temporary table":         {"CREATE TEMP TABLE a (id int)", ""},
		"columns":                   {"ALTER TABLE a ADD COLUMN b int, DROP COLUMN c, ALTER COLUMN d SET NOT NULL", "column a.b, no column a.c, column a.d still, table a still"},
		"constraints":               {"ALTER TABLE a ADD CONSTRAINT k UNIQUE (b), DROP CONSTRAINT l, VALIDATE CONSTRAINT m", "constraint a.k, no constraint a.l, constraint a.m still, table a still"},
		"renamings":                 {"ALTER TABLE a RENAME TO b; ALTER TABLE b RENAME COLUMN c TO d; ALTER INDEX i RENAME TO j; ALTER SCHEMA s RENAME TO t", "no table a, table b, no column b.c, column b.d, no index i, index j, no schema s, schema t"},
		"other relations":           {"CREATE VIEW v AS SELECT 1; CREATE SEQUENCE s; CREATE UNIQUE INDEX CONCURRENTLY i ON x.a (b)", "view v, sequence s, index x.i"},
		"types and routines":        {"CREATE TYPE x.e AS ENUM ('a'); CREATE DOMAIN d AS int; CREATE TYPE c AS (a int); CREATE TYPE r AS RANGE (subtype = int4); CREATE FUNCTION x.f() RETURNS int LANGUAGE sql AS 'SELECT 1'", "type x.e, type d, type c, type r, function x.f"},
		"what hangs on tables":      {"CREATE TRIGGER t BEFORE INSERT ON x.a FOR EACH ROW EXECUTE FUNCTION f(); CREATE POLICY p ON a; DROP TRIGGER u ON x.a; DROP POLICY q ON a", "trigger x.a.t, policy a.p, no trigger x.a.u, no policy a.q"},
		"a schema with a table":     {"CREATE SCHEMA s; CREATE EXTENSION citext", "schema s, extension citext"},
		"drops":                     {"DROP TABLE x.a, b; DROP FUNCTION f(int); DROP TYPE x.t; DROP SCHEMA s; DROP EXTENSION e; DROP VIEW v", "no table b, no table x.a, no function f, no type x.t, no schema s, no extension e, no view v"},
		"the net of it all":         {"CREATE TABLE a (id int); ALTER TABLE a ADD COLUMN n int; DROP TABLE a; CREATE TABLE b (id int); ALTER TABLE b DROP COLUMN id", "no table a, table b, no column b.id"},
		"what cannot be seen":       {"INSERT INTO a VALUES (1); update a set b = 1; GRANT SELECT ON a TO b; DO $$ BEGIN END $$; SELECT 1; COPY a FROM stdin;\n1\n\\.\n", "blind INSERT INTO, blind UPDATE, blind GRANT SELECT, blind DO, blind SELECT, blind COPY"},
		"an index without a name":   {"CREATE INDEX ON a (b)", "blind CREATE INDEX"},
	}
	for name, c := range cases {
		t.Run(name, func(t *testing.T) { assert.Equal(t, c.leaves, words(read(t, c.sql, 1, 0))) })
	}
}

func TestTheSearchPathOfTheScriptIsFollowed(t *testing.T) {
	script := read(t, "CREATE TABLE a (); SET search_path = harbour, public;\nCREATE TABLE b (); RESET search_path; CREATE TABLE c ();", 3, 3)
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

var (
	made     = Object{Kind: Table, Name: "a", Made: true, Statement: 1, Line: 3}
	index    = Object{Kind: Index, Name: "i", Made: true}
	dropped  = Object{Kind: Column, Of: "a", Name: "b", Gone: true}
	altered  = Object{Kind: Table, Name: "a"}
	holds    = Outcome{Line: 1, Holds: true, Got: "(true)"}
	holdsNot = Outcome{Line: 1, Got: "(false)"}
)

func found(sightings ...Sighting) Evidence { return Evidence{Sightings: sightings} }

func (e Evidence) with(check ...Outcome) Evidence { e.Check = check; return e }

func TestOnlyWhatSpeaksForItselfIsJudged(t *testing.T) {
	there, missing := Sighting{Object: made, There: true}, Sighting{Object: made}
	cases := map[string]struct {
		evidence      Evidence
		statement, of int
		verdict       Verdict
		why           string
	}{
		"no check": {found(missing), 1, 1, Unclear, "has no check"},
		"a check that holds after the last statement":  {found().with(holds), 2, 2, TookEffect, "this was its last statement"},
		"a check that holds too early":                 {found(there).with(holds), 1, 2, Unclear, "it cannot tell"},
		"nothing is there":                             {found(missing).with(holdsNot), 1, 2, NoEffect, "and table a is not there"},
		"some of it is there":                          {found(there).with(holdsNot), 1, 2, Unclear, "and yet table a is there"},
		"one query of several fails":                   {found(missing).with(holds, holdsNot), 2, 2, NoEffect, "does not hold"},
		"what was to be dropped is still there":        {found(Sighting{Object: dropped, There: true}).with(holdsNot), 1, 1, NoEffect, "column a.b is still there"},
		"what was to be dropped is gone":               {found(Sighting{Object: dropped}).with(holdsNot), 1, 1, Unclear, "and yet column a.b is gone"},
		"a change of rows":                             {found().with(holdsNot), 1, 1, Unclear, "nothing in the catalogs that could be looked up"},
		"a table that was there before":                {found(Sighting{Object: altered, There: true}).with(holdsNot), 1, 1, Unclear, "nothing in the catalogs"},
		"an index whose build did not end":             {found(Sighting{Object: index, There: true, Invalid: true}).with(holdsNot), 1, 1, Unclear, "index i was left INVALID"},
		"an index in the way of a check that may hold": {found(Sighting{Object: index, There: true, Invalid: true}).with(holds), 1, 1, Unclear, "has to be dropped first"},
	}
	for name, c := range cases {
		t.Run(name, func(t *testing.T) {
			verdict, why := Judge(c.evidence, c.statement, c.of)
			assert.Equal(t, c.verdict, verdict)
			assert.Contains(t, why, c.why)
		})
	}
}

func TestWhatIsWrongIsListed(t *testing.T) {
	cases := map[string]struct {
		evidence Evidence
		wrong    []string
	}{
		"all as it should be":          {found(Sighting{Object: made, There: true}), []string{}},
		"a missing table":              {found(Sighting{Object: made}), []string{"table a is not there (statement 1, line 3)"}},
		"an invalid index":             {found(Sighting{Object: index, There: true, Invalid: true}), []string{"index i is there, but INVALID: its build did not end (statement 0, line 0)"}},
		"a check that holds is enough": {found(Sighting{Object: made}).with(holds), []string{}},
		"a check that does not hold":   {found(Sighting{Object: made, There: true}).with(holdsNot), []string{"the check in line 1 does not hold: it gave (false)"}},
		"nothing that could be seen":   {Evidence{Blind: []Blind{{1, 2, "UPDATE"}}}, []string{"the step has no check and creates, alters or drops nothing that could be looked up: UPDATE in line 2"}},
	}
	for name, c := range cases {
		t.Run(name, func(t *testing.T) { assert.Equal(t, c.wrong, c.evidence.Wrong()) })
	}
	assert.True(t, found(Sighting{Object: made, There: true}, Sighting{Object: altered}).AllMade())
	assert.False(t, found(Sighting{Object: made, There: true}, Sighting{Object: index, There: true, Invalid: true}).AllMade())
	assert.False(t, found(Sighting{Object: altered, There: true}).AllMade(), "it creates nothing")
}

// What a later script drops, renames or changes is not what an earlier one left.
func TestOfSeveralScriptsEachIsAskedForWhatNoLaterOneTookAway(t *testing.T) {
	var scripts [][]sqltext.Statement
	for _, text := range []string{
		"CREATE TABLE berth (id int); CREATE TABLE tide (id int); SET search_path = moon; CREATE TABLE pilot (id int);",
		"DROP TABLE tide; ALTER TABLE berth ADD COLUMN depth_m int;",
		"CREATE TABLE tide (id int); ALTER TABLE berth DROP COLUMN depth_m;",
	} {
		statements, err := sqltext.Cut([]byte(text))
		require.NoError(t, err)
		scripts = append(scripts, statements)
	}
	var left []string
	for i, objects := range Left(scripts) {
		for _, o := range objects {
			left = append(left, fmt.Sprint(i+1, " ", o, " ", o.Path))
		}
	}
	assert.Equal(t, []string{"1 column berth.id []", "1 table berth []", "1 column pilot.id [moon]", "1 table pilot [moon]", "3 column tide.id []", "3 table tide []"}, left)
}
