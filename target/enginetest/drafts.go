package enginetest

import (
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vorrang/core/draft"
	"vorrang/core/engine"
	"vorrang/core/schema"
)

// Pair is a schema and what should become of it, a statement each.
type Pair struct {
	Present, Desired []string
	Rows             []string // that are there, and must stay
	Counts           string   // a query whose answer must stay
	Renames          []draft.Rename
}

// pairs are in the SQL that every engine knows.
var pairs = map[string]Pair{
	"from nothing": {Desired: berths},
	"to nothing":   {Present: berths},
	"a column more, and one less": {
		Present: []string{"CREATE TABLE quay (id INTEGER NOT NULL PRIMARY KEY, name VARCHAR(40), depth INTEGER)"},
		Desired: []string{
			"CREATE TABLE quay (id INTEGER NOT NULL PRIMARY KEY, name VARCHAR(40), length_m INTEGER DEFAULT 80)",
		},
		Rows: []string{
			"INSERT INTO quay VALUES (1, 'North', 9)",
		}, Counts: "SELECT count(*) FROM quay WHERE name = 'North'",
	},
	"another type, and not null": {
		Present: []string{
			"CREATE TABLE quay (id INTEGER NOT NULL PRIMARY KEY, name VARCHAR(40))",
			"CREATE INDEX quay_name ON quay (name)",
			"CREATE VIEW quays AS SELECT id FROM quay",
		},
		Desired: []string{
			"CREATE TABLE quay (id INTEGER NOT NULL PRIMARY KEY, name VARCHAR(80) NOT NULL)",
			"CREATE INDEX quay_name ON quay (name)",
			"CREATE VIEW quays AS SELECT id FROM quay",
		},
		Rows: []string{
			"INSERT INTO quay VALUES (1, 'North')",
			"INSERT INTO quay VALUES (2, 'South')",
		}, Counts: "SELECT count(*) FROM quay",
	},
	"keys and checks": {
		Present: []string{
			berths[0],
			"CREATE TABLE berth (id INTEGER NOT NULL PRIMARY KEY, quay_id INTEGER NOT NULL, length_m INTEGER)",
		},
		Desired: []string{
			berths[0],
			"CREATE TABLE berth (id INTEGER NOT NULL PRIMARY KEY, quay_id INTEGER NOT NULL, length_m INTEGER, CONSTRAINT " +
				"berth_length CHECK (length_m > 0), " +
				"CONSTRAINT berth_quay FOREIGN KEY (quay_id) REFERENCES quay (id), CONSTRAINT berth_once UNIQUE (quay_id, " +
				"length_m))",
		},
		Rows: []string{
			"INSERT INTO quay VALUES (1, 'North')",
			"INSERT INTO berth VALUES (1, 1, 90)",
		}, Counts: "SELECT count(*) FROM berth WHERE length_m = 90",
	},
	"views and indexes": {
		Present: []string{
			berths[0],
			"CREATE INDEX quay_name ON quay (name)",
			"CREATE VIEW named AS SELECT name FROM quay",
		},
		Desired: []string{
			berths[0],
			"CREATE UNIQUE INDEX quay_name ON quay (name)",
			"CREATE VIEW named AS SELECT id, name FROM quay",
			"CREATE VIEW more AS SELECT id FROM named",
		},
	},
	"a rename": {
		Present: []string{"CREATE TABLE quay (id INTEGER NOT NULL PRIMARY KEY, name VARCHAR(40))"},
		Desired: []string{"CREATE TABLE quay (id INTEGER NOT NULL PRIMARY KEY, title VARCHAR(40), depth INTEGER)"},
		Rows:    []string{"INSERT INTO quay VALUES (1, 'North')"}, Counts: "SELECT count(*) FROM quay WHERE id = 1",
		Renames: []draft.Rename{{Old: "quay.name", New: "title"}},
	},
}

func drafts(t *testing.T, h Harness) {
	_, can := h.Engine.(engine.Drafter)
	require.Equal(t, h.Engine.Traits().Drafts, can, "the traits say what it can")
	if !can {
		t.Skip("the engine writes no drafts")
	}
	for name, pair := range pairs {
		t.Run(name, func(t *testing.T) { Drafted(t, h, pair) })
	}
}

// Drafted drafts a step that makes one schema of another, runs it where there
// are rows, and takes it back.
func Drafted(t *testing.T, h Harness, pair Pair) {
	writer, workshop := h.Engine.(engine.Drafter), h.Engine.(engine.Workshop)
	make := func(statements ...string) (url string, seen schema.Schema) {
		url = h.Fresh(t)
		for _, sql := range statements {
			require.NoError(t, h.Exec(t, url, sql), sql)
		}
		seen, err := h.connect(t, url).SnapshotWithNeeds(t.Context(), nil)
		require.NoError(t, err)
		return url, seen
	}
	told := func(url string) string {
		if h.Oracle == nil {
			return ""
		}
		return h.Oracle(t, url)
	}
	url, present := make(pair.Present...)
	was := told(url)
	target, desired := make(pair.Desired...)
	scratch, err := workshop.NewScratch(t.Context(), url, "", true)
	require.NoError(t, err)
	defer scratch.Close()
	for i, r := range pair.Renames { // their names begin with a schema, where there are any
		for _, o := range present.Objects {
			if o.Kind == schema.Column && strings.HasSuffix(o.Name, r.Old) {
				pair.Renames[i].Old = o.Name
			}
		}
	}
	made, err := draft.Make(
		t.Context(), scratch,
		draft.Request{Writer: writer, Present: &present, Desired: desired, Renames: pair.Renames, Settled: true},
	)
	require.NoError(t, err)
	require.True(t, made.Proved, "%s\n%+v", made.Why, made.Steps)
	assert.Empty(t, made.Undraftable)

	for _, sql := range pair.Rows {
		require.NoError(t, h.Exec(t, url, sql), sql)
	}
	before := ""
	if pair.Counts != "" {
		before = h.Query(t, url, pair.Counts)
	}
	session := h.connect(t, url)
	play := func(text string, autocommit bool, then *schema.Schema) {
		settings := engine.Settings{}
		statements, err := h.Engine.Dialect().Cut([]byte(text))
		require.NoError(t, err)
		if len(statements) == 0 {
			return
		}
		if autocommit || !h.Engine.Traits().DDLTransaction {
			require.NoError(t, session.Prepare(t.Context(), settings))
		} else {
			require.NoError(t, session.Begin(t.Context(), settings))
		}
		for _, s := range statements {
			_, err := session.Exec(t.Context(), s)
			require.NoError(t, err, "%s\nin %s", s.SQL, text)
		}
		if session.InTransaction() {
			require.NoError(t, session.Commit(t.Context()))
		}
		now, err := session.Snapshot(t.Context(), nil)
		require.NoError(t, err)
		if then != nil {
			assert.Empty(t, schema.Compare(*then, now), "%s", text)
		}
	}
	for i, step := range made.Steps {
		then := &desired
		if i+1 < len(made.Steps) { // what is there between two steps is for the draft to know
			then = nil
		}
		play(step.Forward, step.Autocommit, then)
	}
	assert.Equal(t, told(target), told(url), "another program sees the same schema: %+v", made.Steps)
	if pair.Counts != "" {
		assert.Equal(t, before, h.Query(t, url, pair.Counts), "the rows stay")
	}
	for i, step := range slices.Backward(made.Steps) {
		then := &present
		if i > 0 {
			then = nil
		}
		play(step.Back, step.Autocommit, then)
	}
	assert.Equal(t, was, told(url), "and the one that was there before: %+v", made.Steps)
}
