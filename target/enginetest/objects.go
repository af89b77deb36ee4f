package enginetest

import (
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vorrang/core/deploy"
	"vorrang/core/engine"
	"vorrang/core/evidence"
	"vorrang/core/ledger"
	"vorrang/core/plan"
	"vorrang/core/schema"
	"vorrang/core/sqltext"
)

func existing(t *testing.T, h Harness) {
	url := h.Fresh(t)
	session := h.connect(t, url)
	count := func() engine.Existing {
		found, err := session.Existing(t.Context(), nil)
		require.NoError(t, err)
		return found
	}
	assert.Equal(t, engine.Existing{}, count())
	require.NoError(t, session.CreateLedger(t.Context()))
	assert.Equal(t, engine.Existing{}, count(), "the ledger does not count")
	require.NoError(t, h.Exec(t, url, "CREATE TABLE tide (id INTEGER)"))
	require.NoError(t, h.Exec(t, url, "CREATE TABLE site (id INTEGER)"))
	require.NoError(t, h.Exec(t, url, "CREATE VIEW newest AS SELECT id FROM tide"))
	assert.Equal(t, engine.Existing{Tables: 2, Others: 1}, count())
	has, err := session.HasTables(t.Context(), "records.lane", "records.submission", "records.audit")
	require.NoError(t, err)
	assert.False(t, has)
}

// berths is a schema that can be reached by two ways.
var berths = []string{
	"CREATE TABLE quay (id INTEGER NOT NULL PRIMARY KEY, name VARCHAR(40) NOT NULL)",
	"CREATE TABLE berth (id INTEGER NOT NULL PRIMARY KEY, quay_id INTEGER NOT NULL REFERENCES quay (id), length_m " +
		"INTEGER DEFAULT 80, CHECK (length_m > 0), FOREIGN KEY (quay_id) REFERENCES quay (id))",
	"CREATE INDEX berth_quay ON berth (quay_id, length_m)",
	"CREATE VIEW long_berth AS SELECT id, length_m FROM berth WHERE length_m > 100",
}

// see reads a schema. What every new database of a server has is left out.
func (h Harness) see(t testing.TB, session engine.Session) schema.Schema {
	seen, err := session.Snapshot(t.Context(), nil)
	require.NoError(t, err)
	seen.Objects = slices.DeleteFunc(seen.Objects, func(o schema.Object) bool { return o.Kind == schema.Namespace })
	return seen
}

func snapshots(t *testing.T, h Harness) {
	see := func(url string) schema.Schema {
		return h.see(t, h.connect(t, url))
	}
	one, other := h.Fresh(t), h.Fresh(t)
	assert.Empty(t, see(one).Objects)
	require.NoError(t, h.connect(t, one).CreateLedger(t.Context()))
	assert.Empty(t, see(one).Objects, "the ledger is nobody's schema")
	for _, sql := range berths {
		require.NoError(t, h.Exec(t, one, sql))
	}
	for _, sql := range []string{
		"CREATE TABLE berth (id INTEGER NOT NULL)", "DROP TABLE berth", "  create   table quay\n(\n" +
			"  id integer NOT NULL PRIMARY KEY, -- its number\n  name varchar(40) NOT NULL)", berths[1],
		"CREATE INDEX wrong ON berth (length_m)", "CREATE VIEW long_berth AS SELECT id, length_m FROM berth WHERE " +
			"length_m > 100", berths[2],
	} {
		require.NoError(t, h.Exec(t, other, sql), sql)
	}
	differences := schema.Compare(see(one), see(other))
	require.Len(t, differences, 1, "%v", differences)
	assert.Equal(t, "added index", string(differences[0].What)+" "+string(differences[0].Kind))
	var names []string
	for _, o := range see(one).Objects {
		names = append(names, string(o.Kind)+" "+o.Name)
	}
	for _, kind := range []schema.Kind{schema.Table, schema.Column, schema.Constraint, schema.Index, schema.View} {
		assert.True(
			t,
			slices.ContainsFunc(names, func(n string) bool { return strings.HasPrefix(n, string(kind)+" ") }),
			"%s is among %v", kind, names,
		)
	}

	for _, hotfix := range []struct{ sql, shows string }{
		{"ALTER TABLE quay ADD COLUMN depth_cm INTEGER DEFAULT 900", "added column"},
		{"CREATE TABLE crane (id INTEGER)", "added table"},
		{"DROP VIEW long_berth", "removed view"}, {"ALTER TABLE quay RENAME COLUMN name TO title", "removed column"},
	} {
		before, marked := see(one), h.settled(t, one)
		require.NoError(t, h.Exec(t, one, hotfix.sql))
		assert.NotEqual(t, marked, h.settled(t, one), "%s changes the mark", hotfix.sql)
		found := schema.Compare(before, see(one))
		assert.True(
			t,
			slices.ContainsFunc(
				found,
				func(d schema.Difference) bool { return strings.HasPrefix(d.String(), hotfix.shows) },
			),
			"%s shows among %v", hotfix.sql, found,
		)
		assert.NotEqual(t, before.Fingerprint(), see(one).Fingerprint())
	}
	before, marked := see(one), h.settled(t, one)
	require.NoError(t, h.Exec(t, one, "INSERT INTO quay (id, title) VALUES (1, 'North')"))
	assert.Equal(t, before.Fingerprint(), see(one).Fingerprint(), "rows are no schema")
	assert.Equal(t, marked, h.mark(t, one), "rows do not have a schema read again")
}

func (h Harness) mark(t *testing.T, url string) string {
	t.Helper()
	session := h.connect(t, url)
	require.Implements(t, (*engine.Marker)(nil), session)
	mark, err := session.(engine.Marker).Mark(t.Context())
	require.NoError(t, err)
	return mark
}

// settled is a mark that stays until something changes: a server that tells by the second when that was takes as long.
func (h Harness) settled(t *testing.T, url string) (mark string) {
	t.Helper()
	require.Eventually(t, func() bool {
		mark = h.mark(t, url)
		return mark == h.mark(t, url)
	}, 20*time.Second, 100*time.Millisecond)
	return mark
}

func empties(t *testing.T, h Harness) {
	y := newYard(
		t, h,
		map[string]string{
			"1-a.sql": strings.Join(
				berths,
				";\n",
			) + ";\nINSERT INTO quay VALUES (1, 'North');\nINSERT INTO berth (id, quay_id) VALUES (1, 1);",
		},
	)
	y.promoted()
	rebuilt := y.run(plan.Rebuild(y.view()))
	require.Equal(t, deploy.Done, rebuilt.Outcome, "%v", rebuilt.Failure)
	assert.Equal(t, "1", y.query("SELECT count(*) FROM berth"))
	assert.Equal(t, ledger.StatusApplied, y.status("1"))
}

func looks(t *testing.T, h Harness) {
	url := h.Fresh(t)
	session := h.connect(t, url)
	dialect := h.Engine.Dialect()
	script, err := dialect.Cut(
		[]byte(
			"CREATE TABLE berth (id INTEGER, name VARCHAR(40));\nCREATE INDEX berth_name ON berth (name);\n" +
				"ALTER TABLE berth ADD COLUMN depth INTEGER;\n" +
				"CREATE VIEW deep AS SELECT id FROM berth;\nUPDATE berth SET depth = 1;\nDROP TABLE crane;",
		),
	)
	require.NoError(t, err)
	check, err := dialect.Cut(
		[]byte("SELECT count(*) = 0 FROM berth; SELECT count(*) = 1 FROM berth; SELECT 1 FROM nowhere"),
	)
	require.NoError(t, err)
	read := dialect.Objects(script, 1, 0)
	assert.Equal(t, []evidence.Unverifiable{{Statement: 5, Line: 5, What: "UPDATE"}}, read.Unverifiable)
	require.NoError(t, h.Exec(t, url, "CREATE TABLE crane (id INTEGER)"))
	peek := func() (there []string, outcomes []evidence.Outcome) {
		seen, outcomes, err := session.Peek(t.Context(), engine.Settings{}, read.Objects, check)
		require.NoError(t, err)
		for _, s := range seen {
			if s.There {
				there = append(there, s.Object.String())
			}
		}
		slices.Sort(there)
		return there, outcomes
	}
	there, _ := peek()
	assert.Equal(t, []string{"table crane"}, there)
	for _, s := range script {
		require.NoError(t, h.Exec(t, url, string(s.SQL)))
	}
	there, outcomes := peek()
	for i, name := range there { // an index's name may be its table's
		there[i] = strings.Replace(name, "index berth.", "index ", 1)
	}
	assert.Equal(
		t,
		[]string{
			"column berth.depth", "column berth.id", "column berth.name", "index berth_name", "table berth",
			"view deep",
		},
		there,
	)
	var holds []bool
	for _, o := range outcomes {
		holds = append(holds, o.Holds)
	}
	assert.Equal(t, []bool{true, false, false}, holds)
	assert.Contains(t, outcomes[2].Got, "nowhere", "the server's words")
	assert.Equal(t, "0", h.Query(t, url, "SELECT count(*) FROM berth"))
	assert.True(t, dialect.OnlyRows(script[4]))
	assert.False(t, dialect.OnlyRows(script[0]))
	assert.Len(
		t,
		dialect.Losses(
			[]byte(
				"DROP TABLE a;\nDELETE FROM b;\nUPDATE c SET d = 1;\nCREATE TABLE e (f INTEGER);\nALTER TABLE e DROP COLUMN f;",
			),
		),
		4,
	)
	for _, c := range []struct {
		before, after string
		is            sqltext.Change
	}{
		{"SELECT 1;", "SELECT 1;", sqltext.Same}, {"SELECT 1;", "SELECT\n  1;\n", sqltext.OnlySpace},
		{"SELECT 1;", "-- one\nSELECT 1;", sqltext.OnlyComments},
		{"SELECT 1;", "SELECT 2;", sqltext.WhatRuns}, {"SELECT ' a';", "SELECT 'a';", sqltext.WhatRuns},
		{"SELECT 1;", "SELECT 1; SELECT 1;", sqltext.WhatRuns},
	} {
		assert.Equal(t, c.is, dialect.Compare([]byte(c.before), []byte(c.after)), "%s → %s", c.before, c.after)
	}
}

func kinds(t *testing.T, h Harness) {
	y := newYard(t, h, map[string]string{"1-a.sql": "CREATE TABLE a (id INTEGER NOT NULL PRIMARY KEY);"})
	y.promoted()
	for sql, kind := range map[string]engine.Kind{
		"CREATE TABLE a (id INTEGER)": engine.Duplicate, "ALTER TABLE a ADD COLUMN id INTEGER": engine.Duplicate,
		"INSERT INTO nowhere VALUES (1)": engine.Missing,
		"DROP TABLE nowhere":             engine.Missing, "SELECT depth FROM a": engine.Missing, "SELEC": engine.Other,
		"INSERT INTO a VALUES (1), (1)": engine.Other,
	} {
		require.NoError(t, y.session.Prepare(t.Context(), engine.Settings{}))
		_, err := y.session.Exec(t.Context(), sqltext.Statement{SQL: []byte(sql)})
		var refused *engine.ServerError
		require.ErrorAs(t, err, &refused, sql)
		assert.Equal(t, kind, refused.Kind, "%s: %s", sql, refused)
		assert.Equal(t, kind, h.Engine.KindOf(refused.SQLState), "and its code alone says so: %s", refused.SQLState)
		assert.NotEmpty(t, refused.Message)
	}
	release := h.Hold(t, y.url, "INSERT INTO a VALUES (1)")
	settings := engine.Settings{LockTimeout: 50 * time.Millisecond}
	err := y.session.Begin(t.Context(), settings)
	if err == nil {
		_, err = y.session.Exec(t.Context(), sqltext.Statement{SQL: []byte("INSERT INTO a VALUES (1)")})
	}
	var refused *engine.ServerError
	require.ErrorAs(t, err, &refused)
	assert.Equal(t, engine.LockTimeout, refused.Kind)
	release()
}
