package sqlite_test

import (
	"crypto/sha256"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vorrang/core/engine"
	"vorrang/target/sqlite"
)

// attacks are texts of steps that reach for another file. %s is that file's path.
var attacks = []string{
	"ATTACH '%s' AS other; DELETE FROM other.dues;",
	"ATTACH ('%s') AS other; DELETE FROM other.dues;",
	"ATTACH (SELECT '%s') AS other; DELETE FROM other.dues;",
	"ATTACH '%s' || '' AS vacuum_other; DELETE FROM vacuum_other.dues;",
	"CREATE TABLE trigger(a); ATTACH ('%s') AS other; DELETE FROM other.dues;",
	"CREATE TABLE trigger(a); ATTACH ('%s'||'') AS vacuum_1; DELETE FROM vacuum_1.dues; END;",
	"CREATE TEMP TABLE trigger(a); ATTACH ('%s') AS vacuum_1; UPDATE vacuum_1.dues SET cents = 0;",
	"CREATE VIEW trigger AS SELECT 1; ATTACH '%s-new' AS a; CREATE TABLE a.b (c);",
	"SELECT $a('); ATTACH ('%s') AS o; DELETE FROM o.dues; --');",
	"VACUUM INTO '%s-new';",
	"VACUUM main INTO ('%s' || '-new');",
	"VACUUM INTO (SELECT '%s-new');",
	"VACUUM /* " + strings.Repeat("x", 1<<20) + " */ INTO '%s-new';",
	"/* " + strings.Repeat("x", 1<<20) + " */ ATTACH ('%s') AS o; DELETE FROM o.dues;",
	"EXPLAIN ATTACH ('%s') AS o; ATTACH ('%s') AS o;",
	"PRAGMA temp_store_directory = '%s-new';",
	"PRAGMA writable_schema = ON; PRAGMA journal_mode = DELETE;",
	"SELECT load_extension('%s');",
	"SELECT writefile('%s', 'x');",
	"CREATE VIRTUAL TABLE v USING dbdata('%s'); CREATE VIRTUAL TABLE c USING csv(filename='%s');",
	"DETACH main;",
	"CREATE TRIGGER r AFTER INSERT ON berth BEGIN SELECT load_extension('%s'); END; INSERT INTO berth VALUES (2);",
}

// TestNothingLeavesItsFile runs attacks as steps, by themselves and put together at random,
// and holds that nothing else in the folder changed.
func TestNothingLeavesItsFile(t *testing.T) {
	home := t.TempDir()
	attacked := sqlite.Engine{Folder: home}
	require.NoError(t, os.WriteFile(filepath.Join(home, "development.db"), nil, 0o600))
	production := filepath.Join(home, "production.db")
	require.NoError(t, os.WriteFile(production, nil, 0o600))
	relative, err := filepath.Rel(folder, production)
	require.NoError(t, err)
	require.NoError(t, run(t, "sqlite:"+relative, "CREATE TABLE dues (cents); INSERT INTO dues VALUES (1900)"))
	others := func() (all []string) {
		require.NoError(t, filepath.WalkDir(home, func(path string, d fs.DirEntry, err error) error {
			if err != nil || d.IsDir() || strings.HasPrefix(filepath.Base(path), "development.db") {
				return err
			}
			text, err := os.ReadFile(path)
			all = append(all, fmt.Sprintf("%s %x", path, sha256.Sum256(text)))
			return err
		}))
		return all
	}
	before := others()

	random := rand.New(rand.NewPCG(20261202, 2))
	texts := append([]string{}, attacks...)
	for range 300 {
		words := strings.SplitAfter(attacks[random.IntN(len(attacks))]+" "+attacks[random.IntN(len(attacks))], ";")
		random.Shuffle(len(words), func(i, j int) { words[i], words[j] = words[j], words[i] })
		texts = append(texts, strings.Join(words, " "))
	}
	ran := 0
	for _, text := range texts {
		text = strings.ReplaceAll(text, "%s", production)
		statements, err := attacked.Dialect().Cut([]byte(text))
		if err != nil {
			continue
		}
		for _, autocommit := range []bool{false, true} {
			session, err := attacked.Open(t.Context(), "sqlite:development.db", "attack")
			require.NoError(t, err)
			if autocommit {
				require.NoError(t, session.Prepare(t.Context(), engine.Settings{}))
			} else {
				require.NoError(t, session.Begin(t.Context(), engine.Settings{}))
			}
			for _, s := range statements {
				if _, err := session.Exec(t.Context(), s); err == nil {
					ran++
				}
			}
			session.Close()
			if !assert.Equal(t, before, others(), text[:min(len(text), 500)]) {
				return
			}
		}
	}
	assert.Positive(t, ran)
}

// TestVacuumRunsAllTheSame: it needs a second file of its own.
func TestVacuumRunsAllTheSame(t *testing.T) {
	url := fresh(t)
	require.NoError(t, run(t, url, "CREATE TABLE berth (id); INSERT INTO berth VALUES (1)"))
	session, err := (sqlite.Engine{Folder: folder}).Open(t.Context(), url, "test")
	require.NoError(t, err)
	defer session.Close()
	require.NoError(t, session.CreateLedger(t.Context()))
	require.NoError(t, session.Prepare(t.Context(), engine.Settings{}))
	statements, err := (sqlite.Engine{}).Dialect().Cut([]byte("VACUUM; ATTACH (':memory:') AS o; SELECT 1"))
	require.NoError(t, err)
	_, err = session.Exec(t.Context(), statements[0])
	require.NoError(t, err)
	_, err = session.Exec(t.Context(), statements[1])
	require.ErrorContains(t, err, "a step reaches its target's file only")
	assert.Equal(t, "1", query(t, url, "SELECT count(*) FROM berth"))
}
