package mariadb

import (
	"fmt"
	"os"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vorrang/core/sqltext"
	"vorrang/core/step"
	"vorrang/internal/mariatest"
)

// scripts are texts, and the statements in them. %s in a statement would be a name.
var scripts = map[string][]string{
	"":                            nil,
	"# nothing\n;; -- ;\n/* ; */": nil,
	"SELECT 1; SELECT 2":          {"SELECT 1", "SELECT 2"},
	"SELECT 'a;\\'b', \"c;\\\"\", 'd'';', `e;` FROM (SELECT 1 AS `e;`) x; SELECT 3 # ;\n;": {
		"SELECT 'a;\\'b', \"c;\\\"\", 'd'';', `e;` FROM (SELECT 1 AS `e;`) x",
		"SELECT 3",
	},
	"SELECT 5--2; SELECT 5 -- 2;\n; SELECT 4 /* ; */ + 1;": {
		"SELECT 5--2", "SELECT 5", "SELECT 4 /* ; */ + 1",
	},
	"/*!40101 SET NAMES utf8mb4 */; SELECT /*! 1 +*/ 1;": {
		"/*!40101 SET NAMES utf8mb4 */",
		"SELECT /*! 1 +*/ 1",
	},
	"SELECT /*!50000 1; ": {"SELECT /*!50000 1"},
	"DELIMITER //\nCREATE PROCEDURE p() BEGIN SELECT 1; SELECT 2; END//\nDELIMITER ;\nSELECT 3;": {
		"CREATE PROCEDURE p() BEGIN SELECT 1; SELECT 2; END",
		"SELECT 3",
	},
	"delimiter $$\nCREATE FUNCTION f() RETURNS INT DETERMINISTIC BEGIN RETURN 1; END$$\n\nDELIMITER ;\nSELECT 4\\G\n" +
		"SELECT 5\\g\n": {
		"CREATE FUNCTION f() RETURNS INT DETERMINISTIC BEGIN RETURN 1; END",
		"SELECT 4", "SELECT 5",
	},
	"SELECT '— ö 潮';  SELECT @a:=1, @@version;": {"SELECT '— ö 潮'", "SELECT @a:=1, @@version"},
	"SELECT 1 AS delimiter_x;\nSELECT 2":        {"SELECT 1 AS delimiter_x", "SELECT 2"},
}

// bare are bodies that the client would cut at their first semicolon.
var bare = map[string][]string{
	"CREATE TRIGGER t BEFORE INSERT ON a FOR EACH ROW BEGIN IF NEW.x > 1 THEN SET NEW.x = 1; ELSEIF NEW.x = 0 THEN SET " +
		"NEW.x = CASE WHEN 1 THEN 2 END; END IF; END; SELECT 1;": {
		"CREATE TRIGGER t BEFORE INSERT ON a FOR EACH ROW BEGIN IF NEW.x > 1 THEN SET NEW.x = 1; ELSEIF NEW.x = 0 THEN " +
			"SET NEW.x = CASE WHEN 1 THEN 2 END; END IF; END",
		"SELECT 1",
	},
	"CREATE OR REPLACE PROCEDURE p() BEGIN DECLARE i INT DEFAULT 0; WHILE i < 3 DO SET i = i + 1; END WHILE; l: LOOP " +
		"LEAVE l; END LOOP; CASE i WHEN 1 THEN SELECT 1; ELSE BEGIN END; END CASE; REPEAT SET i = 0; UNTIL i = 0 END " +
		"REPEAT; END; SELECT 2": {
		"CREATE OR REPLACE PROCEDURE p() BEGIN DECLARE i INT DEFAULT 0; WHILE i < 3 DO SET i = i + 1; END WHILE; l: LOOP " +
			"LEAVE l; END LOOP; CASE i WHEN 1 THEN SELECT 1; ELSE BEGIN END; END CASE; REPEAT SET i = 0; UNTIL i = 0 END " +
			"REPEAT; END",
		"SELECT 2",
	},
	"BEGIN; INSERT INTO a VALUES (1); COMMIT; BEGIN NOT ATOMIC SELECT 1; SELECT 2; END; SELECT 3": {
		"BEGIN", "INSERT INTO a VALUES (1)", "COMMIT",
		"BEGIN NOT ATOMIC SELECT 1; SELECT 2; END",
		"SELECT 3",
	},
	"CREATE TABLE `trigger` (a INT); SELECT 1": {
		"CREATE TABLE `trigger` (a INT)",
		"SELECT 1",
	},
}

func texts(statements []sqltext.Statement) (all []string) {
	for _, s := range statements {
		all = append(all, string(s.SQL))
	}
	return all
}

func TestTextIsCutAsTheClientDoes(t *testing.T) {
	for _, list := range []map[string][]string{scripts, bare} {
		for text, want := range list {
			statements, err := cut([]byte(text))
			require.NoError(t, err, text)
			assert.Equal(t, want, texts(statements), text)
			for _, s := range statements {
				line, column := step.Position([]byte(text), s.Offset)
				assert.Equal(t, [2]int{line, column}, [2]int{s.Line, s.Column}, text)
			}
		}
	}
	for text, place := range map[string]string{"SELECT 1;\n SELECT 'x\\'": "2:9", "SELECT /* x": "1:8",
		"SELECT `x": "1:8", "SELECT 1;\n\\. other.sql": "2:1", "DELIMITER\nSELECT 1": "1:1"} {
		_, err := cut([]byte(text))
		var failed *sqltext.Error
		require.ErrorAs(t, err, &failed, text)
		assert.Equal(t, place, strings.TrimSuffix(failed.Error(), ": "+failed.Message), text)
	}
	statements, err := cut([]byte("UPDATE a SET b = ':batch' WHERE c LIMIT :batch"))
	require.NoError(t, err)
	assert.Equal(t, "UPDATE a SET b = ':batch' WHERE c LIMIT 50    ", string(statements[0].WithBatch(50).SQL))
}

var logged = regexp.MustCompile(`(?m)^\S*(?:\s+\S+)?\t\s*(\d+) (Connect|Query|Quit)\t?`)

// TestTheServerIsSentTheSame: the server's general log holds what its own client sent.
func TestTheServerIsSentTheSame(t *testing.T) {
	server := mariatest.Shared(t)
	for text, want := range scripts {
		url := mariatest.Database(t)
		database := url[strings.LastIndexByte(url, '/')+1:]
		before := len(server.Log(t))
		output, err := server.Client(t, database, text, "--comments", "--force")
		require.NoError(t, err, output)
		log := server.Log(t)[before:]
		var sent []string
		places := logged.FindAllStringSubmatchIndex(log, -1)
		for i, place := range places {
			end := len(log)
			if i+1 < len(places) {
				end = places[i+1][0]
			}
			if log[place[4]:place[5]] == "Query" {
				sent = append(sent, strings.TrimSpace(log[place[1]:end]))
			}
		}
		rest := sent[:0]
		for _, one := range sent {
			if tokens := rules.Tokens([]byte(one)); len(tokens) > 0 &&
				!strings.HasPrefix(one, "select @@version_comment") {
				rest = append(rest, joined(one))
			}
		}
		var wanted []string
		for _, one := range want {
			wanted = append(wanted, joined(one))
		}
		assert.Equal(t, wanted, append([]string(nil), rest...), text)
	}
}

// joined is a statement's tokens, whatever stands between.
func joined(text string) string {
	var all []string
	for _, token := range rules.Tokens([]byte(text)) {
		all = append(all, string(token.Raw()))
	}
	return strings.Join(all, " ")
}

func TestWhatStatementsDo(t *testing.T) {
	for sql, want := range map[string]string{
		"CREATE OR REPLACE TABLE a (b INT, KEY c (b), CONSTRAINT d CHECK (b > 0), PRIMARY KEY (b))": "table a, column " +
			"a.b, index a.c, constraint a.d",
		"ALTER TABLE IF EXISTS a ADD COLUMN IF NOT EXISTS b INT AFTER c, DROP INDEX d, RENAME COLUMN e TO f, " +
			"MODIFY g INT": "table a, column a.b, index a.d, column a.e, column a.g",
		"ALTER TABLE a ADD (b INT, c INT), ADD UNIQUE KEY d (b), ADD CONSTRAINT e FOREIGN KEY (b) " +
			"REFERENCES x (y)": "table a, column a.b, column a.c, index a.d, constraint a.e",
		"CREATE UNIQUE INDEX IF NOT EXISTS a USING BTREE ON b (c)":       "index b.a",
		"CREATE DEFINER=`x`@`y` SQL SECURITY INVOKER VIEW a AS SELECT 1": "view a",
		"CREATE ALGORITHM=MERGE VIEW a AS SELECT 1":                      "view a",
		"DROP TABLE IF EXISTS a, b":                                      "table a, table b",
		"RENAME TABLE a TO b, c WAIT 3 TO d":                             "table a, table c",
		"DROP INDEX a ON b":                                              "index b.a", "TRUNCATE a": "table a",
		"CREATE AGGREGATE FUNCTION a(x INT) RETURNS INT BEGIN END": "function a", "CREATE SEQUENCE a": "sequence a",
		"ALTER TABLE a CHANGE b c INT": "table a, column a.b",
	} {
		is := shapeOf(sqltext.Statement{SQL: []byte(sql)})
		assert.Equal(t, defines, is.verb, sql)
		var effects []string
		for _, e := range is.effects {
			effects = append(effects, e.String())
		}
		assert.Equal(t, want, strings.Join(effects, ", "), sql)
	}
	for sql, want := range map[string]verb{
		"SELECT 1": reads, "(SELECT 1) UNION (SELECT 2)": reads, "WITH x AS (SELECT 1) SELECT * FROM x": reads,
		"INSERT IGNORE INTO a VALUES (1)": changes,
		"REPLACE a VALUES (1)":            changes, "UPDATE LOW_PRIORITY a SET b = 1": changes, "DELETE FROM a": changes,
		"COMMIT": control, "ROLLBACK TO s": saves, "ROLLBACK": control,
		"START TRANSACTION READ ONLY": control, "START SLAVE": beyond, "SET autocommit = 1": control,
		"SET GLOBAL x = 1": beyond, "SET @@global.x = 1": beyond, "SET x = 1": sets,
		"CALL p()": calls, "EXECUTE IMMEDIATE 'x'": calls, "GRANT SELECT ON a TO b": beyond, "CREATE USER a": beyond,
		"CREATE DATABASE a": beyond, "DROP DATABASE a": beyond,
		"CREATE TABLE other.a (b INT)": beyond, "USE other": beyond, "LOAD DATA INFILE 'x' INTO TABLE a": beyond,
		"SELECT 1 INTO OUTFILE 'x'": beyond, "LOCK TABLES a READ": control,
		"CREATE TEMPORARY TABLE a (b INT)": changes, "SET STATEMENT max_statement_time = 1 FOR " +
			"DELETE FROM a": changes, "ANALYZE TABLE a": defines, "FLUSH TABLES": beyond,
		"GIBBERISH": other, "CREATE EVENT e ON SCHEDULE EVERY 1 DAY DO SELECT 1": defines, "XA START 'x'": control,
	} {
		assert.Equal(t, want, shapeOf(sqltext.Statement{SQL: []byte(sql)}).verb, sql)
	}
}

func TestMain(m *testing.M) {
	code := m.Run()
	mariatest.Stop()
	os.Exit(code)
}

// FuzzCut: whatever a text holds, it is cut or refused with a place, each statement is
// where it says, and reading it falls over nothing.
func FuzzCut(f *testing.F) {
	for _, list := range []map[string][]string{scripts, bare} {
		for text := range list {
			f.Add([]byte(text))
		}
	}
	f.Fuzz(func(t *testing.T, text []byte) {
		statements, err := cut(text)
		if err != nil {
			var place *sqltext.Error
			require.ErrorAs(t, err, &place)
			assert.LessOrEqual(t, place.Offset, len(text))
			return
		}
		end := 0
		for _, s := range statements {
			require.GreaterOrEqual(t, s.Offset, end)
			end = s.Offset + len(s.SQL)
			require.Equal(t, string(text[s.Offset:end]), string(s.SQL))
			_ = fmt.Sprint(shapeOf(s))
		}
		language.Objects(statements, 1, 0)
	})
}

// TestWhatReachesBeyondItsDatabaseIsRefused, as docs/engines.md says, and what looks like it is not.
func TestWhatReachesBeyondItsDatabaseIsRefused(t *testing.T) {
	review := func(text string) string {
		file, problems := step.ReadFile("0001-a.sql", []byte(text))
		require.Empty(t, problems)
		found, _ := language.Review(step.Step{Number: "1", Forward: file}, nil)
		return found.Error()
	}
	for _, text := range []string{
		"DELETE FROM mysql.global_priv", "INSERT IGNORE INTO other.dues VALUES (1)", "UPDATE `other`.`dues` SET a = 1",
		"UPDATE a JOIN other.dues USING (id) SET b = 1", "SELECT LOAD_FILE('/etc/passwd')", "TRUNCATE other.dues",
		"BEGIN NOT ATOMIC DROP DATABASE other; END", "SET sql_log_bin = 0", "SET `sql_log_bin` = 0", "SET @@session.sql_log_bin = 0",
		"SET STATEMENT sql_log_bin = 0 FOR DELETE FROM a", "DROP TABLE IF EXISTS other.dues", "CREATE TABLE other.a (id INT)",
		"CREATE TRIGGER t AFTER INSERT ON a FOR EACH ROW INSERT INTO other.dues VALUES (NEW.id)",
		"CREATE PROCEDURE p() BEGIN IF 1 THEN DROP USER pilot; END IF; END",
		"CREATE PROCEDURE p() BEGIN DECLARE x INT; GRANT ALL ON a TO b; END",
		"CREATE EVENT e ON SCHEDULE EVERY 1 DAY DO DELETE FROM other.dues",
		"CREATE VIEW v AS SELECT * FROM (SELECT * FROM other.dues) d", "CREATE TABLE a (b INT REFERENCES other.dues (id))",
		"CREATE FUNCTION f() RETURNS INT BEGIN SET GLOBAL general_log = 1; RETURN 1; END",
		"/* " + strings.Repeat("x", 1<<20) + " */ DROP DATABASE other", "SELECT '" + strings.Repeat("x", 1<<20) + "', LOAD_FILE('x')",
	} {
		assert.NotEmpty(t, review(text), text[:min(len(text), 100)])
	}
	for _, text := range []string{
		"SELECT EXTRACT(YEAR FROM a.at), TRIM(LEADING 'x' FROM a.name), SUBSTRING(a.name FROM a.n) FROM a",
		"INSERT INTO a (id) VALUES (1) ON DUPLICATE KEY UPDATE a.n = a.n + 1", "SELECT * FROM information_schema.TABLES",
		"CREATE PROCEDURE p() BEGIN DECLARE r ROW (f INT); SELECT 1 INTO r.f; END", "ALTER TABLE a DROP user, DROP role",
		"CREATE TRIGGER t BEFORE UPDATE ON a FOR EACH ROW SET NEW.n = OLD.n", "SELECT a.id FROM a JOIN b ON a.id = b.id FOR UPDATE",
		"DELETE a.* FROM a JOIN b ON a.id = b.id", "CREATE TABLE a (id INT REFERENCES b (id) ON UPDATE CASCADE)",
		"INSERT INTO a VALUES ('" + strings.Repeat("x", 1<<20) + "'), ('y')", "SELECT 1 FROM a WHERE id IN (SELECT b.id FROM b)",
	} {
		assert.Empty(t, review(text), text[:min(len(text), 100)])
	}
}
