package review

import (
	"testing"

	"vorrang/target/enginetest"
)

func TestWhatIsLostIsSaid(t *testing.T) {
	enginetest.Losses(t, Losses, map[string][]string{
		"DELETE FROM harbour.berth":                                    {"deletes rows of harbour.berth"},
		"UPDATE berth SET name = 1":                                    {"overwrites values of berth"},
		"MERGE INTO berth USING quay ON true WHEN MATCHED THEN DELETE": {"overwrites or deletes rows of berth"},
		"TRUNCATE berth, quay":                                         {"empties the table berth", "empties the table quay"},
		"DROP TABLE harbour.berth, quay": {
			"drops the table harbour.berth",
			"drops the table quay",
		},
		"DROP VIEW berths":                                    nil,
		"INSERT INTO berth VALUES (1)":                        nil,
		"INSERT INTO berth VALUES (1) ON CONFLICT DO NOTHING": nil,
		"INSERT INTO berth VALUES (1) ON CONFLICT (id) DO UPDATE SET name = 'A'": {"overwrites values of rows of " +
			"berth that have the same key"},
		"WITH gone AS (DELETE FROM berth RETURNING *) SELECT * FROM gone":                 {"deletes rows of berth"},
		"WITH gone AS (DELETE FROM berth RETURNING *) INSERT INTO old SELECT * FROM gone": {"deletes rows of berth"},
		"WITH a AS (UPDATE quay SET x = 1 RETURNING *) DELETE FROM berth USING a": {
			"overwrites values of quay",
			"deletes rows of berth",
		},
		"WITH a AS (SELECT 1) SELECT * FROM a": nil,
	})
}
