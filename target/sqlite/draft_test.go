package sqlite_test

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vorrang/core/draft"
	"vorrang/target/enginetest"
	"vorrang/target/sqlite"
)

// TestDraftsOfWhatOnlySQLiteHas: forms of tables, keys and triggers of its own.
func TestDraftsOfWhatOnlySQLiteHas(t *testing.T) {
	for name, pair := range map[string]enginetest.Pair{
		"strict, and without a row's number": {
			Present: []string{"CREATE TABLE gauge (code TEXT PRIMARY KEY, level INT)"},
			Desired: []string{"CREATE TABLE gauge (code TEXT NOT NULL PRIMARY KEY, level INTEGER) STRICT, WITHOUT ROWID"},
			Rows:    []string{"INSERT INTO gauge VALUES ('NM-1', 312)"}, Counts: "SELECT count(*) FROM gauge WHERE level = 312",
		},
		"autoincrement, collations, defaults and generated columns": {
			Present: []string{"CREATE TABLE reading (id INTEGER PRIMARY KEY, at TEXT, level_cm INTEGER)"},
			Desired: []string{"CREATE TABLE reading (id INTEGER PRIMARY KEY AUTOINCREMENT, at TEXT NOT NULL DEFAULT " +
				"(datetime('now')) COLLATE nocase, level_cm INTEGER DEFAULT -1, " +
				"level_m REAL GENERATED ALWAYS AS (level_cm / 100.0) STORED, high INTEGER AS (level_cm > 500) VIRTUAL)"},
			Rows: []string{"INSERT INTO reading VALUES (7, '2026-11-03', 312)"}, Counts: "SELECT count(*) FROM reading WHERE " +
				"id = 7 AND level_cm = 312",
		},
		"triggers on a table that is rebuilt, and on a view that changes": {
			Present: []string{"CREATE TABLE a (id INTEGER, note TEXT)", "CREATE VIEW v AS SELECT id FROM a",
				"CREATE TRIGGER keep BEFORE DELETE ON a BEGIN SELECT RAISE(ABORT, 'no; it stays'); END",
				"CREATE TRIGGER through INSTEAD OF INSERT ON v BEGIN INSERT INTO a (id) VALUES (NEW.id); END"},
			Desired: []string{"CREATE TABLE a (id INTEGER NOT NULL, note TEXT)", "CREATE VIEW v AS SELECT id, " +
				"note FROM a", "CREATE TRIGGER keep BEFORE DELETE ON a BEGIN SELECT RAISE(ABORT, 'no; it stays'); END",
				"CREATE TRIGGER through INSTEAD OF INSERT ON v BEGIN INSERT INTO a (id) VALUES (NEW.id); END"},
			Rows: []string{"INSERT INTO a VALUES (1, 'x')"}, Counts: "SELECT count(*) FROM a WHERE note = 'x'",
		},
		"names that need quotes, and a column dropped that an index names": {
			Present: []string{`CREATE TABLE "the ""gauge""" ("order" INTEGER, [group] TEXT,
				CONSTRAINT "not less" CHECK ("order" > 0))`, `CREATE INDEX "by group" ON "the ""gauge""" ([group])`},
			Desired: []string{`CREATE TABLE "the ""gauge""" ("order" INTEGER, CONSTRAINT "not less" CHECK ("order" >= 0))`},
			Rows:    []string{`INSERT INTO "the ""gauge""" VALUES (3, 'x')`},
			Counts:  `SELECT count(*) FROM "the ""gauge""" WHERE "order" = 3`,
		},
		"columns in another order": {
			Present: []string{"CREATE TABLE a (x INTEGER, y TEXT)"}, Desired: []string{"CREATE TABLE a (y TEXT, x INTEGER)"},
			Rows: []string{"INSERT INTO a (x, y) VALUES (1, 'z')"}, Counts: "SELECT count(*) FROM a WHERE x = 1 AND y = 'z'",
		},
		"a column with its key and its check": {
			Present: []string{"CREATE TABLE a (id INTEGER PRIMARY KEY)", "CREATE TABLE b (id INTEGER)"},
			Desired: []string{"CREATE TABLE a (id INTEGER PRIMARY KEY)", "CREATE TABLE b (id INTEGER, a_id INTEGER " +
				"REFERENCES a ON UPDATE CASCADE, n INTEGER DEFAULT 1 CHECK (n > 0))"},
			Rows: []string{"INSERT INTO b VALUES (1)"}, Counts: "SELECT count(*) FROM b WHERE id = 1",
		},
	} {
		t.Run(name, func(t *testing.T) { enginetest.Drafted(t, harness(), pair) })
	}
}

// TestAReferredTableIsNotRebuilt where what refers to it would follow its rows.
func TestAReferredTableIsNotRebuilt(t *testing.T) {
	of := func(typ string) string {
		url := fresh(t)
		require.NoError(
			t,
			run(
				t, url,
				"CREATE TABLE a (id INTEGER PRIMARY KEY, x "+typ+"); CREATE TABLE b (a_id INTEGER REFERENCES a (id) ON "+
					"DELETE CASCADE)",
			),
		)
		return url
	}
	seen := func(url string) *sqlite.Session {
		session, err := sqlite.Engine{Folder: folder}.Open(t.Context(), url, "test")
		require.NoError(t, err)
		t.Cleanup(session.Close)
		return session.(*sqlite.Session)
	}
	url := of("TEXT")
	present, err := seen(url).Snapshot(t.Context(), nil)
	require.NoError(t, err)
	desired, err := seen(of("INTEGER")).Snapshot(t.Context(), nil)
	require.NoError(t, err)
	scratch, err := sqlite.Engine{Folder: folder}.NewScratch(t.Context(), url, "", true)
	require.NoError(t, err)
	defer scratch.Close()
	made, err := draft.Make(
		t.Context(), scratch,
		draft.Request{Writer: sqlite.Engine{}, Present: &present, Desired: desired, Settled: true},
	)
	require.NoError(t, err)
	require.Len(t, made.Undraftable, 1)
	assert.Contains(t, made.Undraftable[0].Why, "b refers to it with ON DELETE")
	assert.Empty(t, made.Steps)
}

// TestRandomDrafts makes schemas at random, and holds what the drafts make against
// what SQLite itself tells of both, by other ways than the snapshot reads.
func TestRandomDrafts(t *testing.T) {
	for seed := range 40 {
		t.Run(fmt.Sprint(seed), func(t *testing.T) {
			r := rand.New(rand.NewPCG(uint64(seed), 12))
			enginetest.Drafted(t, harness(), enginetest.Pair{Present: random(r), Desired: random(r)})
		})
	}
}

// random is a schema, a statement each.
func random(r *rand.Rand) (statements []string) {
	some := func(list ...string) string { return list[r.IntN(len(list))] }
	for _, table := range []string{"gauge", "reading", "site"} {
		if r.IntN(5) == 0 {
			continue
		}
		var columns, constraints []string
		for i, name := range []string{"id", "code", `"order"`, "level_cm", "at"} {
			if i > 0 && r.IntN(3) == 0 {
				continue
			}
			kind := some("INTEGER", "TEXT", "VARCHAR(20)", "NUMERIC(8, 2)", "REAL", "BLOB", "")
			if i == 0 {
				kind = some("INTEGER PRIMARY KEY", "INTEGER NOT NULL PRIMARY KEY AUTOINCREMENT", "TEXT NOT NULL")
			}
			columns = append(
				columns,
				name+" "+kind+some(
					"", " NOT NULL", "", " DEFAULT 7", " DEFAULT 'x''y'", " DEFAULT (1 + 2)", " UNIQUE",
					" CHECK ("+name+" <> 3)",
					" COLLATE NOCASE",
				),
			)
			if i > 0 && r.IntN(4) == 0 {
				constraints = append(
					constraints,
					some(
						"UNIQUE (id, "+name+")",
						"CONSTRAINT odd CHECK ("+name+" > id)",
						"CHECK (length("+name+") < 9)",
					),
				)
			}
		}
		if r.IntN(3) == 0 {
			constraints = append(constraints, "FOREIGN KEY (id) REFERENCES "+some("gauge", "site")+" (id)")
		}
		slices.Sort(constraints)
		statements = append(
			statements,
			"CREATE TABLE "+table+" ("+strings.Join(append(columns, slices.Compact(constraints)...), ", ")+")",
		)
		if r.IntN(2) == 0 {
			statements = append(
				statements,
				"CREATE "+some("", "UNIQUE ")+"INDEX "+table+"_i ON "+table+" (id"+some(
					"", " DESC",
				)+")"+some("", " WHERE id > 3"),
			)
		}
		if r.IntN(3) == 0 {
			statements = append(
				statements,
				"CREATE VIEW "+table+"_v AS SELECT id"+some("", " AS number")+" FROM "+table,
			)
		}
		if r.IntN(3) == 0 {
			statements = append(
				statements,
				"CREATE TRIGGER "+table+"_t "+some(
					"BEFORE", "AFTER",
				)+" DELETE ON "+table+" BEGIN SELECT 1; SELECT CASE WHEN 1 THEN 2 END; END",
			)
		}
	}
	return statements
}
