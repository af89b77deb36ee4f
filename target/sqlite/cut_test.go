package sqlite

import (
	"bytes"
	"os/exec"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vorrang/core/schema"
	"vorrang/core/sqltext"
	"vorrang/core/step"
)

// scripts are texts, and the statements in them.
var scripts = map[string][]string{
	"":                         nil,
	" ;; -- nothing\n;/* ; */": nil,
	"SELECT 1; SELECT 2":       {"SELECT 1", "SELECT 2"},
	"SELECT ';', \";\", `;`, [;] -- ;\n; SELECT x';', '''; ' /* ; */;": {
		"SELECT ';', \";\", `;`, [;]",
		"SELECT x';', '''; '",
	},
	"CREATE TRIGGER t AFTER INSERT ON a BEGIN SELECT 1; SELECT CASE WHEN 1 THEN 2 END; END; SELECT 3;": {
		"CREATE TRIGGER t AFTER INSERT ON a BEGIN SELECT 1; SELECT CASE WHEN 1 THEN 2 END; END",
		"SELECT 3",
	},
	"create temp trigger if not exists t after delete on a begin delete from b; /* ; */ end /* ; */ ; SELECT 3": {
		"create temp trigger if not exists t after delete on a begin delete from b; /* ; */ end",
		"SELECT 3",
	},
	"CREATE TRIGGER t INSTEAD OF INSERT ON v BEGIN SELECT \"end\"; SELECT 1 AS x; END;SELECT 1": {
		"CREATE TRIGGER t INSTEAD OF INSERT ON v BEGIN SELECT \"end\"; SELECT 1 AS x; END",
		"SELECT 1",
	},
	"CREATE TABLE trigger_a (id); BEGIN; COMMIT; END;": {
		"CREATE TABLE trigger_a (id)",
		"BEGIN", "COMMIT", "END",
	},
	"UPDATE a SET b = 1 WHERE id IN (SELECT id FROM a LIMIT :batch); SELECT '— ö 潮' ;": {
		"UPDATE a SET b = 1 WHERE id IN (SELECT id FROM a LIMIT :batch)",
		"SELECT '— ö 潮'",
	},
	"SELECT 1 -- a comment at the end": {
		"SELECT 1",
	},
	"SELECT 5 --x\n; SELECT a$b, ?1, @c, $d": {
		"SELECT 5", "SELECT a$b, ?1, @c, $d",
	},
}

func TestTextIsCutAsSQLiteReadsIt(t *testing.T) {
	for text, want := range scripts {
		statements, err := cut([]byte(text))
		require.NoError(t, err, text)
		var got []string
		for _, s := range statements {
			got = append(got, string(s.SQL))
			line, column := step.Position([]byte(text), s.Offset)
			assert.Equal(t, [2]int{line, column}, [2]int{s.Line, s.Column}, text)
		}
		assert.Equal(t, want, got, text)
	}
	for text, place := range map[string]string{"SELECT 1;\n SELECT 'x": "2:9", "SELECT /* x": "1:8", "SELECT [x": "1:8", "SELECT 1;\n.read other.sql": "2:1", `SELECT "x""`: "1:8"} {
		_, err := cut([]byte(text))
		var failed *sqltext.Error
		require.ErrorAs(t, err, &failed, text)
		assert.Equal(t, place, strings.TrimSuffix(failed.Error(), ": "+failed.Message), text)
	}
	statements, err := cut([]byte("UPDATE a SET b = ':batch' WHERE id IN (SELECT id FROM a LIMIT :batch)"))
	require.NoError(t, err)
	assert.Equal(
		t,
		"UPDATE a SET b = ':batch' WHERE id IN (SELECT id FROM a LIMIT 50    )",
		string(statements[0].WithBatch(50).SQL),
	)
}

// TestTheShellCutsTheSame: the sqlite3 shell echoes each statement as it cut it.
func TestTheShellCutsTheSame(t *testing.T) {
	for text, want := range scripts {
		if strings.Contains(text, ":batch") || strings.Contains(text, "?1") || strings.Contains(text, "COMMIT; END") {
			continue // no statements that can run by themselves
		}
		shell := exec.CommandContext(t.Context(), "sqlite3", ":memory:")
		shell.Stdin = strings.NewReader(
			"CREATE TABLE a (id); CREATE TABLE b (id); CREATE VIEW v AS SELECT id FROM a;\n.trace stdout\n" + text + "\n;\n",
		)
		output, err := shell.Output()
		if err != nil {
			continue // [;] is no column: what it cut is in its errors
		}
		ran := 0
		for line := range bytes.Lines(output) {
			if trimmed := bytes.TrimSpace(line); bytes.HasSuffix(trimmed, []byte(";")) {
				ran++
			}
		}
		assert.Equal(t, len(want), ran, "%s\n%s", text, output)
	}
}

// FuzzCut: whatever a text holds, its statements are its tokens in their order, and
// nothing is lost but the semicolons between them.
func FuzzCut(f *testing.F) {
	for text := range scripts {
		f.Add([]byte(text))
	}
	f.Fuzz(func(t *testing.T, text []byte) {
		statements, err := cut(text)
		if err != nil {
			var place *sqltext.Error
			require.ErrorAs(t, err, &place)
			assert.LessOrEqual(t, place.Offset, len(text))
			return
		}
		var joined, all []string
		for _, s := range statements {
			require.Equal(t, string(text[s.Offset:s.Offset+len(s.SQL)]), string(s.SQL))
			for _, token := range rules.Tokens(s.SQL) {
				joined = append(joined, string(token.Raw()))
			}
			_ = shapeOf(s) // and it does not fall over
			again, err := cut(s.SQL)
			require.NoError(t, err)
			require.Len(t, again, 1, "a statement is one")
		}
		semicolons := func(list []string) int { return strings.Count(strings.Join(list, "\x00"), "\x00;") }
		for _, token := range rules.Tokens(text) {
			all = append(all, string(token.Raw()))
		}
		require.GreaterOrEqual(t, semicolons(all), semicolons(joined))
		without := func(list []string) (rest []string) {
			for _, one := range list {
				if one != ";" {
					rest = append(rest, one)
				}
			}
			return rest
		}
		require.Equal(t, without(all), without(joined))
		language.Objects(statements, 1, 0)
	})
}

// FuzzTable: the text of any table that SQLite takes is read, written and read again to
// the same.
func FuzzTable(f *testing.F) {
	f.Add(
		`CREATE TABLE a (id INTEGER PRIMARY KEY AUTOINCREMENT, b TEXT NOT NULL DEFAULT 'x' COLLATE NOCASE CHECK (b <> ''),
			c REFERENCES d (e) ON DELETE SET NULL, UNIQUE (b, c)) STRICT`,
	)
	f.Add(
		"CREATE TABLE \"a \"\"b\" ([c d] , `e` numeric(8, 2) GENERATED ALWAYS AS (c + -1) STORED, CONSTRAINT \"f g\" " +
			"PRIMARY KEY (e DESC) ON CONFLICT REPLACE) WITHOUT ROWID",
	)
	f.Fuzz(func(t *testing.T, sql string) {
		objects := objectsOf("table", "a", "a", sql)
		if len(objects) == 0 || objects[0].Props[schema.Definition] != "" {
			return
		}
		require.NotPanics(t, func() { _ = tableText(schema.Described{Object: objects[0], Columns: objects[1:]}) })
	})
}
