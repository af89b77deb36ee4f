package mariadb

import (
	"context"
	"fmt"
	"strconv"

	"vorrang/core/engine"
)

// surveyed gives the number of each InnoDB table of the database, which is another one once
// the table was written again, and about how large it is. The dictionary has names as files
// have them. It needs the right PROCESS.
//
// Source: https://mariadb.com/kb/en/information-schema-innodb_sys_tables-table/
const surveyed = `SELECT x.TABLE_NAME, t.TABLE_ID, COALESCE(x.DATA_LENGTH + x.INDEX_LENGTH, 0)
	FROM information_schema.INNODB_SYS_TABLES t JOIN information_schema.TABLES x
		ON x.TABLE_SCHEMA = DATABASE() AND x.TABLE_NAME = CONVERT(CONVERT(
			BINARY SUBSTRING_INDEX(t.NAME, '/', -1) USING filename) USING utf8mb3) COLLATE utf8mb3_bin
	WHERE CONVERT(CONVERT(BINARY SUBSTRING_INDEX(t.NAME, '/', 1) USING filename) USING utf8mb3) COLLATE utf8mb3_bin
		= DATABASE() AND x.TABLE_NAME <> 'vorrang_ledger'`

// Survey implements engine.Surveyor: all that the server tells of what a step did to its
// surroundings. Which locks a statement took it does not say once that has ended.
func (s *Session) Survey(ctx context.Context) (engine.Survey, error) {
	seen := engine.Survey{Relations: map[string]engine.Surveyed{}}
	err := s.own.each(ctx, surveyed, nil, func(row []string) error {
		number, err := strconv.ParseUint(row[1], 10, 32)
		if err != nil {
			return err
		}
		one := engine.Surveyed{ID: 1, File: uint32(number)} // by its name it is the same
		one.Bytes, err = strconv.ParseInt(row[2], 10, 64)
		seen.Relations[row[0]] = one
		return err
	})
	if err == nil {
		seen.Written, err = s.own.number(ctx,
			"SELECT VARIABLE_VALUE FROM information_schema.GLOBAL_STATUS WHERE VARIABLE_NAME = 'INNODB_OS_LOG_WRITTEN'")
	}
	if err != nil {
		return seen, fmt.Errorf("look where the tables are: %w", err)
	}
	return seen, nil
}
