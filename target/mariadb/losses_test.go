package mariadb

import (
	"testing"

	"vorrang/target/enginetest"
)

func TestWhatIsLostIsSaid(t *testing.T) {
	enginetest.Losses(t, (Engine{}).Dialect().Losses, map[string][]string{
		"REPLACE INTO pilot VALUES (1, 'A')": {"overwrites rows of pilot that have " +
			"the same key"},
		"INSERT INTO pilot VALUES (1, 'A') ON DUPLICATE KEY UPDATE name = 'A'": {"overwrites values of rows of pilot " +
			"that have the same key"},
		"INSERT INTO pilot SELECT * FROM watch ON DUPLICATE KEY UPDATE name = 1": {"overwrites values of rows of pilot " +
			"that have the same key"},
		"INSERT INTO pilot VALUES ('ON DUPLICATE KEY UPDATE')": nil,
		"CREATE OR REPLACE TABLE pilot (id INT)":               {"drops the table pilot where it is there"},
		"CREATE OR REPLACE TEMPORARY TABLE pilot (id INT)":     nil,
		"CREATE OR REPLACE VIEW pilots AS SELECT 1":            nil,
		"UPDATE pilot SET name = 'B'":                          {"overwrites values of pilot"},
		"DELETE FROM pilot":                                    {"deletes rows of pilot"},
		"TRUNCATE pilot":                                       {"empties the table pilot"},
		"ALTER TABLE pilot MODIFY name TEXT":                   {"rewrites the column pilot.name in another type"},
	})
}
