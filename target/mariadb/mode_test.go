package mariadb_test

import (
	"path"
	"regexp"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vorrang/core/engine"
	"vorrang/core/schema"
	"vorrang/internal/mariatest"
	"vorrang/target/mariadb"
)

// bodiesOf are objects whose bodies mean something else by another sql_mode.
var bodiesOf = []string{
	"CREATE TABLE a (id INT, note TEXT)",
	"CREATE FUNCTION g() RETURNS VARCHAR(9) DETERMINISTIC RETURN 1 || 2",
	"CREATE PROCEDURE p() lab:BEGIN SELECT 7 / 0; END",
	"CREATE TRIGGER t BEFORE INSERT ON a FOR EACH ROW SET NEW.note = 1 || 2",
	"CREATE EVENT e ON SCHEDULE EVERY 1 DAY DO SET @a = 1 || 2",
}

// begins is when an event begins, which the server writes to the second in which it was made.
var begins = regexp.MustCompile(` STARTS '[^']*'`)

// TestTheModeOfABodyIsAPartOfIt: one that runs in another way differs, and what is drafted runs
// in the same way. The server's own dump is the judge.
func TestTheModeOfABodyIsAPartOfIt(t *testing.T) {
	server := mariatest.Shared(t)
	made := func(mode string) (url, name string, session engine.Session) {
		url = mariatest.Database(t)
		name = path.Base(url)
		for _, statement := range bodiesOf {
			require.NoError(t, mariatest.Exec(t, url, "SET STATEMENT sql_mode = '"+mode+"' FOR "+statement), statement)
		}
		session, err := mariadb.Engine{}.Open(t.Context(), url, "test")
		require.NoError(t, err)
		t.Cleanup(session.Close)
		return url, name, session
	}
	see := func(session engine.Session) schema.Schema {
		seen, err := session.SnapshotWithNeeds(t.Context(), nil)
		require.NoError(t, err)
		return seen
	}
	const usual = "STRICT_TRANS_TABLES,ERROR_FOR_DIVISION_BY_ZERO,NO_AUTO_CREATE_USER,NO_ENGINE_SUBSTITUTION"
	_, _, plain := made(usual)
	for _, mode := range []string{"PIPES_AS_CONCAT", "", "PIPES_AS_CONCAT,STRICT_ALL_TABLES"} {
		_, name, piped := made(mode)
		assert.Len(t, schema.Compare(see(plain), see(piped)), 4, mode)

		url := mariatest.Database(t) // where a draft makes all of it
		copied, err := mariadb.Engine{}.Open(t.Context(), url, "test")
		require.NoError(t, err)
		defer copied.Close()
		for _, is := range []schema.Schema{see(copied), see(plain)} {
			script := mariadb.Engine{}.Draft(is, see(piped), schema.Style{})
			require.Empty(t, script.Undraftable)
			if len(is.Objects) > 0 { // only what a draft from nothing makes is run here
				continue
			}
			for _, s := range script.Parts[0].Statements {
				cut, err := mariadb.Engine{}.Dialect().Cut([]byte(s.SQL + ";"))
				require.NoError(t, err)
				require.Len(t, cut, 1, s.SQL)
				require.NoError(t, copied.Prepare(t.Context(), engine.Settings{}))
				_, err = copied.Exec(t.Context(), cut[0])
				require.NoError(t, err, s.SQL)
			}
		}
		assert.Empty(t, schema.Compare(see(piped), see(copied)))
		dump := func(name string) string { return begins.ReplaceAllString(server.Dump(t, name), "") }
		assert.Equal(t, dump(name), dump(path.Base(url)), mode)
	}
	_, _, quoted := made("ANSI_QUOTES")
	script := mariadb.Engine{}.Draft(schema.Schema{}, see(quoted), schema.Style{})
	assert.Len(t, script.Undraftable, 4, "whose texts are read in another way")
}
