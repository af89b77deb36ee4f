package mariadb_test

import (
	"path"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vorrang/core/engine"
	"vorrang/core/schema"
	"vorrang/internal/mariatest"
	"vorrang/target/mariadb"
)

// oddities is what stands in the way of rows: types, values that the server makes, rows
// that no constraint of today would let in, triggers, keys in a circle.
var oddities = []string{
	"CREATE TABLE odd (id BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY, raw VARBINARY(20), flags BIT(9), " +
		"place POINT, at DATETIME(6), since TIMESTAMP NULL, latin VARCHAR(10) CHARACTER SET latin1, doc JSON, token UUID, " +
		"state ENUM('open', 'shut'), x DOUBLE, cents DECIMAL(30, 8), twice INT AS (length(latin) * 2) STORED, " +
		"thrice INT AS (length(latin) * 3) VIRTUAL, y YEAR, `due ``by``` TEXT)",
	"CREATE SEQUENCE ticket START WITH 40",
	"CREATE TABLE quay (id INT PRIMARY KEY, head INT)",
	"CREATE TABLE berth (id INT PRIMARY KEY, quay INT NOT NULL, CONSTRAINT on_quay FOREIGN KEY (quay) REFERENCES quay (id))",
	"ALTER TABLE quay ADD CONSTRAINT its_head FOREIGN KEY (head) REFERENCES berth (id)",
	"CREATE TABLE kept (id INT PRIMARY KEY, name VARCHAR(10)) WITH SYSTEM VERSIONING",
	"CREATE TABLE log (what TEXT)",
}

// Triggers stand last: what fills a table is not to fire them.
var oddTriggers = []string{
	"CREATE TRIGGER first BEFORE INSERT ON log FOR EACH ROW SET NEW.what = CONCAT(NEW.what, '1')",
	"CREATE TRIGGER second BEFORE INSERT ON log FOR EACH ROW SET NEW.what = CONCAT(NEW.what, '2')",
	"CREATE TRIGGER told AFTER INSERT ON kept FOR EACH ROW INSERT INTO log VALUES ('kept')",
}

func TestRowsAreCopiedAsTheyAre(t *testing.T) {
	url := mariatest.Database(t)
	session, err := mariadb.Engine{}.Open(t.Context(), url, "test")
	require.NoError(t, err)
	defer session.Close()
	made, err := mariadb.Engine{}.NewScratch(t.Context(), url, "", true)
	require.NoError(t, err)
	defer made.Close()
	for _, statement := range append(oddities, oddTriggers...) {
		require.NoError(t, made.Run(t.Context(), []byte(statement), true), statement)
	}
	fill := append(oddities,
		`INSERT INTO odd (id, raw, flags, place, at, since, latin, doc, token, state, x, cents, y, `+"`due ``by```"+`) VALUES
			(18446744073709551600, X'00FF2781', b'100000001', POINT(7.5, -3), '2026-11-27 01:02:03.000004',
			'2026-03-29 02:30:00', 'Öl', '{"a": "\\n"}', '123e4567-e89b-12d3-a456-426655440000', 'shut', 0.1,
			1234567890123456789012.00000001, 2026, '\\ '' "')`,
		"SET STATEMENT sql_mode = '' FOR INSERT INTO odd (at, state, raw) VALUES ('0000-00-00', 'open', '')",
		"INSERT INTO quay (id) VALUES (1)",
		"INSERT INTO berth VALUES (5, 1)",
		"UPDATE quay SET head = 5",
		"INSERT INTO kept VALUES (1, 'old')",
		"UPDATE kept SET name = 'new'",
		"INSERT INTO log VALUES ('once')",
		"SELECT NEXTVAL(ticket)",
	)
	for _, statement := range append(fill, oddTriggers...) {
		require.NoError(t, mariatest.Exec(t, url, statement), statement)
	}
	seen, err := session.Snapshot(t.Context(), nil)
	require.NoError(t, err)
	copied, err := mariadb.Engine{}.Sample(t.Context(), session, made, engine.Sample{Schema: seen, Most: 1})
	require.NoError(t, err)
	assert.Len(t, copied, 5)
	inside := func(query string) string { return mariatest.Query(t, url, query) }
	at := "`" + made.Name() + "`."
	for _, table := range []string{"odd", "quay", "berth", "log", "kept"} {
		sum := func(of string) string {
			return inside("SELECT GROUP_CONCAT(CONCAT_WS('|', " + columnsOf(t, url, table) + ") ORDER BY 1) FROM " + of + table)
		}
		assert.Equal(t, sum("`"+path.Base(url)+"`."), sum(at), table)
	}
	assert.Equal(t, inside("SELECT next_not_cached_value FROM ticket"), inside("SELECT next_not_cached_value FROM "+at+"ticket"))
	after, err := made.Snapshot(t.Context(), nil)
	require.NoError(t, err)
	without := func(s schema.Schema) schema.Schema { return s.Without(schema.OwnedByRole) } // a trial has a user of its own
	assert.Empty(t, schema.Compare(without(seen), without(after)), "triggers and their order are as they were")
}

// columnsOf are the columns of a table, as text.
func columnsOf(t *testing.T, url, table string) string {
	return mariatest.Query(t, url, "SELECT GROUP_CONCAT('COALESCE(HEX(CONCAT(`', REPLACE(COLUMN_NAME, '`', '``'), '`)), '''')') "+
		"FROM information_schema.COLUMNS WHERE TABLE_SCHEMA = DATABASE() AND TABLE_NAME = '"+table+"'")
}
