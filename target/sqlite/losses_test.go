package sqlite

import (
	"testing"

	"vorrang/target/enginetest"
)

func TestWhatIsLostIsSaid(t *testing.T) {
	enginetest.Losses(t, (Engine{}).Dialect().Losses, map[string][]string{
		"REPLACE INTO gauge VALUES (1)": {
			"overwrites rows of gauge that have the same key",
		},
		"INSERT OR REPLACE INTO gauge VALUES (1)": {
			"overwrites rows of gauge that have the same key",
		},
		"INSERT OR IGNORE INTO gauge VALUES (1)": nil,
		"INSERT INTO gauge VALUES (1) ON CONFLICT (id) DO UPDATE SET level = 1": {
			"overwrites values of rows of gauge that have the same key",
		},
		"INSERT INTO gauge VALUES (1) ON CONFLICT (id) DO NOTHING": nil,
		"WITH a AS (SELECT 1) INSERT INTO gauge SELECT * FROM a ON CONFLICT DO UPDATE SET level = 1": {
			"overwrites values of rows of gauge that have the same key",
		},
		"UPDATE OR REPLACE gauge SET level = 1": {
			"overwrites rows of gauge that have the same key",
		},
		"DELETE FROM gauge": {
			"deletes rows of gauge",
		},
		"DROP TABLE gauge": {
			"drops the table gauge",
		},
	})
}
