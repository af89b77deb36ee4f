package sqlite_test

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vorrang/core/engine"
	"vorrang/core/sqltext"
	"vorrang/target/sqlite"
)

// TestWhatCannotBeOpenedSaysWhy: nothing outside the folder is opened, and nothing is
// made by itself.
func TestWhatCannotBeOpenedSaysWhy(t *testing.T) {
	outside := t.TempDir()
	put := func(path, text string) string {
		require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
		return path
	}
	put(filepath.Join(outside, "secret.db"), "")
	require.NoError(t, os.Symlink(filepath.Join(outside, "secret.db"), filepath.Join(folder, "link.db")))
	require.NoError(t, os.Symlink(outside, filepath.Join(folder, "way-out")))
	put(
		filepath.Join(folder, "letter.db"),
		"Dear harbour master, this is no database, and long enough to have a head of its own.",
	)
	put(filepath.Join(folder, "twice.db"), "")
	require.NoError(t, os.Link(filepath.Join(folder, "twice.db"), filepath.Join(folder, "twice-too.db")))
	require.NoError(t, os.Mkdir(filepath.Join(folder, "sub"), 0o700))
	good := fresh(t)
	require.NoError(
		t,
		run(t, good, "CREATE TABLE a (id INTEGER PRIMARY KEY, note TEXT); INSERT INTO a (note) VALUES ('x')"),
	)
	damaged, err := os.ReadFile(pathOf(good))
	require.NoError(t, err)
	for i := 100; i < 2000; i++ {
		damaged[i] = 0xff
	}
	put(filepath.Join(folder, "damaged.db"), string(damaged))

	for name, c := range map[string]struct {
		url     string
		kind    engine.ConnectKind
		message string
	}{
		"nothing there": {"sqlite:nowhere.db", engine.NoSuchDatabase, "there is no file"},
		"a folder":      {"sqlite:sub", engine.NoSuchDatabase, "is a folder"},
		"outside": {"sqlite://" + filepath.Join(outside, "secret.db"), engine.NotAdmitted,
			"does not lie under"},
		"outside, by dots":         {"sqlite:../../../../../../etc/passwd", engine.NotAdmitted, "does not lie under"},
		"outside, percent-encoded": {"sqlite:%2e%2e/%2e%2e/%2e%2e/etc/passwd", engine.NotAdmitted, "does not lie under"},
		"outside, by a link":       {"sqlite:link.db", engine.NotAdmitted, "does not lie under"},
		"outside, by a folder":     {"sqlite:way-out/secret.db", engine.NotAdmitted, "does not lie under"},
		"a device":                 {"sqlite:///dev/null", engine.NotAdmitted, "does not lie under"},
		"no database":              {"sqlite:letter.db", engine.NoSuchDatabase, "is not an SQLite database"},
		"damaged":                  {"sqlite:damaged.db", engine.NotReady, "is damaged"},
		"two names":                {"sqlite:twice.db", engine.NotReady, "hard links"},
		"a setting of the library": {good + "?mode=memory", engine.BadURL, "mode=memory"},
		"a host":                   {"sqlite://gauge.nordmole/x.db", engine.BadURL, "cannot be read"},
		"no path":                  {"sqlite:", engine.BadURL, "names no file"},
	} {
		session, err := sqlite.Engine{Folder: folder}.Open(t.Context(), c.url, "test")
		if err == nil {
			session.Close()
		}
		var failed *engine.ConnectError
		require.ErrorAs(t, err, &failed, name)
		assert.Equal(t, c.kind, failed.Kind, "%s: %s", name, err)
		assert.Contains(t, failed.Message, c.message, name)
		assert.NotEmpty(t, failed.Fix, name)
	}
	_, err = sqlite.Engine{}.Open(t.Context(), good, "test")
	assert.ErrorContains(t, err, "-sqlite FOLDER")
	assert.NoFileExists(t, filepath.Join(folder, "nowhere.db"))
	written, err := os.ReadFile(filepath.Join(outside, "secret.db"))
	require.NoError(t, err)
	assert.Empty(t, written)
	absolute, err := sqlite.Engine{
		Folder: folder,
	}.Open(
		t.Context(),
		"sqlite://"+pathOf(good)+"?foreign_keys=on",
		"test",
	)
	require.NoError(t, err)
	absolute.Close()
}

// TestAStepReachesItsFileOnly: what a step's text may not do is refused by SQLite
// itself, whatever led to it, and the review says most of it before.
func TestAStepReachesItsFileOnly(t *testing.T) {
	url := fresh(t)
	session, err := sqlite.Engine{Folder: folder}.Open(t.Context(), url, "test")
	require.NoError(t, err)
	defer session.Close()
	require.NoError(t, session.CreateLedger(t.Context()))
	require.NoError(t, run(t, url, "CREATE TABLE a (id INTEGER PRIMARY KEY)"))
	outside := filepath.Join(t.TempDir(), "x.db")
	try := func(prepare func() error, sql string) error {
		require.NoError(t, prepare())
		_, err := session.Exec(t.Context(), sqltext.Statement{SQL: []byte(sql)})
		require.NoError(t, session.Rollback(t.Context()))
		return err
	}
	begin := func() error { return session.Begin(t.Context(), engine.Settings{}) }
	prepare := func() error { return session.Prepare(t.Context(), engine.Settings{}) }
	for _, sql := range []string{
		"ATTACH '" + outside + "' AS x", "VACUUM INTO '" + outside + "'", "SELECT load_extension('x')",
		"PRAGMA writable_schema = ON", "PRAGMA main.writable_schema(1)",
		"PRAGMA journal_mode = OFF", "PRAGMA locking_mode = EXCLUSIVE", "PRAGMA schema_version = 7",
		"PRAGMA temp_store_directory = '/tmp'", "PRAGMA synchronous = OFF",
		"INSERT INTO vorrang_ledger (seq) VALUES (1)", "DELETE FROM vorrang_ledger", "DROP TABLE vorrang_ledger",
		"ALTER TABLE vorrang_ledger ADD COLUMN x",
		"CREATE INDEX i ON vorrang_ledger (at)", "CREATE TRIGGER t BEFORE INSERT ON vorrang_ledger BEGIN SELECT 1; END",
		"DROP TRIGGER vorrang_ledger_no_update", "CREATE TABLE VORRANG_x (id)", "UPDATE sqlite_schema SET sql = ''",
		`INSERT INTO "Vorrang_Ledger" (seq) VALUES (1)`,
	} {
		assert.Error(t, try(prepare, sql), sql)
	}
	for _, sql := range []string{"COMMIT", "ROLLBACK", "END", "BEGIN", "PRAGMA foreign_keys = OFF", "VACUUM"} {
		assert.Error(t, try(begin, sql), sql)
	}
	for _, sql := range []string{"VACUUM", "PRAGMA foreign_keys = OFF", "BEGIN", "PRAGMA user_version = 3", "ANALYZE",
		"REINDEX", "SAVEPOINT s"} {
		assert.NoError(t, try(prepare, sql), sql)
	}
	assert.NoFileExists(t, outside)
	altered, err := session.LedgerAltered(t.Context())
	require.NoError(t, err)
	assert.Empty(t, altered)
}

// TestForeignKeysAreCheckedAtTheEndOfAStep, whether SQLite holds them or not; what was
// broken before is the owner's.
func TestForeignKeysAreCheckedAtTheEndOfAStep(t *testing.T) {
	for _, held := range []string{"off", "on"} {
		url := fresh(t)
		require.NoError(
			t,
			run(
				t, url,
				"CREATE TABLE gauge (id INTEGER PRIMARY KEY); CREATE TABLE reading (gauge_id INTEGER REFERENCES gauge (id)); "+
					"INSERT INTO gauge VALUES (1); INSERT INTO reading VALUES (1), (7)",
			),
		)
		session, err := sqlite.Engine{Folder: folder}.Open(t.Context(), url+"?foreign_keys="+held, "test")
		require.NoError(t, err)
		do := func(sql string) error {
			require.NoError(t, session.Begin(t.Context(), engine.Settings{}))
			_, err := session.Exec(t.Context(), sqltext.Statement{SQL: []byte(sql)})
			if err == nil {
				err = session.Commit(t.Context())
			}
			require.NoError(t, session.Rollback(t.Context()))
			return err
		}
		require.NoError(t, do("INSERT INTO gauge VALUES (2)"), "one row was broken before")
		assert.Error(t, do("INSERT INTO reading VALUES (8)"), "held %s", held)
		assert.Error(t, do("DELETE FROM gauge WHERE id = 1"), "held %s", held)
		assert.Equal(t, "2", query(t, url, "SELECT count(*) FROM reading"))
		require.NoError(t, do("INSERT INTO reading VALUES (2)"))
		session.Close()
	}
}

// TestTheFileIsTheOneThatItWas: a copy put in its place, and a lock taken away, end the
// session before the next step begins.
func TestTheFileIsTheOneThatItWas(t *testing.T) {
	for name, hand := range map[string]func(path string) error{
		"replaced": func(path string) error {
			return os.Rename(filepath.Join(folder, filepath.Base(pathOf(fresh(t)))), path)
		},
		"gone":              os.Remove,
		"the lock is taken": func(path string) error { return os.Remove(path + "-vorrang-lock") },
	} {
		url := fresh(t)
		session, err := sqlite.Engine{Folder: folder}.Open(t.Context(), url, "test")
		require.NoError(t, err)
		require.NoError(t, session.Lock(t.Context()))
		require.NoError(t, session.Begin(t.Context(), engine.Settings{}))
		require.NoError(t, session.Rollback(t.Context()))
		require.NoError(t, hand(pathOf(url)))
		var lost *engine.LostError
		require.ErrorAs(t, session.Begin(t.Context(), engine.Settings{}), &lost, name)
		assert.True(t, session.Closed())
		session.Close()
	}
}

func TestAStatementThatTakesTooLongEnds(t *testing.T) {
	session, err := sqlite.Engine{Folder: folder}.Open(t.Context(), fresh(t), "test")
	require.NoError(t, err)
	defer session.Close()
	require.NoError(t, session.Begin(t.Context(), engine.Settings{StatementTimeout: 20 * time.Millisecond}))
	_, err = session.Exec(
		t.Context(),
		sqltext.Statement{
			SQL: []byte("WITH RECURSIVE n (x) AS (SELECT 1 UNION ALL SELECT x + 1 FROM n) SELECT count(*) FROM n"),
		},
	)
	var refused *engine.ServerError
	require.ErrorAs(t, err, &refused)
	assert.Contains(t, refused.Message, "its timeout of 20ms")
	require.NoError(t, session.Rollback(t.Context()))
	require.NoError(t, session.Begin(t.Context(), engine.Settings{}))
}

// TestAStepTakesNoMemory of the service, whose library it is.
func TestAStepTakesNoMemory(t *testing.T) {
	session, err := sqlite.Engine{Folder: folder}.Open(t.Context(), fresh(t), "test")
	require.NoError(t, err)
	defer session.Close()
	for _, sql := range []string{"SELECT zeroblob(900000000)", "SELECT hex(zeroblob(60000000))",
		"CREATE TABLE a AS WITH RECURSIVE n (x) AS (SELECT zeroblob(50000000) UNION ALL SELECT x || x FROM n) SELECT * " +
			"FROM n",
		"WITH RECURSIVE n (x) AS (SELECT 1 UNION ALL SELECT x + 1 FROM n LIMIT 40) SELECT " +
			"group_concat(hex(zeroblob(2000000))) FROM n"} {
		require.NoError(t, session.Begin(t.Context(), engine.Settings{}))
		_, err = session.Exec(t.Context(), sqltext.Statement{SQL: []byte(sql)})
		var refused *engine.ServerError
		require.ErrorAs(t, err, &refused, sql)
		require.NoError(t, session.Rollback(t.Context()))
	}
}

// TestRowsThatGoWithATableAreTold: where foreign keys are held, a rebuild by DROP and RENAME deletes
// the rows that refer to the table.
func TestRowsThatGoWithATableAreTold(t *testing.T) {
	rebuild := "CREATE TABLE fresh (id INTEGER PRIMARY KEY); INSERT INTO fresh SELECT id FROM berth; DROP TABLE berth; " +
		"ALTER TABLE fresh RENAME TO berth"
	for held, want := range map[string]string{"on": "took 2 values of port_call.berth along", "off": ""} {
		url := fresh(t)
		require.NoError(t, run(t, url, "CREATE TABLE berth (id INTEGER PRIMARY KEY); INSERT INTO berth VALUES (1), (2); "+
			"CREATE TABLE port_call (berth REFERENCES berth (id) ON DELETE CASCADE); INSERT INTO port_call VALUES (1), (2), (NULL)"))
		session, err := (sqlite.Engine{Folder: folder}).Open(t.Context(), url+"?foreign_keys="+held, "test")
		require.NoError(t, err)
		defer session.Close()
		require.NoError(t, session.CreateLedger(t.Context()))
		told := ""
		session.OnNotice(func(severity, message string) { told += severity + " " + message })
		require.NoError(t, session.Begin(t.Context(), engine.Settings{}))
		statements, err := (sqlite.Engine{}).Dialect().Cut([]byte(rebuild))
		require.NoError(t, err)
		for _, s := range statements {
			_, err := session.Exec(t.Context(), s)
			require.NoError(t, err)
		}
		if want == "" {
			assert.Empty(t, told)
		} else {
			assert.Contains(t, told, want)
		}
		require.NoError(t, session.Rollback(t.Context()))
	}
}
