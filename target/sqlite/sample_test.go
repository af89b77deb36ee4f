package sqlite_test

import (
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vorrang/core/engine"
	"vorrang/core/schema"
	"vorrang/target/sqlite"
)

const oddSchema = `CREATE TABLE odd (id INTEGER PRIMARY KEY AUTOINCREMENT, at DATETIME, day DATE, "any ""thing""", twice AS (id * 2),
	thrice AS (id * 3) STORED, CHECK (day <> 'never'));
CREATE TABLE pair (a TEXT, b INTEGER, PRIMARY KEY (a, b)) WITHOUT ROWID;
CREATE TABLE of_pair (rowid TEXT, a TEXT, b INTEGER, FOREIGN KEY (a, b) REFERENCES PAIR);
CREATE TABLE log (what TEXT);
CREATE TRIGGER told AFTER INSERT ON log BEGIN INSERT INTO log VALUES ('again; END'); END;
`

const oddRows = `PRAGMA ignore_check_constraints = ON;
INSERT INTO odd (at, day, "any ""thing""") VALUES ('2026-11-27 01:02:03', 1764201600, X'00ff'), (7, 'never', 0.1),
	(NULL, NULL, 'a' || char(0) || '''b'), ('', X'', 9223372036854775807);
DELETE FROM odd WHERE day = X'';
INSERT INTO pair VALUES ('Ö', 1), ('x', 2), ('y', 3);
INSERT INTO of_pair VALUES ('r', 'y', 3), ('s', NULL, 3), ('t', 'lost', 9);
DROP TRIGGER told;
INSERT INTO log VALUES ('once');
CREATE TRIGGER told AFTER INSERT ON log BEGIN INSERT INTO log VALUES ('again; END'); END;
`

func TestRowsAreCopiedAsTheyAre(t *testing.T) {
	url := fresh(t)
	require.NoError(t, run(t, url, oddSchema+oddRows))
	session, err := sqlite.Engine{Folder: folder}.Open(t.Context(), url, "test")
	require.NoError(t, err)
	defer session.Close()
	made, err := sqlite.Engine{Folder: folder}.NewScratch(t.Context(), url, "", true)
	require.NoError(t, err)
	defer made.Close()
	require.NoError(t, made.Run(t.Context(), []byte(oddSchema), true))
	seen, err := session.Snapshot(t.Context(), nil)
	require.NoError(t, err)
	_, err = sqlite.Engine{Folder: folder}.Sample(t.Context(), session, made, engine.Sample{Schema: seen, Most: 9})
	require.NoError(t, err)
	scratch := "sqlite:" + made.Name()
	require.FileExists(t, filepath.Join(folder, made.Name()))
	for table, value := range map[string]string{
		"odd":             `id || typeof(at) || quote(at) || quote(day) || quote("any ""thing""") || twice || thrice`,
		"pair":            "quote(a) || b",
		"of_pair":         "rowid || quote(a) || quote(b)",
		"log":             "what",
		"sqlite_sequence": "name || seq",
	} {
		question := "SELECT group_concat(v, ' ') FROM (SELECT " + value + " AS v FROM " + table + " ORDER BY 1)"
		there := query(t, url, question)
		require.NotEmpty(t, there, table)
		assert.Equal(t, there, query(t, scratch, question), table)
	}
	after, err := made.Snapshot(t.Context(), nil)
	require.NoError(t, err)
	assert.Empty(t, schema.Compare(seen, after))
}
