package sqlite

import (
	"fmt"
	"math/rand/v2"
	"regexp"
	"strings"
	"testing"

	sqlite3 "github.com/mattn/go-sqlite3"
	"github.com/stretchr/testify/require"
)

// pieces are what random texts are made of: what ends a statement, what looks as if it did,
// and what hides it.
var pieces = []string{
	"SELECT 1", "SELECT ';'", "SELECT x';'", "SELECT [a;] FROM t", "SELECT `a;` FROM t", `SELECT "a;" FROM t`,
	"SELECT $a(;)", "SELECT $a(')", "SELECT :a::b(;)", "SELECT #a", "SELECT @end", "SELECT x'ab''cd;'", "SELECT 1--;\n",
	"SELECT/*;*/2", "CREATE TABLE trigger(a)", "CREATE TEMP TABLE trigger(a)", "CREATE TABLE \"trigger\"(a)",
	"CREATE TABLE IF NOT EXISTS trigger(a)", "CREATE VIEW trigger AS SELECT 1", "CREATE INDEX trigger ON t(a)",
	"CREATE VIRTUAL TABLE trigger USING fts4(a)", "EXPLAIN CREATE TABLE trigger(a)",
	"CREATE TRIGGER r AFTER INSERT ON t BEGIN SELECT 1; END", "CREATE TRIGGER trigger AFTER INSERT ON t BEGIN SELECT 1; END",
	"CREATE TRIGGER r AFTER INSERT ON t BEGIN DELETE FROM t; SELECT CASE WHEN 1 THEN 2 END; \uFEFFEND",
	"EXPLAIN CREATE TEMP TRIGGER r AFTER INSERT ON t BEGIN SELECT 1; SELECT 2; END", "EXPLAIN QUERY PLAN SELECT 1",
	"CREATE TEMPORARY TRIGGER IF NOT EXISTS r AFTER DELETE ON t BEGIN INSERT INTO t VALUES (';', 'END;'); END",
	"INSERT INTO t VALUES ('END;', 1)", "BEGIN", "COMMIT", "END", "SAVEPOINT trigger", "RELEASE trigger", "VACUUM",
	"ATTACH 'x' AS y", "ATTACH (SELECT 'x') AS y", "SELECT 1 AS \"end\"", "SELECT 1 end", "", ";", "; END", "END; END",
	" ", "\n", "\uFEFF", "--x\n", "/* ; */", "'", "\"", "[", "]", "`", "(", ")", "$", "\\", "CREATE", "TRIGGER", "TEMP", "EXPLAIN",
}

func randomText(random *rand.Rand) string {
	var b strings.Builder
	for range 1 + random.IntN(6) {
		b.WriteString(pieces[random.IntN(len(pieces))])
		if random.IntN(4) > 0 {
			b.WriteString(";")
		}
	}
	return b.String()
}

// between is what may stand from a statement's last token to the next one's first.
var between = regexp.MustCompile(`^(?:\s|\x{FEFF}|;|--[^\n]*(?:\n|$)|/\*(?s:.*?)\*/)*$`)

// TestTheCutterCutsAsSQLiteDoes compares it, in 100,000 random texts, with what SQLite itself
// leaves over: no statement that is cut is more than one to SQLite, unless it is refused, and
// where SQLite takes a text, both find the same statements.
func TestTheCutterCutsAsSQLiteDoes(t *testing.T) {
	opened, err := (&sqlite3.SQLiteDriver{}).Open(":memory:")
	require.NoError(t, err)
	db := opened.(*sqlite3.SQLiteConn)
	defer db.Close()
	_, err = db.ExecContext(t.Context(), "CREATE TABLE t (a, \"a;\")", nil)
	require.NoError(t, err)
	prepare := func(text string) (tail string, err error) {
		prepared, err := db.PrepareContext(t.Context(), text)
		if err != nil {
			return "", err
		}
		defer prepared.Close()
		statement := prepared.(*sqlite3.SQLiteStmt)
		tail, err = tailOf(statement)
		require.NoError(t, err)
		return tail, nil
	}
	seed := uint64(20261202)
	random := rand.New(rand.NewPCG(seed, 1))
	compared, refused := 0, 0
	for range 100_000 {
		text := strings.TrimSpace(randomText(random))
		where := fmt.Sprintf("%q", text)
		statements, err := cut([]byte(text))
		if err != nil {
			refused++
			continue
		}
		rest := text
		for i, s := range statements {
			if tail, err := prepare(string(s.SQL)); err == nil {
				require.Empty(t, tail, "statement %d of %s is more than one to SQLite", i+1, where)
			}
			tail, err := prepare(rest)
			if err != nil {
				break // SQLite takes it no further
			}
			ended := len(text) - len(tail)
			require.LessOrEqual(t, s.Offset+len(s.SQL), ended, "statement %d of %s ends after SQLite's", i+1, where)
			require.Regexp(t, between, text[s.Offset+len(s.SQL):ended], "after statement %d of %s", i+1, where)
			rest = tail
			compared++
		}
	}
	require.Greater(t, compared, 50_000, "most of the texts must be ones that SQLite takes")
	require.Greater(t, refused, 1_000)
}
